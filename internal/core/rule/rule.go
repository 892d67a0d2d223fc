// Package rule holds rules: when a row deserves an email, under which
// condition, with which wording and to whom. It decides which occasions a row
// has and how each is identified; what is done with an occasion is plan's.
package rule

import (
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// State of a rule.
type State string

// The states of a rule.
const (
	Draft  State = "draft"
	On     State = "on"
	Paused State = "paused"
)

// Rule is one rule of a sheet. Columns, templates and options are named by id
// here; the bundle names them by name and is turned into this form.
type Rule struct {
	ID        string         `json:"id,omitempty"`
	Name      string         `json:"name"`
	Note      string         `json:"note,omitempty"` // for those who work with it
	State     State          `json:"state,omitempty"`
	Zone      string         `json:"zone,omitempty"` // IANA; empty means the sheet's
	Trigger   Trigger        `json:"trigger"`
	Condition *Condition     `json:"condition,omitempty"`
	Send      []Wording      `json:"send"`
	To        []Address      `json:"to"`
	Cc        []Address      `json:"cc,omitempty"`
	Bcc       []Address      `json:"bcc,omitempty"`
	ReplyTo   []Address      `json:"replyTo,omitempty"`
	Each      bool           `json:"each,omitempty"`    // one email per To mailbox
	GroupBy   string         `json:"groupBy,omitempty"` // "recipient": a round-up
	Window    *Window        `json:"window,omitempty"`
	Shift     calendar.Shift `json:"shift,omitempty"` // empty means later
	Repeat    *Repeat        `json:"repeat,omitempty"`
	SameWords SameWords      `json:"sameWords,omitempty"` // empty means send
	Late      string         `json:"late,omitempty"`      // ISO 8601 duration; empty means PT24H
	Hold      Hold           `json:"hold,omitempty"`      // empty means none
	Brake     *Brake         `json:"brake,omitempty"`
	OptOut    bool           `json:"optOut,omitempty"` // email programs offer to unsubscribe (RFC 8058)
	Then      *Then          `json:"then,omitempty"`
}

// Kind is a kind of trigger.
type Kind string

// The kinds of triggers.
const (
	Date      Kind = "date"
	Change    Kind = "change"
	Added     Kind = "added"
	Edited    Kind = "edited"
	Threshold Kind = "threshold"
	Schedule  Kind = "schedule"
	ByHand    Kind = "by-hand"
)

// Reaction tells whether the kind answers an edit.
func (k Kind) Reaction() bool { return k == Change || k == Added || k == Edited || k == Threshold }

// Trigger says when. Which of the fields count depends on the kind.
type Trigger struct {
	Kind   Kind
	Column string // date, change, threshold

	Offsets []Offset // date
	At      string   // date: HH:MM; empty means 09:00, or a moment's own time
	Every   *Every   // date

	To   []Operand // change; nil means any change
	From []Operand // change; nil means from anything

	Columns []string // edited

	Op    Op     // threshold
	Limit *Level // threshold
	Rearm *Level // threshold; nil means when the comparison is false

	Delay string // change, threshold, added, edited: ISO 8601 duration after settling; empty means at once

	Start string // schedule: wall time, 2027-03-19T15:30
	RRule string // schedule: RFC 5545; empty means once
}

// Unit counts an offset.
type Unit string

// The units of an offset; hours and minutes are for moments without At.
const (
	Days        Unit = "days"
	WorkingDays Unit = "working-days"
	Hours       Unit = "hours"
	Minutes     Unit = "minutes"
)

// Offset is a distance from the anchor: negative before it, positive after.
type Offset struct {
	N        int    `json:"n"`
	Unit     Unit   `json:"unit"`
	Template string `json:"template,omitempty"`
}

// Every makes each anniversary of the anchor count, from 0 upwards.
type Every struct {
	Unit  string `json:"unit"` // days, weeks, months, years
	N     int    `json:"n"`
	Times int    `json:"times,omitempty"` // how often in all, the anchor itself included; 0 is without end
}

// Level is a threshold's limit or re-arm level: exactly one of a number, a
// column, and (for a re-arm level) a share of the limit's size in percent.
type Level struct {
	Number  *decimal.Decimal
	Column  string
	Percent *decimal.Decimal
}

// Wording is a template and the condition under which it is taken.
type Wording struct {
	If       *Condition `json:"if,omitempty"`
	Template string     `json:"template"`
}

// Address is one source of recipients: a column of the row, a fixed mailbox
// list, or a person who uses Nivot.
type Address struct {
	Column  string `json:"column,omitempty"`
	Address string `json:"address,omitempty"`
	Person  string `json:"person,omitempty"` // by email address
}

// FirstColumn returns the first column of the row among the sources of recipients,
// "" where there is none: it is the one to mend where no address can be used.
func FirstColumn(of []Address) string {
	for _, a := range of {
		if a.Column != "" {
			return a.Column
		}
	}
	return ""
}

// Window is a send window as it is written.
type Window struct {
	Weekdays    []string `json:"weekdays,omitempty"` // none means every day
	From        string   `json:"from,omitempty"`     // HH:MM; empty means midnight
	Until       string   `json:"until,omitempty"`    // HH:MM; empty means midnight at the day's end
	WorkingDays bool     `json:"workingDays,omitempty"`
}

// Repeat says how often a row may get a first email.
type Repeat struct {
	Once  bool
	Apart string // ISO 8601 duration; empty with Once
}

// SameWords says what becomes of an email that says what another has just said.
type SameWords string

// What becomes of it.
const (
	SendSame SameWords = "send"
	SkipSame SameWords = "skip"
)

// LearnsOf reports whether what becomes of one of the rule's emails bears on others of the same row.
func (r *Rule) LearnsOf() bool {
	return r.Then != nil || r.Repeat != nil && (r.Repeat.Once || r.Repeat.Apart != "")
}

// Hold says whether emails wait for a person's OK.
type Hold string

// The holds.
const (
	HoldNone     Hold = "none"
	HoldFirstRun Hold = "first-run"
	HoldAlways   Hold = "always"
)

// Brake says how many emails from reactions in ten minutes are held back.
type Brake struct {
	Count int             `json:"count"`
	Share decimal.Decimal `json:"share"` // of the sheet's rows, 0 to 1
}

// The brake of a rule that sets none: 50 emails, or a third of the rows and at
// least 10.
const (
	brakeCount = 50
	brakeLeast = 10
)

// NamesRecipients reports whether the step names recipients of its own: it takes
// no Cc or Bcc of the rule's then.
func (s *Step) NamesRecipients() bool { return len(s.To)+len(s.Cc)+len(s.Bcc) > 0 }

// BrakeSpan is the time over which the brake counts.
const BrakeSpan = 10 * time.Minute

// Trips tells whether n emails in ten minutes, of a sheet of so many rows, are
// more than the brake lets through.
func (r *Rule) Trips(n, rows int) bool {
	count, share := brakeCount, decimal.Decimal{}
	if r.Brake != nil {
		count, share = r.Brake.Count, r.Brake.Share
	}
	if n > count {
		return true
	}
	if n < brakeLeast {
		return false
	}
	if r.Brake == nil {
		return 3*n > rows
	}
	return decimal.NewFromInt(int64(n)).GreaterThan(share.Mul(decimal.NewFromInt(int64(rows))))
}

// Then is a rule's follow-ups.
type Then struct {
	Steps  []Step     `json:"steps"`
	StopIf *Condition `json:"stopIf,omitempty"`
}

// Step is one follow-up; with Every it recurs.
type Step struct {
	After    string    `json:"after"` // ISO 8601 duration
	Template string    `json:"template"`
	At       string    `json:"at,omitempty"` // HH:MM, with days and weeks
	To       []Address `json:"to,omitempty"`
	Cc       []Address `json:"cc,omitempty"`
	Bcc      []Address `json:"bcc,omitempty"`
	Every    string    `json:"every,omitempty"` // ISO 8601 duration
	Times    int       `json:"times,omitempty"` // how often in all, the first included
}

// defaultLate is how late an email may go where the rule does not say.
var defaultLate = calendar.Duration{Time: 24 * time.Hour}

// LateLimit is how long after its due instant an email may still go.
func (r *Rule) LateLimit() (calendar.Duration, error) {
	if r.Late == "" {
		return defaultLate, nil
	}
	return calendar.ParseDuration(r.Late)
}

// Location gives the rule's zone: its own, or the sheet's.
func (r *Rule) Location(sheet *time.Location) *time.Location {
	if r.Zone == "" {
		return sheet
	}
	loc, err := time.LoadLocation(r.Zone)
	if err != nil {
		return sheet
	}
	return loc
}

// Templates lists the ids of the templates a rule may send, each once.
func (r *Rule) Templates() []string {
	var out []string
	seen := map[string]bool{"": true}
	add := func(id string) {
		if !seen[id] {
			seen[id] = true
			out = append(out, id)
		}
	}
	for _, o := range r.Trigger.Offsets {
		add(o.Template)
	}
	for _, w := range r.Send {
		add(w.Template)
	}
	if r.Then != nil {
		for _, s := range r.Then.Steps {
			add(s.Template)
		}
	}
	return out
}

// Env is what a trigger needs to know about time.
type Env struct {
	Zone      *time.Location // the rule's
	SheetZone *time.Location // of moments; nil means Zone
	Calendar  calendar.Calendar
}

func (e Env) sheetZone() *time.Location {
	if e.SheetZone == nil {
		return e.Zone
	}
	return e.SheetZone
}

// Calendar turns the window into the form that is computed with.
func (w *Window) Calendar() (*calendar.Window, error) {
	if w == nil {
		return nil, nil
	}
	out := &calendar.Window{Working: w.WorkingDays, Until: 24 * 3600}
	if len(w.Weekdays) == 0 {
		out.Weekdays = [7]bool{true, true, true, true, true, true, true}
	} else {
		c, err := calendar.New(w.Weekdays, nil)
		if err != nil {
			return nil, fault("/weekdays", "%s", err)
		}
		out.Weekdays = c.Weekdays
	}
	var err error
	if w.From != "" {
		if out.From, err = value.ParseClock(w.From); err != nil {
			return nil, fault("/from", "%s", err)
		}
	}
	if w.Until != "" {
		if out.Until, err = value.ParseClock(w.Until); err != nil {
			return nil, fault("/until", "%s", err)
		}
		if out.Until == 0 {
			out.Until = 24 * 3600
		}
	}
	if out.Until <= out.From {
		return nil, fault("/until", "a window ends later than it begins, and does not span midnight")
	}
	return out, nil
}

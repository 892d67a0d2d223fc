// Package rule holds rules: when a row deserves an email, under which
// condition, with which wording and to whom. It decides which occasions a row
// has and how each is identified; what is done with an occasion is plan's.
package rule

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

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
	ID        string     `json:"id,omitempty"`
	Name      string     `json:"name"`
	State     State      `json:"state,omitempty"`
	Zone      string     `json:"zone,omitempty"` // IANA; empty means the sheet's
	Trigger   Trigger    `json:"trigger"`
	Condition *Condition `json:"condition,omitempty"`
	Send      []Wording  `json:"send"`
	To        []Address  `json:"to"`
	Cc        []Address  `json:"cc,omitempty"`
	Bcc       []Address  `json:"bcc,omitempty"`
	ReplyTo   []Address  `json:"replyTo,omitempty"`
	Late      string     `json:"late,omitempty"` // ISO 8601 duration; empty means PT24H
}

// Trigger says when. This version has one kind: "date".
type Trigger struct {
	Kind    string   `json:"kind"`
	Column  string   `json:"column"`
	Offsets []Offset `json:"offsets"`
	At      string   `json:"at,omitempty"` // HH:MM; empty means 09:00, or a moment's own time
	Every   *Every   `json:"every,omitempty"`
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

// Wording is a template and the condition under which it is taken.
type Wording struct {
	If       *Condition `json:"if,omitempty"`
	Template string     `json:"template"`
}

// Address is one source of recipients: a column of the row or a fixed
// mailbox list.
type Address struct {
	Column  string `json:"column,omitempty"`
	Address string `json:"address,omitempty"`
}

// FieldError is a fault in a rule, with a JSON pointer (RFC 6901) to it.
type FieldError struct {
	Pointer string
	Message string
}

func (e *FieldError) Error() string { return e.Pointer + ": " + e.Message }

func fault(pointer, format string, args ...any) error {
	return &FieldError{Pointer: pointer, Message: fmt.Sprintf(format, args...)}
}

// Decode reads a rule's JSON. An unknown name is an error that says where.
func Decode(b []byte) (*Rule, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var r Rule
	if err := d.Decode(&r); err != nil {
		return nil, fmt.Errorf("the rule cannot be read: %w", err)
	}
	return &r, nil
}

// Scope is the sheet as a rule sees it.
type Scope interface {
	ColumnType(id string) (value.Type, bool)
	OptionID(column, name string) (string, bool)
	HasTemplate(id string) bool
	DefaultZone() *time.Location
}

// Validate checks a rule against its sheet and gives the first fault.
func (r *Rule) Validate(s Scope) error {
	if value.Trim(r.Name) == "" {
		return fault("/name", "a rule needs a name")
	}
	if r.Zone != "" {
		if _, err := time.LoadLocation(r.Zone); err != nil {
			return fault("/zone", "zone %q is not known; use a name like Europe/London", r.Zone)
		}
	}
	if err := r.Trigger.validate(s); err != nil {
		return err
	}
	if r.Condition != nil {
		if err := r.Condition.Validate("/condition", s); err != nil {
			return err
		}
	}
	if err := r.validateWordings(s); err != nil {
		return err
	}
	if len(r.To) == 0 {
		return fault("/to", "say to whom the email goes")
	}
	for _, list := range []struct {
		name  string
		items []Address
	}{{"to", r.To}, {"cc", r.Cc}, {"bcc", r.Bcc}, {"replyTo", r.ReplyTo}} {
		for i, a := range list.items {
			if err := a.validate(fmt.Sprintf("/%s/%d", list.name, i), s); err != nil {
				return err
			}
		}
	}
	if _, err := r.LateLimit(); err != nil {
		return fault("/late", "%s", err)
	}
	return nil
}

func (r *Rule) validateWordings(s Scope) error {
	if len(r.Send) == 0 {
		return fault("/send", "say which template is sent")
	}
	for i, w := range r.Send {
		at := fmt.Sprintf("/send/%d", i)
		if !s.HasTemplate(w.Template) {
			return fault(at+"/template", "choose a template")
		}
		if w.If == nil && i < len(r.Send)-1 {
			return fault(at+"/if", "only the last wording may go without a condition")
		}
		if w.If != nil {
			if err := w.If.Validate(at+"/if", s); err != nil {
				return err
			}
		}
	}
	for i, o := range r.Trigger.Offsets {
		if o.Template != "" && !s.HasTemplate(o.Template) {
			return fault(fmt.Sprintf("/trigger/offsets/%d/template", i), "the template is not there")
		}
	}
	return nil
}

func (a Address) validate(at string, s Scope) error {
	if (a.Column == "") == (a.Address == "") {
		return fault(at, "give a column or an address")
	}
	if a.Address != "" {
		if _, err := value.ParseMailboxes(a.Address); err != nil {
			return fault(at+"/address", "%s", err)
		}
		return nil
	}
	if t, ok := s.ColumnType(a.Column); !ok || t != value.Email {
		return fault(at+"/column", "recipients come from a column of type email")
	}
	return nil
}

// maxOffset bounds an offset to what a calendar of people needs.
const maxOffset = 20000

func (t *Trigger) validate(s Scope) error {
	if t.Kind != "date" {
		return fault("/trigger/kind", "trigger %q is not known to this version; use date", t.Kind)
	}
	typ, ok := s.ColumnType(t.Column)
	if !ok || typ != value.Date && typ != value.Moment {
		return fault("/trigger/column", "choose a column of type date or moment")
	}
	if len(t.Offsets) == 0 {
		return fault("/trigger/offsets", "say how many days before or after")
	}
	seen := map[Offset]bool{}
	for i, o := range t.Offsets {
		at := fmt.Sprintf("/trigger/offsets/%d", i)
		switch o.Unit {
		case Days, WorkingDays:
		case Hours, Minutes:
			if typ != value.Moment || t.At != "" {
				return fault(at+"/unit", "%s count from a moment, without a time of day", o.Unit)
			}
		default:
			return fault(at+"/unit", "unit %q is not known; use days, working-days, hours or minutes", o.Unit)
		}
		limit := maxOffset
		if o.Unit == Minutes {
			limit *= 60
		}
		if o.N > limit || o.N < -limit {
			return fault(at+"/n", "%d is too far", o.N)
		}
		k := Offset{N: o.N, Unit: o.Unit}
		if seen[k] {
			return fault(at, "the same offset stands there twice")
		}
		seen[k] = true
	}
	if t.At != "" {
		if _, err := value.ParseClock(t.At); err != nil {
			return fault("/trigger/at", "%s", err)
		}
	}
	if e := t.Every; e != nil {
		switch e.Unit {
		case "days", "weeks", "months", "years":
		default:
			return fault("/trigger/every/unit", "unit %q is not known; use days, weeks, months or years", e.Unit)
		}
		if e.N < 1 || e.N > maxOffset {
			return fault("/trigger/every/n", "it has to be 1 or more")
		}
		if e.Times < 0 {
			return fault("/trigger/every/times", "it has to be 1 or more")
		}
	}
	return nil
}

// defaultLate is how late an email may go where the rule does not say.
const defaultLate = 24 * time.Hour

// LateLimit is how long after its due instant an email may still go.
func (r *Rule) LateLimit() (time.Duration, error) {
	if r.Late == "" {
		return defaultLate, nil
	}
	return ParseDuration(r.Late)
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

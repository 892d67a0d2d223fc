package rule

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/reason"
	"nivot/internal/core/value"
)

// Occasion is the one reason for one email: this rule, this row, this date
// and offset (or this change, or this instant).
type Occasion struct {
	Kind        Kind       `json:"kind,omitempty"` // "" stands for a date's
	Rule        string     `json:"rule"`
	Row         string     `json:"row,omitempty"`    // "" for a round-up
	Column      string     `json:"column,omitempty"` // date, change, threshold
	Anchor      value.Wall `json:"-"`
	AnchorText  string     `json:"anchor,omitempty"` // date: as ISO, what the identity holds
	Offset      int        `json:"offset,omitempty"` // date: index into the trigger's offsets
	N           int        `json:"n,omitempty"`      // date: the offset; reactions: which episode or change
	Unit        Unit       `json:"unit,omitempty"`
	Anniversary int        `json:"anniversary,omitempty"`
	Instant     string     `json:"instant,omitempty"` // schedule: RFC 3339, UTC
	Mailbox     string     `json:"mailbox,omitempty"` // with each, and of a round-up: whose email it is
	Batch       string     `json:"batch,omitempty"`   // by hand
	Base        string     `json:"base,omitempty"`    // follow-up: the identity of what it follows
	BaseDue     time.Time  `json:"baseDue,omitzero"`  // follow-up: from when its steps count
	Step        int        `json:"step,omitempty"`    // follow-up: from 1
	Again       int        `json:"again,omitempty"`   // follow-up: which recurrence of its step, from 0
	Own         bool       `json:"own,omitempty"`     // follow-up: the step names its own recipients
	Before      string     `json:"before,omitempty"`  // reactions: what the cell held, as written
	After       string     `json:"after,omitempty"`   // reactions: what it holds, as written
	Due         time.Time  `json:"due"`               // after any move
	Unmoved     time.Time  `json:"unmoved,omitzero"`  // before it, where it differs
	Asks        bool       `json:"asks,omitempty"`    // reactions: who made the edit wants to look at what it sets off
	// another offset of the row falls due at the same instant and is nearer
	SameMoment bool `json:"sameMoment,omitempty"`
}

// ID is an occasion's identity: the first 16 bytes of the SHA-256 of its
// versioned input.
type ID [16]byte

// String writes the identity in hexadecimal.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

// MarshalBinary implements encoding.BinaryMarshaler: 16 bytes, where gob else takes each by itself.
func (id ID) MarshalBinary() ([]byte, error) { return id[:], nil }

// UnmarshalBinary implements encoding.BinaryUnmarshaler.
func (id *ID) UnmarshalBinary(b []byte) error {
	if len(b) != len(id) {
		return fmt.Errorf("an identity has %d bytes, not %d", len(id), len(b))
	}
	copy(id[:], b)
	return nil
}

// Chain gives the identity, as text, of the email that a follow-up follows; of a
// first email its own.
func (o *Occasion) Chain() string {
	if o.Base != "" {
		return o.Base
	}
	return o.Identity().String()
}

// FirstWhole returns the identity of the first email of a follow-up's chain, or of the occasion itself,
// without the mailbox that each gave it: what all chains of one occasion have in common.
func (o *Occasion) FirstWhole() ID {
	first := *o
	first.Base = ""
	first = first.Whole()
	return first.Identity()
}

// ParseID reads what String wrote.
func ParseID(s string) (ID, error) {
	var id ID
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(id) {
		return id, fmt.Errorf("%q is not an occasion", s)
	}
	copy(id[:], b)
	return id, nil
}

// identityVersion heads the input of every identity. It must never change for
// occasions that a database may already hold.
const identityVersion = "nivot occasion 1"

// Identity gives the occasion's identity (section 4 of docs/semantics.md): its
// parts, each with its length before it so that no two lists of parts run
// together. The due instant takes no part: an occasion keeps its identity if
// only its instant changed.
func (o *Occasion) Identity() ID {
	parts := make([]string, 0, 10) // as many as there can be: it stays off the heap
	switch {
	case o.Base != "":
		parts = append(parts, "follow-up", o.Base, strconv.Itoa(o.Step), strconv.Itoa(o.Again))
	case o.Kind == "" || o.Kind == Date:
		parts = append(parts, "date", o.Rule, o.Row, o.Column, o.AnchorText, strconv.Itoa(o.N), string(o.Unit),
			strconv.Itoa(o.Anniversary))
	case o.Kind == Schedule && o.Row == "":
		return identity("round-up", o.Rule, o.Mailbox, o.Instant)
	case o.Kind == Schedule:
		parts = append(parts, "schedule", o.Rule, o.Row, o.Instant)
	case o.Kind == Added:
		parts = append(parts, "added", o.Rule, o.Row)
	case o.Kind == ByHand:
		parts = append(parts, "by hand", o.Batch, o.Row)
	default:
		parts = append(parts, string(o.Kind), o.Rule, o.Row, strconv.Itoa(o.N))
	}
	if o.Mailbox != "" && o.Base == "" {
		parts = append(parts, "to", o.Mailbox)
	}
	return identity(parts...)
}

// Whole gives the occasion without the mailbox that each gave it.
func (o Occasion) Whole() Occasion {
	if o.Row != "" && o.Base == "" {
		o.Mailbox = ""
	}
	return o
}

// Restore fills in what the stored form leaves out.
func (o *Occasion) Restore() error {
	if o.AnchorText == "" {
		return nil
	}
	if strings.Contains(o.AnchorText, "T") {
		m, err := value.ParseMoment(o.AnchorText, value.YearMonthDay, nil)
		o.Anchor = m
		return err
	}
	day, err := value.ParseDay(o.AnchorText, value.YearMonthDay)
	o.Anchor = value.Wall{Day: day}
	return err
}

func identity(parts ...string) ID {
	var room [256]byte
	b := append(room[:0], identityVersion...)
	for _, p := range parts {
		b = binary.AppendUvarint(b, uint64(len(p)))
		b = append(b, p...)
	}
	sum := sha256.Sum256(b)
	return ID(sum[:16])
}

// anchorText writes the date a trigger hangs on, as the identity holds it.
func anchorText(v value.Value) string {
	if v.Type == value.Date {
		return v.Wall.Day.String()
	}
	return v.Wall.String()
}

// Timing is a rule's timing made ready for computing with.
type Timing struct {
	Env
	Window *calendar.Window
	Shift  calendar.Shift
	at     int32 // of a date trigger, in seconds; -1 for none
}

// Timing makes the rule's timing ready. The rule must have been validated.
func (r *Rule) Timing(env Env) (Timing, error) {
	t := Timing{Env: env, Shift: r.Shift, at: -1}
	var err error
	if t.Window, err = r.Window.Calendar(); err != nil {
		return t, err
	}
	if r.Trigger.At != "" {
		t.at, err = value.ParseClock(r.Trigger.At)
	} else if r.Trigger.Kind == Date {
		t.at = 9 * 3600
	}
	return t, err
}

// Move gives the instant at which something due at an instant goes.
func (t *Timing) Move(at time.Time) time.Time {
	return t.Window.Move(at, t.Shift, t.Zone, t.Calendar)
}

// MoveLater gives the instant at which something that only waits goes: a
// follow-up, or what has been mended.
func (t *Timing) MoveLater(at time.Time) time.Time {
	if t.Shift == calendar.NoShift {
		return at
	}
	return t.Window.Move(at, calendar.Later, t.Zone, t.Calendar)
}

// effective gives when an occasion falls due: its moved instant, or, where
// that lies before the occasion was first known and the unmoved one does not,
// the instant at which it was first known. ok is false for what was past then.
func (t *Timing) effective(unmoved, known time.Time) (due time.Time, ok bool) {
	due = t.Move(unmoved)
	if !due.Before(known) {
		return due, true
	}
	return known, !unmoved.Before(known)
}

// Due gives the occasions of a row by a date rule whose due instant lies after
// from and not after to, in time order, those at one instant with the one
// that is sent first and the others marked SameMoment. known is since when
// the anchor has been known. An occasion that judged says has been judged
// before takes no part; judged may be nil.
func (r *Rule) Due(row string, anchor value.Value, t *Timing, known, from, to time.Time,
	judged func(*Occasion) bool) []Occasion {
	if !anchor.IsFilled() || anchor.Type != value.Date && anchor.Type != value.Moment {
		return nil
	}
	var out []Occasion
	for i, off := range r.Trigger.Offsets {
		lo, hi := r.anniversaries(anchor.Wall.Day, off, t, from, to)
		for k := lo; k <= hi; k++ {
			if r.farOff(anchor.Wall.Day, off, k, t, from, to) {
				continue
			}
			unmoved := r.dueAt(anchor, off, k, t)
			due, ok := t.effective(unmoved, known)
			if !ok || !due.After(from) || due.After(to) {
				continue
			}
			o := Occasion{Rule: r.ID, Row: row, Column: r.Trigger.Column, Anchor: anchor.Wall,
				AnchorText: anchorText(anchor), Offset: i, N: off.N, Unit: off.Unit, Anniversary: k, Due: due}
			if !unmoved.Equal(due) {
				o.Unmoved = unmoved
			}
			if judged == nil || !judged(&o) {
				out = append(out, o)
			}
		}
	}
	if len(out) > 1 {
		slices.SortStableFunc(out, func(a, b Occasion) int { return a.Due.Compare(b.Due) })
		r.markSameMoment(out, t.Env)
	}
	return out
}

// farAhead is later than any occasion.
var farAhead = time.Date(12000, 1, 1, 0, 0, 0, 0, time.UTC)

// farOff tells, by days alone, that an occasion cannot fall due between two
// instants. It is what most rows are told, and costs no resolving of times.
func (r *Rule) farOff(anchor value.Day, off Offset, k int, t *Timing, from, to time.Time) bool {
	day := r.Trigger.Every.day(anchor, k)
	least, most := t.spread(off)
	return int64(day+most) < floorDay(from) || int64(day+least) > floorDay(to)
}

// spread gives by how many days what an offset brings can fall due after the day
// that it counts from, at least and at most: bounds that are generous.
func (t *Timing) spread(off Offset) (least, most value.Day) {
	const margin = 3 // zones, a day's end, a time of day
	slack := margin + value.Day(t.Window.Slack(t.Calendar))
	least, most = -slack, slack
	switch off.Unit {
	case Days:
		least, most = least+value.Day(off.N), most+value.Day(off.N)
	case Hours:
		least, most = least+value.Day(off.N/24), most+value.Day(off.N/24)
	case Minutes:
		least, most = least+value.Day(off.N/(24*60)), most+value.Day(off.N/(24*60))
	case WorkingDays: // at least as many days; what weekends and closed days add is bounded
		stretch := value.Day(abs(off.N)*6 + 14 + 7*len(t.Calendar.Closed))
		if off.N < 0 {
			least -= stretch
		} else {
			most += stretch
		}
	}
	return least, most
}

// Reach gives the first and the last day of a date from which a date rule can
// have an occasion that falls due after from and not after to. ok is false
// where any day can be one: of a rule that comes round, and of other kinds.
func (r *Rule) Reach(t *Timing, from, to time.Time) (first, last value.Day, ok bool) {
	if r.Trigger.Kind != Date || r.Trigger.Every != nil {
		return 0, 0, false
	}
	for i, off := range r.Trigger.Offsets {
		least, most := t.spread(off)
		f, l := value.Day(floorDay(from))-most, value.Day(floorDay(to))-least
		if i == 0 {
			first, last = f, l
		}
		first, last = min(first, f), max(last, l)
	}
	return first, last, len(r.Trigger.Offsets) > 0
}

// floorDay is the UTC day of an instant, counted from 1970.
func floorDay(t time.Time) int64 {
	s := t.Unix()
	if s < 0 {
		s -= 86399
	}
	return s / 86400
}

// Next gives the first due instant of a date rule after from, or the zero
// time.
func (r *Rule) Next(anchor value.Value, t *Timing, known, from time.Time) time.Time {
	if !anchor.IsFilled() {
		return time.Time{}
	}
	var next time.Time
	for _, off := range r.Trigger.Offsets {
		// One whole round after from holds the next anniversary's due instant.
		until := from
		if e := r.Trigger.Every; e != nil {
			until = from.Add(time.Duration((e.days() + 1) * 24 * float64(time.Hour)))
		}
		first, last := r.anniversaries(anchor.Wall.Day, off, t, from, until)
		if r.Trigger.Every != nil && last < first+2 { // from lies before the first of them
			if last = first + r.slack(off, t); r.Trigger.Every.Times > 0 {
				last = min(last, r.Trigger.Every.Times-1)
			}
		}
		found := time.Time{}
		for k := first; k <= last; k++ {
			if r.farOff(anchor.Wall.Day, off, k, t, from, farAhead) {
				continue
			}
			due, ok := t.effective(r.dueAt(anchor, off, k, t), known)
			if ok && due.After(from) && (found.IsZero() || due.Before(found)) {
				found = due
				if t.Window == nil {
					break // without a window the instants come in order
				}
			}
		}
		if !found.IsZero() && (next.IsZero() || found.Before(next)) {
			next = found
		}
	}
	return next
}

// anniversaries bounds the anniversary numbers whose due instant can lie
// between from and to. The bounds are generous by a few on either side, and
// far wider where working days or a window stretch an offset.
func (r *Rule) anniversaries(anchor value.Day, off Offset, t *Timing, from, to time.Time) (lo, hi int) {
	e := r.Trigger.Every
	if e == nil {
		return 0, 0
	}
	length := e.days()
	shift, slack := off.N, r.slack(off, t)
	switch off.Unit {
	case Hours:
		shift /= 24
	case Minutes:
		shift /= 24 * 60
	}
	base := int(anchor) + shift
	lo = int(float64(int(value.DayAt(from.UTC()))-base)/length) - slack
	hi = int(float64(int(value.DayAt(to.UTC()))-base)/length) + slack
	lo = max(lo, 0)
	if e.Times > 0 {
		hi = min(hi, e.Times-1)
	}
	return lo, hi
}

// slack is by how many anniversaries the estimate of anniversaries may be off.
// Working days are at least as many calendar days, at most what closed days add.
func (r *Rule) slack(off Offset, t *Timing) int {
	days := t.Window.Slack(t.Calendar)
	if off.Unit == WorkingDays {
		days += abs(off.N)*6 + 400
	}
	if days == 0 {
		return 3
	}
	return 4 + int(float64(days)/r.Trigger.Every.days())
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// days is how many days lie between two anniversaries, on average.
func (e *Every) days() float64 {
	return map[string]float64{"days": 1, "weeks": 7, "months": 30.436875, "years": 365.2425}[e.Unit] * float64(e.N)
}

// day is the k-th anniversary of a day, computed from the original
// and clamped to the month's end.
func (e *Every) day(d value.Day, k int) value.Day {
	if e == nil || k == 0 {
		return d
	}
	switch e.Unit {
	case "days":
		return d + value.Day(k*e.N)
	case "weeks":
		return d + value.Day(7*k*e.N)
	case "months":
		return d.AddMonths(k * e.N)
	}
	return d.AddMonths(12 * k * e.N)
}

// dueAt is when the occasion of one offset and anniversary falls due.
func (r *Rule) dueAt(anchor value.Value, off Offset, k int, env *Timing) time.Time {
	w := anchorWall(anchor, env.Env)
	w.Day = r.Trigger.Every.day(w.Day, k)
	if off.Unit == Hours || off.Unit == Minutes {
		at := calendar.Resolve(w, env.Zone)
		if k == 0 { // the very instant, also in an hour that the rule's zone repeats
			at = calendar.Resolve(anchor.Wall, env.sheetZone()).In(env.Zone)
		}
		d := time.Duration(off.N) * time.Hour
		if off.Unit == Minutes {
			d = time.Duration(off.N) * time.Minute
		}
		return at.Add(d)
	}
	switch off.Unit {
	case WorkingDays:
		w.Day = env.Calendar.Add(w.Day, off.N)
	default:
		w.Day += value.Day(off.N)
	}
	if r.Trigger.At != "" || anchor.Type == value.Date {
		w.Second = env.at
	}
	return calendar.Resolve(w, env.Zone)
}

// anchorWall is the anchor's wall time in the rule's zone. A day is a day
// there; a moment is wall time in the sheet's zone.
func anchorWall(anchor value.Value, env Env) value.Wall {
	sz := env.sheetZone()
	if anchor.Type != value.Moment || sz.String() == env.Zone.String() {
		return anchor.Wall
	}
	return value.WallAt(calendar.Resolve(anchor.Wall, sz).In(env.Zone))
}

// markSameMoment leaves of the occasions at one instant only the one fewest
// days from its anchor, of equals the first in the list.
func (r *Rule) markSameMoment(occ []Occasion, env Env) {
	for i := 0; i < len(occ); {
		j := i + 1
		for j < len(occ) && occ[j].Due.Equal(occ[i].Due) {
			j++
		}
		best := i
		for k := i + 1; k < j; k++ {
			if d, b := r.distance(&occ[k], env), r.distance(&occ[best], env); d < b || d == b &&
				occ[k].Offset < occ[best].Offset {
				best = k
			}
		}
		for k := i; k < j; k++ {
			occ[k].SameMoment = k != best
		}
		i = j
	}
}

// distance is how many days an occasion's unmoved day lies from its
// (anniversary's) anchor.
func (r *Rule) distance(o *Occasion, env Env) int {
	due := o.Due
	if !o.Unmoved.IsZero() {
		due = o.Unmoved
	}
	anchor := r.Trigger.Every.day(o.Anchor.Day, o.Anniversary)
	if !strings.Contains(o.AnchorText, "T") {
		return abs(int(value.DayAt(due.In(env.Zone)) - anchor))
	}
	day := anchorWall(value.OfMoment(o.Anchor), env).Day
	anchor = r.Trigger.Every.day(day, o.Anniversary)
	return abs(int(value.DayAt(due.In(env.Zone)) - anchor))
}

// Reason gives why the occasion is one. name is what its column is called.
func (o *Occasion) Reason(name string, every *Every, loc *time.Location) reason.Reason {
	r := reason.Reason{Column: o.Column, Name: name}
	switch o.Kind {
	case Change:
		r.Code, r.Value, r.Was = reason.Became, o.After, o.Before
	case Threshold:
		r.Code, r.Value = reason.Reached, o.After
	case Added:
		return reason.Reason{Code: reason.Added}
	case Edited:
		r.Code = reason.Changed
	case Schedule:
		return reason.Reason{Code: reason.Round}
	case ByHand:
		return reason.Reason{Code: reason.ByHand}
	default:
		r.Code, r.Anniversary = reason.Date, o.Anniversary
		switch o.Unit {
		case Hours:
			r.N, r.Unit = -o.N, "hour"
		case Minutes:
			r.N, r.Unit = -o.N, "minute"
		default:
			r.N, r.Unit = int(every.day(o.Anchor.Day, o.Anniversary)-value.DayAt(o.Due.In(loc))), "day"
		}
	}
	return r
}

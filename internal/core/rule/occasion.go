package rule

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"sort"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// Occasion is the one reason for one email: this rule, this row, this date
// and offset.
type Occasion struct {
	Rule        string     `json:"rule"`
	Row         string     `json:"row"`
	Column      string     `json:"column"`
	Anchor      value.Wall `json:"-"`
	AnchorText  string     `json:"anchor"` // as ISO: what the identity holds
	Offset      int        `json:"offset"` // index into the trigger's offsets
	N           int        `json:"n"`
	Unit        Unit       `json:"unit"`
	Anniversary int        `json:"anniversary"`
	Due         time.Time  `json:"due"`
	SameMoment  bool       `json:"sameMoment,omitempty"` // another offset of the row falls due at the same instant and is nearer
}

// ID is an occasion's identity: the first 16 bytes of the SHA-256 of its
// versioned input.
type ID [16]byte

// String writes the identity in hexadecimal.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

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

// Identity gives the occasion's identity: rule, row, column, anchor value,
// offset and anniversary number, each with its length before it so that no
// two lists of parts run together. The due instant takes no part: an occasion
// keeps its identity if only its instant changed.
func (o *Occasion) Identity() ID {
	return identity("date", o.Rule, o.Row, o.Column, o.AnchorText, fmt.Sprint(o.N), string(o.Unit), fmt.Sprint(o.Anniversary))
}

func identity(parts ...string) ID {
	b := []byte(identityVersion)
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

// Due gives the occasions of a row whose due instant lies after from and not
// after to, in time order, those at one instant with the one that is sent
// first and the others marked SameMoment. An occasion that judged says has
// been judged before takes no part; judged may be nil.
func (r *Rule) Due(row string, anchor value.Value, env Env, from, to time.Time, judged func(ID) bool) []Occasion {
	if !anchor.IsFilled() || anchor.Type != value.Date && anchor.Type != value.Moment {
		return nil
	}
	var out []Occasion
	for i, off := range r.Trigger.Offsets {
		lo, hi := r.anniversaries(anchor.Wall.Day, off, from, to)
		for k := lo; k <= hi; k++ {
			due, ok := r.dueAt(anchor, off, k, env)
			if !ok || !due.After(from) || due.After(to) {
				continue
			}
			o := Occasion{Rule: r.ID, Row: row, Column: r.Trigger.Column, Anchor: anchor.Wall,
				AnchorText: anchorText(anchor), Offset: i, N: off.N, Unit: off.Unit, Anniversary: k, Due: due}
			if judged == nil || !judged(o.Identity()) {
				out = append(out, o)
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Due.Before(out[j].Due) })
	r.markSameMoment(out, env)
	return out
}

// Next gives the first due instant after from, or the zero time.
func (r *Rule) Next(anchor value.Value, env Env, from time.Time) time.Time {
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
		first, last := r.anniversaries(anchor.Wall.Day, off, from, until)
		if r.Trigger.Every != nil && last < first+2 { // from lies before the first of them
			if last = first + r.slack(off); r.Trigger.Every.Times > 0 {
				last = min(last, r.Trigger.Every.Times-1)
			}
		}
		for k := first; k <= last; k++ {
			due, ok := r.dueAt(anchor, off, k, env)
			if ok && due.After(from) {
				if next.IsZero() || due.Before(next) {
					next = due
				}
				break
			}
		}
	}
	return next
}

// anniversaries bounds the anniversary numbers whose due instant can lie
// between from and to. The bounds are generous by a few on either side, and
// far wider where working days stretch an offset.
func (r *Rule) anniversaries(anchor value.Day, off Offset, from, to time.Time) (lo, hi int) {
	e := r.Trigger.Every
	if e == nil {
		return 0, 0
	}
	length := e.days()
	shift, slack := off.N, r.slack(off)
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
func (r *Rule) slack(off Offset) int {
	if off.Unit == WorkingDays {
		return 4 + int(float64(abs(off.N)*6+400)/r.Trigger.Every.days())
	}
	return 3
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
func (r *Rule) dueAt(anchor value.Value, off Offset, k int, env Env) (time.Time, bool) {
	t := &r.Trigger
	w := anchorWall(anchor, env)
	w.Day = t.Every.day(w.Day, k)
	if off.Unit == Hours || off.Unit == Minutes {
		at := calendar.Resolve(w, env.Zone)
		if k == 0 { // the very instant, also in an hour that the rule's zone repeats
			at = calendar.Resolve(anchor.Wall, env.sheetZone()).In(env.Zone)
		}
		d := time.Duration(off.N) * time.Hour
		if off.Unit == Minutes {
			d = time.Duration(off.N) * time.Minute
		}
		return at.Add(d), true
	}
	switch off.Unit {
	case WorkingDays:
		w.Day = env.Calendar.Add(w.Day, off.N)
	default:
		w.Day += value.Day(off.N)
	}
	switch {
	case t.At != "":
		s, err := value.ParseClock(t.At)
		if err != nil {
			return time.Time{}, false
		}
		w.Second = s
	case anchor.Type == value.Date:
		w.Second = 9 * 3600
	}
	return calendar.Resolve(w, env.Zone), true
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
			if d, b := r.distance(&occ[k], env), r.distance(&occ[best], env); d < b || d == b && occ[k].Offset < occ[best].Offset {
				best = k
			}
		}
		for k := i; k < j; k++ {
			occ[k].SameMoment = k != best
		}
		i = j
	}
}

// distance is how many days an occasion lies from its (anniversary's) anchor.
func (r *Rule) distance(o *Occasion, env Env) int {
	anchor := r.Trigger.Every.day(o.Anchor.Day, o.Anniversary)
	if !strings.Contains(o.AnchorText, "T") {
		return abs(int(value.DayAt(o.Due.In(env.Zone)) - anchor))
	}
	day := anchorWall(value.OfMoment(o.Anchor), env).Day
	anchor = r.Trigger.Every.day(day, o.Anniversary)
	return abs(int(value.DayAt(o.Due.In(env.Zone)) - anchor))
}

// Reason says in words why the occasion is one: "return due is 14 days away".
func (o *Occasion) Reason(column string, every *Every, loc *time.Location) string {
	anchor := every.day(o.Anchor.Day, o.Anniversary)
	days := int(anchor - value.DayAt(o.Due.In(loc)))
	what := column
	if o.Anniversary > 0 {
		what = fmt.Sprintf("anniversary %d of %s", o.Anniversary, column)
	}
	switch {
	case days == 0:
		return what + " is today"
	case days == 1:
		return what + " is 1 day away"
	case days > 1:
		return fmt.Sprintf("%s is %d days away", what, days)
	case days == -1:
		return what + " was 1 day ago"
	}
	return fmt.Sprintf("%s was %d days ago", what, -days)
}

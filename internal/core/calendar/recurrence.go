package calendar

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"nivot/internal/core/value"
)

// Recurrence is the instants of an RFC 5545 recurrence rule (section 3.3.10)
// with a start wall time. The rule runs in wall time, each time is then read
// as Resolve reads it: none that the spring change skips is left out, and two
// that fall together are one.
//
// What has been computed is kept, so a Recurrence is for one goroutine. It is
// computed from what is asked for first, not from the start, unless the rule
// counts.
type Recurrence struct {
	zone    *time.Location
	start   value.Wall
	until   time.Time  // an instant; zero for none
	last    value.Wall // the last wall time; Day 0 for none
	hasLast bool
	option  *rrule.ROption // nil for the start alone
	never   bool           // its hours, minutes and seconds are never met

	next  func() (time.Time, bool) // wall times as UTC
	known []time.Time              // instants in order
	from  time.Time                // all instants after this one, which is the zero time for the start,
	to    time.Time                // and up to here are known
	ended bool
}

// reachYears is how far after its start a recurrence is followed: a rule that
// matches nothing must end some day.
const reachYears = 120

// Bounds of a rule: its bytes, the values of a list, and the times of a day from which BYSETPOS picks.
const (
	maxText  = 20_000
	maxList  = 366
	maxPicks = 60
)

var part = regexp.MustCompile(`^[A-Z]+=[A-Z0-9+,:-]+$`)

var errTooOften = errors.New("a schedule comes round hourly at the most")

// NewRecurrence reads a rule such as FREQ=MONTHLY;BYDAY=2SA. An empty rule is
// the start alone. Refused are INTERVAL=0, COUNT with UNTIL, and what comes
// round more than once an hour.
func NewRecurrence(start value.Wall, rule string, zone *time.Location) (*Recurrence, error) {
	r := &Recurrence{zone: zone, start: start}
	if rule == "" {
		r.begin(time.Time{})
		return r, nil
	}
	rest, err := r.read(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:"))
	if err != nil {
		return nil, err
	}
	if strings.Contains(rest, "BYWEEKNO=") && !strings.Contains(rest, "BYDAY=") &&
		!strings.Contains(rest, "BYMONTHDAY=") && !strings.Contains(rest, "BYYEARDAY=") {
		// What the rule does not say comes from the start: of a week its weekday.
		rest += ";BYDAY=" + [7]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}[start.Day.Weekday()]
	}
	opt, err := rrule.StrToROption(rest)
	if err != nil {
		return nil, fmt.Errorf("%q is not a recurrence rule of RFC 5545: %w", short(rule), err)
	}
	first := asUTC(start)
	opt.Dtstart = first
	if opt.Until = first.AddDate(reachYears, 0, 0); r.hasLast && asUTC(r.last).Before(opt.Until) {
		opt.Until = asUTC(r.last)
	}
	for _, list := range []*[]int{&opt.Bysetpos, &opt.Bymonth, &opt.Bymonthday, &opt.Byyearday, &opt.Byweekno, &opt.Byhour,
		&opt.Byminute, &opt.Bysecond, &opt.Byeaster} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	never, err := hourlyAtMost(opt)
	if err != nil {
		return nil, err
	}
	if _, err := rrule.NewRRule(*opt); err != nil {
		return nil, fmt.Errorf("%q is not a recurrence rule of RFC 5545: %w", short(rule), err)
	}
	r.never = never || !meets(opt)
	r.option = byTheDay(fromStart(opt))
	r.begin(time.Time{})
	return r, nil
}

// short is a rule as a message shows it.
func short(rule string) string {
	if len(rule) > 200 {
		return rule[:200] + "…"
	}
	return rule
}

// hourlyAtMost refuses what comes round more than once an hour, whatever its parts are called. A rule by the
// minute that names one minute is one by the hour. never says that no time fits.
func hourlyAtMost(o *rrule.ROption) (never bool, err error) {
	interval := max(o.Interval, 1)
	switch {
	case o.Freq == rrule.MINUTELY && interval%60 == 0 && len(o.Byminute) == 0:
		o.Freq, o.Interval = rrule.HOURLY, interval/60
	case o.Freq == rrule.MINUTELY && interval == 1 && len(o.Byminute) > 0 && len(o.Bysetpos) == 0:
		o.Freq = rrule.HOURLY
	case o.Freq == rrule.SECONDLY && interval%3600 == 0 && len(o.Byminute)+len(o.Bysecond) == 0:
		o.Freq, o.Interval = rrule.HOURLY, interval/3600
	case o.Freq == rrule.SECONDLY && interval == 1 && len(o.Byminute) > 0 && len(o.Bysecond) > 0 && len(o.Bysetpos) == 0:
		o.Freq = rrule.HOURLY
	case o.Freq == rrule.MINUTELY && interval > 60, o.Freq == rrule.SECONDLY && interval > 3600:
	case o.Freq == rrule.MINUTELY, o.Freq == rrule.SECONDLY:
		return false, errTooOften
	}
	if o.Freq >= rrule.HOURLY {
		return pickOne(o)
	}
	switch times := max(1, len(o.Byminute)) * max(1, len(o.Bysecond)); {
	case times == 1:
		return false, nil
	case len(o.Bysetpos) == 0, times > maxPicks:
		return false, errTooOften
	}
	// Which of several times of an hour BYSETPOS picks is seen by what it makes.
	rr, err := rrule.NewRRule(*o)
	if err != nil {
		return false, fmt.Errorf("it is not a recurrence rule of RFC 5545: %w", err)
	}
	next, last := rr.Iterator(), time.Time{}
	for range 4 * maxList {
		at, ok := next()
		if !ok {
			break
		}
		if !last.IsZero() && at.Sub(last) < time.Hour {
			return false, errTooOften
		}
		last = at
	}
	return false, nil
}

// pickOne writes a rule by the hour or finer with the one minute and second that it has of each of its steps.
func pickOne(o *rrule.ROption) (never bool, err error) {
	type clock struct{ minute, second int }
	minutes, seconds := o.Byminute, o.Bysecond
	if len(minutes) == 0 || o.Freq > rrule.HOURLY { // there they choose steps
		minutes = []int{o.Dtstart.Minute()}
	}
	if len(seconds) == 0 || o.Freq > rrule.MINUTELY {
		seconds = []int{o.Dtstart.Second()}
	}
	if len(minutes)*len(seconds) > maxPicks {
		return false, errTooOften
	}
	var of []clock
	for _, m := range minutes {
		for _, s := range seconds {
			of = append(of, clock{m, s})
		}
	}
	picked := of
	if len(o.Bysetpos) > 0 {
		picked = nil
		for _, p := range o.Bysetpos {
			if p < 0 {
				p += len(of) + 1
			}
			if p >= 1 && p <= len(of) && !slices.Contains(picked, of[p-1]) {
				picked = append(picked, of[p-1])
			}
		}
		o.Bysetpos = nil
	}
	switch len(picked) {
	case 0:
		return true, nil
	case 1:
	default:
		return false, errTooOften
	}
	if o.Freq == rrule.HOURLY {
		o.Byminute = []int{picked[0].minute}
	}
	if o.Freq <= rrule.MINUTELY {
		o.Bysecond = []int{picked[0].second}
	}
	return false, nil
}

// byTheDay writes a rule by the hour whose hours are the same each day as one by the day: of a year that no day
// of fits, the iterator looks at its days instead of its hours.
func byTheDay(o *rrule.ROption) *rrule.ROption {
	n := max(o.Interval, 1)
	if o.Freq != rrule.HOURLY || 24%n != 0 || len(o.Bysetpos) > 0 {
		return o
	}
	var hours []int
	for h := o.Dtstart.Hour() % n; h < 24; h += n {
		if len(o.Byhour) == 0 || slices.Contains(o.Byhour, h) {
			hours = append(hours, h)
		}
	}
	o.Freq, o.Interval, o.Byhour = rrule.DAILY, 1, hours
	return o
}

// meets reports whether the steps of a rule by the hour or finer ever meet the weekdays, hours, minutes and
// seconds that it names, and its days are ever there. The iterator looks for them for eight thousand years.
func meets(o *rrule.ROption) bool {
	if o.Freq > rrule.WEEKLY {
		var weekdays []rrule.Weekday // without their numbers, which count in months and years alone
		for _, w := range o.Byweekday {
			weekdays = append(weekdays, []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA,
				rrule.SU}[w.Day()])
		}
		days := rrule.ROption{Freq: rrule.YEARLY, Dtstart: o.Dtstart.AddDate(-1, 0, 0), Bymonth: o.Bymonth,
			Bymonthday: o.Bymonthday, Byyearday: o.Byyearday, Byweekno: o.Byweekno, Byweekday: weekdays, Byeaster: o.Byeaster}
		rr, err := rrule.NewRRule(days)
		if err != nil {
			return true
		}
		if _, any := rr.Iterator()(); !any {
			return false
		}
	}
	unit := map[rrule.Frequency]int{rrule.HOURLY: 3600, rrule.MINUTELY: 60, rrule.SECONDLY: 1}[o.Freq]
	if unit == 0 {
		return true
	}
	const day, week = 24 * 3600, 7 * 24 * 3600
	h, m, s := o.Dtstart.Clock()
	weekday := (int(o.Dtstart.Weekday()) + 6) % 7 // Monday is 0, as in the rule
	at, step := weekday*day+h*3600+m*60+s, max(o.Interval, 1)%week*unit%week
	in := func(list []int, n int) bool { return len(list) == 0 || slices.Contains(list, n) }
	on := func(weekday int) bool {
		return len(o.Byweekday) == 0 ||
			slices.ContainsFunc(o.Byweekday, func(w rrule.Weekday) bool { return w.Day() == weekday })
	}
	for range week / unit {
		if on(at/day) && in(o.Byhour, at/3600%24) && (unit > 60 || in(o.Byminute, at/60%60)) &&
			(unit > 1 || in(o.Bysecond, at%60)) {
			return true
		}
		at = (at + step) % week
	}
	return false
}

// fromStart writes into a rule what it takes from its start, so that it can be begun anywhere.
func fromStart(o *rrule.ROption) *rrule.ROption {
	_, month, day := o.Dtstart.Date()
	noDays := len(o.Byweekno)+len(o.Byyearday)+len(o.Bymonthday)+len(o.Byweekday)+len(o.Byeaster) == 0
	if !noDays {
		return o
	}
	switch o.Freq {
	case rrule.YEARLY:
		if len(o.Bymonth) == 0 {
			o.Bymonth = []int{int(month)}
		}
		o.Bymonthday = []int{day}
	case rrule.MONTHLY:
		o.Bymonthday = []int{day}
	}
	return o
}

// begin begins anew with the instants after one; with the zero time, at the start.
func (r *Recurrence) begin(from time.Time) {
	r.known, r.ended, r.from, r.to = nil, false, from, time.Time{}
	if r.option == nil {
		done, first := false, asUTC(r.start)
		r.next = func() (time.Time, bool) { f := !done; done = true; return first, f }
		return
	}
	if r.never {
		r.next = func() (time.Time, bool) { return time.Time{}, false }
		return
	}
	o := *r.option
	if !from.IsZero() {
		o.Dtstart = since(&o, from.UTC().Add(-ahead))
	}
	rr, err := rrule.NewRRule(o)
	if err != nil { // it was made before
		r.next = func() (time.Time, bool) { return time.Time{}, false }
		return
	}
	r.next = rr.Iterator()
}

// since gives a start of a rule, not after an instant, with which it goes on as it does: whole intervals after
// its own.
func since(o *rrule.ROption, at time.Time) time.Time {
	first, n := o.Dtstart, max(o.Interval, 1)
	if !at.After(first) {
		return first
	}
	whole := func(step time.Duration) time.Time {
		if d := at.Sub(first) / step; d > 0 && int64(step) > 0 {
			return first.Add(d * step)
		}
		return first
	}
	h, mi, sec := first.Clock()
	year, month, _ := first.Date()
	var begin time.Time
	switch o.Freq {
	case rrule.YEARLY:
		years := (at.Year() - year - 1) / n * n
		begin = time.Date(year+years, time.January, 1, h, mi, sec, 0, time.UTC)
	case rrule.MONTHLY:
		months := (at.Year()-year)*12 + int(at.Month()-month) - 1
		begin = time.Date(year, month+time.Month(months/n*n), 1, h, mi, sec, 0, time.UTC)
	case rrule.WEEKLY:
		begin = whole(steps(n, 7*24*time.Hour))
	case rrule.DAILY:
		begin = whole(steps(n, 24*time.Hour))
	case rrule.HOURLY:
		begin = whole(steps(n, time.Hour))
	case rrule.MINUTELY:
		begin = whole(steps(n, time.Minute))
	case rrule.SECONDLY:
		begin = whole(steps(n, time.Second))
	}
	if begin.Before(first) {
		return first
	}
	return begin
}

// steps is n times a span, or the longest there is.
func steps(n int, unit time.Duration) time.Duration {
	if n > int(math.MaxInt64/unit) {
		return math.MaxInt64
	}
	return time.Duration(n) * unit
}

// reach has what is after an instant among what is known. Where the rule counts, all is computed from its start.
func (r *Recurrence) reach(from time.Time) {
	switch counts := r.option == nil || r.option.Count > 0; {
	case counts:
	case r.to.IsZero() && !asUTC(r.start).After(from.UTC().Add(-3*ahead)), r.from.After(from):
		if from.UTC().Add(-3 * ahead).Before(asUTC(r.start)) {
			from = time.Time{}
		}
		r.begin(from)
	}
}

// read checks the rule's parts and takes UNTIL out, whose forms mean
// different things: with Z an instant, without it wall time, as a day all of
// that day.
func (r *Recurrence) read(rule string) (rest string, err error) {
	if len(rule) > maxText {
		return "", fmt.Errorf("the rule has %d characters; up to %d are read", len(rule), maxText)
	}
	seen := map[string]bool{}
	var kept []string
	for _, p := range strings.Split(strings.TrimSuffix(rule, ";"), ";") {
		if !part.MatchString(p) {
			return "", fmt.Errorf("%q is not a part of a recurrence rule; write it as FREQ=WEEKLY", p)
		}
		name, v, _ := strings.Cut(p, "=")
		if seen[name] {
			return "", fmt.Errorf("%s stands there twice", name)
		}
		seen[name] = true
		if n := strings.Count(v, ",") + 1; n > maxList {
			return "", fmt.Errorf("%s lists %d values; up to %d are read", name, n, maxList)
		}
		switch name {
		case "FREQ":
			switch v {
			case "SECONDLY", "MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY":
			default:
				return "", fmt.Errorf("FREQ is YEARLY, MONTHLY, WEEKLY, DAILY or HOURLY, not %s", v)
			}
		case "INTERVAL":
			if strings.Trim(v, "0") == "" {
				return "", errors.New("INTERVAL is at least 1")
			}
		case "DTSTART", "TZID":
			return "", errors.New("the start stands beside the rule, not in it")
		case "UNTIL":
			if err := r.readUntil(v); err != nil {
				return "", err
			}
			continue
		}
		kept = append(kept, p)
	}
	if !seen["FREQ"] {
		return "", errors.New("FREQ is missing; write FREQ=WEEKLY")
	}
	if seen["COUNT"] && seen["UNTIL"] {
		return "", errors.New("COUNT and UNTIL do not go together")
	}
	return strings.Join(kept, ";"), nil
}

func (r *Recurrence) readUntil(v string) error {
	if t, err := time.Parse("20060102T150405Z", v); err == nil {
		r.until = t
		return nil
	}
	if t, err := time.Parse("20060102T150405", v); err == nil {
		r.last, r.hasLast = value.WallAt(t), true
		return nil
	}
	t, err := time.Parse("20060102", v)
	if err != nil {
		return fmt.Errorf("UNTIL is %s; write it as 20270331, 20270331T170000 or 20270331T170000Z", v)
	}
	r.last, r.hasLast = value.Wall{Day: value.DayAt(t), Second: dayEnd - 1}, true
	return nil
}

func asUTC(w value.Wall) time.Time {
	y, m, d := w.Day.Date()
	h, mi, s := w.Clock()
	return time.Date(y, m, d, h, mi, s, 0, time.UTC)
}

// ahead is how far beyond an instant wall times are generated, so that one
// that the spring change moves does not come after its successors.
const ahead = 50 * time.Hour

// grow makes all instants up to an instant known.
func (r *Recurrence) grow(to time.Time) {
	if r.ended || !to.After(r.to) {
		return
	}
	// A year at a time keeps the number of sorts small.
	to = to.Add(366 * 24 * time.Hour)
	for {
		wall, ok := r.next()
		if !ok {
			r.ended = true
			break
		}
		at := Resolve(value.WallAt(wall), r.zone)
		if (r.until.IsZero() || !at.After(r.until)) && at.After(r.from) {
			r.known = append(r.known, at)
		}
		if wall.After(to.UTC().Add(ahead)) {
			break
		}
	}
	slices.SortFunc(r.known, time.Time.Compare)
	r.known = slices.CompactFunc(r.known, time.Time.Equal)
	r.to = to
}

// EndsBefore reports whether the rule says UNTIL an instant that lies before its start.
func (r *Recurrence) EndsBefore() bool {
	return r.hasLast && asUTC(r.last).Before(asUTC(r.start)) ||
		!r.until.IsZero() && r.until.Before(Resolve(r.start, r.zone))
}

// Empty reports whether no time fits the rule at all.
func (r *Recurrence) Empty() bool {
	return r.Next(asUTC(r.start).Add(-ahead)).IsZero()
}

// Between gives the instants after from and not after to.
func (r *Recurrence) Between(from, to time.Time) []time.Time {
	r.reach(from)
	r.grow(to)
	i, _ := slices.BinarySearchFunc(r.known, from.Add(1), time.Time.Compare)
	j, _ := slices.BinarySearchFunc(r.known, to.Add(1), time.Time.Compare)
	if i >= j {
		return nil
	}
	return slices.Clone(r.known[i:j])
}

// Next gives the first instant after from; the zero time means never.
func (r *Recurrence) Next(from time.Time) time.Time {
	r.reach(from)
	for to := from; ; to = to.Add(2 * 366 * 24 * time.Hour) {
		r.grow(to)
		i, _ := slices.BinarySearchFunc(r.known, from.Add(1), time.Time.Compare)
		if i < len(r.known) && (r.ended || !r.known[i].After(r.to)) {
			return r.known[i]
		}
		if r.ended {
			return time.Time{}
		}
	}
}

package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// monthEdge tells whether a schedule comes round on the first (1) or the last
// (-1) day of months, and on no other; 0: neither.
func (t *Trigger) monthEdge() int {
	if t.Kind != Schedule {
		return 0
	}
	p := recurrenceParts(t.RRule)
	if p["FREQ"] != "MONTHLY" || p["BYDAY"]+p["BYSETPOS"] != "" {
		return 0
	}
	switch p["BYMONTHDAY"] {
	case "1":
		return 1
	case "-1":
		return -1
	}
	return 0
}

// workingRound reports whether schedule and window together say no more than the
// first or last working day of a month, which is then said as that.
func (r *Rule) workingRound() bool {
	w := r.Window
	if w == nil || !w.WorkingDays || len(w.Weekdays) > 0 || w.From != "" || w.Until != "" || r.GroupBy == "" &&
		r.Then != nil {
		return false // follow-ups are bound by the window too
	}
	switch r.Trigger.monthEdge() {
	case 1:
		return r.Shift == "" || r.Shift == calendar.Later
	case -1:
		return r.Shift == calendar.Earlier
	}
	return false
}

// scheduleWords says when a schedule comes round.
func (r *Rule) scheduleWords() string {
	t := &r.Trigger
	start, err := value.ParseMoment(t.Start, value.YearMonthDay, nil)
	if err != nil {
		return ""
	}
	if t.RRule == "" {
		return "once, on " + value.FormatDay(start.Day, value.Medium, nil, "") + " at " + clock(start)
	}
	p := recurrenceParts(t.RRule)
	words, ok := p.words(start, r.workingRound())
	if !ok {
		return fmt.Sprintf("by the recurrence %s from %s at %s on", strings.TrimPrefix(strings.TrimSpace(t.RRule), "RRULE:"),
			value.FormatDay(start.Day, value.Medium, nil, ""), clock(start))
	}
	return words + p.ends()
}

func clock(w value.Wall) string {
	h, m, _ := w.Clock()
	return fmt.Sprintf("%02d:%02d", h, m)
}

// parts are the parts of a recurrence rule (RFC 5545, 3.3.10), by name.
type parts map[string]string

func recurrenceParts(rule string) parts {
	p := parts{}
	rule = strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:")
	for _, x := range strings.Split(strings.TrimSuffix(rule, ";"), ";") {
		if name, v, ok := strings.Cut(x, "="); ok && v != "" {
			p[name] = v
		}
	}
	if p["INTERVAL"] == "1" {
		delete(p, "INTERVAL")
	}
	return p
}

// only reports whether there are no parts but those, which bound or repeat
// whatever the rest says, and the named ones.
func (p parts) only(names ...string) bool {
	names = append(names, "FREQ", "COUNT", "UNTIL", "WKST", "INTERVAL")
	for n := range p {
		if !slices.Contains(names, n) {
			return false
		}
	}
	return true
}

// ends says how often, or until when, a recurrence comes round.
func (p parts) ends() string {
	if n, err := strconv.Atoi(p["COUNT"]); err == nil {
		return ", " + timesWords(n)
	}
	if u := p["UNTIL"]; len(u) >= 8 {
		day, err := time.Parse("20060102", u[:8])
		if err != nil {
			return ""
		}
		words := ", until " + value.FormatDay(value.DayAt(day), value.Medium, nil, "")
		if len(u) >= 13 {
			words += " " + u[9:11] + ":" + u[11:13]
		}
		if strings.HasSuffix(u, "Z") {
			words += " UTC"
		}
		return words
	}
	return ""
}

const weekdayParts = "MO,TU,WE,TH,FR"

// words says a recurrence that has words; ok is false for any other.
func (p parts) words(start value.Wall, working bool) (words string, ok bool) {
	n := 1
	if p["INTERVAL"] != "" {
		var err error
		if n, err = strconv.Atoi(p["INTERVAL"]); err != nil || n < 1 {
			return "", false
		}
	}
	at := " at " + clock(start)
	from := ""
	if n > 1 {
		from = " from " + value.FormatDay(start.Day, value.Medium, nil, "")
	}
	switch p["FREQ"] {
	case "HOURLY":
		if p.only() {
			return every(n, "hour") + " from " + value.FormatDay(start.Day, value.Medium, nil, "") + " " + clock(start), true
		}
	case "DAILY":
		switch {
		case p.only():
			return every(n, "day") + from + at, true
		case p.only("BYDAY") && n == 1:
			return p.weekly(start, 1, "", at)
		}
	case "WEEKLY":
		if p.only("BYDAY") {
			return p.weekly(start, n, from, at)
		}
	case "MONTHLY":
		return p.monthly(start, n, working, at)
	case "YEARLY":
		return p.yearly(start, n, from, at)
	}
	return "", false
}

// every says a rhythm: every day, every second week, every 5 months.
func every(n int, unit string) string {
	switch n {
	case 1:
		return "every " + unit
	case 2, 3, 4:
		return "every " + ordinals[n] + " " + unit
	}
	return fmt.Sprintf("every %d %ss", n, unit)
}

var ordinals = map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last",
	-2: "second to last", -3: "third to last"}

func (p parts) weekly(start value.Wall, n int, from, at string) (string, bool) {
	days, ok := plainDays(p["BYDAY"])
	switch {
	case !ok:
		return "", false
	case p["BYDAY"] == weekdayParts && n == 1:
		return "every weekday" + at, true
	case len(days) == 0:
		days = []string{start.Day.Weekday().String()}
	}
	switch {
	case n == 1:
		return "every " + join2(days, "and") + at, true
	case len(days) == 1 && ordinals[n] != "":
		return "every " + ordinals[n] + " " + days[0] + from + at, true
	}
	return every(n, "week") + " on " + join2(days, "and") + from + at, true
}

// plainDays names the weekdays of BYDAY where none has a number.
func plainDays(list string) (names []string, ok bool) {
	if list == "" {
		return nil, true
	}
	for _, d := range strings.Split(list, ",") {
		if len(d) != 2 || weekdayName(d) == d {
			return nil, false
		}
		names = append(names, weekdayName(d))
	}
	return names, true
}

// monthly says which day of the month.
func (p parts) monthly(start value.Wall, n int, working bool, at string) (string, bool) {
	day, ok := p.ofMonth(start, working)
	if !ok || !p.only("BYDAY", "BYMONTHDAY", "BYSETPOS") {
		return "", false
	}
	return "on the " + day + " of " + months(start, n) + at, true
}

// months names the months of a rhythm: each month; January, April, July and
// October; every fifth month.
func months(start value.Wall, n int) string {
	if n == 1 {
		return "each month"
	}
	_, first, _ := start.Day.Date()
	if n > 12 || 12%n != 0 {
		return fmt.Sprintf("every %s month from %s", Ordinal(n), first)
	}
	var names []string
	for m := (int(first)-1)%n + 1; m <= 12; m += n {
		names = append(names, time.Month(m).String())
	}
	return join2(names, "and")
}

// Ordinal says a number's place: 1st, 22nd, 113th.
func Ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprint(n) + suffix
}

// ofMonth says a day of a month: 15th, last day, second Saturday, last working
// day.
func (p parts) ofMonth(start value.Wall, working bool) (string, bool) {
	byDay, byMonthDay, pos := p["BYDAY"], p["BYMONTHDAY"], p["BYSETPOS"]
	edge := func(word string, at string) (string, bool) {
		i, err := strconv.Atoi(at)
		if err != nil || ordinals[i] == "" {
			return "", false
		}
		return ordinals[i] + " " + word, true
	}
	switch {
	case byDay == weekdayParts && byMonthDay == "" && pos != "":
		return edge("weekday", pos)
	case byDay != "" && byMonthDay == "" && pos == "" && !strings.Contains(byDay, ",") && len(byDay) > 2:
		name := weekdayName(byDay[len(byDay)-2:])
		return edge(name, byDay[:len(byDay)-2])
	case byDay != "" && byMonthDay == "" && pos != "" && len(byDay) == 2:
		return edge(weekdayName(byDay), pos)
	case byDay != "" || pos != "":
		return "", false
	}
	if byMonthDay == "" {
		_, _, d := start.Day.Date()
		byMonthDay = fmt.Sprint(d)
	}
	var days []string
	for _, x := range strings.Split(byMonthDay, ",") {
		d, err := strconv.Atoi(x)
		switch {
		case err != nil || d == 0 || d < 0 && ordinals[d] == "":
			return "", false
		case working:
			days = append(days, ordinals[d]+" working day")
		case d < 0:
			days = append(days, ordinals[d]+" day")
		default:
			days = append(days, Ordinal(d))
		}
	}
	return join2(days, "and"), true
}

// yearly says which days of the year.
func (p parts) yearly(start value.Wall, n int, from, at string) (string, bool) {
	_, month, _ := start.Day.Date()
	each := every(n, "year") + from
	switch {
	case p.only("BYWEEKNO", "BYDAY") && p["BYWEEKNO"] != "":
		days, ok := plainDays(p["BYDAY"])
		if len(days) == 0 {
			days = []string{start.Day.Weekday().String()}
		}
		return fmt.Sprintf("%s in week %s on %s%s", each, join2(strings.Split(p["BYWEEKNO"], ","), "and"),
			join2(days, "and"), at), ok
	case p.only("BYYEARDAY") && p["BYYEARDAY"] != "":
		return fmt.Sprintf("%s on day %s of the year%s", each, join2(strings.Split(p["BYYEARDAY"], ","), "and"), at), true
	case !p.only("BYMONTH", "BYMONTHDAY", "BYDAY", "BYSETPOS"):
		return "", false
	case p["BYMONTH"] == "" && (p["BYDAY"] != "" || p["BYSETPOS"] != "" || p["BYMONTHDAY"] != ""):
		return "", false // of the whole year, not of one month
	case p["BYSETPOS"] != "" && strings.Contains(p["BYMONTH"], ","):
		return "", false // the position is one in the whole year's set
	}
	names := []string{month.String()}
	if p["BYMONTH"] != "" {
		names = nil
		for _, x := range strings.Split(p["BYMONTH"], ",") {
			m, err := strconv.Atoi(x)
			if err != nil || m < 1 || m > 12 {
				return "", false
			}
			names = append(names, time.Month(m).String())
		}
	}
	day, ok := p.ofMonth(start, false)
	return fmt.Sprintf("%s on the %s of %s%s", each, day, join2(names, "and"), at), ok
}

package sheet

import (
	"fmt"
	"regexp"
	"strings"

	"nivot/internal/core/value"
)

// Guess is what a column of text from a file looks like.
type Guess struct {
	Type    value.Type
	Order   value.Order        // date and moment
	AskDay  bool               // the data leave day-month or month-day open
	Options []string           // choice: in order of first appearance
	Format  value.NumberFormat // number
	Filled  int                // cells that are not empty
	Fit     int                // of those, how many the type reads
	Misfits []Misfit           // the first that it does not
}

// Misfit is a cell that does not fit, with the line it stands in.
type Misfit struct {
	Line int
	Text string
	Why  string
}

// maxMisfits is how many misfits are shown as examples.
const maxMisfits = 3

// GuessColumn finds the type that enough of the filled cells fit, the
// strictest first: two in three for dates, moments and addresses, whose
// writing leaves little doubt, nine in ten for the others. lines gives each cell's line in its file.
//
// Of a long column the type is found on cells from all over it, and then
// measured on all.
func GuessColumn(cells []string, lines []int, l *value.Locale) Guess {
	if len(cells) <= guessOn {
		return guess(cells, lines, l)
	}
	step := len(cells) / guessOn
	some, at := make([]string, 0, guessOn+1), make([]int, 0, guessOn+1)
	for i := 0; i < len(cells); i += step {
		some, at = append(some, cells[i]), append(at, lines[i])
	}
	g := guess(some, at, l)
	switch g.Type {
	case value.Date, value.Moment:
		return guessOrder(g.Type, cells, lines, l)
	case value.Choice:
		return choiceOrText(cells) // by all options
	}
	return Measure(value.Reading{Type: g.Type, Locale: l, Format: g.Format}, cells, lines)
}

// guessOn is how many cells a type is found on.
const guessOn = 4000

// guessOrder finds the order that most cells of a date or moment column fit.
func guessOrder(t value.Type, cells []string, lines []int, l *value.Locale) Guess {
	try := func(o value.Order) Guess {
		return Measure(value.Reading{Type: t, Order: o, Locale: l}, cells, lines)
	}
	dmy, mdy, ymd := try(value.DayMonthYear), try(value.MonthDayYear), try(value.YearMonthDay)
	best := dmy
	if mdy.Fit > best.Fit || mdy.Fit == best.Fit && l.DefaultOrder == value.MonthDayYear {
		best = mdy
	}
	best.AskDay = dmy.Fit == mdy.Fit && ambiguous(cells)
	if ymd.Fit > best.Fit {
		best = ymd
	}
	return best
}

// choiceOrText takes a column for a choice of a few options, or for text.
func choiceOrText(cells []string) Guess {
	filled := 0
	distinct, written := map[string]bool{}, map[string]bool{}
	var options []string
	for _, c := range cells {
		t := value.Trim(c)
		if t == "" {
			continue
		}
		filled++
		if written[t] || len(options) > maxGuessed {
			continue
		}
		written[t] = true
		if f := value.Fold(t); !distinct[f] {
			distinct[f] = true
			options = append(options, t)
		}
	}
	n := len(options)
	if n > 0 && n <= maxGuessed && filled >= 2*n && filled >= 8 && longest(options) <= 40 {
		return Guess{Type: value.Choice, Options: options, Filled: filled, Fit: filled}
	}
	return Guess{Type: value.Text, Filled: filled, Fit: filled}
}

// maxGuessed is how many options a column has at the most that is taken for a choice.
const maxGuessed = 12

func guess(cells []string, lines []int, l *value.Locale) Guess {
	last := choiceOrText(cells)
	filled := last.Filled
	try := func(t value.Type, o value.Order) Guess {
		return Measure(value.Reading{Type: t, Order: o, Locale: l}, cells, lines)
	}
	most := func(g Guess) bool { return filled > 0 && g.Fit*3 >= filled*2 }
	nearly := func(g Guess) bool { return filled > 0 && g.Fit*10 >= filled*9 }
	for _, t := range []value.Type{value.Date, value.Moment} {
		best := guessOrder(t, cells, lines, l)
		if most(best) {
			return best
		}
	}
	if g := try(value.Email, ""); most(g) {
		return g
	}
	if namesFiles(cells) {
		if g := try(value.File, ""); nearly(g) {
			return g
		}
	}
	if g := try(value.YesNo, ""); nearly(g) {
		return g
	}
	format := guessFormat(cells, l)
	if g := Measure(value.Reading{Type: value.Number, Locale: l, Format: format}, cells, lines); nearly(g) &&
		!looksLikeCode(cells) {
		return g
	}
	return last
}

// MeasureInto counts how many cells of a file a column that is there fits. Dates
// are taken in the column's order, unless another order fits more of them.
func MeasureInto(r value.Reading, cells []string, lines []int) Guess {
	dated := r.Type == value.Date || r.Type == value.Moment
	if dated {
		r.Order = r.DateOrder()
	}
	best := Measure(r, cells, lines)
	if !dated || best.Fit == best.Filled {
		return best
	}
	for _, o := range []value.Order{value.DayMonthYear, value.MonthDayYear, value.YearMonthDay} {
		r.Order = o
		if g := Measure(r, cells, lines); g.Fit > best.Fit {
			best = g
		}
	}
	return best
}

// Measure counts how many cells a reading fits and keeps the first that it
// does not.
func Measure(r value.Reading, cells []string, lines []int) Guess {
	g := Guess{Type: r.Type, Order: r.Order, Format: r.Format}
	type read struct {
		empty bool
		err   error
	}
	known := map[string]read{} // most columns say the same again and again
	for i, c := range cells {
		x, ok := known[c]
		if !ok {
			v, err := value.Read(c, r)
			if x = (read{v.IsEmpty(), err}); len(known) < remembered {
				known[c] = x
			}
		}
		if x.err == nil && x.empty {
			continue
		}
		g.Filled++
		if x.err == nil {
			g.Fit++
		} else if len(g.Misfits) < maxMisfits {
			g.Misfits = append(g.Misfits, Misfit{Line: lines[i], Text: c, Why: x.err.Error()})
		}
	}
	return g
}

// remembered is how many texts of a column are read once.
const remembered = 20_000

// ambiguous tells whether a cell is written with separators and could be read
// either way round.
func ambiguous(cells []string) bool {
	known := map[string]bool{}
	for _, c := range cells {
		if known[c] {
			continue
		}
		if len(known) < remembered {
			known[c] = true
		}
		a, errA := value.ParseDay(dayPart(c), value.DayMonthYear)
		b, errB := value.ParseDay(dayPart(c), value.MonthDayYear)
		if errA == nil && errB == nil && a != b {
			return true
		}
	}
	return false
}

func dayPart(s string) string {
	f := strings.Fields(value.Trim(s))
	if len(f) == 0 {
		return ""
	}
	return strings.TrimSuffix(f[0], ",")
}

// looksLikeCode tells whether digits are a name rather than an amount: a
// leading zero would be lost if they were read as a number.
func looksLikeCode(cells []string) bool {
	for _, c := range cells {
		t := value.Trim(c)
		if len(t) > 1 && t[0] == '0' && t[1] >= '0' && t[1] <= '9' {
			return true
		}
	}
	return false
}

func longest(ss []string) int {
	n := 0
	for _, s := range ss {
		n = max(n, len([]rune(s)))
	}
	return n
}

// ProposeKey proposes the column that identifies a row: the first whose cells are
// all filled and all different, by text comparison, or one before it that numbers
// the rows as codes do, with a few doubled by mistake; -1 for none.
func ProposeKey(columns [][]string, guesses []Guess) int {
	for i, cells := range columns {
		if guesses[i].Type == value.Date || guesses[i].Type == value.Moment || len(cells) == 0 {
			continue
		}
		seen, codes := make(map[string]bool, len(cells)), guesses[i].Type == value.Text
		filled := true
		for _, c := range cells {
			f := value.Fold(c)
			if filled = f != ""; !filled {
				break
			}
			codes = codes && strings.ContainsAny(f, "0123456789")
			seen[f] = true
		}
		doubled := len(cells) - len(seen)
		if filled && (doubled == 0 || codes && doubled <= max(1, len(cells)/10) && len(cells) > 2*doubled+1) {
			return i
		}
	}
	return -1
}

// NameColumns gives every column a name: a missing one becomes "Column n", a
// doubled one gets its number.
func NameColumns(names []string) []string {
	out := make([]string, len(names))
	seen := map[string]bool{}
	for i, n := range names {
		n = strings.Join(strings.Fields(value.Trim(n)), " ")
		if n == "" {
			n = fmt.Sprintf("Column %d", i+1)
		}
		base := n
		for k := 2; seen[value.Fold(n)]; k++ {
			n = fmt.Sprintf("%s (%d)", base, k)
		}
		seen[value.Fold(n)] = true
		out[i] = n
	}
	return out
}

// fileNames are names of files of the kinds that go with emails.
var fileNames = regexp.MustCompile(
	`(?i)^[^;]*[^;\s.][^;]*\.(pdf|docx?|xlsx?|pptx?|od[tsp]|rtf|jpe?g|png|gif|zip|ics|mp3)(\s*;|$)`)

// namesFiles reports whether nearly all cells that are filled name files.
func namesFiles(cells []string) bool {
	filled, named := 0, 0
	for _, c := range cells {
		if t := value.Trim(c); t != "" {
			filled++
			if fileNames.MatchString(t) {
				named++
			}
		}
	}
	return filled > 0 && named*10 >= filled*9
}

package sheet

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/value"
)

func loans() *Sheet {
	l, _ := value.FindLocale("en-GB")
	return &Sheet{Zone: time.UTC, Locale: l, Key: "c1", Columns: []Column{
		{ID: "c1", Name: "Loan", Type: value.Text, Pos: 0},
		{ID: "c2", Name: "Return due", Type: value.Date, Pos: 1, Order: value.DayMonthYear},
		{ID: "c3", Name: "Humidity", Type: value.Number, Pos: 2},
		{ID: "c4", Name: "State", Type: value.Choice, Pos: 3, Options: []value.Option{{ID: "o1", Name: "out"},
			{ID: "o2", Name: "back"}}},
		{ID: "c5", Name: "Read at", Type: value.Moment, Pos: 4},
		{ID: "c6", Name: "Open", Type: value.YesNo, Pos: 5},
		{ID: "c7", Name: "Email", Type: value.Email, Pos: 6},
	}}
}

var texts = []string{"", "LN-1", "29/03/2027", "soon", "52.5", "-3", "out", "Back", "gone", "29/03/2027 10:15", "yes",
	"no", "a@b.example", "a@b,c", "ünïcode\nline", strings.Repeat("x", 300)}

// What is encoded decodes to the same, unreadable text to the letter.
func TestEncodeDecode(t *testing.T) {
	s := loans()
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		row := &Row{}
		for i := range s.Columns {
			if r.IntN(4) > 0 {
				row.Set(&s.Columns[i], value.Parse(texts[r.IntN(len(texts))], s.Reading(&s.Columns[i])))
			}
		}
		back, err := s.Decode(Encode(row.Cells), nil)
		if err != nil {
			t.Fatal(err)
		}
		got := &Row{Cells: back}
		for i := range s.Columns {
			c := &s.Columns[i]
			if a, b := row.Cell(c), got.Cell(c); !value.Identical(a, b) || a.State == value.Filled &&
				s.Input(c, a) != s.Input(c, b) {
				t.Fatalf("%s: %+v became %+v", c.Name, a, b)
			}
		}
	}
}

func FuzzDecode(f *testing.F) {
	s := loans()
	f.Add(Encode([]value.Value{value.OfText("x"), value.OfDay(20000)}))
	f.Add([]byte{1, 9, 'a', 'b'})
	f.Fuzz(func(t *testing.T, b []byte) { _, _ = s.Decode(b, nil) })
}

// A cell written for typing reads back as the same value.
func TestInputReadsBack(t *testing.T) {
	s := loans()
	for i := range s.Columns {
		c := &s.Columns[i]
		for _, text := range texts {
			v := value.Parse(text, s.Reading(c))
			if w := value.Parse(s.Input(c, v), s.Reading(c)); !value.Same(v, w) {
				t.Errorf("%s: %q is typed as %q, which reads as %+v", c.Name, text, s.Input(c, v), w)
			}
		}
	}
}

func TestSettlesAt(t *testing.T) {
	first := time.Date(2027, 3, 15, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct{ last, want time.Duration }{
		{0, 2 * time.Minute}, {time.Minute, 3 * time.Minute}, {17 * time.Minute, 19 * time.Minute},
		{19 * time.Minute, 20 * time.Minute},
	} {
		if got := SettlesAt(first, first.Add(c.last), 2*time.Minute).Sub(first); got != c.want {
			t.Errorf("last edit after %s: %s, want %s", c.last, got, c.want)
		}
	}
}

func TestGuess(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	for _, c := range []struct {
		cells  string
		typ    value.Type
		order  value.Order
		ask    bool
		misfit string
	}{
		{"29/03/2027|30/04/2027|soon", value.Date, value.DayMonthYear, false, "soon"},
		{"03/04/2027|05/06/2027", value.Date, value.DayMonthYear, true, ""},
		{"03/29/2027|05/06/2027", value.Date, value.MonthDayYear, false, ""},
		{"2027-03-29|2027-05-06", value.Date, value.DayMonthYear, false, ""},
		{"29/03/2027 10:00|30/03/2027 11:30", value.Moment, value.DayMonthYear, false, ""},
		{"1|2|3.5", value.Number, "", false, ""},
		{"007|012|003", value.Text, "", false, ""},
		{"yes|no|no", value.YesNo, "", false, ""},
		{"a@b.example|c@d.example|c@d", value.Email, "", false, ""},
		{"a@b.example|c@d.example|nobody", value.Email, "", false, "nobody"},
		{"out|out|back|out|back|out|back|out", value.Choice, "", false, ""},
		{"Oak|Tin|Glass", value.Text, "", false, ""},
		{"||", value.Text, "", false, ""},
	} {
		cells := strings.Split(c.cells, "|")
		lines := make([]int, len(cells))
		for i := range lines {
			lines[i] = i + 2
		}
		g := GuessColumn(cells, lines, l)
		if g.Type != c.typ || c.typ == value.Date && c.ask == false && c.cells[:4] != "2027" && g.Order != c.order ||
			g.AskDay != c.ask {
			t.Errorf("%s: %s %s ask %v, want %s %s ask %v", c.cells, g.Type, g.Order, g.AskDay, c.typ, c.order, c.ask)
		}
		if c.misfit != "" && (len(g.Misfits) != 1 || g.Misfits[0].Text != c.misfit || g.Misfits[0].Line != len(cells)+1) {
			t.Errorf("%s: misfits %v", c.cells, g.Misfits)
		}
	}
}

// A long column is guessed as a short one is, and measured whole.
// Numbers are written again as the file shows them.
func TestGuessFormat(t *testing.T) {
	two, one := 2, 1
	for _, c := range []struct {
		locale, cells string
		want          value.NumberFormat
		shown         string // the first cell, as it is written then
	}{
		{"en-GB", "1,240.50|3.00||12,000.10", value.NumberFormat{Decimals: &two, Thousands: true}, "1,240.50"},
		{"en-GB", "1240.50|3.00", value.NumberFormat{Decimals: &two}, "1240.50"},
		{"en-GB", "£1,240.50|£3.00", value.NumberFormat{Decimals: &two, Thousands: true, Currency: "£"}, "£1,240.50"},
		{"de", "1.240,50 €|3,00 €", value.NumberFormat{Decimals: &two, Thousands: true, Currency: "€"}, "1.240,50\u00a0€"},
		{"fr", "1 240,5|3,0", value.NumberFormat{Decimals: &one, Thousands: true}, "1\u202f240,5"},
		{"en-GB", "45.5%|3.0%", value.NumberFormat{Decimals: &one, Percent: true}, "45.5%"},
		{"en-GB", "1|2|3.5", value.NumberFormat{}, "1"},
		{"en-GB", "1240|3", value.NumberFormat{}, "1240"},
		{"en-GB", "1,240|999|1,000,000", value.NumberFormat{Thousands: true}, "1,240"},
		{"en-GB", "-5.10|\u22121,000.00", value.NumberFormat{Decimals: &two, Thousands: true}, "-5.10"},
	} {
		t.Run(c.locale+" "+c.cells, func(t *testing.T) {
			l, _ := value.FindLocale(c.locale)
			cells := strings.Split(c.cells, "|")
			g := GuessColumn(cells, make([]int, len(cells)), l)
			a, _ := json.Marshal(g.Format)
			b, _ := json.Marshal(c.want)
			if g.Type != value.Number || string(a) != string(b) || g.Fit != g.Filled {
				t.Fatalf("%s %s, %d of %d fit; want %s", g.Type, a, g.Fit, g.Filled, b)
			}
			v := value.Parse(cells[0], value.Reading{Type: value.Number, Locale: l, Format: g.Format})
			if got := value.FormatNumber(v.Num, g.Format, l); got != c.shown {
				t.Errorf("%q is shown as %q, want %q", cells[0], got, c.shown)
			}
		})
	}
}

func TestGuessLong(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	for name, cell := range map[value.Type]func(i int) string{
		value.Date:   func(i int) string { return fmt.Sprintf("%02d/%02d/2027", 1+i%28, 1+i%12) },
		value.Number: func(i int) string { return fmt.Sprint(i) },
		value.Choice: func(i int) string { return []string{"out", "back", "lost"}[i%3] },
		value.Text:   func(i int) string { return fmt.Sprintf("LN-%d", i) },
		value.Email:  func(i int) string { return fmt.Sprintf("c%d@x.example", i) },
	} {
		cells, lines := make([]string, 30_001), make([]int, 30_001)
		for i := range cells {
			cells[i], lines[i] = cell(i), i+2
		}
		cells[29_999] = "14/13/12"
		g := GuessColumn(cells, lines, l)
		if g.Type != name || g.Filled != 30_001 || name != value.Text && name != value.Choice &&
			(g.Fit != 30_000 || g.Misfits[0].Line != 30_001) ||
			name == value.Date && g.Order != value.DayMonthYear || name == value.Choice && len(g.Options) != 4 {
			t.Errorf("%s: %+v", name, g)
		}
	}
}

// Section 1: an import meets rows by key, the n-th of a key the n-th.
func TestMeet(t *testing.T) {
	known := []Known{{ID: "1", Key: "a"}, {ID: "2", Key: "b"}, {ID: "3", Key: ""}, {ID: "4", Key: "c", Deleted: true},
		{ID: "5", Key: "d", Gone: true}, {ID: "6", Key: "a"},
		{ID: "7", Key: "e", Deleted: true}, {ID: "8", Key: "e"}}
	for name, c := range map[string]struct{ file, want, missing string }{
		"once each":                     {"a c x d", "1 4< - 5<", "[2 6 8]"},
		"doubled in both":               {"a A b", "1 6+ 2", "[5 8]"},
		"once more than there are":      {"a a a", "1 6+ -+", "[2 5 8]"},
		"without a key":                 {"_ a _", "- 1 -", "[2 5 6 8]"},
		"there before what was deleted": {"e e", "8 7<+", "[1 2 5 6]"},
	} {
		t.Run(name, func(t *testing.T) {
			keys := strings.Fields(c.file)
			for i := range keys {
				keys[i] = strings.Trim(keys[i], "_")
			}
			meetings, missing := Meet(known, keys)
			var got []string
			for _, m := range meetings {
				x := m.Row
				if x == "" {
					x = "-"
				}
				if m.Returns {
					x += "<"
				}
				if m.Doubled {
					x += "+"
				}
				got = append(got, x)
			}
			if g := strings.Join(got, " "); g != c.want || fmt.Sprint(missing) != c.missing {
				t.Errorf("%s, missing %v; want %s, missing %s", g, missing, c.want, c.missing)
			}
		})
	}
	if n := Doubled([]string{"a", " A ", "b", "", "", "a"}); n != 2 {
		t.Errorf("%d doubled, want 2", n)
	}
}

func TestValidate(t *testing.T) {
	for want, change := range map[string]func(*Sheet){
		"has no name":        func(s *Sheet) { s.Columns[1].Name = " " },
		"is already that of": func(s *Sheet) { s.Columns[1].Name = "LOAN" },
		"is not known":       func(s *Sheet) { s.Columns[1].Type = "colour" },
		"at least one":       func(s *Sheet) { s.Columns[3].Options = nil },
		"key or address":     func(s *Sheet) { s.Key = "c99" },
	} {
		s := loans()
		change(s)
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	if err := loans().Validate(); err != nil {
		t.Error(err)
	}
	if got := fmt.Sprint(NameColumns([]string{"A", " a ", "", "B\nC"})); got != "[A a (2) Column 3 B C]" {
		t.Error(got)
	}
}

// Sort keys compare as Less does, whichever way round, over values that are
// close, far, of many digits, unreadable and empty.
func TestSortKeys(t *testing.T) {
	s := loans()
	r := rand.New(rand.NewPCG(6, 1832))
	numbers := []string{"0", "-0.0000001", "0.0000001", "0.00000011", "1", "1.0", "1.0000001", "999999999999",
		"1000000000000", "9223372036854775807", "-9223372036854775808",
		"123456789012345678901234567890", "-123456789012345678901234567890", "0.123456789012345678901",
		"12345678901234567890.123", "-0.5", "-0.50000001", "9223372036854.7", "-12.3456789"}
	texts := append(texts, "ABCDEFGHI", "abcdefgh", "abcdefghz", "ábc", "zz", "~")
	for i := range s.Columns {
		c := &s.Columns[i]
		var vs []value.Value
		for _, text := range append(slices.Clone(texts), numbers...) {
			vs = append(vs, value.Parse(text, s.Reading(c)))
		}
		for range 4000 {
			a, b := vs[r.IntN(len(vs))], vs[r.IntN(len(vs))]
			for _, down := range []bool{false, true} {
				x, y := a, b
				if down && a.IsFilled() && b.IsFilled() {
					x, y = b, a
				}
				want := 0
				if s.Less(c, x, y) {
					want = -1
				} else if s.Less(c, y, x) {
					want = 1
				}
				if got := s.SortKey(c, a, down).Compare(s.SortKey(c, b, down), down); got != want {
					t.Fatalf("%s, down %v: %+v against %+v: %d, want %d", c.Name, down, a, b, got, want)
				}
			}
		}
	}
}

// Meeting a file's rows with those that are there: every row of the file ends
// up as one row, no row is met twice, and what is missing is missing.
func FuzzMeet(f *testing.F) {
	f.Add("a b c", "b c d", uint8(1))
	f.Add("a a  b", "A a b b", uint8(7))
	f.Fuzz(func(t *testing.T, there, file string, deleted uint8) {
		var known []Known
		for i, k := range strings.Split(there, " ") {
			known = append(known, Known{ID: fmt.Sprint(i), Key: value.Fold(k), Deleted: deleted>>(i%8)&1 == 1, Gone: i%3 == 0})
		}
		keys := strings.Split(file, " ")
		meetings, missing := Meet(known, keys)
		if len(meetings) != len(keys) {
			t.Fatalf("%d meetings of %d rows", len(meetings), len(keys))
		}
		met := map[string]bool{}
		for i, m := range meetings {
			if m.Incoming != i {
				t.Fatalf("row %d is %d", i, m.Incoming)
			}
			if m.Row == "" {
				continue
			}
			var n int
			if _, err := fmt.Sscan(m.Row, &n); err != nil || met[m.Row] || known[n].Key != value.Fold(keys[i]) ||
				m.Returns != (known[n].Deleted || known[n].Gone) {
				t.Fatalf("%+v", m)
			}
			met[m.Row] = true
		}
		for _, id := range missing {
			var n int
			_, _ = fmt.Sscan(id, &n)
			if met[id] || known[n].Deleted || known[n].Key == "" {
				t.Fatalf("%s is missing", id)
			}
		}
	})
}

// Into a column that is there, dates are read in its order, unless the file
// shows that it writes them in another.
func TestMeasureInto(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	for _, c := range []struct {
		cells string
		typ   value.Type
		order value.Order // of the column; "" is the locale's
		want  value.Order
		fit   int
	}{
		{"03/04/2027|05/06/2027", value.Date, value.DayMonthYear, value.DayMonthYear, 2},
		{"03/04/2027|05/06/2027", value.Date, value.MonthDayYear, value.MonthDayYear, 2},
		{"03/04/2027|05/06/2027", value.Date, "", value.DayMonthYear, 2},
		{"03/29/2027|05/06/2027", value.Date, value.DayMonthYear, value.MonthDayYear, 2},
		{"29/03/2027|05/06/2027", value.Date, value.MonthDayYear, value.DayMonthYear, 2},
		{"2027/03/29|2027/06/05", value.Date, value.DayMonthYear, value.YearMonthDay, 2},
		{"2027-03-29|2027-06-05", value.Date, value.MonthDayYear, value.MonthDayYear, 2},
		{"03/29/2027|29/03/2027", value.Date, value.DayMonthYear, value.DayMonthYear, 1},
		{"03/29/2027 10:00|03/30/2027 11:00", value.Moment, value.DayMonthYear, value.MonthDayYear, 2},
		{"soon|later", value.Date, value.DayMonthYear, value.DayMonthYear, 0},
		{"1|2|three", value.Number, "", "", 2},
	} {
		cells := strings.Split(c.cells, "|")
		g := MeasureInto(value.Reading{Type: c.typ, Order: c.order, Locale: l}, cells, make([]int, len(cells)))
		if g.Order != c.want || g.Fit != c.fit || g.Filled != len(cells) {
			t.Errorf("%s into %s %s: %s, %d of %d", c.cells, c.typ, c.order, g.Order, g.Fit, g.Filled)
		}
	}
}

// A key is what numbers the rows: the first column that tells them all apart, or codes with
// a few doubled by mistake.
func TestProposeKey(t *testing.T) {
	text, number, date := Guess{Type: value.Text}, Guess{Type: value.Number}, Guess{Type: value.Date}
	for name, c := range map[string]struct {
		columns [][]string
		guesses []Guess
		want    int
	}{
		"all different": {[][]string{{"a", "a", "b"}, {"x", "y", "z"}}, []Guess{text, text}, 1},
		"none":          {[][]string{{"a", "a", "b"}, {"x", "", "z"}}, []Guess{text, text}, -1},
		"no dates":      {[][]string{{"1", "2", "3"}, {"a", "b", "c"}}, []Guess{date, text}, 1},
		"codes, one of them twice": {[][]string{{"T-1", "T-1", "T-2", "T-3"}, {"9", "8", "7", "6"}}, []Guess{text, number},
			0},
		"codes, half of them twice": {[][]string{{"T-1", "T-1", "T-2", "T-2"}, {"9", "8", "7", "6"}}, []Guess{text, number},
			1},
		"names, one of them twice": {[][]string{{"Ann", "Ann", "Bo", "Cy"}, {"9", "8", "7", "6"}}, []Guess{text, number},
			1},
		"a code is missing": {[][]string{{"T-1", "", "T-2", "T-3"}, {"9", "8", "7", "6"}}, []Guess{text, number}, 1},
		"no rows":           {[][]string{{}}, []Guess{text}, -1},
	} {
		if got := ProposeKey(c.columns, c.guesses); got != c.want {
			t.Errorf("%s: %d, want %d", name, got, c.want)
		}
	}
}

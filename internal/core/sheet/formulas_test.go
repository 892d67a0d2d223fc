package sheet

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/formula"
	"nivot/internal/core/value"
)

func readings() *Sheet {
	l, _ := value.FindLocale("en-GB")
	return &Sheet{Zone: time.UTC, Locale: l, Key: "c1", Columns: []Column{
		{ID: "c1", Name: "Case", Type: value.Text},
		{ID: "c2", Name: "Read on", Type: value.Date, Pos: 1, Order: value.DayMonthYear},
		{ID: "c3", Name: "Humidity", Type: value.Number, Pos: 2},
		{ID: "c4", Name: "State", Type: value.Choice, Pos: 3, Options: []value.Option{{ID: "o1", Name: "dry"},
			{ID: "o2", Name: "damp"}}},
		{ID: "f1", Name: "Age", Type: value.Formula, Pos: 4, Formula: "days_since(read_on)"},
		{ID: "f2", Name: "Old", Type: value.Formula, Pos: 5, Formula: `if(age > 7 and state = "damp", "look", "fine")`},
		{ID: "f3", Name: "Due", Type: value.Formula, Pos: 6, Formula: "read_on + 14"},
	}}
}

func cellsOf(s *Sheet, texts ...string) *Row {
	r := &Row{ID: "r", Number: 1}
	for i, text := range texts {
		c := &s.Columns[i]
		r.Set(c, value.Parse(text, s.Reading(c)))
	}
	return r
}

// Formulas rest on columns and on other formulas, move with the day, and give
// what is empty or cannot be read on.
func TestCompute(t *testing.T) {
	s := readings()
	if err := s.Compile(); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for texts, want := range map[string]string{
		"Case 01|01/03/2027|52|damp": "14|look|15 Mar 2027",
		"Case 02|14/03/2027|52|damp": "1|fine|28 Mar 2027",
		"Case 03|01/03/2027|52|dry":  "14|fine|15 Mar 2027",
		"Case 04||52|dry":            "|fine|",
		"Case 05|soon|52|damp":       "soon|soon|soon",
		"Case 06|soon|52|dry":        "soon|fine|soon",
	} {
		r := cellsOf(s, strings.Split(texts, "|")...)
		x := s.Compute(r, at, calendar.Default())
		var got []string
		for _, id := range []string{"f1", "f2", "f3"} {
			c, _ := s.Column(id)
			got = append(got, s.Show(c, x.Cell(c)))
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%s: %s, want %s", texts, strings.Join(got, "|"), want)
		}
		if c, _ := s.Column("f1"); !r.Cell(c).IsEmpty() {
			t.Error("the row itself has been written in")
		}
	}
	for id, want := range map[string]formula.Moving{"f1": formula.Daily, "f2": formula.Daily, "f3": formula.Still,
		"c3": formula.Still} {
		if c, _ := s.Column(id); c.Moving() != want {
			t.Errorf("%s moves %v, want %v", id, c.Moving(), want)
		}
	}
	for id, want := range map[string]value.Type{"f1": value.Number, "f2": value.Text, "f3": value.Date,
		"c4": value.Choice} {
		if c, _ := s.Column(id); c.ValueType() != want {
			t.Errorf("%s is a %s, want %s", id, c.ValueType(), want)
		}
	}
	if plain := loans(); plain.HasFormulas() || plain.Compute(&Row{}, at, calendar.Default()) == nil {
		t.Error("a sheet without formulas")
	}
}

// A formula that cannot be worked out is told by its column and place.
func TestFormulaFaults(t *testing.T) {
	for formulas, want := range map[string]string{
		"days_since(age)|1|2":           "Age, at character 12: ",
		"old|age|1":                     "rests on itself",
		"due & 1|1|age & 2":             "rests on itself",
		"days_since(readon)|1|2":        "Age, at character 12: there is no column readon",
		"1|upper(humidity)|2":           "Old, at character 7: a text is wanted here",
		"1|2|":                          "Due, at character 1: the formula ends",
		"1|old & 1|1":                   "rests on itself",
		"1|nothing_of_that & due|old+1": "Old, at character 1",
	} {
		s := readings()
		for i, f := range strings.Split(formulas, "|") {
			s.Columns[4+i].Formula = f
		}
		err := s.Compile()
		var fe *FormulaError
		if !errors.As(err, &fe) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", formulas, err, want)
		}
	}
}

// However columns are renamed, also into each other's names, every formula
// goes on meaning the same columns.
func TestRenameKeepsMeaning(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 27))
	names := []string{"Case", "Read on", "read-on", "Read  on!", "Humidity", "humidity", "Humidity %", "State",
		"2nd reading", "Été", "if", "today", "Age", "Old", "Due", "a b", "a_b", "A.B"}
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for range 300 {
		s := readings()
		if err := s.Compile(); err != nil {
			t.Fatal(err)
		}
		before := s.Compute(cellsOf(s, "Case 01", "01/03/2027", "52", "damp"), at, calendar.Default())
		for range 4 {
			perm, change := r.Perm(len(names)), map[string]string{}
			for i := range s.Columns {
				if r.IntN(2) == 0 {
					change[s.Columns[i].ID] = names[perm[i]]
				}
			}
			was := make([]Column, len(s.Columns))
			copy(was, s.Columns)
			if err := s.Rename(change); err != nil {
				s.Columns = was // two of one name, by text comparison: refused
				continue
			}
			if err := s.Compile(); err != nil {
				t.Fatalf("renamed %v: %v\nformulas %q %q %q", change, err, s.Columns[4].Formula, s.Columns[5].Formula,
					s.Columns[6].Formula)
			}
			after := s.Compute(cellsOf(s, "Case 01", "01/03/2027", "52", "damp"), at, calendar.Default())
			if fmt.Sprint(before.Cells) != fmt.Sprint(after.Cells) {
				t.Fatalf("renamed %v: %v became %v\nformulas %q %q", change, before.Cells, after.Cells, s.Columns[4].Formula,
					s.Columns[5].Formula)
			}
		}
	}
	if err := readings().Rename(map[string]string{"c99": "x"}); err == nil {
		t.Error("a column that is not there was renamed")
	}
}

func TestRowName(t *testing.T) {
	s := readings()
	for text, want := range map[string]string{"Case 01": "Case 01", "": "#1", "  ": "#1"} {
		if got := s.RowName(cellsOf(s, text)); got != want {
			t.Errorf("%q is called %q, want %q", text, got, want)
		}
	}
	s.Key = ""
	if got := s.RowName(cellsOf(s, "Case 01")); got != "#1" {
		t.Error(got)
	}
	if c, ok := s.ColumnNamed("  READ ON "); !ok || c.ID != "c2" {
		t.Error("a column is found by name whatever its case")
	}
}

func TestProposeKeyAndNames(t *testing.T) {
	text, date := Guess{Type: value.Text}, Guess{Type: value.Date}
	for _, c := range []struct {
		columns []string
		guesses []Guess
		want    int
	}{
		{[]string{"a|b|c"}, []Guess{text}, 0}, {[]string{"a|A|c", "1|2|3"}, []Guess{text, text}, 1},
		{[]string{"a||c", "1|2|2"}, []Guess{text, text}, -1},
		{[]string{"1/1/2027|2/1/2027", "x|y"}, []Guess{date, text}, 1}, {nil, nil, -1},
	} {
		var columns [][]string
		for _, cells := range c.columns {
			columns = append(columns, strings.Split(cells, "|"))
		}
		if got := ProposeKey(columns, c.guesses); got != c.want {
			t.Errorf("%v: %d, want %d", c.columns, got, c.want)
		}
	}
	if got := strings.Join(NameColumns([]string{"A", "", "a", " A  (2) ", "A", "x\ty"}),
		"|"); got != "A|Column 2|a (2)|A (2) (2)|A (3)|x y" {
		t.Error(got)
	}
}

package sheet

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// paid is a sheet with a column for each month.
func paid(t *testing.T, months ...string) *Sheet {
	t.Helper()
	l, _ := value.FindLocale("en-GB")
	s := &Sheet{Zone: time.UTC, Locale: l, Columns: []Column{{ID: "c1", Name: "Member", Type: value.Text}}}
	two := 2
	for i, m := range months {
		s.Columns = append(s.Columns, Column{ID: "m" + m, Name: m, Type: value.Number, Pos: i + 1, Group: "Paid",
			Format: value.NumberFormat{Decimals: &two}})
	}
	s.Columns = append(s.Columns, Column{ID: "f1", Name: "Behind", Type: value.Formula, Pos: 40,
		Formula: `empty(latest("Paid"))`})
	IdentifyGroups(s.Columns, nil)
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// What is meant of a group is worked out like a formula, stands in no grid,
// and follows when a column comes to it.
func TestDerived(t *testing.T) {
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct{ name, months, cells, want string }{
		{"the last is filled", "January February", "A|5|7", "7.00|7.00|February|2|no"},
		{"another column has come", "January February March", "A|5|7", "|7.00|March|2|yes"},
		{"nothing is filled", "January", "A", "||January|0|yes"},
		{"a cell cannot be read", "January February", "A|soon|7", "7.00|7.00|February|soon|no"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := paid(t, strings.Fields(c.months)...)
			row := s.Compute(cellsOf(s, strings.Split(c.cells, "|")...), at, calendar.Default())
			var got []string
			for _, name := range []string{"latest of Paid", "LATEST filled of paid", "latest name of Paid",
				"count filled of Paid", "Behind"} {
				col, ok := s.ColumnNamed(name)
				if !ok {
					t.Fatalf("there is no %s", name)
				}
				byID, _ := s.Column(col.ID)
				if byID != col {
					t.Errorf("%s is not found by its id %s", name, col.ID)
				}
				got = append(got, s.Show(col, row.Cell(col)))
			}
			if strings.Join(got, "|") != c.want {
				t.Errorf("%s, want %s", strings.Join(got, "|"), c.want)
			}
			for _, d := range s.Derived() {
				if len(d.ID) > 20 {
					t.Errorf("the id %s is too long to be kept", d.ID)
				}
			}
			if len(s.Derived()) != 4 || len(s.Columns) != len(strings.Fields(c.months))+2 {
				t.Errorf("%d derived columns, %d columns", len(s.Derived()), len(s.Columns))
			}
			if back := string(Encode(cellsOf(s, strings.Split(c.cells, "|")...).Cells)); back == "" {
				t.Error("the row cannot be kept")
			}
		})
	}
}

func TestGroupsRefused(t *testing.T) {
	for _, c := range []struct {
		name, want string
		change     func(s *Sheet)
	}{
		{"a column called as a group's latest is", "what is said of a group",
			func(s *Sheet) { s.Columns[0].Name = "Latest of Paid" }},
		{"a formula over columns of two types", "not of one type", func(s *Sheet) { s.Columns[1].Type = value.Text }},
		{"a formula in the group that it is over", "rests on itself", func(s *Sheet) { s.Columns[3].Group = "Paid" }},
		{"a name of two lines", "one line", func(s *Sheet) { s.Columns[0].Group = "a\nb" }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := paid(t, "January", "February")
			c.change(s)
			IdentifyGroups(s.Columns, nil)
			if err := s.Validate(); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %s", err, c.want)
			}
		})
	}
	s := paid(t, "January", "February")
	s.Columns[1].Type, s.Columns[3].Formula = value.Text, "1"
	if err := s.Validate(); err != nil || len(s.Derived()) != 0 {
		t.Errorf("a mixed group that nothing looks at: %v, %d derived", err, len(s.Derived()))
	}
}

// However columns come, go and are regrouped, a group's id stays with it: one
// id has one name and one name one id, a group that is still called the same is
// the same, and one that is only renamed keeps its id and its formulas.
func TestIdentifyGroups(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	names := []string{"", "Paid", "Fees", "Round", "paid "}
	cols := make([]Column, 6)
	for i := range cols {
		cols[i] = Column{ID: string(rune('a' + i)), Pos: i}
	}
	for k := range 5000 {
		before := append([]Column(nil), cols...)
		renamed, name := "", fmt.Sprint("another ", k)
		if r.IntN(3) == 0 && before[0].GroupID != "" {
			renamed = before[0].GroupID
			for i := range cols {
				if cols[i].GroupID == renamed {
					cols[i].Group = name
				}
			}
		} else {
			cols[r.IntN(len(cols))].Group = names[r.IntN(len(names))]
		}
		IdentifyGroups(cols, before)
		ids, called := map[string]string{}, map[string]string{}
		for _, c := range cols {
			f := value.Fold(c.Group)
			if (f == "") != (c.GroupID == "") || f != "" && (ids[f] != "" && ids[f] != c.GroupID || called[c.GroupID] != "" &&
				called[c.GroupID] != f) {
				t.Fatalf("%+v after %+v", cols, before)
			}
			ids[f], called[c.GroupID] = c.GroupID, f
		}
		for _, c := range before {
			if id := ids[value.Fold(c.Group)]; c.GroupID != "" && id != "" && id != c.GroupID {
				t.Fatalf("%s had %s and has %s", c.Group, c.GroupID, id)
			}
		}
		if renamed != "" && ids[name] != renamed {
			t.Fatalf("the renamed group is another: %+v after %+v", cols, before)
		}
	}
	s := paid(t, "January", "February")
	before := append([]Column(nil), s.Columns...)
	s.Columns[1].Group, s.Columns[2].Group = "Fees", "Fees"
	IdentifyGroups(s.Columns, before)
	RenameGroups(s.Columns, before)
	if s.Columns[3].Formula != `empty(latest("Fees"))` || s.Columns[1].GroupID != before[1].GroupID ||
		s.Validate() != nil {
		t.Errorf("%+v", s.Columns)
	}
}

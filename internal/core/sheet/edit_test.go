package sheet

import (
	"errors"
	"strings"
	"testing"

	"nivot/internal/core/value"
)

// Section 1: what an edit makes of a cell, what settles, what clashes, what is
// refused.
func TestEdit(t *testing.T) {
	expected := func(s string) *string { return &s }
	for name, c := range map[string]struct {
		holds   string
		ed      CellEdit
		locked  bool
		unlocks bool
		want    string // "none", "changed", "settles", "conflict" or part of a refusal
	}{
		"the same":         {"Oak bellows", CellEdit{Text: "Oak bellows"}, false, false, "none"},
		"outer space only": {"Oak bellows", CellEdit{Text: " Oak bellows "}, false, false, "none"},
		"case only":        {"Oak bellows", CellEdit{Text: "OAK bellows"}, false, false, "changed"},
		"other text":       {"Oak bellows", CellEdit{Text: "Net float"}, false, false, "settles"},
		"emptied":          {"Oak bellows", CellEdit{Text: ""}, false, false, "settles"},
		"expected as typed": {"Oak bellows", CellEdit{Text: "x", Expected: expected("Oak bellows")}, false,
			false, "settles"},
		"expected something else": {"Oak bellows", CellEdit{Text: "x", Expected: expected("Quilt")}, false, false,
			"conflict"},
		"the same although something else": {"Oak bellows", CellEdit{Text: "Oak bellows", Expected: expected("Quilt")},
			false, false, "none"},
		"locked":                     {"Oak bellows", CellEdit{Text: "x"}, true, false, "is locked"},
		"locked, and unlocked":       {"Oak bellows", CellEdit{Text: "x"}, true, true, "settles"},
		"locked and the same":        {"Oak bellows", CellEdit{Text: "Oak bellows"}, true, false, "none"},
		"too long":                   {"", CellEdit{Text: strings.Repeat("x", MaxCell+1)}, false, false, "at most"},
		"a column that is not there": {"", CellEdit{Column: "c99", Text: "x"}, false, false, "not there"},
		"as long as a cell may be":   {"", CellEdit{Text: strings.Repeat("x", MaxCell)}, false, false, "settles"},
	} {
		t.Run(name, func(t *testing.T) {
			s := loans()
			col := &s.Columns[0]
			col.Locked = c.locked
			if c.ed.Column == "" {
				c.ed.Column = col.ID
			}
			row := &Row{}
			row.Set(col, value.Parse(c.holds, s.Reading(col)))
			ch, settles, changed, err := s.Edit(row, c.ed, c.unlocks)
			got := "none"
			var conflict *Conflict
			var refused *EditError
			switch {
			case errors.As(err, &conflict):
				got = "conflict"
			case errors.As(err, &refused):
				got = refused.Message
			case settles:
				got = "settles"
			case changed:
				got = "changed"
			}
			if got != c.want && !strings.Contains(got, c.want) {
				t.Errorf("%s, want %s", got, c.want)
			}
			if is := row.Cell(col).Str; changed && (ch.After != value.Trim(c.ed.Text) || is != ch.After) || !changed &&
				is != c.holds {
				t.Errorf("it holds %q; %+v", is, ch)
			}
		})
	}
}

package sheet

import (
	"fmt"
	"hash/fnv"
	"strings"

	"nivot/internal/core/formula"
	"nivot/internal/core/value"
)

// Columns of one type that belong together, one for each month, say, form a
// group. What may be meant of it, such as the latest of them, are columns too,
// derived ones: rules, letters and formulas may name them, but they stand in no
// grid and hold no cells of their own.

// maxGroup bounds a group's name, in characters.
const maxGroup = 100

// sayings is what derived columns are called, and how their ids begin: ids stay
// short, since they are kept in many places.
var sayings = map[string]struct{ mark, words string }{
	formula.Latest:       {"l:", "latest of "},
	formula.LatestFilled: {"f:", "latest filled of "},
	formula.LatestName:   {"n:", "latest name of "},
	formula.CountFilled:  {"c:", "count filled of "},
}

// Derived reports whether the column is one that is derived from a group.
func (c *Column) Derived() bool { return c.Group == "" && c.GroupID != "" }

// Derived gives the columns derived from the sheet's groups. A group whose
// columns differ in type has none.
func (s *Sheet) Derived() []Column { return s.derived }

// derive makes the derived columns. Their places follow those of the others.
func (s *Sheet) derive(names []string) {
	pos := 0
	var groups []*Column // the last column of each
	at := map[string]int{}
	for i := range s.Columns {
		c := &s.Columns[i]
		pos = max(pos, c.Pos+1)
		if c.GroupID == "" {
			continue
		}
		if k, ok := at[c.GroupID]; ok {
			groups[k] = c
		} else {
			at[c.GroupID] = len(groups)
			groups = append(groups, c)
		}
	}
	if groups == nil {
		return
	}
	scope := s.scope(names, nil)
	for _, last := range groups {
		for _, f := range formula.GroupFunctions() {
			src := formula.OfGroup(f, last.Group)
			p, err := formula.Compile(src, scope)
			if err != nil {
				break
			}
			c := Column{ID: sayings[f].mark + last.GroupID, Name: sayings[f].words + last.Group, Type: value.Formula, Pos: pos,
				Formula: src, GroupID: last.GroupID, program: p}
			if f == formula.Latest || f == formula.LatestFilled {
				c.Order, c.Format, c.Written = last.Order, last.Format, last.Written
			}
			s.derived = append(s.derived, c)
			pos++
		}
	}
}

// IdentifyGroups gives the groups of a sheet's columns their ids: a group that
// was there among the columns before keeps its own, one that all its columns
// call otherwise now too. A group's name is written alike in all its columns.
func IdentifyGroups(cols, before []Column) {
	ids, was := map[string]string{}, map[string]string{} // of names, before; of columns
	taken, still := map[string]bool{}, map[string]bool{}
	for i := range before {
		if c := &before[i]; c.GroupID != "" {
			ids[value.Fold(c.Group)], was[c.ID], taken[c.GroupID] = c.GroupID, c.GroupID, true
		}
	}
	written := map[string]string{}
	for i := range cols {
		cols[i].Group = value.Trim(cols[i].Group)
		if f := value.Fold(cols[i].Group); f != "" {
			if _, ok := written[f]; !ok {
				written[f] = cols[i].Group
			}
			still[ids[f]] = true
		}
	}
	for i := range cols {
		c := &cols[i]
		f := value.Fold(c.Group)
		if f == "" {
			c.GroupID = ""
			continue
		}
		if ids[f] == "" {
			id := was[c.ID]
			if id == "" || still[id] {
				id = newGroup(c, f, taken)
			}
			ids[f], taken[id], still[id] = id, true, true
		}
		c.Group, c.GroupID = written[f], ids[f]
	}
}

// newGroup makes the id of a group from the column that begins it and the name
// it has then, so that none comes back for another.
func newGroup(c *Column, folded string, taken map[string]bool) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(c.ID + "\x00" + folded))
	id := fmt.Sprintf("g%d-%08x", c.Pos+1, h.Sum32())
	for taken[id] {
		id += "x"
	}
	return id
}

// RenameGroups lets the formulas of columns follow the names that groups have
// among the columns now, where they had others before.
func RenameGroups(cols, before []Column) {
	now := map[string]string{}
	for i := range cols {
		if cols[i].GroupID != "" {
			now[cols[i].GroupID] = cols[i].Group
		}
	}
	names := map[string]string{}
	for i := range before {
		if to, ok := now[before[i].GroupID]; ok && to != before[i].Group {
			names[value.Fold(before[i].Group)] = to
		}
	}
	for i := range cols {
		if c := &cols[i]; c.Formula != "" && len(names) > 0 {
			c.Formula = formula.RenameGroups(c.Formula, names)
		}
	}
}

// SameGroups reports whether groups hold the same columns in the same order.
func SameGroups(a, b []Column) bool { return members(a) == members(b) }

func members(cols []Column) string {
	var b strings.Builder
	for i := range cols {
		if c := &cols[i]; c.GroupID != "" {
			b.WriteString(c.GroupID + "\x00" + c.ID + "\x00")
		}
	}
	return b.String()
}

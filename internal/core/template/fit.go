package template

import (
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Fitted is a column that a template names, with what stands for it in another sheet.
type Fitted struct {
	Column *sheet.Column
	To     string // the other sheet's column, by id; "" for none
}

// Fit turns a template into one for another sheet. said tells which of that sheet's columns stands
// for which, by id, "" being none; what is not said there, or is not there any more, meets by
// name, where the types agree. What has no place is named after Elsewhere: ids are a sheet's own.
func (t *Template) Fit(from, to *sheet.Sheet, said map[string]string) ([]Fitted, error) {
	var out []Fitted
	fit := map[string]string{}
	for _, id := range t.Columns() {
		c, ok := from.Column(id)
		if _, seen := fit[id]; seen || !ok {
			continue
		}
		other, known := said[id]
		if _, there := to.Column(other); !there && !(known && other == "") {
			other = ""
			if same, ok := to.ColumnNamed(c.Name); ok && same.ValueType() == c.ValueType() {
				other = same.ID
			}
		}
		fit[id] = other
		out = append(out, Fitted{c, other})
	}
	column := func(id string) (string, error) {
		if other := fit[id]; other != "" {
			return other, nil
		}
		if c, ok := from.Column(id); ok {
			id = c.Name
		}
		return Elsewhere + id, nil
	}
	err := t.Rename(column, func(column, option string) (string, error) {
		return optionIn(from, to, fit, column, option),
			nil
	})
	t.ID, t.Written = "", 0
	if strings.HasPrefix(t.Language, Elsewhere) {
		t.Language = ""
	}
	for i := range t.Variants {
		t.Variants[i].Of = 0
	}
	return out, err
}

// optionIn finds the option of the other sheet's column that is called as one of this sheet's.
// By the time an option is renamed its column may have its new name already.
func optionIn(from, to *sheet.Sheet, fit map[string]string, column, option string) string {
	for id, other := range fit {
		if id != column && other != column {
			continue
		}
		a, _ := from.Column(id)
		b, _ := to.Column(other)
		if a == nil || b == nil {
			continue
		}
		for _, o := range a.Options {
			for _, p := range b.Options {
				if o.ID == option && value.Fold(o.Name) == value.Fold(p.Name) {
					return p.ID
				}
			}
		}
	}
	return option
}

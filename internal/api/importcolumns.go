package api

import (
	"context"
	"fmt"
	"slices"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
)

// target proposes where a column of a file goes: into the sheet's column that
// it meets, into a new one, or, where it was left out before, is empty, or
// holds what Nivot itself worked out, nowhere.
func target(into *sheet.Sheet, heading, met string, filled bool, matches map[string]string) string {
	_, remembered := matches[value.Fold(heading)]
	_, own := into.ColumnNamed(heading)
	switch {
	case met != "":
		return met
	case remembered || own || !filled || slices.Contains(emailHeadings, heading):
		return ""
	}
	return "+"
}

func toGuess(name string, g sheet.Guess) GuessedColumn {
	out := GuessedColumn{Name: name, Type: ColumnType(g.Type), AskDay: g.AskDay, Filled: g.Filled, Fit: g.Fit,
		Options: g.Options, Misfits: []Misfit{}}
	if g.Type == value.Date || g.Type == value.Moment {
		o := Order(g.Order)
		out.Order = &o
	}
	if g.Format != (value.NumberFormat{}) {
		out.Format = &g.Format
	}
	if out.Options == nil {
		out.Options = []string{}
	}
	for _, m := range g.Misfits {
		out.Misfits = append(out.Misfits, Misfit{Line: m.Line, Text: m.Text, Why: m.Why})
	}
	return out
}

// MeasureImport implements StrictServerInterface.
func (s *Server) MeasureImport(ctx context.Context,
	r MeasureImportRequestObject) (MeasureImportResponseObject, error) {
	f, err := readForm(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	spec, l, err := newSheetSpec(f)
	if err != nil {
		return nil, err
	}
	var into *sheet.Sheet
	if id := f.values["sheet"]; id != "" {
		if into, err = s.coreSheet(ctx, id); err != nil {
			return nil, err
		}
		l = into.Locale
	}
	t, err := s.table(f, l)
	if err != nil {
		return nil, err
	}
	if len(spec.Columns) != len(t.Heading) {
		return nil, errOtherColumns
	}
	out := make(MeasureImport200JSONResponse, len(spec.Columns))
	eachColumn(len(out), func(i int) {
		c := &spec.Columns[i]
		out[i] = toGuess(c.Name, measure(c, into, t.Column(i), t.Lines, l))
	})
	return out, nil
}

var errOtherColumns = &engine.Refusal{Field: "/columns", Message: "the columns are not those of the file"}

// measure tells how cells fit a chosen column: one of the sheet, or a new one.
func measure(c *ImportColumn, into *sheet.Sheet, cells []string, lines []int, l *value.Locale) sheet.Guess {
	if into != nil && c.To != nil {
		if col, ok := into.Column(*c.To); ok {
			r := into.Reading(col)
			if o := c.dateOrder(col.Type); o != "" {
				r.Order = o
			}
			return sheet.Measure(r, cells, lines)
		}
	}
	reading := value.Reading{Type: value.Type(c.Type), Locale: l, Order: c.dateOrder(value.Type(c.Type)),
		Format: c.numberFormat()}
	for _, o := range choiceOptions(cells) {
		reading.Options = append(reading.Options, value.Option{ID: o, Name: o})
	}
	g := sheet.Measure(reading, cells, lines)
	if reading.Type == value.Choice {
		g.Options = choiceOptions(cells)
	}
	return g
}

// choiceOptions lists the different texts of a column in order of appearance.
func choiceOptions(cells []string) []string {
	seen := map[string]bool{}
	var out []string
	for _, c := range cells {
		if f := value.Fold(c); f != "" && !seen[f] {
			seen[f] = true
			out = append(out, value.Trim(c))
		}
	}
	return out
}

// maxOptions bounds the options that a file may give a choice column.
const maxOptions = 200

// unmatched gives the headings of the columns that are not imported.
func unmatched(heading, to []string) (out []string) {
	for i, h := range heading {
		if to[i] == "" {
			out = append(out, h)
		}
	}
	return out
}

// chosenColumns turns a person's choices into columns; at gives for a column of
// the file its place among them, -1 for one that is left out.
func chosenColumns(spec *NewSheet, t *exchange.Table) (cols []sheet.Column, at func(int) int, err error) {
	places := map[int]int{}
	for i := range spec.Columns {
		c := &spec.Columns[i]
		if c.Skip != nil && *c.Skip {
			continue
		}
		col, err := fileColumn(c, i, t)
		if err != nil {
			return nil, nil, err
		}
		places[i] = len(cols)
		cols = append(cols, col)
	}
	if len(cols) == 0 {
		return nil, nil, &engine.Refusal{Field: "/columns", Message: "a sheet needs at least one column"}
	}
	return cols, func(i int) int {
		if k, ok := places[i]; ok {
			return k
		}
		return -1
	}, nil
}

// numberFormat is how the file writes the numbers of a new column.
func (c *ImportColumn) numberFormat() value.NumberFormat {
	if c.Format == nil || value.Type(c.Type) != value.Number {
		return value.NumberFormat{}
	}
	return *c.Format
}

// dateOrder is the order in which the file writes the dates of a column of type
// t; "" where it is not said, or holds no dates.
func (c *ImportColumn) dateOrder(t value.Type) value.Order {
	if c.Order == nil || t != value.Date && t != value.Moment {
		return ""
	}
	return value.Order(*c.Order)
}

// fileColumn makes the column that one of a file is to become.
func fileColumn(c *ImportColumn, i int, t *exchange.Table) (sheet.Column, error) {
	at := fmt.Sprintf("/columns/%d/type", i)
	col := sheet.Column{Name: c.Name, Type: value.Type(c.Type)}
	col.Order, col.Format = c.dateOrder(col.Type), c.numberFormat()
	if err := col.Format.Validate(); err != nil {
		return col, &engine.Refusal{Field: "/columns", Message: col.Name + ": " + err.Error()}
	}
	if c.Group != nil {
		col.Group = *c.Group
	}
	switch col.Type {
	case value.Formula:
		return col, &engine.Refusal{Field: at, Message: "a column of a file holds values, not a formula"}
	case value.Choice:
		var opts []string
		if i < len(t.Heading) {
			opts = choiceOptions(t.Column(i))
		}
		if len(opts) > maxOptions {
			return col, &engine.Refusal{Field: at, Message: fmt.Sprintf("%s has %d different values; a choice has at most %d",
				c.Name, len(opts), maxOptions)}
		}
		for _, o := range opts {
			col.Options = append(col.Options, value.Option{Name: o})
		}
	}
	return col, nil
}

package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// outBatch is how many rows are read at a time on their way out.
const outBatch = 1000

// outFile is rows on their way out, written while they are read.
type outFile struct {
	name, media string
	write       func(io.Writer) error
}

// VisitTakeOutResponse implements TakeOutResponseObject.
func (o outFile) VisitTakeOutResponse(w http.ResponseWriter) error {
	_ = http.NewResponseController(w).SetWriteDeadline(time.Time{})
	out := &begun{ResponseWriter: w, head: func() {
		w.Header().Set("Content-Type", o.media)
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": o.name}))
		w.WriteHeader(http.StatusOK)
	}}
	switch err := o.write(out); {
	case err != nil && out.head == nil:
		// Cut short, so that nobody takes what has come for the whole.
		panic(http.ErrAbortHandler)
	case err != nil:
		return err // nothing has been answered yet
	}
	_, _ = out.Write(nil)
	return nil
}

// begun answers from its first byte on.
type begun struct {
	http.ResponseWriter
	head func() // nil once it has been called
}

func (b *begun) Write(p []byte) (int, error) {
	if b.head != nil {
		b.head()
		b.head = nil
	}
	return b.ResponseWriter.Write(p)
}

// TakeOut implements StrictServerInterface.
func (s *Server) TakeOut(ctx context.Context, r TakeOutRequestObject) (TakeOutResponseObject, error) {
	p := r.Params
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	var spec engine.ViewSpec
	if p.View != nil {
		if err := json.Unmarshal([]byte(*p.View), &spec); err != nil {
			return nil, &engine.Refusal{Field: "/view", Message: "the view cannot be read: " + err.Error()}
		}
	}
	ids, err := s.e.View(ctx, r.Sheet, spec)
	if err != nil {
		return nil, err
	}
	from, to := 0, len(ids)
	if p.From != nil {
		from = min(*p.From, to)
	}
	if p.To != nil {
		to = max(from, min(*p.To, to))
	}
	t := &takeOut{s: s, core: core, ids: ids[from:to], emails: is(p.Emails)}
	if p.Columns != nil && *p.Columns != "" {
		for _, id := range strings.Split(*p.Columns, ",") {
			c, ok := core.Column(id)
			if !ok {
				return nil, &engine.Refusal{Field: "/columns", Message: "a column is not there"}
			}
			t.columns = append(t.columns, c)
		}
	} else {
		for i := range core.Columns {
			t.columns = append(t.columns, &core.Columns[i])
		}
	}
	s.audit(ctx, store.Audited{Act: store.ActExport, Subject: core.Name,
		Became: store.Detail(map[string]any{"sheet": core.ID, "format": p.Format, "rows": len(t.ids)})})
	name := func(ext string) string { return exchange.Stamp(core.Name, s.e.Now().In(core.Zone), ext) }
	switch p.Format {
	case Csv:
		return outFile{name("csv"), "text/csv; charset=utf-8",
			func(w io.Writer) error { return t.table(ctx, w, exchange.CSVWriter) }}, nil
	case Xlsx:
		return outFile{name("xlsx"), "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
			func(w io.Writer) error { return t.table(ctx, w, exchange.XLSXWriter) }}, nil
	}
	write, err := t.bundle(ctx)
	if err != nil {
		return nil, err
	}
	return outFile{name("zip"), "application/zip", write}, nil
}

type takeOut struct {
	s       *Server
	core    *sheet.Sheet
	columns []*sheet.Column
	ids     []int64
	emails  bool
}

// each calls f for the rows in their order, formulas worked out, a batch at a
// time.
func (t *takeOut) each(ctx context.Context, f func(ids []int64, rows []*sheet.Row) error) error {
	computed, err := t.s.e.Computed(ctx, t.core)
	if err != nil {
		return err
	}
	for left := t.ids; len(left) > 0; {
		n := min(outBatch, len(left))
		recs, err := t.s.st.RowsByID(ctx, t.core.ID, left[:n])
		if err != nil {
			return err
		}
		left = left[n:]
		ids, rows := make([]int64, 0, n), make([]*sheet.Row, 0, n)
		for i := range recs {
			row, err := recs[i].Core(t.core)
			if err != nil {
				return err
			}
			ids, rows = append(ids, recs[i].ID), append(rows, computed(row))
		}
		if err := f(ids, rows); err != nil {
			return err
		}
	}
	return nil
}

// emailHeadings name what is known of a row's emails.
var emailHeadings = []string{"Last email", "Last email’s subject", "Last email’s outcome", "Next email",
	"Next email’s subject"}

func (t *takeOut) table(ctx context.Context, w io.Writer,
	open func(io.Writer, exchange.Out) (exchange.Writer, error)) error {
	o := exchange.Out{Sheet: t.core, Columns: t.columns}
	if t.emails {
		o.More = emailHeadings
	}
	out, err := open(w, o)
	if err != nil {
		return err
	}
	err = t.each(ctx, func(ids []int64, rows []*sheet.Row) error {
		more := make([][]value.Value, len(rows))
		if t.emails {
			if err := t.emailsOf(ctx, ids, rows, more); err != nil {
				return err
			}
		}
		for i, r := range rows {
			if err := out.Row(r, more[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return out.Close()
}

func (t *takeOut) emailsOf(ctx context.Context, ids []int64, rows []*sheet.Row, more [][]value.Value) error {
	last, err := t.s.st.LastEmails(ctx, ids)
	if err != nil {
		return err
	}
	coming, err := t.s.e.RowComing(ctx, t.core.ID, rows)
	if err != nil {
		return err
	}
	at := func(x time.Time) value.Value { return value.OfMoment(value.WallAt(x.In(t.core.Zone))) }
	for i := range rows {
		more[i] = make([]value.Value, len(emailHeadings))
		if d, ok := last[ids[i]]; ok {
			when := d.DueAt
			if d.FinishedAt != nil {
				when = *d.FinishedAt
			}
			more[i][0], more[i][1], more[i][2] = at(when), value.OfText(d.Subject), value.OfText(outcomeWords(&d))
		}
		var next *engine.Coming
		for k, c := range coming[store.RowID(ids[i])] {
			if !c.Incomplete && (next == nil || c.At.Before(next.At)) {
				next = &coming[store.RowID(ids[i])][k]
			}
		}
		if next != nil {
			more[i][3], more[i][4] = at(next.At), value.OfText(next.Subject)
		}
	}
	return nil
}

// bundle gives what writes the sheet with its rules and templates.
func (t *takeOut) bundle(ctx context.Context) (func(io.Writer) error, error) {
	tpls, err := t.s.st.Templates(ctx, t.core.ID)
	if err != nil {
		return nil, err
	}
	var ts []*template.Template
	for i := range tpls {
		c, err := tpls[i].Core()
		if err != nil {
			return nil, err
		}
		c.ID, c.Name = tpls[i].ID, tpls[i].Name
		ts = append(ts, c)
	}
	rules, err := t.s.st.Rules(ctx, t.core.ID)
	if err != nil {
		return nil, err
	}
	var rs []*rule.Rule
	for i := range rules {
		c, err := rules[i].Core()
		if err != nil {
			return nil, err
		}
		c.State = rules[i].State
		rs = append(rs, c)
	}
	rec, err := t.s.st.Sheet(ctx, t.core.ID)
	if err != nil {
		return nil, err
	}
	c, err := engine.CalendarOf(ctx, t.s.st, rec)
	if err != nil {
		return nil, err
	}
	rests, err := engine.RestsOn(ctx, t.s.st, rec)
	if err != nil {
		return nil, err
	}
	letters := exchange.Letters{Templates: ts, Pieces: rests.Pieces, Shelf: rests.Shelf,
		File: func(id string) ([]byte, error) {
			f, err := t.s.st.File(ctx, id)
			if err != nil {
				return nil, err
			}
			return f.Data, nil
		}}
	return func(w io.Writer) error {
		b, err := exchange.NewBundleWriter(w, t.core, letters, rs, c)
		if err != nil {
			return fmt.Errorf("bundle: %w", err)
		}
		err = t.each(ctx, func(_ []int64, rows []*sheet.Row) error {
			for _, r := range rows {
				if err := b.Row(r); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		return b.Close()
	}, nil
}

package bench

import (
	"database/sql"
	"fmt"
	"runtime"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// manyRows is how many rows the rehearsal plays.
const manyRows = 1_000_000

// loansSheet has twelve columns.
func loansSheet() (*sheet.Sheet, error) {
	l, err := value.FindLocale("en-GB")
	if err != nil {
		return nil, err
	}
	s := &sheet.Sheet{ID: "many", Zone: time.UTC, Locale: l, Key: "c0", Settle: 2 * time.Minute}
	for i, c := range []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Object", Type: value.Text},
		{Name: "Borrower", Type: value.Text}, {Name: "Contact", Type: value.Text},
		{Name: "Email", Type: value.Email}, {Name: "Registrar", Type: value.Email}, {Name: "Return due", Type: value.Date},
		{Name: "Insured until", Type: value.Date},
		{Name: "Value", Type: value.Number}, {Name: "State", Type: value.Choice,
			Options: []value.Option{{ID: "o1", Name: "agreed"}, {ID: "o2", Name: "out"}, {ID: "o3", Name: "back"}}},
		{Name: "Report", Type: value.Text}, {Name: "Signed", Type: value.YesNo}} {
		c.ID, c.Pos = fmt.Sprintf("c%d", i), i
		s.Columns = append(s.Columns, c)
	}
	return s, s.Validate()
}

func loanRow(i int) []value.Value {
	due := value.DayOf(2026, 1, 1) + value.Day(i*7919%1500)
	return []value.Value{value.OfText(fmt.Sprintf("LN-%07d", i)), value.OfText("Stick barometer, c. 1790"),
		value.OfText("Fenwick Hall"), value.OfText("Ada Quill"),
		{State: value.Filled, Type: value.Email, Str: fmt.Sprintf("contact%d@borrower.example", i)},
		{State: value.Filled, Type: value.Email, Str: "r.moss@marrowby.example"},
		value.OfDay(due), value.OfDay(due + 40), value.OfNumber(decimalOf(i % 9000)),
		{State: value.Filled, Type: value.Choice, Str: []string{"o1", "o2", "o3"}[i%3]},
		value.OfText("with borrower"), value.OfYesNo(i%2 == 0)}
}

// tenRules are date rules on two columns, each with a condition.
func tenRules(s *sheet.Sheet) ([]*plan.CompiledRule, error) {
	t := &template.Template{ID: "t", Name: "Return"}
	var err error
	if t.Subject, err = template.ParseLine("[Object] is due back on [Return due: weekday]", s); err != nil {
		return nil, err
	}
	if t.Body, err = template.ParseText(
		"Dear [Contact: first word, else colleague],\n\n[Object] ([Loan]) is due back on [Return due: long].",
		s); err != nil {
		return nil, err
	}
	var out []*plan.CompiledRule
	for i := range 10 {
		r, err := rule.Decode(
			[]byte(
				fmt.Sprintf(
					`{"name":"Rule %d","state":"on","trigger":{"kind":"date","column":"c%d","offsets":[{"n":%d,"unit":"days"},{"n":-1,"unit":"working-days"}],"at":"09:00"},
			"condition":{"all":[{"column":"c9","op":"one-of","value":["o1","o2"]},{"column":"c8","op":">=","value":%d}]},"send":[{"template":"t"}],"to":[{"column":"c4"}],"cc":[{"column":"c5"}]}`, i, 6+i%2, -30+i*2, i*100)))
		if err != nil {
			return nil, err
		}
		r.ID = r.Name
		set, err := plan.Compile(s, r, map[string]*template.Template{"t": t}, calendar.Default(), nil)
		if err != nil {
			return nil, err
		}
		out = append(out, set)
	}
	return out, nil
}

// rehearse compares a rehearsal of 60 days by ten rules over a million rows
// with the raw scan of the same rows' bytes from the database.
func (b *bench) rehearse() error {
	st, err := b.store()
	if err != nil {
		return err
	}
	defer st.Close()
	s, err := loansSheet()
	if err != nil {
		return err
	}
	batch := make([]*store.Row, 0, 5000)
	for i := range manyRows {
		batch = append(batch, &store.Row{SheetID: "many", Number: int64(i + 1), Place: int64(i + 1),
			Cells: sheet.Encode(loanRow(i)), Version: 1})
		if len(batch) == cap(batch) || i == manyRows-1 {
			if err := st.Tx(b.ctx, func(tx *store.Store) error { return tx.InsertRows(b.ctx, batch) }); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	settings, err := tenRules(s)
	if err != nil {
		return err
	}
	var scans, plays, decodes []float64
	lines, peak := 0, uint64(0)
	for range 3 {
		start := time.Now()
		if err := b.rawScan(st); err != nil {
			return err
		}
		scans = append(scans, time.Since(start).Seconds())
		start = time.Now()
		var cells []value.Value
		decoder := s.Decoder()
		err := st.StreamRows(b.ctx, "many", func(_, _ int64, _ bool, raw []byte) (err error) {
			cells, err = decoder.Decode(raw, cells)
			return err
		})
		if err != nil {
			return err
		}
		decodes = append(decodes, time.Since(start).Seconds())
		start = time.Now()
		if lines, peak, err = b.play(st, s, settings); err != nil {
			return err
		}
		plays = append(plays, time.Since(start).Seconds())
	}
	scan, play, decode := median(scans), median(plays), median(decodes)
	b.add(Result{What: fmt.Sprintf("rehearsal, 60 days, 10 rules, 1,000,000 rows, %d lines, heap %d MB", lines, peak>>20),
		Against: "raw scan of the same rows' bytes",
		Value:   fmt.Sprintf("%.1f s", play), Limit: fmt.Sprintf("%.1f s", scan), Ratio: play / scan, Goal: "<= 16.00",
		Met: play/scan <= 16})
	b.add(Result{What: "reading 1,000,000 rows of 12 cells", Against: "raw scan of the same rows' bytes",
		Value: fmt.Sprintf("%.1f s", decode), Limit: fmt.Sprintf("%.1f s", scan),
		Ratio: decode / scan, Goal: "<= 1.70", Met: decode/scan <= 1.7})
	return b.judging(s, settings[0])
}

func (b *bench) rawScan(st *store.Store) error {
	rows, err := st.DB(b.ctx).Raw("SELECT cells FROM sheet_rows WHERE sheet_id = ? ORDER BY id", "many").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var raw sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&raw); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (b *bench) play(st *store.Store, s *sheet.Sheet,
	settings []*plan.CompiledRule) (lines int, peak uint64, err error) {
	from := time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)
	r := &plan.Rehearsal{Settings: settings, From: from, To: from.AddDate(0, 0, 60)}
	var m runtime.MemStats
	n := 0
	scan := func(f func(*sheet.Row) error) error {
		var row sheet.Row
		decoder := s.Decoder()
		return st.StreamRows(b.ctx, "many", func(id, number int64, gone bool, raw []byte) (err error) {
			if n++; n%100_000 == 0 {
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapInuse)
			}
			if row.Cells, err = decoder.Decode(raw, row.Cells); err != nil {
				return err
			}
			row.ID, row.Number, row.Gone = store.RowID(id), number, gone
			return f(&row)
		})
	}
	err = exchange.Rehearse(r, scan, func(*plan.Line) error { lines++; return nil })
	return lines, peak, err
}

// judging measures one occasion judged, its subject written and its gaps
// looked for, beside the rendering of the whole letter.
func (b *bench) judging(s *sheet.Sheet, set *plan.CompiledRule) error {
	row := &sheet.Row{ID: "r", Cells: loanRow(1)}
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	o := rule.Occasion{Rule: "r", Row: "r", Column: "c6", AnchorText: "2027-04-01", Due: at}
	const n = 30_000
	measure := func(light bool) float64 {
		set.Light = light
		var per []float64
		for range rounds {
			start := time.Now()
			for range n {
				set.Judge(o, row, at, plan.Memory{})
			}
			per = append(per, time.Since(start).Seconds()/n*1e6)
		}
		return median(per)
	}
	light, whole := measure(true), measure(false)
	b.add(Result{What: "judging an occasion: condition, recipients, subject, gaps",
		Against: "the same with the letter written", Value: fmt.Sprintf("%.2f µs", light),
		Limit: fmt.Sprintf("%.2f µs", whole), Ratio: light / whole, Goal: "<= 1.00", Met: light <= whole})
	return nil
}

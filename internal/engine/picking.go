package engine

import (
	"context"
	"fmt"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Only narrows a view to some rows by what is known of them beyond their cells.
type Only struct {
	Rows OnlyRows `json:"rows"`
	Rule string   `json:"rule,omitempty"` // by this rule alone; by all that are on where empty
}

// OnlyRows are the rows that a view may be narrowed to.
type OnlyRows string

// The rows that a view may be narrowed to.
const (
	Doubled     OnlyRows = "doubled"      // whose key other rows have too
	SameAddress OnlyRows = "same-address" // whose address other rows have too
	Unjudged    OnlyRows = "unjudged"     // that a rule cannot judge
	Awaiting    OnlyRows = "coming"       // with an email coming in the next four weeks
	Quiet       OnlyRows = "quiet"        // without one
)

// byRules reports whether it is the rules that say which rows they are.
func (o OnlyRows) byRules() bool { return o != Doubled && o != SameAddress }

// picked reports of a row, its formulas not worked out, whether a view shows it.
type picked func(id int64, row *sheet.Row) (bool, error)

// picking makes ready to pick the rows of an Only.
func (e *Engine) picking(ctx context.Context, s *sheet.Sheet, o Only) (picked, error) {
	switch o.Rows {
	case Doubled:
		ids, err := e.Store.DoubledRows(ctx, s.ID)
		in := make(map[int64]bool, len(ids))
		for _, id := range ids {
			in[id] = true
		}
		return func(id int64, _ *sheet.Row) (bool, error) { return in[id], nil }, err
	case SameAddress:
		in, err := e.sameAddress(ctx, s)
		return func(id int64, _ *sheet.Row) (bool, error) { return in[id], nil }, err
	}
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	rules := sb.looked(o.Rule)
	switch o.Rows {
	case Unjudged:
		outlooks, err := b.outlooks(sb, rules, e.now(), 1)
		return func(_ int64, row *sheet.Row) (bool, error) {
			for _, k := range outlooks {
				if _, bad := k.Fault(row); bad {
					return true, nil
				}
			}
			return false, nil
		}, err
	case Awaiting, Quiet:
		awaits, err := e.awaiting(ctx, b, sb, rules)
		if err != nil {
			return nil, err
		}
		return func(id int64, row *sheet.Row) (bool, error) {
			does, err := awaits(id, row)
			return does == (o.Rows == Awaiting), err
		}, nil
	}
	return nil, &Refusal{Field: "/only/rows", Message: fmt.Sprintf(
		"rows that are %q are not known; ask for doubled, same-address, unjudged, coming or quiet", o.Rows)}
}

// sameAddress returns the rows one of whose addresses, in the sheet's column of addresses, another row has
// too; none where the sheet has no such column.
func (e *Engine) sameAddress(ctx context.Context, s *sheet.Sheet) (map[int64]bool, error) {
	column, ok := s.Column(s.Address)
	if !ok {
		return nil, nil
	}
	in, first := map[int64]bool{}, map[string]int64{}
	decoder := s.Decoder(column)
	var cells []value.Value
	err := e.Store.StreamCells(ctx, s.ID, func(id, _, _ int64, _ bool, b []byte) error {
		var err error
		if cells, err = decoder.Decode(b, cells); err != nil {
			return fmt.Errorf("row %d: %w", id, err)
		}
		cell := (&sheet.Row{Cells: cells}).Cell(column)
		if !cell.IsFilled() {
			return nil
		}
		boxes, err := value.ParseMailboxes(cell.Str)
		if err != nil {
			return fmt.Errorf("row %d: %w", id, err) // a filled cell is one that could be read
		}
		for _, m := range boxes {
			if other, ok := first[m.Key()]; !ok {
				first[m.Key()] = id
			} else if other != id {
				in[other], in[id] = true, true
			}
		}
		return nil
	})
	return in, err
}

// looked gives the rules that are looked at: one by its id, whatever its state,
// or all that are on.
func (sb *cachedSheet) looked(id string) (out []*cachedRule) {
	for _, rb := range sb.rules {
		if id == "" && rb.record.State == rule.On || rb.record.ID == id {
			out = append(out, rb)
		}
	}
	return out
}

func (b *ruleCache) outlooks(sb *cachedSheet, rules []*cachedRule, now time.Time,
	days int) (out []*plan.Outlook, err error) {
	for _, rb := range rules {
		o, err := b.outlook(sb, rb.compiled.Rule, now, days)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// awaiting makes ready to tell of rows whether an email is coming to them.
func (e *Engine) awaiting(ctx context.Context, b *ruleCache, sb *cachedSheet, rules []*cachedRule) (picked, error) {
	now := e.now()
	until := now.Add(ForecastSpan)
	asides, err := e.sheetAsides(ctx, sb.record.ID)
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(rules))
	for i, rb := range rules {
		ids[i] = rb.record.ID
	}
	entries, err := e.Store.Promised(ctx, ids, until)
	if err != nil {
		return nil, err
	}
	rounds, err := roundUpsOf(b, sb, rules, now, until)
	return func(id int64, row *sheet.Row) (bool, error) {
		for _, rb := range rules {
			all, err := foreseenOf(rb, row, entries[id], asides[timelineKey{rb.record.ID, id}], now, until)
			if err != nil || len(all) > 0 {
				return err == nil, err
			}
		}
		for _, o := range rounds {
			if o.InRound(row) {
				return true, nil
			}
		}
		return false, nil
	}, err
}

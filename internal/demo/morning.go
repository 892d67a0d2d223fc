package demo

import (
	"context"
	"fmt"
	"strconv"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// WorkMorning is what the people of the museum have done on the morning of the
// demo before it opens: a loan is agreed and those that were so already are
// taken up, so that a batch waits to be reviewed; and a file of readings
// after a wet night sets off more alerts at once than expected, so that the
// brake holds.
func WorkMorning(ctx context.Context, e *engine.Engine) error {
	sheets, err := e.Store.Sheets(ctx)
	if err != nil {
		return err
	}
	for i := range sheets {
		switch rec := &sheets[i]; rec.Name {
		case "Outgoing loans":
			err = takeUpPacking(ctx, e, rec)
		case "Display cases":
			err = wetNight(ctx, e, rec)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// takeUpPacking takes up, held, the loans that were agreed before the rule was
// on, and agrees one more.
func takeUpPacking(ctx context.Context, e *engine.Engine, rec *store.Sheet) error {
	rules, err := e.Store.Rules(ctx, rec.ID)
	if err != nil {
		return err
	}
	for _, r := range rules {
		if r.Name == "Packing" {
			if _, err := e.IncludePast(ctx, rec.ID, r.ID, nil, "Ines Karne"); err != nil {
				return err
			}
		}
	}
	c, err := columnsOf(rec)
	if err != nil {
		return err
	}
	_, err = e.EditByKey(ctx, rec.ID, "LN-0309", []engine.CellEdit{{Column: c["State"], Text: "agreed"}},
		engine.System("Tom Ferrar"))
	return err
}

// wetCases is how many cases the wet night has reached.
const wetCases = 23

// wetNight brings in the readings of a wet night.
func wetNight(ctx context.Context, e *engine.Engine, rec *store.Sheet) error {
	c, err := columnsOf(rec)
	if err != nil {
		return err
	}
	in := engine.Incoming{Columns: []string{c["Case"], c["Humidity now"], c["Last reading"]}}
	core, err := rec.Core()
	if err != nil {
		return err
	}
	now, limit := c["Humidity now"], c["Humidity limit"]
	err = e.Store.ScanRows(ctx, rec.ID, func(r *store.Row) error {
		row, err := r.Core(core)
		if err != nil || len(in.Rows) >= wetCases {
			return err
		}
		reads, _ := core.Column(now)
		most, _ := core.Column(limit)
		at, top := row.Cell(reads), row.Cell(most)
		if !at.IsFilled() || !top.IsFilled() || !at.Num.LessThan(top.Num) {
			return nil
		}
		more := 1 + len(in.Rows)*7%12 // by how much it is above its limit
		in.Rows = append(in.Rows, []string{core.RowName(row), strconv.FormatInt(top.Num.IntPart()+int64(more), 10),
			"15/03/2027 08:20"})
		return nil
	})
	if err != nil {
		return err
	}
	if len(in.Rows) < wetCases {
		return fmt.Errorf("only %d cases are below their limit", len(in.Rows))
	}
	_, err = e.Import(ctx, rec.ID, in, engine.ImportOptions{Keep: true,
		About: map[string]any{"file": "readings-wet-night.csv"}}, engine.System("Tom Ferrar"))
	return err
}

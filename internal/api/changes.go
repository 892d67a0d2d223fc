package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"nivot/internal/core/sheet"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// changedRows is how many rows an answer to a change carries.
const changedRows = 400

// ChangeRows implements StrictServerInterface.
func (s *Server) ChangeRows(ctx context.Context, r ChangeRowsRequestObject) (ChangeRowsResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	ops, err := toOps(core, r.Body.Steps)
	if err != nil {
		return nil, err
	}
	by := author(ctx)
	by.Asks = is(r.Body.Ask)
	c, err := s.e.Change(ctx, r.Sheet, ops, string(r.Body.Kind), by)
	if err != nil {
		return nil, inStep(err)
	}
	out, err := s.toChange(ctx, r.Sheet, &c)
	return ChangeRows200JSONResponse(out), err
}

// ForetellChange implements StrictServerInterface.
func (s *Server) ForetellChange(ctx context.Context,
	r ForetellChangeRequestObject) (ForetellChangeResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	ops, err := toOps(core, r.Body.Steps)
	if err != nil {
		return nil, err
	}
	c, err := s.e.ForetellChange(ctx, r.Sheet, ops, author(ctx))
	if err != nil {
		return nil, inStep(err)
	}
	return ForetellChange200JSONResponse(toConsequences(c)), nil
}

func toConsequences(c *engine.Consequences) Consequences {
	out := Consequences{Rows: c.Rows, Looked: c.Looked, Rules: []RuleConsequence{}, Now: effectLines(c.Now),
		Coming: effectLines(c.Coming)}
	for _, r := range c.Rules {
		out.Rules = append(out.Rules, RuleConsequence{Rule: r.ID, Letter: r.Letter, Name: r.Name, Now: r.Now, Held: r.Held,
			Incomplete: r.Incomplete, Brake: r.Brake, New: r.New, Gone: r.Gone})
	}
	return out
}

func toOps(core *sheet.Sheet, steps []Step) ([]engine.Op, error) {
	ops := make([]engine.Op, len(steps))
	for i := range steps {
		var err error
		if ops[i], err = toOp(core, &steps[i]); err != nil {
			return nil, inStep(&engine.StepError{Step: i, Err: err})
		}
	}
	return ops, nil
}

// inStep says of a fault in a change which of its steps it is in, counted from 0 as the body's
// list is.
func inStep(err error) error {
	var step *engine.StepError
	if !errors.As(err, &step) {
		return err
	}
	at := fmt.Sprintf("/steps/%d", step.Step)
	status, p := toProblem(step.Err)
	if status >= http.StatusInternalServerError {
		return err
	}
	if p.Field != nil {
		at += *p.Field
	}
	p.Field = &at
	return &problemError{status, p}
}

func toOp(core *sheet.Sheet, st *Step) (op engine.Op, err error) {
	op.Kind = engine.OpKind(st.Op)
	if op.Kind != engine.OpAdd {
		if st.Row == nil {
			return op, &engine.Refusal{Field: "/row", Message: "a step names its row"}
		}
		if op.Row, err = parseID(*st.Row); err != nil {
			return op, err
		}
	}
	if st.After != nil {
		after := int64(0)
		if *st.After != "" {
			if after, err = parseID(*st.After); err != nil {
				return op, err
			}
		}
		op.After = &after
	}
	if st.Cells != nil {
		op.Cells, err = toEdits(core, *st.Cells, st.Expected)
	}
	return op, err
}

func (s *Server) toChange(ctx context.Context, sheetID string, c *engine.ChangeResult) (ChangeResult, error) {
	out := ChangeResult{Rows: []Row{}, Added: []string{}, Conflicts: []CellConflict{}, Cells: c.Cells,
		Unreadable: c.Unreadable, Passed: c.Skipped}
	if c.ID != 0 {
		out.Id = fmt.Sprint(c.ID)
	}
	for _, id := range c.Added {
		out.Added = append(out.Added, store.RowID(id))
	}
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return out, err
	}
	ids := append(append([]int64(nil), c.Added...), c.Rows...)
	for _, x := range c.Conflicts {
		ids = append(ids, x.Row)
	}
	recs, err := s.st.RowsByID(ctx, sheetID, ids[:min(len(ids), changedRows)])
	if err != nil {
		return out, err
	}
	live := recs[:0]
	for _, r := range recs {
		if r.DeletedAt == nil {
			live = append(live, r)
		}
	}
	if out.Rows, err = s.toRows(ctx, sheetID, core, live, true); err != nil {
		return out, err
	}
	names := map[string]string{}
	for _, r := range out.Rows {
		names[r.Id] = r.Name
	}
	for _, x := range c.Conflicts {
		id := store.RowID(x.Row)
		out.Conflicts = append(out.Conflicts, CellConflict{Row: id, RowName: names[id], Column: x.Column, Name: x.Name,
			Theirs: x.Theirs, Yours: x.Yours})
	}
	return out, nil
}

// UndoChange implements StrictServerInterface.
func (s *Server) UndoChange(ctx context.Context, r UndoChangeRequestObject) (UndoChangeResponseObject, error) {
	id, err := parseID(r.Change)
	if err != nil {
		return nil, err
	}
	head, err := s.st.Event(ctx, id)
	if err != nil {
		return nil, err
	}
	if head.SheetID != r.Sheet || head.ChangeID != nil {
		return nil, store.ErrNotFound
	}
	who := author(ctx)
	if head.ActorID != who.ID && !who.Unlocks {
		return nil, problem(403, "An editor undoes what they did themselves; a coordinator may undo all.")
	}
	c, err := s.e.Undo(ctx, r.Sheet, id, who)
	if err != nil {
		return nil, err
	}
	out, err := s.toChange(ctx, r.Sheet, &c)
	return UndoChange200JSONResponse(out), err
}

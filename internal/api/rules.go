package api

import (
	"context"
	"errors"
	"strings"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

func (s *Server) toRule(ctx context.Context, rec *store.Rule) (Rule, error) {
	core, err := rec.Core()
	if err != nil {
		return Rule{}, err
	}
	sh, err := s.coreSheet(ctx, rec.SheetID)
	if err != nil {
		return Rule{}, err
	}
	names, err := s.templateNames(ctx, rec.SheetID)
	if err != nil {
		return Rule{}, err
	}
	core.ID, core.State = "", ""
	out := Rule{Id: rec.ID, Sheet: rec.SheetID, Letter: rec.Letter, State: RuleState(rec.State), Version: int(rec.Version), Body: *core,
		Sentence: core.Sentence(sh, names), Counts: map[string]int{}}
	at, rows, err := s.st.NextRuleDue(ctx, rec.ID)
	if err != nil {
		return Rule{}, err
	}
	if !at.IsZero() {
		out.NextAt, out.NextRows = &at, int(rows)
	}
	counts, err := s.st.CountStates(ctx, store.LogFilter{RuleID: rec.ID})
	if err != nil {
		return Rule{}, err
	}
	for st, n := range counts {
		out.Counts[string(st)] = int(n)
	}
	if rec.ArmingAfter != nil {
		n, err := s.st.CountRows(ctx, rec.SheetID)
		if err != nil {
			return Rule{}, err
		}
		out.Arming = &Arming{Done: int(rec.ArmedRows), Total: int(n)}
	}
	return out, nil
}

func (s *Server) templateNames(ctx context.Context, sheetID string) (func(string) string, error) {
	tpls, err := s.st.Templates(ctx, sheetID)
	names := map[string]string{}
	for _, t := range tpls {
		names[t.ID] = t.Name
	}
	return func(id string) string {
		if n, ok := names[id]; ok {
			return n
		}
		return "…"
	}, err
}

// ruleOf finds a rule of a sheet.
func (s *Server) ruleOf(ctx context.Context, sheetID, id string) (*store.Rule, error) {
	rec, err := s.st.Rule(ctx, id)
	if err == nil && rec.SheetID != sheetID {
		err = store.ErrNotFound
	}
	return rec, err
}

// ListRules implements StrictServerInterface.
func (s *Server) ListRules(ctx context.Context, r ListRulesRequestObject) (ListRulesResponseObject, error) {
	recs, err := s.st.Rules(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := ListRules200JSONResponse{}
	for i := range recs {
		x, err := s.toRule(ctx, &recs[i])
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// GetRule implements StrictServerInterface.
func (s *Server) GetRule(ctx context.Context, r GetRuleRequestObject) (GetRuleResponseObject, error) {
	rec, err := s.ruleOf(ctx, r.Sheet, r.Rule)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return GetRule200JSONResponse(out), err
}

// AddRule implements StrictServerInterface.
func (s *Server) AddRule(ctx context.Context, r AddRuleRequestObject) (AddRuleResponseObject, error) {
	rec, err := s.e.SaveRule(ctx, r.Sheet, "", &r.Body.Body, 0, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return AddRule201JSONResponse(out), err
}

// SaveRule implements StrictServerInterface.
func (s *Server) SaveRule(ctx context.Context, r SaveRuleRequestObject) (SaveRuleResponseObject, error) {
	version := int64(0)
	if r.Body.Version != nil {
		version = int64(*r.Body.Version)
	}
	if _, err := s.ruleOf(ctx, r.Sheet, r.Rule); err != nil {
		return nil, err
	}
	rec, err := s.e.SaveRule(ctx, r.Sheet, r.Rule, &r.Body.Body, version, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return SaveRule200JSONResponse(out), err
}

// DeleteRule implements StrictServerInterface.
func (s *Server) DeleteRule(ctx context.Context, r DeleteRuleRequestObject) (DeleteRuleResponseObject, error) {
	return DeleteRule204Response{}, s.e.DeleteRule(ctx, r.Sheet, r.Rule, person(ctx).Name)
}

// SetRuleState implements StrictServerInterface.
func (s *Server) SetRuleState(ctx context.Context, r SetRuleStateRequestObject) (SetRuleStateResponseObject, error) {
	rec, err := s.e.SetRuleState(ctx, r.Sheet, r.Rule, rule.State(r.Body.State), person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return SetRuleState200JSONResponse(out), err
}

// SayRule implements StrictServerInterface.
func (s *Server) SayRule(ctx context.Context, r SayRuleRequestObject) (SayRuleResponseObject, error) {
	sh, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	names, err := s.templateNames(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := SayRule200JSONResponse{Sentence: r.Body.Body.Sentence(sh, names), Faults: []RuleFault{}, Rounds: []Round{}}
	faults, err := s.e.Faults(ctx, r.Sheet, &r.Body.Body)
	if err != nil {
		return nil, err
	}
	for _, f := range faults {
		out.Faults = append(out.Faults, RuleFault{Field: f.Pointer, Message: f.Message})
	}
	rounds, err := s.e.NextRounds(ctx, r.Sheet, &r.Body.Body)
	for _, x := range rounds {
		round := Round{At: x.Due, Closed: x.Closed}
		if !x.Unmoved.IsZero() {
			round.Unmoved = &x.Unmoved
		}
		out.Rounds = append(out.Rounds, round)
	}
	return out, err
}

// RuleEffect implements StrictServerInterface. Of a rule that is not whole yet
// it says what is missing.
func (s *Server) RuleEffect(ctx context.Context, r RuleEffectRequestObject) (RuleEffectResponseObject, error) {
	out := RuleEffect200JSONResponse{Days: []EffectDay{}, First: []EffectLine{}}
	check := r.Body.Body
	if check.Name == "" {
		check.Name = "unnamed"
	}
	var refusal *engine.Refusal
	if err := s.e.CheckRule(ctx, r.Sheet, &check); errors.As(err, &refusal) {
		out.Problem = &RuleFault{Field: refusal.Field, Message: refusal.Message}
		n, err := s.st.CountRows(ctx, r.Sheet)
		out.Total, out.Rows = int(n), int(n)
		return out, err
	} else if err != nil {
		return nil, err
	}
	f, err := s.e.Effect(ctx, r.Sheet, &check)
	if err != nil {
		return nil, err
	}
	out.Rows, out.Total, out.Emails, out.Incomplete, out.Skipped, out.Past, out.Partial = f.Rows, f.Total, f.Emails, f.Incomplete, f.Skipped, f.Past, f.Partial
	for i, n := range f.Days {
		out.Days = append(out.Days, EffectDay{Day: (f.From + value.Day(i)).String(), Emails: n})
	}
	for _, l := range f.First {
		out.First = append(out.First, EffectLine{At: l.Due, Row: f.Names[l.Row], RowId: l.Row, To: boxLine(l.To), Subject: l.Subject,
			Outcome: string(l.Outcome), Reason: l.Verdict.Reason.Words()})
	}
	return out, nil
}

func boxLine(boxes []value.Mailbox) string {
	var a []string
	for _, b := range boxes {
		a = append(a, b.Address())
	}
	return strings.Join(a, ", ")
}

// ExplainRow implements StrictServerInterface.
func (s *Server) ExplainRow(ctx context.Context, r ExplainRowRequestObject) (ExplainRowResponseObject, error) {
	id, err := parseID(r.Body.Row)
	if err != nil {
		return nil, err
	}
	body := r.Body.Body
	if body.Name == "" {
		body.Name = "unnamed"
	}
	if err := s.e.CheckRule(ctx, r.Sheet, &body); err != nil {
		return nil, err
	}
	set, err := s.e.Setting(ctx, r.Sheet, &body)
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != r.Sheet {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(set.Sheet)
	if err != nil {
		return nil, err
	}
	e := set.Explain(row, s.e.Now())
	return ExplainRow200JSONResponse{Row: set.Sheet.RowName(row), Clauses: e.Clauses, Summary: e.Summary}, nil
}

// nextEmail gives the next instant at which something goes out: a foreseen
// email or a try that was put off.
func (s *Server) nextEmail(ctx context.Context, now time.Time) (next time.Time, err error) {
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return next, err
	}
	earlier := func(t time.Time) {
		if t.After(now) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	for _, sh := range sheets {
		f, err := s.e.Forecast(ctx, sh.ID)
		if err != nil {
			return next, err
		}
		for _, c := range f.Coming {
			if !c.Incomplete {
				earlier(c.At)
				break
			}
		}
	}
	at, ok, err := s.st.NextTry(ctx)
	if ok {
		earlier(at)
	}
	return next, err
}

// ReleaseRule implements StrictServerInterface.
func (s *Server) ReleaseRule(ctx context.Context, r ReleaseRuleRequestObject) (ReleaseRuleResponseObject, error) {
	n, err := s.e.Release(ctx, r.Sheet, r.Rule, r.Body.Approve, person(ctx).Name)
	return ReleaseRule200JSONResponse{Emails: n}, err
}

// SendByHand implements StrictServerInterface.
func (s *Server) SendByHand(ctx context.Context, r SendByHandRequestObject) (SendByHandResponseObject, error) {
	ids := make([]int64, len(r.Body.Rows))
	for i, text := range r.Body.Rows {
		id, err := parseID(text)
		if err != nil {
			return nil, err
		}
		ids[i] = id
	}
	n, err := s.e.SendByHand(ctx, r.Sheet, r.Rule, r.Body.Batch, ids, person(ctx).Name)
	return SendByHand200JSONResponse{Emails: n}, err
}

// IncludePast implements StrictServerInterface.
func (s *Server) IncludePast(ctx context.Context, r IncludePastRequestObject) (IncludePastResponseObject, error) {
	n, err := s.e.IncludePast(ctx, r.Sheet, r.Rule, person(ctx).Name)
	return IncludePast200JSONResponse{Emails: n}, err
}

package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
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
	out := Rule{Id: rec.ID, Sheet: rec.SheetID, Letter: rec.Letter, State: RuleState(rec.State),
		Version: int(rec.Version), Body: *core,
		Sentence: core.Sentence(sh, names), Counts: map[string]int{}}
	at, rows, err := s.st.NextRuleDue(ctx, rec)
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
	if rec.Broken != "" {
		out.Broken = &rec.Broken
	}
	if n := out.Counts[string(delivery.Held)]; n > 0 {
		out.Held = &n
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
	body, err := s.flights.do(ctx, "rules "+r.Sheet, func(ctx context.Context) (any, error) {
		return s.listRules(ctx, r.Sheet)
	})
	return shared(body), err
}

func (s *Server) listRules(ctx context.Context, sheetID string) (any, error) {
	recs, err := s.st.Rules(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	unjudged, err := s.e.CountUnjudged(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	out := ListRules200JSONResponse{}
	for i := range recs {
		x, err := s.toRule(ctx, &recs[i])
		if err != nil {
			return nil, err
		}
		if n, ok := unjudged.Rules[x.Id]; ok {
			x.Unjudged = &n
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
	if st := r.Body.Body.State; st != "" && st != rule.Draft {
		return nil, &engine.Refusal{Field: "/body/state",
			Message: "a new rule is a draft; switch it on by itself, once it is saved, so that its first emails can be looked at"}
	}
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
	was, err := s.ruleOf(ctx, r.Sheet, r.Rule)
	if err != nil {
		return nil, err
	}
	if st := r.Body.Body.State; st != "" && st != rule.State(was.State) {
		return nil, &engine.Refusal{Field: "/body/state",
			Message: fmt.Sprintf("the rule is %s, and saving it does not change that; switch it by itself", was.State)}
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
	out := RuleEffect200JSONResponse{Days: []EffectDay{}, First: []EffectLine{}, Skipped: []EffectSkip{},
		Wordings: []EffectWording{}, Faulty: []FaultyRow{}}
	ask, err := s.effectAsk(ctx, r.Sheet, r.Body.Body, r.Body.Today)
	var refusal *engine.Refusal
	if errors.As(err, &refusal) && refusal.Field != "" {
		out.Problem = &RuleFault{Field: refusal.Field, Message: refusal.Message}
		n, err := s.st.CountRows(ctx, r.Sheet)
		out.Total, out.Rows = int(n), int(n)
		return out, err
	} else if err != nil {
		return nil, err
	}
	if r.Body.Rule != nil {
		ask.Against = *r.Body.Rule
	}
	if r.Body.Whole == nil || !*r.Body.Whole {
		ask.Budget = effectBudget
	}
	f, err := s.e.Effect(ctx, r.Sheet, ask)
	if err != nil {
		return nil, err
	}
	out.Rows, out.Total, out.Emails, out.Incomplete, out.Past, out.Partial = f.Rows, f.Total, f.Emails, f.Incomplete,
		f.Past, f.Partial
	out.Held, out.Moved, out.Unjudged, out.Cap, out.Sender = f.Held, f.Moved, f.Unjudged, f.Cap, f.Sender
	out.Skipped = skips(f.Skipped)
	wordings := wordingsOf(f)
	for _, w := range wordings {
		n := 0
		for _, d := range f.Outlook.Days {
			n += d.Emails[w]
		}
		out.Wordings = append(out.Wordings, EffectWording{Template: w.Template, Name: f.Templates[w.Template], Step: w.Step,
			Emails: n})
	}
	for i, d := range f.Outlook.Days {
		day := EffectDay{Day: (f.From + value.Day(i)).String(), By: make([]int, len(wordings))}
		for k, w := range wordings {
			day.By[k] = d.Emails[w]
			day.Emails += d.Emails[w]
		}
		if f.Overflow != nil {
			day.Over = f.Overflow[i]
		}
		out.Days = append(out.Days, day)
	}
	out.First = effectLines(f.Lines)
	out.Faulty = faultyRows(f)
	if l := f.Limit; l != nil {
		out.Limit = &struct {
			Emails int      `json:"emails"`
			First  []string `json:"first"`
			N      int      `json:"n"`
			People int      `json:"people"`
			Skip   bool     `json:"skip"`
			Within string   `json:"within"`
		}{l.Emails, l.People[:min(len(l.People), shownPeople):min(len(l.People), shownPeople)], l.N, len(l.People), l.Skip,
			l.Within}
		if out.Limit.First == nil {
			out.Limit.First = []string{}
		}
	}
	if f.Change != nil {
		out.Change = &EffectChange{New: f.Change.New, Gone: f.Change.Gone, Rows: f.Change.Rows,
			Lines: effectLines(f.Changed)}
	}
	return out, nil
}

// faultyRows names the first rows that a rule cannot judge, and what stands where
// it looks.
func faultyRows(f *engine.Effect) []FaultyRow {
	out := make([]FaultyRow, 0, len(f.Faulty))
	for _, x := range f.Faulty {
		row := FaultyRow{Row: x.Row.ID, Name: f.Sheet.RowName(x.Row), Column: x.Column}
		if c, ok := f.Sheet.Column(x.Column); ok {
			row.Text = f.Sheet.Show(c, f.Sheet.Compute(x.Row, f.Now, f.Calendar).Cell(c))
		}
		out = append(out, row)
	}
	return out
}

// shownPeople is how many of the people whom a limit touches are named.
const shownPeople = 5

// turnBudget is how long working out what a change of columns, zone, calendar or
// letter makes of the emails foreseen may take.
const turnBudget = 1500 * time.Millisecond

// effectBudget is how long a first answer about a rule's effect may take; then
// it says that it is one of a part of the rows.
const effectBudget = 120 * time.Millisecond

// effectAsk checks a rule, whole or not yet, and on which day it is asked about.
func (s *Server) effectAsk(ctx context.Context, sheet string, r rule.Rule, today *string) (engine.EffectAsk, error) {
	ask := engine.EffectAsk{Rule: &r}
	if r.Name == "" {
		r.Name = "unnamed"
	}
	if err := s.e.CheckRule(ctx, sheet, &r); err != nil || today == nil {
		return ask, err
	}
	rec, err := s.st.Sheet(ctx, sheet)
	if err != nil {
		return ask, err
	}
	day, err := value.ParseDay(*today, value.YearMonthDay)
	if err != nil {
		return ask, &engine.Refusal{Message: "today: " + err.Error()}
	}
	zone, err := time.LoadLocation(rec.Zone)
	if err != nil {
		return ask, err
	}
	// Which day it is may be another; what time of day it is stays.
	w := value.WallAt(s.e.Now().In(r.Location(zone)))
	ask.Now = calendar.Resolve(value.Wall{Day: day, Second: w.Second}, r.Location(zone))
	return ask, nil
}

// wordingsOf lists what an effect sends, first emails before follow-ups, each as
// it stands in the rule.
func wordingsOf(f *engine.Effect) []plan.Wording {
	var out []plan.Wording
	for _, d := range f.Outlook.Days {
		for w := range d.Emails {
			if !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	order := f.Rule.Templates()
	slices.SortFunc(out, func(a, b plan.Wording) int {
		return cmp.Or(cmp.Compare(a.Step, b.Step), cmp.Compare(slices.Index(order, a.Template),
			slices.Index(order, b.Template)))
	})
	return out
}

func effectLines(lines []engine.EffectLine) []EffectLine {
	out := make([]EffectLine, 0, len(lines))
	for _, l := range lines {
		x := EffectLine{At: l.OutlookLine.Due, Row: l.RowName, RowId: l.OutlookLine.Row.ID, Step: l.OutlookLine.Step,
			Template: l.Wording, To: boxLine(l.To),
			Subject: l.Subject, Outcome: string(l.OutlookLine.Outcome), Reason: l.Decision.Reason.Words(), Emails: l.Emails}
		if l.Rows > 0 {
			x.Rows = &l.Rows
		}
		if l.Gone {
			x.Gone = &l.Gone
		}
		out = append(out, x)
	}
	return out
}

// RuleEmail implements StrictServerInterface.
func (s *Server) RuleEmail(ctx context.Context, r RuleEmailRequestObject) (RuleEmailResponseObject, error) {
	ask, err := s.effectAsk(ctx, r.Sheet, r.Body.Body, r.Body.Today)
	if err != nil {
		return nil, err
	}
	id, err := parseID(r.Body.Row)
	if err != nil {
		return nil, err
	}
	to := ""
	if r.Body.To != nil {
		to = *r.Body.To
	}
	f, err := s.e.ForeseenEmail(ctx, r.Sheet, ask, id, r.Body.At, r.Body.Step, to)
	if err != nil {
		return nil, err
	}
	return RuleEmail200JSONResponse(foreseenEmail(&f.Decision)), nil
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
	body, saved := r.Body.Body, ""
	if body.Name == "" {
		body.Name = "unnamed"
	}
	if r.Body.Rule != nil {
		saved = *r.Body.Rule
	}
	e, err := s.e.Explain(ctx, r.Sheet, &body, saved, id)
	if err != nil {
		return nil, err
	}
	out := ExplainRow200JSONResponse{Row: e.Row, Clauses: e.Clauses, Summary: e.Summary, Coming: []EffectLine{},
		Past: []LogLine{}}
	for _, f := range e.Coming {
		out.Coming = append(out.Coming, EffectLine{At: f.Due, Row: e.Row, RowId: r.Body.Row, Step: f.Step,
			Template: f.Template, To: boxLine(f.To), Subject: f.Subject,
			Outcome: string(f.Outcome), Reason: f.Decision.Reason.Words(), Emails: 1})
	}
	if saved == "" {
		return out, nil
	}
	past, err := s.st.Log(ctx, store.LogFilter{SheetID: r.Sheet, RuleID: saved, RowID: id}, "", shownPast)
	if err != nil {
		return nil, err
	}
	out.Past, err = s.logLines(ctx, past.Lines)
	return out, err
}

// shownPast is how many of a row's past emails stand beside its explanation.
const shownPast = 12

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

// IncludePast implements StrictServerInterface.
func (s *Server) IncludePast(ctx context.Context, r IncludePastRequestObject) (IncludePastResponseObject, error) {
	var only []int64
	if r.Body != nil && r.Body.Rows != nil {
		var err error
		if only, err = parseIDs(*r.Body.Rows); err != nil {
			return nil, err
		}
		if len(only) == 0 {
			return IncludePast200JSONResponse{}, nil
		}
	}
	n, err := s.e.IncludePast(ctx, r.Sheet, r.Rule, only, person(ctx).Name)
	return IncludePast200JSONResponse{Emails: n}, err
}

// ListPast implements StrictServerInterface.
func (s *Server) ListPast(ctx context.Context, r ListPastRequestObject) (ListPastResponseObject, error) {
	body, saved := r.Body.Body, ""
	if body.Name == "" {
		body.Name = "unnamed"
	}
	if r.Body.Rule != nil {
		saved = *r.Body.Rule
	}
	past, total, err := s.e.Past(ctx, r.Sheet, &body, saved)
	if err != nil {
		return nil, err
	}
	out := ListPast200JSONResponse{Total: total, Lines: []EffectLine{}}
	for _, p := range past {
		out.Lines = append(out.Lines, EffectLine{At: p.At, Row: p.RowName, RowId: p.Row.ID, Template: p.Decision.Template,
			To: boxLine(p.Decision.To), Subject: p.Decision.Subject,
			Outcome: string(p.Decision.Outcome), Reason: p.Decision.Reason.Words(), Emails: 1})
	}
	return out, nil
}

// CopyRule implements StrictServerInterface.
func (s *Server) CopyRule(ctx context.Context, r CopyRuleRequestObject) (CopyRuleResponseObject, error) {
	rec, err := s.e.CopyRule(ctx, r.Sheet, r.Rule, is(r.Body.History), person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return CopyRule201JSONResponse(out), err
}

// OrderRules implements StrictServerInterface.
func (s *Server) OrderRules(ctx context.Context, r OrderRulesRequestObject) (OrderRulesResponseObject, error) {
	return OrderRules204Response{}, s.e.OrderRules(ctx, r.Sheet, r.Body.Rules)
}

// RestoreRule implements StrictServerInterface.
func (s *Server) RestoreRule(ctx context.Context, r RestoreRuleRequestObject) (RestoreRuleResponseObject, error) {
	rec, err := s.e.RestoreRule(ctx, r.Sheet, r.Rule, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toRule(ctx, rec)
	return RestoreRule200JSONResponse(out), err
}

// ListDeletedRules implements StrictServerInterface.
func (s *Server) ListDeletedRules(ctx context.Context,
	r ListDeletedRulesRequestObject) (ListDeletedRulesResponseObject, error) {
	recs, err := s.st.DeletedRules(ctx, r.Sheet, s.e.RestorableSince())
	if err != nil {
		return nil, err
	}
	sh, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	names, err := s.templateNames(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := ListDeletedRules200JSONResponse{}
	for i := range recs {
		core, err := recs[i].Core()
		if err != nil {
			return nil, err
		}
		out = append(out, DeletedRule{Id: recs[i].ID, Letter: recs[i].Letter, Name: recs[i].Name, At: *recs[i].DeletedAt,
			By: recs[i].DeletedBy, Sentence: core.Sentence(sh, names)})
	}
	return out, nil
}

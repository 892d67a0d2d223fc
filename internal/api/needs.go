package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// doubledNeed is a sheet with rows whose key another row had before them.
type doubledNeed = struct {
	Key     string `json:"key"`
	Rows    int    `json:"rows"`
	Sheet   string `json:"sheet"`
	SheetId string `json:"sheetId"` //nolint:revive // as the document's type has it
}

// unjudgedNeed is a sheet with rows that rules cannot judge.
type unjudgedNeed = struct {
	Letters []string `json:"letters"`
	Rows    int      `json:"rows"`
	Rule    *string  `json:"rule,omitempty"`
	Sheet   string   `json:"sheet"`
	SheetId string   `json:"sheetId"` //nolint:revive // as the document's type has it
}

// unjudgedNeeds lists the sheets whose rules cannot judge some rows, unless
// somebody has said of as many that it is meant so.
func (s *Server) unjudgedNeeds(ctx context.Context, sheets []store.Sheet) ([]unjudgedNeed, error) {
	out := []unjudgedNeed{}
	for i := range sheets {
		rows, rules, err := s.e.UnjudgedNews(ctx, sheets[i].ID)
		if err != nil {
			return nil, err
		}
		if len(rules) == 0 {
			continue
		}
		n := unjudgedNeed{SheetId: sheets[i].ID, Sheet: sheets[i].Name, Rows: rows, Letters: []string{}}
		for k := range rules {
			n.Letters = append(n.Letters, rules[k].Letter)
		}
		if len(rules) == 1 {
			n.Rule = &rules[0].ID
		}
		out = append(out, n)
	}
	return out, nil
}

// notices tells what keeps all emails from going.
func (s *Server) notices(ctx context.Context) (out []Notice, err error) {
	sending, err := s.st.Sending(ctx)
	if err != nil {
		return nil, err
	}
	if back := sending.Back; !back.Until.IsZero() {
		held, err := s.st.CountHeld(ctx, reason.Restored)
		if err != nil {
			return nil, err
		}
		when := func(t time.Time) string { return t.In(s.Zone).Format("Mon 2 Jan 15:04") }
		out = append(out, Notice{Kind: NoticeKindWentBack, Since: &back.Since, Until: &back.Until, Held: &held,
			Rules: &back.Rules,
			Text: fmt.Sprintf(
				"The database went back to %s. What was done between then and %s is not in it, and emails of that time may have "+
					"gone already. All sending is off, and the rules that were on are paused.",
				when(back.Since), when(back.Until))})
	}
	if err := s.e.Trouble(); err != nil {
		out = append(out, Notice{Kind: NoticeKindEngine, Text: err.Error() + "."})
	}
	wrong, err := s.e.WrongClocks(ctx)
	for _, w := range wrong {
		off := time.Duration(w.ClockOffMs) * time.Millisecond
		out = append(out,
			Notice{Kind: NoticeKindClock,
				Text: fmt.Sprintf("The clock of %s is %s off the database's. It sends nothing until they agree.", w.Name,
					off.Abs().Round(time.Second))})
	}
	if err != nil {
		return nil, err
	}
	resting, err := s.restingNotices(ctx)
	return append(out, resting...), err
}

// restingNotices say which senders cannot send, since when, why, and what to do:
// "Loans desk, since Mon 15 Mar 08:55: the mail server did not accept …; 41 emails wait. Enter …".
func (s *Server) restingNotices(ctx context.Context) (out []Notice, err error) {
	states, err := s.st.SenderStates(ctx)
	if err != nil {
		return nil, err
	}
	senders, err := s.st.Senders(ctx)
	if err != nil {
		return nil, err
	}
	for i := range senders {
		x, state := &senders[i], states[senders[i].ID]
		if state.RestsSince == nil {
			continue
		}
		waiting, err := s.st.CountWaiting(ctx, x.StandsUnder(i == 0))
		if err != nil {
			return nil, err
		}
		since := state.RestsSince.In(s.Zone).Format("Mon 2 Jan 15:04")
		out = append(out, Notice{Kind: NoticeKindSender, Since: state.RestsSince,
			Text: fmt.Sprintf("%s, since %s: %s; %s. %s", x.Name, since, state.Trouble.Words(), engine.WaitWords(waiting),
				state.Trouble.Advice())})
	}
	return out, nil
}

// LookedBack implements StrictServerInterface.
func (s *Server) LookedBack(ctx context.Context, _ LookedBackRequestObject) (LookedBackResponseObject, error) {
	return LookedBack204Response{}, s.e.LookedBack(ctx, person(ctx).Name)
}

// needs lists what waits for somebody: in doubt first, then held, refused,
// incomplete and missed; held and missed ones by rule.
func (s *Server) needs(ctx context.Context, sheets []store.Sheet, rules map[string]store.Rule) ([]Need, error) {
	ds, err := s.st.Needing(ctx, mostNeeds)
	if err != nil {
		return nil, err
	}
	names, err := s.rowNames(ctx, sheets, ds)
	if err != nil {
		return nil, err
	}
	until, err := s.e.MendableUntil(ctx, ds)
	if err != nil {
		return nil, err
	}
	sheetNames := map[string]string{}
	for _, sh := range sheets {
		sheetNames[sh.ID] = sh.Name
	}
	out := []Need{}
	groups := map[string]int{}
	for i := range ds {
		d := &ds[i]
		name, known := sheetNames[d.SheetID]
		if !known {
			continue
		}
		key := ""
		if d.State == delivery.Held || d.State == delivery.Missed {
			key = string(d.State) + d.RuleID
		}
		if at, ok := groups[key]; ok && key != "" {
			n := &out[at]
			n.Count++
			n.Deliveries = append(n.Deliveries, store.RowID(d.ID))
			n.Title = needTitle(d, "", n.Count)
			continue
		}
		if len(out) == maxNeeds {
			break
		}
		row := store.RowID(d.RowID)
		n := Need{Kind: markKind(d.State), Letter: rules[d.RuleID].Letter, Sheet: name, SheetId: d.SheetID, Row: &row,
			Count:      1,
			Deliveries: []string{store.RowID(d.ID)}, Title: needTitle(d, names[d.RowID], 1),
			Text: s.needText(d, rules[d.RuleID].Name, until[d.ID]), FaultyColumn: d.FaultyColumn}
		n.Actions = needActions(d)
		if d.RuleID != "" {
			n.Rule = &d.RuleID
		}
		if n.FaultyColumn == "" && (d.State == delivery.Failed || d.State == delivery.Bounced) {
			by := rules[d.RuleID]
			if !d.LastError.Code.OfAddress() {
				by = store.Rule{} // it is no fault of the address
			}
			if core, err := by.Core(); err == nil { // a rule that is not there any more says nothing
				n.FaultyColumn = rule.FirstColumn(core.To)
			}
		}
		if key != "" {
			groups[key] = len(out)
		}
		out = append(out, n)
	}
	return out, nil
}

func needTitle(d *store.Delivery, row string, n int) string {
	switch d.State {
	case delivery.Held:
		if n == 1 {
			return "1 email is held"
		}
		return fmt.Sprintf("%d emails are held", n)
	case delivery.Missed:
		if n == 1 {
			return "1 email was missed"
		}
		return fmt.Sprintf("%d emails were missed", n)
	}
	return row
}

func (s *Server) needText(d *store.Delivery, rule string, until time.Time) string {
	at := d.DueAt.In(s.Zone).Format("Mon 2 Jan 15:04")
	switch d.State {
	case delivery.InDoubt:
		return upperFirst(d.LastError.Words()) + " (" + rule + ", " + at + ")."
	case delivery.Held:
		return rule + ", held since " + at + ": " + d.Reason.Words() + "."
	case delivery.Failed, delivery.Bounced:
		var who []string
		for _, r := range recipients(d) {
			if r.Role == "to" {
				who = append(who, r.Address)
			}
		}
		text := strings.Join(who, ", ") + ": " + d.LastError.Words() + "."
		if d.Reply != "" && d.LastError.Code != reason.Refused {
			text += " The mail server said: " + d.Reply + "."
		}
		if advice := d.LastError.Advice(); advice != "" {
			text += " " + advice
		}
		return text
	case delivery.Incomplete:
		text := upperFirst(d.Reason.Words()) + "; its email was due " + at + "."
		if !until.IsZero() {
			text += " It goes by itself once that is fixed, until " + until.In(s.Zone).Format("Mon 2 Jan 15:04") + "."
		}
		return text
	}
	return rule + ": " + d.Reason.Words() + "."
}

func needActions(d *store.Delivery) []string {
	switch d.State {
	case delivery.InDoubt:
		return []string{"it-went", "send-again"}
	case delivery.Failed, delivery.Bounced:
		if !d.LastError.Code.OfAddress() {
			return []string{"send-again", "open"}
		}
		return []string{"mend", "open"}
	case delivery.Incomplete:
		return []string{"drop", "mend"}
	}
	return []string{"open"}
}

// brokenRules lists the rules that are paused for want of something.
func (s *Server) brokenRules(ctx context.Context, sheets []store.Sheet) (*[]BrokenRule, error) {
	out := []BrokenRule{}
	rules, err := s.st.Rules(ctx, "")
	if err != nil {
		return nil, err
	}
	for i := range sheets {
		for _, r := range rules {
			if r.SheetID == sheets[i].ID && r.Broken != "" {
				out = append(out, BrokenRule{Sheet: sheets[i].Name, SheetId: sheets[i].ID, Rule: r.ID, Letter: r.Letter,
					Name: r.Name, Broken: r.Broken})
			}
		}
	}
	return &out, nil
}

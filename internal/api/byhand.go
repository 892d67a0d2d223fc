package api

import (
	"context"
	"maps"
	"slices"
	"strconv"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/template"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// ListHeld implements StrictServerInterface.
func (s *Server) ListHeld(ctx context.Context, r ListHeldRequestObject) (ListHeldResponseObject, error) {
	rec, err := s.ruleOf(ctx, r.Sheet, r.Rule)
	if err != nil {
		return nil, err
	}
	held, n, err := s.e.Held(ctx, r.Sheet, r.Rule)
	if err != nil {
		return nil, err
	}
	ds := make([]store.Delivery, len(held))
	for i := range held {
		ds[i] = held[i].Delivery
	}
	until, err := s.e.MendableUntil(ctx, ds)
	if err != nil {
		return nil, err
	}
	out := ListHeld200JSONResponse{Rule: rec.Name, Letter: rec.Letter, Held: n, Emails: []HeldEmail{}}
	for i := range held {
		h := &held[i]
		x := HeldEmail{Id: store.RowID(h.ID), At: h.DueAt, Row: h.RowName, RowId: store.RowID(h.RowID),
			State: DeliveryState(h.State), Subject: h.Subject, Why: h.Reason.Words(),
			Outcome: string(h.Now.Outcome), NowReason: h.Now.Reason.Words(), NowTo: boxLine(h.Now.To),
			NowSubject: h.Now.Subject, Differs: h.Differs, Changed: factChanges(h.Changed)}
		if at, ok := until[h.ID]; ok {
			x.Until = &at
		}
		rs := recipients(&h.Delivery)
		x.People = len(rs)
		for k, b := range roleBoxes(rs, "to") {
			if k > 0 {
				x.To += ", "
			}
			x.To += b
		}
		if h.RowID == 0 {
			x.NowTo = x.To
		}
		if out.Why == "" && h.Reason.Code != "" && h.State == delivery.Held {
			out.Why = reason.Reason{Code: h.Reason.Code}.Kind()
		}
		out.Emails = append(out.Emails, x)
	}
	out.Doubles = []HeldDouble{}
	for _, d := range engine.Doubles(held) {
		x := HeldDouble{Address: d.Address, Subject: d.Subject}
		for _, id := range d.Emails {
			x.Emails = append(x.Emails, store.RowID(id))
		}
		out.Doubles = append(out.Doubles, x)
	}
	return out, nil
}

func factChanges(list []engine.FactChange) []FactChange {
	out := []FactChange{}
	for _, c := range list {
		out = append(out, FactChange{Name: c.Name, Was: c.Was, Is: c.Is})
	}
	return out
}

// HeldNow implements StrictServerInterface.
func (s *Server) HeldNow(ctx context.Context, r HeldNowRequestObject) (HeldNowResponseObject, error) {
	id, err := parseID(r.Delivery)
	if err != nil {
		return nil, err
	}
	h, err := s.e.HeldEmailNow(ctx, r.Sheet, r.Rule, id)
	if err != nil {
		return nil, err
	}
	out := HeldNow200JSONResponse{Email: foreseenEmail(&h.Now), Changed: factChanges(h.Changed)}
	rs := recipients(&h.Delivery)
	boxes := func(role string) (line string) {
		for i, b := range roleBoxes(rs, role) {
			if i > 0 {
				line += ", "
			}
			line += b
		}
		return line
	}
	out.Held = ForeseenEmail{Subject: h.Subject, To: boxes("to"), Cc: boxes("cc"), Bcc: boxes("bcc"), ReplyTo: h.ReplyTo,
		Outcome: string(h.State), Reason: h.Reason.Words()}
	letter, err := s.st.Letter(ctx, h.ID)
	if err == nil {
		out.Held.Html, out.Held.Text = template.ForOthers(letter.HTML), template.ForOthers(letter.Text)
	}
	return out, nil
}

func foreseenEmail(v *plan.Decision) ForeseenEmail {
	return ForeseenEmail{Subject: v.Subject, Html: template.ForOthers(v.HTML), Text: template.ForOthers(v.Text),
		To: boxLine(v.To), Cc: boxLine(v.Cc),
		Bcc: boxLine(v.Bcc), ReplyTo: boxLine(v.ReplyTo),
		Outcome: string(v.Outcome), Reason: v.Reason.Words()}
}

// LookThrough implements StrictServerInterface.
func (s *Server) LookThrough(ctx context.Context, r LookThroughRequestObject) (LookThroughResponseObject, error) {
	send, err := parseIDs(r.Body.Send)
	if err != nil {
		return nil, err
	}
	leave, err := parseIDs(r.Body.LeaveOut)
	if err != nil {
		return nil, err
	}
	because := ""
	if r.Body.Because != nil {
		because = clip(*r.Body.Because, 200)
	}
	out, err := s.e.LookThrough(ctx, r.Sheet, r.Rule, send, leave, because, person(ctx).Name)
	return LookThrough200JSONResponse{Sent: out.Sent, LeftOut: out.LeftOut, Other: out.Other}, err
}

// clip bounds a text that somebody types, in characters.
func clip(text string, n int) string {
	if r := []rune(text); len(r) > n {
		return string(r[:n])
	}
	return text
}

func parseIDs(texts []string) ([]int64, error) {
	ids := make([]int64, len(texts))
	for i, text := range texts {
		id, err := parseID(text)
		if err != nil {
			return nil, err
		}
		ids[i] = id
	}
	return ids, nil
}

// SendByHand implements StrictServerInterface.
func (s *Server) SendByHand(ctx context.Context, r SendByHandRequestObject) (SendByHandResponseObject, error) {
	ids, err := parseIDs(r.Body.Rows)
	if err != nil {
		return nil, err
	}
	var same rule.SameWords
	if r.Body.SameWords != nil {
		same = rule.SameWords(*r.Body.SameWords)
	}
	b, n, err := s.e.SendByHand(ctx, r.Sheet, r.Rule, r.Body.Batch, ids, person(ctx).Name, same)
	if err != nil {
		return nil, err
	}
	return SendByHand200JSONResponse{Batch: strconv.FormatInt(b.ID, 10), Emails: n}, nil
}

// PreviewByHand implements StrictServerInterface. The rows are those named, or
// those of a view.
func (s *Server) PreviewByHand(ctx context.Context,
	r PreviewByHandRequestObject) (PreviewByHandResponseObject, error) {
	var ids []int64
	var err error
	switch {
	case r.Body.Rows != nil:
		ids, err = parseIDs(*r.Body.Rows)
	case r.Body.View != nil:
		ids, err = s.e.View(ctx, r.Sheet, *r.Body.View)
	}
	if err != nil {
		return nil, err
	}
	within := calendar.Duration{Days: 7}
	if r.Body.Within != nil {
		if within, err = calendar.ParseDuration(*r.Body.Within); err != nil {
			return nil, &engine.Refusal{Field: "/within", Message: err.Error()}
		}
	}
	body := r.Body.Body
	if body.Name == "" {
		body.Name = "unnamed"
	}
	p, err := s.e.PreviewByHand(ctx, r.Sheet, &body, ids, within, r.Body.LeaveRecent != nil && *r.Body.LeaveRecent)
	if err != nil {
		return nil, err
	}
	out := PreviewByHand200JSONResponse{Rows: p.Rows, Emails: p.Emails, People: p.People, Incomplete: p.Incomplete,
		Skipped: skips(p.Skipped),
		Lines:   effectLines(p.Lines), Cap: p.Cap, Left: p.Left, Sender: p.Sender, Waiting: p.Waiting,
		TooLarge: p.TooLarge}
	if err := s.nameRules(ctx, r.Sheet, p.ByRules, &out); err != nil {
		return nil, err
	}
	out.Doubled = make([]struct {
		Address string `json:"address"`
		Emails  int    `json:"emails"`
	}, 0)
	for _, a := range slices.Sorted(maps.Keys(p.Doubled)) {
		out.Doubled = append(out.Doubled, struct {
			Address string `json:"address"`
			Emails  int    `json:"emails"`
		}{a, p.Doubled[a]})
	}
	for _, x := range p.Recent {
		out.Recent = append(out.Recent, RecentRow{RowId: store.RowID(x.ID), Row: x.Name, At: x.At})
	}
	if out.Recent == nil {
		out.Recent = []RecentRow{}
	}
	return out, nil
}

// nameRules says which rules have emails waiting for the rows of a sending by hand.
func (s *Server) nameRules(ctx context.Context, sheet string, by map[string]int,
	out *PreviewByHand200JSONResponse) error {
	out.ByRules = make([]struct {
		Emails int    `json:"emails"`
		Letter string `json:"letter"`
		Name   string `json:"name"`
	}, 0)
	rules, err := s.st.AllRules(ctx, sheet)
	for i := range rules {
		if n := by[rules[i].ID]; n > 0 {
			out.ByRules = append(out.ByRules, struct {
				Emails int    `json:"emails"`
				Letter string `json:"letter"`
				Name   string `json:"name"`
			}{n, rules[i].Letter, rules[i].Name})
		}
	}
	return err
}

func skips(by map[reason.Code]int) []EffectSkip {
	out := []EffectSkip{}
	for _, code := range slices.Sorted(maps.Keys(by)) {
		out = append(out, EffectSkip{Reason: reason.Reason{Code: code}.Kind(), Emails: by[code]})
	}
	return out
}

func (s *Server) toBatch(ctx context.Context, b *store.Batch, names map[string]store.Rule) (Batch, error) {
	counts, err := s.st.CountOfBatch(ctx, b)
	out := Batch{Id: strconv.FormatInt(b.ID, 10), Rule: b.RuleID, RuleName: names[b.RuleID].Name,
		Letter: names[b.RuleID].Letter, At: b.At, By: b.Actor, Total: b.Total, Done: b.Done,
		Running: b.Running(), Counts: map[string]int{}}
	for st, n := range counts {
		out.Counts[string(st)] = n
	}
	if b.StoppedAt != nil {
		out.Stopped, out.StoppedBy = b.StoppedAt, &b.StoppedBy
	}
	return out, err
}

// shownBatches is how many sendings by hand are listed.
const shownBatches = 50

// ListBatches implements StrictServerInterface.
func (s *Server) ListBatches(ctx context.Context, r ListBatchesRequestObject) (ListBatchesResponseObject, error) {
	batches, err := s.st.Batches(ctx, r.Sheet, shownBatches)
	if err != nil {
		return nil, err
	}
	names, err := s.ruleNames(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := ListBatches200JSONResponse{}
	for i := range batches {
		b, err := s.toBatch(ctx, &batches[i], names)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

// batchOf finds a batch of a sheet.
func (s *Server) batchOf(ctx context.Context, sheet, id string) (*store.Batch, error) {
	n, err := parseID(id)
	if err != nil {
		return nil, err
	}
	b, err := s.st.Batch(ctx, n)
	if err == nil && b.SheetID != sheet {
		err = store.ErrNotFound
	}
	return b, err
}

// GetBatch implements StrictServerInterface.
func (s *Server) GetBatch(ctx context.Context, r GetBatchRequestObject) (GetBatchResponseObject, error) {
	b, err := s.batchOf(ctx, r.Sheet, r.Batch)
	if err != nil {
		return nil, err
	}
	names, err := s.ruleNames(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out, err := s.toBatch(ctx, b, names)
	if err != nil {
		return nil, err
	}
	waits := false
	for st, n := range out.Counts {
		waits = waits || n > 0 && delivery.UnderWay(delivery.State(st))
	}
	if waits {
		if out.Sender, err = s.senderOfSheet(ctx, r.Sheet); err != nil {
			return nil, err
		}
	}
	return GetBatch200JSONResponse(out), nil
}

// senderOfSheet returns the sender of a sheet's emails and how it does; nil where there is none.
func (s *Server) senderOfSheet(ctx context.Context, sheetID string) (*Sender, error) {
	rec, err := s.st.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	senders, err := s.listSenders(ctx)
	if err != nil {
		return nil, err
	}
	for i := range senders {
		if senders[i].Id == rec.SenderID || rec.SenderID == "" && senders[i].IsDefault {
			return &senders[i], nil
		}
	}
	return nil, nil
}

// StopBatch implements StrictServerInterface.
func (s *Server) StopBatch(ctx context.Context, r StopBatchRequestObject) (StopBatchResponseObject, error) {
	b, err := s.batchOf(ctx, r.Sheet, r.Batch)
	if err != nil {
		return nil, err
	}
	n, err := s.e.StopBatch(ctx, r.Sheet, b.ID, person(ctx).Name)
	return StopBatch200JSONResponse{Emails: n}, err
}

// RepeatBatch implements StrictServerInterface.
func (s *Server) RepeatBatch(ctx context.Context, r RepeatBatchRequestObject) (RepeatBatchResponseObject, error) {
	b, err := s.batchOf(ctx, r.Sheet, r.Batch)
	if err != nil {
		return nil, err
	}
	n, err := s.e.RepeatBatch(ctx, r.Sheet, b.ID, person(ctx).Name)
	return RepeatBatch200JSONResponse{Emails: n}, err
}

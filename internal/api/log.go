package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/template"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// outcomeWords says in a few words what has become of an email.
func outcomeWords(d *store.Delivery) string {
	code := strings.SplitN(d.Reply, " ", 2)[0]
	switch d.State {
	case delivery.Accepted:
		switch {
		case d.Decision == string(engine.ItWent):
			return "accepted, as somebody has said"
		case d.Attempt > 1:
			return fmt.Sprintf("accepted, sent again %s", times(d.Attempt-1))
		case d.Tries > 1:
			return "accepted on the " + rule.Ordinal(d.Tries) + " try"
		case strings.Contains(d.Recipients, `"bounced"`):
			return "accepted, but not for everybody"
		}
		return "accepted"
	case delivery.Deferred:
		return "deferred, " + code
	case delivery.Bounced:
		return "bounced, " + code
	case delivery.Failed:
		if d.Reply != "" {
			return "refused, " + code
		}
		return "failed: " + d.LastError.Words()
	case delivery.InDoubt:
		if d.Decision == "left" {
			return "in doubt, left as it is"
		}
		return "in doubt"
	case delivery.Skipped, delivery.Incomplete, delivery.Missed, delivery.Held, delivery.Dropped:
		return string(d.State) + ": " + d.Reason.Words()
	case delivery.Queued, delivery.Claimed, delivery.Sending:
		return "on its way"
	}
	return string(d.State)
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

func recipients(d *store.Delivery) []store.Recipient {
	var rs []store.Recipient
	_ = json.Unmarshal([]byte(d.Recipients), &rs)
	return rs
}

func roleBoxes(rs []store.Recipient, role string) []string {
	out := []string{}
	for _, r := range rs {
		if r.Role == role {
			out = append(out, r.Mailbox)
		}
	}
	return out
}

// logLines turns deliveries into lines of the log, with the names of their
// rows, rules and sheets.
func (s *Server) logLines(ctx context.Context, ds []store.Delivery) ([]LogLine, error) {
	rules, err := s.ruleNames(ctx, "")
	if err != nil {
		return nil, err
	}
	sheets, err := s.st.AllSheets(ctx)
	if err != nil {
		return nil, err
	}
	sheetNames := namesOf(sheets)
	rowNames, err := s.rowNames(ctx, sheets, ds)
	if err != nil {
		return nil, err
	}
	until, err := s.e.MendableUntil(ctx, ds)
	if err != nil {
		return nil, err
	}
	out := make([]LogLine, 0, len(ds))
	for i := range ds {
		d := &ds[i]
		var to []string
		for _, r := range recipients(d) {
			if r.Role == "to" {
				to = append(to, r.Address)
			}
		}
		r := rules[d.RuleID]
		line := LogLine{Id: store.RowID(d.ID), At: d.DueAt, State: DeliveryState(d.State), Kind: markKind(d.State),
			Letter: r.Letter,
			Rule:   r.Name, RuleId: d.RuleID, Sheet: sheetNames[d.SheetID], SheetId: d.SheetID, Row: rowNames[d.RowID],
			RowId: store.RowID(d.RowID),
			To:    strings.Join(to, ", "), Subject: d.Subject, Outcome: outcomeWords(d)}
		if at, ok := until[d.ID]; ok {
			line.Until = &at
			line.Outcome += "; it goes by itself once that is fixed, until " + at.In(s.Zone).Format("Mon 2 Jan 15:04")
		}
		line.Reason, line.LastError = reasonCode(d.Reason), reasonCode(d.LastError)
		out = append(out, line)
	}
	return out, nil
}

// sheetNames gives the names of all sheets by their ids, those that are gone too.
func (s *Server) sheetNames(ctx context.Context) (map[string]string, error) {
	sheets, err := s.st.AllSheets(ctx)
	return namesOf(sheets), err
}

func namesOf(sheets []store.Sheet) map[string]string {
	out := map[string]string{}
	for i := range sheets {
		out[sheets[i].ID] = sheets[i].Name
	}
	return out
}

func reasonCode(w store.Why) *ReasonCode {
	if w.IsZero() {
		return nil
	}
	c := ReasonCode(w.Code)
	return &c
}

// cause gives what made an email's occasion: what waits keeps it with the
// reason of its waiting.
func cause(d *store.Delivery) string {
	r := d.Reason.Reason
	if d.State == delivery.Held && r.Of != nil {
		r = *r.Of
	}
	return upperFirst(r.Words()) + "."
}

func (s *Server) rowNames(ctx context.Context, sheets []store.Sheet, ds []store.Delivery) (map[int64]string, error) {
	bySheet := map[string][]int64{}
	for i := range ds {
		bySheet[ds[i].SheetID] = append(bySheet[ds[i].SheetID], ds[i].RowID)
	}
	out := map[int64]string{}
	for i := range sheets {
		ids := bySheet[sheets[i].ID]
		if len(ids) == 0 {
			continue
		}
		core, err := sheets[i].Core()
		if err != nil {
			return nil, err
		}
		rows, err := s.st.RowsByID(ctx, sheets[i].ID, ids)
		if err != nil {
			return nil, err
		}
		for k := range rows {
			row, err := rows[k].Core(core)
			if err != nil {
				return nil, err
			}
			out[rows[k].ID] = core.RowName(row)
		}
	}
	return out, nil
}

func (s *Server) logFilter(sheet, rule, row, state, to, text *string, since,
	until *openapi_types.Date) (f store.LogFilter, err error) {
	str := func(p *string) string {
		if p == nil {
			return ""
		}
		return *p
	}
	f = store.LogFilter{SheetID: str(sheet), RuleID: str(rule), To: str(to), Text: str(text)}
	if r := str(row); r != "" {
		if f.RowID, err = parseID(r); err != nil {
			return f, err
		}
	}
	for _, st := range strings.Split(str(state), ",") {
		if st != "" {
			f.States = append(f.States, delivery.State(st))
		}
	}
	day := func(d *openapi_types.Date, plus int) *time.Time {
		if d == nil {
			return nil
		}
		t := time.Date(d.Year(), d.Month(), d.Day()+plus, 0, 0, 0, 0, s.Zone).UTC()
		return &t
	}
	f.Since, f.Until = day(since, 0), day(until, 1)
	return f, nil
}

// GetLog implements StrictServerInterface.
func (s *Server) GetLog(ctx context.Context, r GetLogRequestObject) (GetLogResponseObject, error) {
	p := r.Params
	f, err := s.logFilter(p.Sheet, p.Rule, p.Row, p.State, p.To, p.Text, p.Since, p.Until)
	if err != nil {
		return nil, err
	}
	limit, cursor := 100, ""
	if p.Limit != nil {
		limit = *p.Limit
	}
	if p.Cursor != nil {
		cursor = *p.Cursor
	}
	if f, err = s.st.Met(ctx, f); err != nil {
		return nil, err
	}
	page, err := s.logPage(ctx, f, cursor, limit)
	if err != nil {
		return nil, err
	}
	out := GetLog200JSONResponse{Counts: map[string]int{}, Days: []LogDay{}, Lines: append([]LogLine{}, page.lines...)}
	if page.next != "" {
		out.Next = &page.next
	}
	if !page.back.IsZero() && len(page.lines) < limit {
		out.Back = &page.back
	}
	if cursor != "" { // the first page has the counts
		out.Days, err = s.dayCounts(ctx, f, page.ds)
		return out, err
	}
	counts, err := s.st.CountStates(ctx, f)
	if err != nil {
		return nil, err
	}
	for st, n := range counts {
		out.Counts[string(st)] = int(n)
	}
	out.Days, err = s.dayCounts(ctx, f, page.ds)
	return out, err
}

// dayCounts counts the states of each day that the lines touch, whole days.
func (s *Server) dayCounts(ctx context.Context, f store.LogFilter, ds []store.Delivery) ([]LogDay, error) {
	out := []LogDay{}
	if len(ds) == 0 {
		return out, nil
	}
	dayOf := func(t time.Time) string { return t.In(s.Zone).Format("2006-01-02") }
	from, to := startOfDay(ds[len(ds)-1].DueAt, s.Zone).UTC(), endOfDay(ds[0].DueAt, s.Zone).UTC()
	if f.Since == nil || f.Since.Before(from) {
		f.Since = &from
	}
	if f.Until == nil || f.Until.After(to) {
		f.Until = &to
	}
	counts, err := s.st.CountQuarters(ctx, f)
	if err != nil {
		return nil, err
	}
	days := map[string]map[string]int{}
	for _, c := range counts {
		day := dayOf(c.DueAt)
		if days[day] == nil {
			days[day] = map[string]int{}
		}
		days[day][string(c.State)] += c.N
	}
	for i := range ds {
		if day := dayOf(ds[i].DueAt); days[day] != nil {
			out = append(out, LogDay{Day: day, Counts: days[day]})
			delete(days, day)
		}
	}
	return out, nil
}

// maxExport is how many lines an export of the log has at the most.
const maxExport = 100_000

// ExportLog implements StrictServerInterface.
func (s *Server) ExportLog(ctx context.Context, r ExportLogRequestObject) (ExportLogResponseObject, error) {
	p := r.Params
	f, err := s.logFilter(p.Sheet, p.Rule, p.Row, p.State, p.To, p.Text, p.Since, p.Until)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true // RFC 4180
	_ = w.Write([]string{"When", "State", "To", "Subject", "Sheet", "Row", "Rule", "Outcome", "Server's reply",
		"Occasion", "Attempt"})
	if f, err = s.st.Met(ctx, f); err != nil {
		return nil, err
	}
	for cursor, n := "", 0; n < maxExport; {
		page, err := s.logPage(ctx, f, cursor, 500)
		if err != nil {
			return nil, err
		}
		ds := page.ds
		n += len(page.lines)
		for _, l := range page.lines {
			rec := []string{l.At.In(s.Zone).Format(time.RFC3339), testState, l.To, l.Subject, l.Sheet, l.Row, l.Rule, l.Outcome,
				"", "", ""}
			if !is(l.Test) {
				d := &ds[0]
				ds = ds[1:]
				rec[1], rec[8], rec[9], rec[10] = string(l.State), d.Reply, fmt.Sprintf("%x", d.Occasion), fmt.Sprint(d.Attempt)
			}
			for k := range rec {
				rec[k] = neutral(rec[k])
			}
			_ = w.Write(rec)
		}
		if cursor = page.next; cursor == "" {
			break
		}
	}
	w.Flush()
	s.audit(ctx, store.Audited{Act: store.ActExport, Subject: "the log"})
	return ExportLog200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, w.Error()
}

// neutral puts an apostrophe before text that a spreadsheet program would run
// as a formula.
func neutral(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// GetDelivery implements StrictServerInterface.
func (s *Server) GetDelivery(ctx context.Context, r GetDeliveryRequestObject) (GetDeliveryResponseObject, error) {
	id, err := parseID(r.Delivery)
	if err != nil {
		return nil, err
	}
	out, err := s.delivery(ctx, id)
	return GetDelivery200JSONResponse(out), err
}

func (s *Server) delivery(ctx context.Context, id int64) (Delivery, error) {
	d, err := s.st.Delivery(ctx, id)
	if err != nil {
		return Delivery{}, err
	}
	lines, err := s.logLines(ctx, []store.Delivery{*d})
	if err != nil {
		return Delivery{}, err
	}
	rs := recipients(d)
	out := Delivery{Line: lines[0], To: roleBoxes(rs, "to"), Cc: roleBoxes(rs, "cc"), Bcc: roleBoxes(rs, "bcc"),
		ReplyTo: []string{},
		Why:     cause(d), Facts: []Fact{}, Events: []DeliveryEvent{}, Occasion: fmt.Sprintf("%x", d.Occasion),
		Attempt:    d.Attempt,
		Recipients: []RecipientOutcome{}, Actions: []DeliveryActions{}, FaultyColumn: d.FaultyColumn, Files: []Carried{}}
	if d.ReplyTo != "" {
		out.ReplyTo = strings.Split(d.ReplyTo, "\n")
	}
	for _, x := range rs {
		if x.State == "" && d.State == delivery.Accepted {
			x.State = string(delivery.Accepted) // taken whole: no recipient is kept apart
		}
		out.Recipients = append(out.Recipients, RecipientOutcome{Mailbox: x.Mailbox, State: x.State, Reply: x.Reply})
	}
	facts, err := d.ReadFacts()
	if err != nil {
		return out, err
	}
	for _, f := range facts {
		out.Facts = append(out.Facts, Fact{Name: f.Name, Value: f.Value})
	}
	letter, err := s.st.Letter(ctx, id)
	if err == nil {
		out.Html, out.Text = template.ForOthers(letter.HTML), template.ForOthers(letter.Text)
		if out.Files, err = s.attached(ctx, letter); err != nil {
			return out, err
		}
		if out.Template, err = s.writtenBy(ctx, letter); err != nil {
			return out, err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	events, err := s.st.DeliveryEvents(ctx, d)
	if err != nil {
		return out, err
	}
	for i := range events {
		out.Events = append(out.Events, toDeliveryEvents(&events[i], s.Zone)...)
	}
	out.Actions = append(out.Actions, actions(d)...)
	from, domain, _, err := s.e.From(ctx, d)
	if err != nil {
		return out, err
	}
	name := from.String()
	out.From = &name
	out.MessageId = delivery.MessageID(out.Occasion, d.Attempt, domain)
	return out, nil
}

// actions are what a person may decide about a delivery.
func actions(d *store.Delivery) (out []DeliveryActions) {
	switch d.State {
	case delivery.Held:
		out = append(out, DeliveryActionsApprove, DeliveryActionsDrop)
	case delivery.Incomplete:
		out = append(out, DeliveryActionsDrop)
	}
	switch {
	case d.Decision == "left":
	case delivery.Resendable(d.State):
		if d.State == delivery.InDoubt {
			out = append(out, DeliveryActionsItWent)
		}
		out = append(out, DeliveryActionsSendAgain, DeliveryActionsLeaveIt)
	}
	return out
}

// deliveryWords say what has happened as an email became what it is.
var deliveryWords = map[delivery.State]string{
	delivery.Queued: "fell due, queued", delivery.Sending: "handing over", delivery.Accepted: "handed over, accepted",
	delivery.Deferred: "deferred", delivery.Failed: "refused", delivery.InDoubt: "in doubt", delivery.Skipped: "skipped",
	delivery.Incomplete: "fell due, incomplete", delivery.Missed: "missed", delivery.Held: "held",
}

// toDeliveryEvents tells an event; one that stands for the handing over too is two.
func toDeliveryEvents(ev *store.Event, zone *time.Location) (list []DeliveryEvent) {
	var d struct {
		Reason   json.RawMessage `json:"reason"`
		Reply    string          `json:"reply"`
		Decision string          `json:"decision"`
		Try      int             `json:"try"`
		NextTry  *time.Time      `json:"nextTry"`
		Again    bool            `json:"again"`
		Left     string          `json:"left"`
		Sending  *time.Time      `json:"sending"`
	}
	_ = json.Unmarshal([]byte(ev.Detail), &d)
	st := delivery.State(strings.TrimPrefix(ev.Kind, store.EventDelivery))
	what := deliveryWords[st]
	switch d.Decision {
	case string(engine.ItWent):
		what = "said to have gone"
	case string(engine.SendAgain):
		what = "sent again"
	case string(engine.LeaveIt):
		what = "left as it is"
	}
	if d.Again && st == delivery.Queued {
		what = "checked again, queued"
	}
	var said string
	if json.Unmarshal(d.Reason, &said) != nil { // older events hold a sentence
		said = reason.Decode(string(d.Reason)).Words()
	}
	if said != "" && st != delivery.Queued && st != delivery.Accepted {
		what += ": " + said
	}
	if d.NextTry != nil {
		what += ", next try " + d.NextTry.In(zone).Format("Mon 2 Jan 15:04")
	}
	out := DeliveryEvent{At: ev.At, What: what, Actor: ev.Actor}
	if d.Reply != "" {
		out.Reply = &d.Reply
	}
	if d.Sending != nil {
		list = append(list, DeliveryEvent{At: *d.Sending, What: deliveryWords[delivery.Sending], Actor: ev.Actor})
	}
	return append(list, out)
}

// attached lists a letter's attachments.
func (s *Server) attached(ctx context.Context, letter *store.Letter) ([]Carried, error) {
	out := []Carried{}
	var names []string
	for _, f := range letter.Carried {
		names = append(names, f.File)
	}
	sizes, err := s.st.FileSizes(ctx, names)
	for _, f := range letter.Carried {
		if !f.Inline {
			out = append(out, Carried{Name: f.Name, Type: f.Type, File: f.File, Size: int(sizes[f.File])})
		}
	}
	return out, err
}

// GetMessage implements StrictServerInterface.
func (s *Server) GetMessage(ctx context.Context, r GetMessageRequestObject) (GetMessageResponseObject, error) {
	id, err := parseID(r.Delivery)
	if err != nil {
		return nil, err
	}
	d, err := s.st.Delivery(ctx, id)
	if err != nil {
		return nil, err
	}
	letter, err := s.st.Letter(ctx, id)
	if err != nil {
		return nil, err
	}
	m, err := s.e.Message(ctx, d, letter, recipients(d))
	if err != nil {
		return nil, err
	}
	raw, err := mail.Compose(m)
	raw = stopLinks.Conceal(raw)
	return GetMessage200Messagerfc822Response{Body: bytes.NewReader(raw), ContentLength: int64(len(raw))}, err
}

// Decide implements StrictServerInterface.
func (s *Server) Decide(ctx context.Context, r DecideRequestObject) (DecideResponseObject, error) {
	id, err := parseID(r.Delivery)
	if err != nil {
		return nil, err
	}
	if _, err := s.e.Decide(ctx, id, engine.Decision(r.Body.Decision), person(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.delivery(ctx, id)
	return Decide200JSONResponse(out), err
}

// comingLines is how many emails to come are shown of an address.
const comingLines = 200

// GetComing implements StrictServerInterface.
func (s *Server) GetComing(ctx context.Context, r GetComingRequestObject) (GetComingResponseObject, error) {
	out := GetComing200JSONResponse{Lines: []ComingLine{}}
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	find := strings.ToLower(strings.TrimSpace(r.Params.To))
	for _, sh := range sheets {
		f, err := s.e.Forecast(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		rules, err := s.ruleNames(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		out.Partial = out.Partial || f.Partial
		add := func(list []engine.Coming, left bool) {
			for _, c := range list {
				to := strings.Join(c.To, ", ")
				if !strings.Contains(strings.ToLower(to), find) {
					continue
				}
				if !left {
					out.Total++
				}
				out.Lines = append(out.Lines, ComingLine{At: c.At, Sheet: sh.Name, SheetId: sh.ID, Rule: rules[c.Rule].Name,
					RuleId: c.Rule, Letter: rules[c.Rule].Letter,
					Row: c.Row, RowId: c.RowID, Rows: c.Rows, Occasion: c.Occasion.String(), To: to, Subject: c.Subject,
					Incomplete: c.Incomplete, Left: left})
			}
		}
		add(f.Coming, false)
		add(f.Left, true)
	}
	slices.SortStableFunc(out.Lines, func(a, b ComingLine) int { return a.At.Compare(b.At) })
	out.Lines = out.Lines[:min(len(out.Lines), comingLines)]
	return out, nil
}

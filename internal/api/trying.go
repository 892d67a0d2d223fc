package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// PickTestRows implements StrictServerInterface.
func (s *Server) PickTestRows(ctx context.Context, r PickTestRowsRequestObject) (PickTestRowsResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	if r.Params.Rule != nil {
		out, err := s.wordings(ctx, core, *r.Params.Rule)
		return PickTestRows200JSONResponse(out), err
	}
	t, err := s.letter(ctx, r.Sheet, core, r.Body)
	if err != nil {
		return nil, err
	}
	picked, err := s.e.Differing(ctx, r.Sheet, t)
	if err != nil {
		return nil, err
	}
	out := PickTestRows200JSONResponse{}
	for _, p := range picked {
		name, err := s.rowName(ctx, core, p.Row)
		if err != nil {
			return nil, err
		}
		out = append(out, TryRow{Row: store.RowID(p.Row), Name: &name, Why: &p.Why})
	}
	return out, nil
}

// wordings gives a row for each template in whose words a rule writes.
func (s *Server) wordings(ctx context.Context, core *sheet.Sheet, rule string) ([]TryRow, error) {
	picked, err := s.e.Wordings(ctx, core.ID, rule)
	if err != nil {
		return nil, err
	}
	out := []TryRow{}
	for _, w := range picked {
		row, err := s.rowName(ctx, core, w.Row)
		if err != nil {
			return nil, err
		}
		name, err := s.st.TemplateName(ctx, w.Template)
		if err != nil {
			return nil, err
		}
		out = append(out, TryRow{Row: store.RowID(w.Row), Name: &row, Template: &w.Template,
			Why: &[]string{"in the words of " + name}})
	}
	return out, nil
}

func (s *Server) rowName(ctx context.Context, core *sheet.Sheet, id int64) (string, error) {
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return "", err
	}
	row, err := rec.Core(core)
	if err != nil {
		return "", err
	}
	return core.RowName(row), nil
}

// SendTest implements StrictServerInterface. The emails go to the person who asks, or to
// colleagues who may sign in, and to nobody else; they are no occasions and stand in no ledger.
func (s *Server) SendTest(ctx context.Context, r SendTestRequestObject) (SendTestResponseObject, error) {
	rec, err := s.st.Sheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	trial := engine.Trial{Sheet: rec, By: person(ctx)}
	if trial.To, err = s.testers(ctx, r.Body.To); err != nil {
		return nil, err
	}
	if r.Body.Saved != nil && *r.Body.Saved != "" {
		kept, err := s.ownTemplate(ctx, r.Sheet, *r.Body.Saved)
		if err != nil {
			return nil, err
		}
		r.Body.Template.ID, r.Body.Template.Version = kept.ID, kept.Version
	}
	others := slices.ContainsFunc(trial.To, func(p store.Person) bool { return p.ID != trial.By.ID })
	if others && !s.tests.allowN(trial.By.ID, len(r.Body.Rows)) {
		return nil, problem(http.StatusTooManyRequests, fmt.Sprintf(
			"You may send %d test emails an hour to others. Send this to yourself, or wait.", testsAnHour))
	}
	out := SendTest200JSONResponse{To: []string{}, Subjects: []string{}}
	for _, p := range trial.To {
		out.To = append(out.To, p.Name)
	}
	for _, row := range r.Body.Rows {
		if trial.Row, err = parseID(row.Row); err != nil {
			return nil, err
		}
		if trial.Why = nil; row.Why != nil {
			trial.Why = *row.Why
		}
		tried := &r.Body.Template
		if row.Template != nil {
			kept, err := s.ownTemplate(ctx, r.Sheet, *row.Template)
			if err != nil {
				return nil, err
			}
			if tried, err = kept.Core(); err != nil {
				return nil, err
			}
		}
		if trial.Template, err = s.letter(ctx, r.Sheet, core, tried); err != nil {
			return nil, err
		}
		sent, err := s.e.Test(ctx, trial)
		if err != nil {
			return nil, err
		}
		out.Subjects = append(out.Subjects, sent.Subject)
	}
	return out, nil
}

// ownTemplate finds a template of a sheet.
func (s *Server) ownTemplate(ctx context.Context, sheetID, id string) (*store.Template, error) {
	t, err := s.st.Template(ctx, id)
	if err == nil && t.SheetID != sheetID {
		err = store.ErrNotFound
	}
	return t, err
}

// testers finds the colleagues whom a test goes to; oneself where none is named.
func (s *Server) testers(ctx context.Context, emails *[]string) ([]store.Person, error) {
	me := person(ctx)
	if emails == nil || len(*emails) == 0 {
		return []store.Person{*me}, nil
	}
	people, err := s.st.People(ctx)
	if err != nil {
		return nil, err
	}
	var out []store.Person
	for _, email := range *emails {
		i := slices.IndexFunc(people, func(p store.Person) bool { return strings.EqualFold(p.Email, email) && !p.Out() })
		if i < 0 {
			return nil,
				&engine.Refusal{Field: "/to",
					Message: "a test goes to colleagues who may sign in; one of these may not, or not any more"}
		}
		out = append(out, people[i])
	}
	return out, nil
}

// testLine is a test email's line in the log.
func testLine(t *store.TestEmail, sheets map[string]string) LogLine {
	yes := true
	return LogLine{Id: store.RowID(t.ID), At: t.SentAt, State: DeliveryStateAccepted, Kind: MarkKindAccepted, Rule: "",
		Sheet: sheets[t.SheetID], SheetId: t.SheetID, Row: t.RowName, RowId: store.RowID(t.RowID),
		To: strings.Join(t.Recipients, ", "), Subject: t.Subject, Outcome: "test of " + t.TemplateName + ", sent by " +
			t.SentBy, Test: &yes}
}

func (s *Server) testEmail(ctx context.Context, id string) (*store.TestEmail, *store.Letter, error) {
	n, err := parseID(id)
	if err != nil {
		return nil, nil, err
	}
	return s.st.TestEmail(ctx, n)
}

// GetTest implements StrictServerInterface.
func (s *Server) GetTest(ctx context.Context, r GetTestRequestObject) (GetTestResponseObject, error) {
	t, letter, err := s.testEmail(ctx, r.Test)
	if err != nil {
		return nil, err
	}
	out := GetTest200JSONResponse{Id: r.Test, At: t.SentAt, By: t.SentBy, To: t.Recipients, Subject: t.Subject,
		Sheet: t.SheetID, Row: store.RowID(t.RowID), RowName: t.RowName,
		Why: t.Why, Template: WrittenBy{Template: t.TemplateID, Name: t.TemplateName, Version: int(t.Version)},
		Html: letter.HTML, Text: letter.Text, MessageId: t.MessageID}
	out.Files, err = s.attached(ctx, letter)
	return out, err
}

// GetTestMessage implements StrictServerInterface.
func (s *Server) GetTestMessage(ctx context.Context,
	r GetTestMessageRequestObject) (GetTestMessageResponseObject, error) {
	t, letter, err := s.testEmail(ctx, r.Test)
	if err != nil {
		return nil, err
	}
	m, err := s.e.TestMessage(ctx, t, letter)
	if err != nil {
		return nil, err
	}
	raw, err := mail.Compose(m)
	return GetTestMessage200Messagerfc822Response{Body: bytes.NewReader(raw), ContentLength: int64(len(raw))}, err
}

// writtenBy names the template whose words a letter has.
func (s *Server) writtenBy(ctx context.Context, l *store.Letter) (*WrittenBy, error) {
	if l.By.TemplateID == "" {
		return nil, nil
	}
	name, err := s.st.TemplateName(ctx, l.By.TemplateID)
	if err != nil {
		return nil, err
	}
	return &WrittenBy{Template: l.By.TemplateID, Name: name, Version: int(l.By.Version)}, nil
}

// testState asks the log for test emails alone.
const testState = "test"

// logPage is a page of the log, deliveries and test emails.
type logPage struct {
	lines []LogLine
	ds    []store.Delivery // of those lines that are no test emails
	next  string           // the cursor for more: those of the two behind each other
	back  time.Time        // to where it has been looked through, where there is more
}

// logPage gives a page of the log, the newest first.
func (s *Server) logPage(ctx context.Context, f store.LogFilter, cursor string, limit int) (out logPage, err error) {
	after, testsAfter, _ := strings.Cut(cursor, "~")
	alone := slices.Contains(f.States, testState)
	var page store.Page
	if alone {
		f.States = nil
	} else if page, err = s.st.Log(ctx, f, after, limit); err != nil {
		return out, err
	}
	tests, err := s.st.TestLog(ctx, f, testsAfter, limit+1)
	if err != nil {
		return out, err
	}
	// What is older than what has been looked through comes with a later page.
	whole := len(tests)
	for page.Next != "" && whole > 0 && tests[whole-1].SentAt.Before(page.Back) {
		whole--
	}
	later := len(tests) > whole
	tests = tests[:whole]
	ds := page.Lines
	told, err := s.logLines(ctx, ds)
	if err != nil {
		return out, err
	}
	sheets, err := s.sheetNames(ctx)
	if err != nil {
		return out, err
	}
	i, k := 0, 0
	for len(out.lines) < limit && (i < len(ds) || k < len(tests)) {
		if k == len(tests) || i < len(ds) && !ds[i].DueAt.Before(tests[k].SentAt) {
			out.lines, after = append(out.lines, told[i]), store.LogCursor(&ds[i])
			i++
			continue
		}
		out.lines, testsAfter = append(out.lines, testLine(&tests[k], sheets)), store.RowID(tests[k].ID)
		k++
	}
	if i == len(ds) && page.Next != "" {
		after, out.back = page.Next, page.Back
	}
	if i < len(ds) || page.Next != "" || k < len(tests) || later {
		out.next = after + "~" + testsAfter
	}
	out.ds = ds[:i]
	return out, nil
}

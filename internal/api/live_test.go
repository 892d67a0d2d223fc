package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/database/dbtest"
	"nivot/internal/demo"
	"nivot/internal/engine"
	"nivot/internal/practice"
	"nivot/internal/store"
)

// museum is the whole program in one process: the API, the engine at work, the
// practice clock and the practice mail server. It begins on Monday 15 March
// 2027 at 08:40 in London.
type museum struct {
	*site
	e     *engine.Engine
	clock *demo.Clock
	admin *http.Client
	co    *http.Client
}

func newMuseum(t *testing.T) *museum {
	t.Helper()
	return museumBy(t, time.Now)
}

// museumBy is a museum whose practice clock ticks with another one.
func museumBy(t *testing.T, wall engine.Clock) *museum {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	dsn := dbtest.Migrated(t)
	st, err := store.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	clock, err := demo.OpenClock(ctx, st, wall, time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC), false)
	if err != nil {
		t.Fatal(err)
	}
	smtp := practice.New(func(ctx context.Context, m *practice.Message) error {
		return st.AddPracticeMessage(ctx, &store.PracticeMessage{ReceivedAt: clock.Now(), EnvelopeFrom: m.From,
			EnvelopeTo: strings.Join(m.To, "\n"),
			Subject:    m.Subject, MessageID: m.MessageID, Raw: m.Raw})
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = smtp.Serve(l) }()
	key, err := engine.NewKey(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(st, clock.Now, engine.Options{Poll: 20 * time.Millisecond, Lease: 3 * time.Second, Key: key,
		PublicURL: "http://127.0.0.1:8420"})
	clock.Use(e)
	london, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	h, err := New(Options{Engine: e, Wall: time.Now, Clock: clock, Key: key, Zone: london,
		PublicURL: "http://127.0.0.1:8420",
		Web:       fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}}, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	m := &museum{e: e, site: &site{t: t, h: h, st: st, srv: httptest.NewServer(h), dsn: dsn}, clock: clock}
	done := make(chan struct{}, 2)
	go func() { _ = e.Run(ctx); done <- struct{}{} }()
	go func() { h.Run(ctx); done <- struct{}{} }()
	t.Cleanup(func() { <-done; <-done; smtp.Close(); st.Close() })
	t.Cleanup(cancel)
	t.Cleanup(m.srv.CloseClientConnections)
	m.staff()
	m.admin, m.co = m.as(store.Administrator), m.as(store.Coordinator)
	var sender Sender
	m.want(m.admin, "POST", "/setup/senders",
		fmt.Sprintf(
			`{"name":"Loans desk","address":"loans@marrowby.example","host":"127.0.0.1","port":%d,"security":"none"}`,
			l.Addr().(*net.TCPAddr).Port), 201, &sender)
	return m
}

// want calls the API and reads its answer, which is to have a status.
func (s *site) want(c *http.Client, method, path, data string, status int, out any) {
	s.t.Helper()
	res := s.call(c, method, "/api"+path, data)
	text := body(res)
	if res.StatusCode != status {
		s.t.Fatalf("%s %s %s: %d, want %d: %s", method, path, data, res.StatusCode, status, text)
	}
	if out != nil {
		if err := json.Unmarshal([]byte(text), out); err != nil {
			s.t.Fatalf("%s %s: %v: %s", method, path, err, text)
		}
	}
}

// refused calls the API and wants it refused with words.
func (s *site) refused(c *http.Client, method, path, data string, status int, words string) {
	s.t.Helper()
	res := s.call(c, method, "/api"+path, data)
	if text := body(res); res.StatusCode != status || !strings.Contains(text, words) {
		s.t.Errorf("%s %s %s: %d %s, want %d and %q", method, path, data, res.StatusCode, text, status, words)
	}
}

// until plays the practice clock forward.
func (m *museum) until(at string) {
	m.t.Helper()
	m.want(m.admin, "POST", "/clock", fmt.Sprintf(`{"to":"instant","at":%q}`, at), 200, nil)
}

func (m *museum) rulesOf(sheet string) (out []Rule) {
	m.t.Helper()
	m.want(m.co, "GET", "/sheets/"+sheet+"/rules", "", 200, &out)
	return out
}

func (m *museum) log(query string) (out LogPage) {
	m.t.Helper()
	m.want(m.co, "GET", "/log?"+query, "", 200, &out)
	return out
}

// A rule from its first words to its last email: what it would do before it is
// saved, what it does, and why for each row.
func TestRuleOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	rules := m.rulesOf(sh.ID)
	if len(rules) != 2 || rules[0].Letter != "A" || rules[1].Letter != "B" || rules[0].State != "draft" ||
		rules[0].NextAt != nil {
		t.Fatalf("%+v", rules)
	}
	raw := jsonOf(rules[0].Body)
	var eff Effect
	m.want(m.co, "POST", at+"/rules/effect", `{"body":`+raw+`}`, 200, &eff)
	if eff.Problem != nil || eff.Rows != 4 || eff.Total != 5 || eff.Emails == 0 || len(eff.First) == 0 ||
		eff.First[0].Row != "LN-0501" {
		t.Errorf("%+v", eff)
	}
	if len(eff.Days) != 60 || eff.Days[0].Day != "2027-03-15" {
		t.Errorf("%+v", eff.Days)
	}
	var said RuleSaid
	m.want(m.co, "POST", at+"/rules/sentence", `{"body":`+raw+`}`, 200, &said)
	if text := rule.Text(said.Sentence); len(said.Faults) > 0 || len(said.Rounds) > 0 ||
		!strings.HasPrefix(text,
			"14 and 7 days before and 1 working day before return due at 09:00, for rows where state is out or extended, write ") {
		t.Errorf("%s %+v", text, said.Faults)
	}
	// A rule of which nothing is said yet has a sentence of blanks, and says what is missing; a schedule says when it
	// comes round.
	m.want(m.co, "POST", at+"/rules/sentence", `{"body":{"name":"","trigger":{"kind":""},"send":[],"to":[]}}`, 200, &said)
	if text := rule.Text(said.Sentence); text != "When …, write … to …." || len(said.Faults) != 4 ||
		said.Faults[1].Field != "/trigger/kind" {
		t.Errorf("%s %+v", text, said.Faults)
	}
	m.want(m.co, "POST", at+"/rules/sentence",
		`{"body":{"name":"","trigger":{"kind":"schedule","start":"2027-03-20T09:00","rrule":"FREQ=MONTHLY;BYMONTHDAY=-1"},
		"send":[],"to":[],"window":{"workingDays":true},"shift":"earlier"}}`, 200, &said)
	if len(said.Rounds) != 10 || said.Rounds[1].At.Format(time.DateOnly) != "2027-04-30" ||
		said.Rounds[4].At.Format(time.DateOnly) != "2027-07-30" || said.Rounds[4].Unmoved == nil {
		t.Errorf("%+v", said.Rounds)
	}
	m.want(m.co, "POST", at+"/rules/effect",
		`{"body":{"name":"","trigger":{"kind":"date","column":"","offsets":[]},"send":[],"to":[]}}`, 200, &eff)
	if eff.Problem == nil || eff.Problem.Field == "" || eff.Problem.Message == "" || eff.Rows != 5 {
		t.Errorf("%+v", eff)
	}
	for data, want := range map[string]string{
		`{"body":{"name":"","trigger":{"kind":"date","offsets":[]},"send":[],"to":[]}}`:                                     `"field":"/body/trigger/column"`,
		`{"body":{"name":"","trigger":{"kind":"date","column":"c6","offsets":[{"n":1,"unit":"moons"}]},"send":[],"to":[]}}`: `"status":422`,
		`{"body":{"name":"","trigger":{"kind":"nightly"},"send":[],"to":[]}}`:                                               "nightly",
	} {
		m.refused(m.co, "POST", at+"/rules/effect", data, 422, want)
	}
	var why Explanation
	m.want(m.co, "POST", at+"/rules/explain", `{"row":"3","body":`+raw+`}`, 200, &why)
	if why.Row != "LN-0503" || len(why.Clauses) < 3 || !strings.Contains(jsonOf(why), "contact email") {
		t.Errorf("%+v", why)
	}
	m.refused(m.co, "POST", at+"/rules/explain", `{"row":"77","body":`+raw+`}`, 404, "not there")
	m.refused(m.co, "POST", at+"/rules", `{"body":`+strings.Replace(raw, `"Return reminder"`, `""`, 1)+`}`, 422, "/name")

	var on Rule
	m.want(m.co, "PUT", at+"/rules/"+rules[0].Id+"/state", `{"state":"on"}`, 200, &on)
	if on.State != "on" {
		t.Errorf("%+v", on)
	}
	m.until("2027-03-15T08:41:00Z")
	m.want(m.co, "GET", at+"/rules/"+on.Id, "", 200, &on)
	if on.NextAt == nil || on.NextAt.UTC().Format(time.RFC3339) != "2027-03-15T09:00:00Z" || on.NextRows != 3 {
		t.Errorf("next at %v for %d rows", on.NextAt, on.NextRows)
	}
	var sheets []Sheet
	m.want(m.co, "GET", "/sheets", "", 200, &sheets)
	if f := sheets[0].Figures; len(sheets) != 1 || f.Rows != 5 || f.RulesOn != 1 || f.Today != 2 || f.NextAt == nil ||
		f.NextPeople != 4 {
		t.Errorf("%+v", f)
	}
	m.want(m.admin, "POST", "/clock", `{"to":"next"}`, 200, nil)
	page := m.log("")
	if len(page.Lines) != 3 || page.Counts["accepted"] != 2 || page.Counts["incomplete"] != 1 {
		t.Fatalf("%+v", page)
	}
	m.want(m.co, "GET", at+"/rules/"+on.Id, "", 200, &on)
	if on.Counts["accepted"] != 2 {
		t.Errorf("%v", on.Counts)
	}
	// A name alone may change while it is on; an old version may not be saved over.
	named := strings.Replace(raw, "Return reminder", "Reminder", 1)
	m.want(m.co, "PUT", at+"/rules/"+on.Id, fmt.Sprintf(`{"version":%d,"body":%s}`, on.Version, named), 200, &on)
	m.refused(m.co, "PUT", at+"/rules/"+on.Id, fmt.Sprintf(`{"version":%d,"body":%s}`, on.Version-1, named), 409,
		"look at both")
	m.refused(m.co, "PUT", "/sheets/elsewhere/rules/"+on.Id, `{"body":`+named+`}`, 404, "not there")
	// Who comes later is told which version stands now, and saves over it knowingly.
	var problem Problem
	m.want(m.co, "PUT", at+"/rules/"+on.Id, fmt.Sprintf(`{"version":%d,"body":%s}`, on.Version-1, named), 409, &problem)
	if problem.Newer == nil || *problem.Newer != on.Version {
		t.Errorf("%+v", problem)
	}
	m.want(m.co, "PUT", at+"/rules/"+on.Id+"/state", `{"state":"paused"}`, 200, &on)
	m.until("2027-03-23T10:00:00Z")
	if page := m.log(""); len(page.Lines) != 3 {
		t.Errorf("a paused rule went on: %+v", page.Lines)
	}
	// What passed meanwhile is a batch that waits for somebody, asked for by name.
	m.want(m.co, "PUT", at+"/rules/"+on.Id+"/state", `{"state":"on"}`, 200, &on)
	m.until("2027-03-23T10:01:00Z")
	var n IncludePast200JSONResponse
	m.want(m.co, "POST", at+"/rules/"+on.Id+"/past", "", 200, &n)
	held := m.log("state=held")
	if n.Emails == 0 || len(held.Lines) != n.Emails {
		t.Fatalf("%d past, %d held", n.Emails, len(held.Lines))
	}
	var released ReleaseRule200JSONResponse
	m.want(m.co, "POST", at+"/rules/"+on.Id+"/release", `{"approve":true}`, 200, &released)
	m.until("2027-03-23T10:02:00Z")
	if page := m.log("state=held"); released.Emails != n.Emails || len(page.Lines) != 0 {
		t.Errorf("%d released, %d still held", released.Emails, len(page.Lines))
	}
	m.want(m.co, "DELETE", at+"/rules/"+on.Id, "", 204, nil)
	m.refused(m.co, "GET", at+"/rules/"+on.Id, "", 404, "not there")
	if page := m.log(""); len(page.Lines) < 4 || page.Lines[0].Rule != "Reminder" {
		t.Errorf("a deleted rule's emails are not in the log by its name: %+v", page.Lines)
	}
}

// A rule that is sent by hand goes once for each batch.
func TestByHandOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	send := m.rulesOf(sh.ID)[0].Body.Send
	var r Rule
	m.want(m.co, "POST", at+"/rules", `{"body":{"name":"Word","trigger":{"kind":"by-hand"},"send":`+jsonOf(send)+
		`,"to":[{"column":"c4"}]}}`, 201, &r)
	m.refused(m.co, "POST", at+"/rules/"+r.Id+"/send", `{"batch":"b1","rows":["1"]}`, 422, "is not on")
	m.want(m.co, "PUT", at+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, &r)
	for _, k := range []struct {
		rows string
		n    int
	}{{`["1","2"]`, 2}, {`["1","2"]`, 0}, {`["2","5"]`, 1}} {
		var out SendByHand200JSONResponse
		m.want(m.co, "POST", at+"/rules/"+r.Id+"/send", `{"batch":"spring","rows":`+k.rows+`}`, 200, &out)
		if out.Emails != k.n {
			t.Errorf("%s: %d emails, want %d", k.rows, out.Emails, k.n)
		}
	}
	m.until("2027-03-15T08:45:00Z")
	if page := m.log("rule=" + r.Id); page.Counts["accepted"] != 3 {
		t.Errorf("%v", page.Counts)
	}
	m.refused(m.co, "POST", at+"/rules/"+r.Id+"/send", `{"batch":"x","rows":["one"]}`, 404, "not there")
}

// The log: by state, by address, by text, by time, in pages, as CSV; and an
// email with its story, its letter and the message as it went.
func TestLogOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	r := m.rulesOf(sh.ID)[0]
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-19T09:30:00Z")
	all := m.log("")
	if len(all.Lines) != 5 || all.Next != nil || len(all.Days) == 0 {
		t.Fatalf("%+v", all)
	}
	for query, want := range map[string]int{
		"state=accepted": 3, "state=accepted,incomplete": 4, "state=missed": 1, "to=ben@pellgate.example": 2, "to=BEN": 2,
		"text=oak": 2, "row=3": 2, "rule=" + r.Id: 5, "rule=none": 0,
		"sheet=" + sh.ID: 5, "since=2027-03-19": 2, "until=2027-03-16": 3,
	} {
		if page := m.log(query); len(page.Lines) != want {
			t.Errorf("%s: %d lines, want %d", query, len(page.Lines), want)
		}
	}
	var seen []string
	next := ""
	for range 10 {
		page := m.log("limit=2" + next)
		for _, l := range page.Lines {
			seen = append(seen, l.Id)
		}
		if page.Next == nil {
			break
		}
		next = "&cursor=" + *page.Next
	}
	if len(seen) != 5 || seen[0] != all.Lines[0].Id || seen[4] != all.Lines[4].Id {
		t.Errorf("in pages: %v", seen)
	}
	m.refused(m.co, "GET", "/log?cursor=elsewhere", "", 404, "not there")
	csv := body(m.call(m.co, "GET", "/api/log.csv?state=accepted", ""))
	if lines := strings.Split(strings.TrimSpace(csv), "\n"); len(lines) != 4 || !strings.Contains(lines[1], "@") {
		t.Errorf("%s", csv)
	}
	var d Delivery
	id := m.log("to=ben").Lines[0].Id
	m.want(m.co, "GET", "/deliveries/"+id, "", 200, &d)
	if len(d.To) != 2 || len(d.Cc) != 1 || d.Attempt != 1 || len(d.Events) != 3 ||
		d.Events[0].What != "fell due, queued" || len(d.Actions) != 0 ||
		!strings.Contains(d.Text, "Oak bellows") || len(d.Facts) != 8 || len(d.Recipients) != 3 ||
		d.Recipients[0].State != "accepted" || d.Line.Outcome != "accepted" {
		t.Errorf("%+v", d)
	}
	res := m.call(m.co, "GET", "/api/deliveries/"+id+"/message.eml", "")
	if eml := body(res); res.Header.Get("Content-Type") != "message/rfc822" ||
		!strings.Contains(eml, "Message-ID: <"+strings.Trim(d.MessageId, "<>")+">") ||
		!strings.Contains(eml, "multipart/alternative") {
		t.Errorf("%s %.600s", res.Header, eml)
	}
	m.refused(m.co, "GET", "/deliveries/999999", "", 404, "not there")
	// What waits for an address is mended by an edit, once, and then done with.
	var page PracticePage
	m.want(m.co, "GET", "/practice/messages?find=weathercock", "", 200, &page)
	if page.Total != 1 || page.Messages[0].To[0] == "" {
		t.Fatalf("%+v", page)
	}
	var mail PracticeDetail
	m.want(m.co, "GET", "/practice/messages/"+page.Messages[0].Id, "", 200, &mail)
	if mail.EnvelopeFrom != "loans@marrowby.example" || !strings.Contains(mail.Text, "Tin weathercock") ||
		len(mail.Headers) < 8 || !strings.Contains(mail.Source, "Auto-Submitted: auto-generated") {
		t.Errorf("%+v", mail)
	}
}

// A person decides on what is in doubt, refused or incomplete, from Today.
func TestTodayAndDecisions(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	r := m.rulesOf(sh.ID)[0]
	for row, address := range map[string]string{"1": "ada.drop-after@fenwick-hall.example",
		"2": "ben-refuse@pellgate.example"} {
		m.want(m.co, "PATCH", at+"/rows/"+row, fmt.Sprintf(`{"cells":{"Contact email":%q}}`, address), 200, nil)
	}
	m.want(m.co, "PUT", at+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	var today Today
	m.until("2027-03-15T08:50:00Z")
	m.want(m.co, "GET", "/today", "", 200, &today)
	if today.Coming != 2 || today.People != 3 || today.NextAt == nil || len(today.Lanes) != 1 ||
		len(today.Lanes[0].Marks) != 3 || len(today.Days) != 56 || today.Zone != "Europe/London" {
		t.Errorf("before: %+v", today)
	}
	m.until("2027-03-15T09:30:00Z")
	m.want(m.co, "GET", "/today", "", 200, &today)
	if today.NeedsTotal != 3 || len(today.Needs) != 3 || today.Needs[0].Kind != "in-doubt" ||
		today.Needs[0].Title != "LN-0501" ||
		today.Needs[1].Kind != "failed" || !strings.Contains(today.Needs[1].Text, "there is no such mailbox. The mail server said: 550 5.1.1 no such mailbox here.") ||
		today.Needs[2].Kind != "incomplete" || today.Refused != 1 {
		t.Fatalf("after: %+v", today.Needs)
	}
	doubt, failed, gap := today.Needs[0].Deliveries[0], today.Needs[1].Deliveries[0], today.Needs[2].Deliveries[0]
	var d Delivery
	m.want(m.co, "GET", "/deliveries/"+doubt, "", 200, &d)
	if fmt.Sprint(d.Actions) != "[it-went send-again leave-it]" || d.Line.Outcome != "in doubt" {
		t.Errorf("%v %s", d.Actions, d.Line.Outcome)
	}
	m.want(m.co, "POST", "/deliveries/"+doubt+"/decision", `{"decision":"it-went"}`, 200, &d)
	if d.Line.State != "accepted" || d.Line.Outcome != "accepted, as somebody has said" {
		t.Errorf("%+v", d.Line)
	}
	m.refused(m.co, "POST", "/deliveries/"+doubt+"/decision", `{"decision":"it-went"}`, 422, "in doubt")
	m.refused(m.co, "POST", "/deliveries/"+doubt+"/decision", `{"decision":"perhaps"}`, 422, "")
	m.want(m.co, "PATCH", at+"/rows/2", `{"cells":{"Contact email":"ben@pellgate.example"}}`, 200, nil)
	m.want(m.co, "POST", "/deliveries/"+failed+"/decision", `{"decision":"send-again"}`, 200, &d)
	m.until("2027-03-15T09:31:00Z")
	m.want(m.co, "GET", "/deliveries/"+failed, "", 200, &d)
	if d.Line.Outcome != "accepted, sent again once" || d.Attempt != 2 ||
		!strings.Contains(jsonOf(d.Events), "sent again") {
		t.Errorf("%+v", d.Line)
	}
	m.want(m.co, "POST", "/deliveries/"+gap+"/decision", `{"decision":"leave-it"}`, 200, &d)
	m.want(m.co, "GET", "/today", "", 200, &today)
	if today.NeedsTotal != 0 || today.Out != 2 {
		t.Errorf("%d needs, %d out", today.NeedsTotal, today.Out)
	}
	// The lever holds, and lets go.
	m.want(m.co, "PUT", "/sending", `{"on":false}`, 200, nil)
	m.until("2027-03-19T09:30:00Z")
	m.want(m.co, "GET", "/today", "", 200, &today)
	if today.NeedsTotal != 2 || len(today.Needs) != 2 || today.Needs[0].Title != "1 email is held" ||
		!strings.Contains(today.Needs[0].Text, "switched off") {
		t.Errorf("held: %+v", today.Needs)
	}
	m.want(m.co, "PUT", "/sending", `{"on":true}`, 200, nil)
	m.until("2027-03-19T09:31:00Z")
	m.want(m.co, "GET", "/today", "", 200, &today)
	if today.NeedsTotal != 1 || today.Needs[0].Kind != "incomplete" {
		t.Errorf("let go: %+v", today.Needs)
	}
}

// Templates: read, written, previewed row by row, checked on all rows, tried.
func TestTemplatesOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	if len(list) != 2 || list[0].Name != "Insurance" || len(list[0].UsedBy) != 1 || list[0].UsedBy[0].Letter != "B" ||
		list[1].Line != "[Object] is due back on [Return due: weekday]" {
		t.Fatalf("%+v", list)
	}
	whole := jsonOf(list[1].Content)
	var p Preview
	m.want(m.co, "POST", at+"/preview", `{"index":1,"template":`+whole+`}`, 200, &p)
	if p.Row != "LN-0502" || p.Total != 5 || p.Subject != "Oak bellows is due back on Monday 22 March" ||
		!strings.Contains(p.Text, "Dear Ben,") || len(p.Values) == 0 {
		t.Errorf("%+v", p)
	}
	m.want(m.co, "POST", at+"/preview", `{"index":1,"only":{"warned":true},"template":`+whole+`}`, 200, &p)
	if p.Total != 2 || p.Row != "LN-0504" || fmt.Sprint(p.Missing) != "[Return due]" {
		t.Errorf("with gaps alone: %+v", p)
	}
	m.want(m.co, "POST", at+"/preview", `{"row":"5","template":`+whole+`}`, 200, &p)
	if p.Row != "LN-0505" || p.Index != 4 {
		t.Errorf("%+v", p)
	}
	var checks Checks
	m.want(m.co, "POST", at+"/checks", whole, 200, &checks)
	if checks.Rows != 5 || checks.Good != 3 || len(checks.Checks) != 2 || checks.Checks[0].Level != "stop" ||
		checks.Checks[0].Examples[0].Name != "LN-0503" ||
		checks.Checks[1].Level != "warn" || checks.Checks[1].Examples[0].Name != "LN-0504" {
		t.Errorf("%+v", checks)
	}
	var sent TestsSent
	m.want(m.co, "POST", at+"/test-email", `{"rows":[{"row":"2"}],"template":`+whole+`}`, 200, &sent)
	if len(sent.To) != 1 || fmt.Sprint(sent.Subjects) != "[Test: Oak bellows is due back on Monday 22 March]" {
		t.Errorf("%+v", sent)
	}
	var mails PracticePage
	m.want(m.co, "GET", "/practice/messages", "", 200, &mails)
	if mails.Total != 1 || mails.Messages[0].To[0] != "coordinator@marrowby.example" {
		t.Errorf("%+v", mails)
	}
	if page := m.log(""); len(page.Lines) != 1 || page.Lines[0].Test == nil || len(page.Counts) != 0 {
		t.Errorf("a test stands in the ledger, or not in the log: %+v", page)
	}
	var made Template
	m.want(m.co, "POST", at+"/templates", `{"template":`+strings.Replace(whole, `"Return"`, `"Second"`, 1)+`}`, 201,
		&made)
	m.refused(m.co, "POST", at+"/templates", `{"template":`+whole+`}`, 422, "name")
	m.refused(m.co, "POST", at+"/templates", `{"template":`+strings.Replace(whole, `"column":"c2"`, `"column":"c99"`, 1)+
		`}`, 422, "column")
	m.want(m.co, "PUT", at+"/templates/"+made.Id, fmt.Sprintf(`{"version":%d,"template":%s}`, made.Version,
		strings.Replace(whole, `"Return"`, `"Third"`, 1)), 200, &made)
	if made.Name != "Third" || made.Version != 2 {
		t.Errorf("%+v", made)
	}
	m.refused(m.co, "PUT", at+"/templates/"+made.Id, `{"version":1,"template":`+strings.Replace(whole, `"Return"`,
		`"Fourth"`, 1)+`}`, 409, "look at both")
	m.refused(m.co, "DELETE", at+"/templates/"+list[1].Id, "", 422, "used by A (Return reminder)")
	m.want(m.co, "DELETE", at+"/templates/"+made.Id, "", 204, nil)
	m.refused(m.co, "GET", at+"/templates/"+made.Id, "", 404, "not there")
}

// A page that listens hears what others do, who did it, and after a gap that
// it is to ask everything again.
func TestEventsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	listen := func(after string) (*bufio.Scanner, func()) {
		req, _ := http.NewRequest("GET", m.srv.URL+"/api/events", nil)
		if after != "" {
			req.Header.Set("Last-Event-ID", after)
		}
		res, err := m.co.Do(req)
		if err != nil || res.Header.Get("Content-Type") != "text/event-stream" {
			t.Fatal(err, res)
		}
		return bufio.NewScanner(res.Body), func() { res.Body.Close() }
	}
	data := func(sc *bufio.Scanner, want func(notification) bool) (last string) {
		t.Helper()
		for sc.Scan() {
			if id, ok := strings.CutPrefix(sc.Text(), "id: "); ok {
				last = id
			}
			if text, ok := strings.CutPrefix(sc.Text(), "data: "); ok {
				var c notification
				if err := json.Unmarshal([]byte(text), &c); err != nil {
					t.Fatal(err)
				}
				if want(c) {
					return last
				}
			}
		}
		t.Fatal("the stream ended")
		return ""
	}
	sc, stop := listen("")
	time.Sleep(700 * time.Millisecond) // the broadcaster knows now what is old
	editor := m.as(store.Editor)
	m.want(editor, "PATCH", "/sheets/"+sh.ID+"/rows/2", `{"cells":{"c2":"Oak bellows, mended"}}`, 200, nil)
	last := data(sc, func(c notification) bool {
		return len(c.Rows) == 1 && c.Rows[0] == "2" && c.Actors["2"] == "editor" && c.Sheets[0] == sh.ID
	})
	stop()
	// One that comes back having missed nothing is told nothing at once; one that
	// has is told to ask anew.
	sc, stop = listen("1")
	data(sc, func(c notification) bool { return fmt.Sprint(c.Kinds) == "[everything]" })
	stop()
	sc, stop = listen(last)
	defer stop()
	m.want(editor, "POST", "/sheets/"+sh.ID+"/rows", `{"cells":{"Loan":"LN-0600"}}`, 201, nil)
	data(sc, func(c notification) bool {
		if c.Kinds[0] == "everything" {
			t.Error("told to ask everything again, having missed nothing")
		}
		return fmt.Sprint(c.Kinds) == "[row-added]"
	})
}

// One search goes over sheets, rules, templates, rows and emails.
func TestSearch(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	r := m.rulesOf(sh.ID)[0]
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-15T09:30:00Z")
	for q, want := range map[string]string{
		"": "", "outgoing": "sheet", "REMINDER": "rule", "insur": "rule template", "ln-0504": "row", "oak": "row email",
		"fenwick": "row email", "zebra": "",
	} {
		var found []Found
		m.want(m.co, "GET", "/search?q="+q, "", 200, &found)
		var kinds []string
		for _, f := range found {
			if len(kinds) == 0 || kinds[len(kinds)-1] != string(f.Kind) {
				kinds = append(kinds, string(f.Kind))
			}
			if f.Title == "" || !strings.HasPrefix(f.Path, "/") {
				t.Errorf("%s: %+v", q, f)
			}
		}
		if got := strings.Join(kinds, " "); got != want {
			t.Errorf("%q: %s, want %s", q, got, want)
		}
	}
}

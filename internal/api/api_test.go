package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/database/dbtest"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

func TestMain(m *testing.M) {
	if dsn := os.Getenv(peerDSN); dsn != "" { // this process is a server that a test kills
		if err := runPeer(dsn); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	dbtest.Main(m)
}

// site is the API on a database of its own, with one person of each role.
type site struct {
	t   *testing.T
	h   *Handler
	st  *store.Store
	srv *httptest.Server
	dsn string // the database
}

const password = "weathercock-1790"

func newSite(t *testing.T, people bool) *site {
	t.Helper()
	return siteOn(t, dbtest.Migrated(t), people)
}

// siteOn is a site on a database that is there; there may be several on one.
func siteOn(t *testing.T, dsn string, people bool) *site {
	t.Helper()
	ctx := context.Background()
	st, err := store.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	now := func() time.Time { return time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC) }
	h, err := New(Options{Engine: engine.New(st, now, engine.Options{}), Wall: time.Now,
		PublicURL: "http://127.0.0.1:8420",
		Web:       fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}}, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	s := &site{t: t, h: h, st: st, srv: httptest.NewServer(h), dsn: dsn}
	t.Cleanup(func() { s.srv.Close(); st.Close() })
	if people {
		s.staff()
	}
	return s
}

// staff adds one person of each role, whose passwords cost little to try: tests sign in hundreds of
// times.
func (s *site) staff() {
	s.t.Helper()
	hash := hashAt(password, 64, 1)
	for _, r := range store.Roles {
		if err := s.st.SavePerson(context.Background(), &store.Person{ID: store.NewID(), Name: string(r), Email: string(r) +
			"@marrowby.example", Role: r, PasswordHash: hash,
			CreatedAt: time.Now().UTC()}); err != nil {
			s.t.Fatal(err)
		}
	}
}

// as signs somebody in; "" stays nobody.
func (s *site) as(role store.Role) *http.Client {
	s.t.Helper()
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar}
	if role != "" {
		if res := s.call(c, "POST", "/api/session", fmt.Sprintf(`{"email":"%s@marrowby.example","password":%q}`, role,
			password)); res.StatusCode != 200 {
			s.t.Fatalf("signing in as %s: %d %s", role, res.StatusCode, body(res))
		}
	}
	return c
}

func (s *site) call(c *http.Client, method, path, data string) *http.Response {
	s.t.Helper()
	req, err := http.NewRequest(method, s.srv.URL+path, strings.NewReader(data))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	if data != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := c.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return res
}

func body(res *http.Response) string {
	b, _ := io.ReadAll(res.Body)
	res.Body.Close()
	return string(b)
}

func (s *site) loans() *store.Sheet { return s.bundle("loans") }

func (s *site) bundle(name string) *store.Sheet {
	s.t.Helper()
	b, err := exchange.OpenBundle("../exchange/testdata/" + name)
	if err != nil {
		s.t.Fatal(err)
	}
	rec, err := s.h.s.e.Install(context.Background(), b, false, "test")
	if err != nil {
		s.t.Fatal(err)
	}
	return rec
}

var param = regexp.MustCompile(`\{\w+\}`)

// Every route, as every role and as nobody: who may not gets 401 or 403 before
// anything else is looked at, who may gets neither.
func TestEveryRouteChecksTheRole(t *testing.T) {
	s := newSite(t, true)
	clients := map[store.Role]*http.Client{"": s.as("")}
	for _, r := range store.Roles {
		clients[r] = s.as(r)
	}
	n := 0
	for path, item := range s.h.s.spec.Paths.Map() {
		for method, op := range item.Operations() {
			if op.OperationID == "signOut" || op.OperationID == "streamEvents" {
				continue // one would end the sessions, the other never ends
			}
			need := store.Role(op.Extensions["x-role"].(string))
			for role, c := range clients {
				n++
				res := s.call(c, method, "/api"+param.ReplaceAllString(path, "999"), "")
				text := body(res)
				refused := res.StatusCode == 403 || res.StatusCode == 401 && !strings.Contains(text, "password is not right")
				want := 0
				switch {
				case strings.HasPrefix(path, "/practice/") && role != "" && role != store.Administrator:
					want = 403 // outside the demo
				case need == "nobody" || role != "" && role.May(need):
				case role == "":
					want = 401
				default:
					want = 403
				}
				if want == 0 && refused || want != 0 && res.StatusCode != want {
					t.Errorf("%s %s (%s) as %q: %d, want refusal %d: %s", method, path, need, role, res.StatusCode, want, text)
				}
				if res.StatusCode >= 500 {
					t.Errorf("%s %s as %q: %d %s", method, path, role, res.StatusCode, text)
				}
				if res.StatusCode >= 400 && !strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
					t.Errorf("%s %s: %d without problem details", method, path, res.StatusCode)
				}
			}
		}
	}
	if res := s.call(clients[""], "GET", "/api/events", ""); res.StatusCode != 401 {
		t.Errorf("events as nobody: %d", res.StatusCode)
	}
	if n != 5*(len(s.h.s.operations())-2) {
		t.Errorf("only %d calls", n)
	}
	// No route stands outside the document but these.
	for _, path := range []string{"/healthz", "/readyz", "/", "/sheets", "/api/openapi.json"} {
		if res := s.call(clients[""], "GET", path, ""); res.StatusCode != 200 {
			t.Errorf("%s: %d", path, res.StatusCode)
		}
	}
	if res := s.call(clients[""], "GET", "/api/secret", ""); res.StatusCode != 404 {
		t.Errorf("an unknown path: %d", res.StatusCode)
	}
}

func TestRequestsFromElsewhereAreRefused(t *testing.T) {
	s := newSite(t, true)
	c := s.as(store.Administrator)
	for _, x := range []struct {
		name, site, origin string
		want               int
	}{
		{"another site", "cross-site", "https://elsewhere.example", 403},
		{"a neighbour", "same-site", "http://other.marrowby.example", 403},
		{"nothing told", "", "", 403},
		{"plain HTTP, from elsewhere", "", "http://elsewhere.example", 403},
		{"plain HTTP, a frame without an origin", "", "null", 403},
		{"itself", "same-origin", "", 200},
		{"plain HTTP, from the address that is asked", "", s.srv.URL, 200},
		{"plain HTTP, from the public address behind a proxy", "", "http://127.0.0.1:8420", 200},
	} {
		t.Run(x.name, func(t *testing.T) {
			req, _ := http.NewRequest("PUT", s.srv.URL+"/api/sending", strings.NewReader(`{"on":true}`))
			req.Header.Set("Content-Type", "application/json")
			for name, v := range map[string]string{"Sec-Fetch-Site": x.site, "Origin": x.origin} {
				if v != "" {
					req.Header.Set(name, v)
				}
			}
			res, err := c.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			text := body(res)
			if res.StatusCode != x.want {
				t.Errorf("got %d %s, want %d", res.StatusCode, text, x.want)
			}
			if x.origin == "http://elsewhere.example" && !(strings.Contains(text, "NIVOT_PUBLIC_URL") &&
				strings.Contains(text, x.origin)) {
				t.Errorf("it does not say what to set: %s", text)
			}
		})
	}
}

func TestSecurityHeaders(t *testing.T) {
	s := newSite(t, true)
	res := s.call(s.as(""), "GET", "/", "")
	csp := res.Header.Get("Content-Security-Policy")
	if !strings.Contains(csp, "script-src 'self';") || strings.Contains(csp, "unsafe-eval") ||
		!strings.Contains(csp, "frame-ancestors 'none'") {
		t.Error(csp)
	}
	res = s.call(s.as(""), "POST", "/api/session", fmt.Sprintf(`{"email":"reader@marrowby.example","password":%q}`,
		password))
	cookie := res.Header.Get("Set-Cookie")
	if !strings.Contains(cookie, "HttpOnly") || !strings.Contains(cookie, "SameSite=Strict") {
		t.Error(cookie)
	}
}

func TestPasswordHashes(t *testing.T) {
	if !checkPassword(HashPassword("x"), "x") || checkPassword(HashPassword("x"), "y") || checkPassword("", "") ||
		checkPassword("$argon2id$", "") {
		t.Error("password hashes")
	}
}

// The one-time link of the first start makes the administrator, once.
func TestFirstStart(t *testing.T) {
	s := newSite(t, false)
	link, err := FirstLink(context.Background(), s.st, time.Now(), "")
	if err != nil || link == "" {
		t.Fatal(link, err)
	}
	// A second process that starts prints one of its own; both are good until
	// one of them is used.
	second, err := FirstLink(context.Background(), s.st, time.Now(), "")
	if err != nil {
		t.Fatal(err)
	}
	token := strings.TrimPrefix(link, "/welcome/")
	who := `{"name":"Ines Karne","email":"ines@marrowby.example","password":"weathercock-1790"}`
	if res := s.call(s.as(""), "POST", "/api/links/"+token, strings.Replace(who, "weathercock-1790", "short",
		1)); res.StatusCode != 422 {
		t.Errorf("a short password: %d", res.StatusCode)
	}
	c := s.as("")
	if res := s.call(c, "POST", "/api/links/"+token, who); res.StatusCode != 200 ||
		!strings.Contains(body(res), `"administrator"`) {
		t.Fatal(res.StatusCode)
	}
	if res := s.call(s.as(""), "POST", "/api/links/"+token, who); res.StatusCode != 404 {
		t.Errorf("used again: %d", res.StatusCode)
	}
	if res := s.call(s.as(""), "POST", "/api/links/"+strings.TrimPrefix(second, "/welcome/"),
		strings.Replace(who, "ines@", "eve@", 1)); res.StatusCode != 404 {
		t.Errorf("the other process's: %d", res.StatusCode)
	}
	if link, err := FirstLink(context.Background(), s.st, time.Now(), ""); link != "" || err != nil {
		t.Error("a first-start link after the first start")
	}
	// The first one brings in a second, who is an editor.
	res := s.call(c, "POST", "/api/people", `{"name":"Rosa","email":"rosa@marrowby.example","role":"editor"}`)
	var added struct{ Link string }
	if err := json.Unmarshal([]byte(body(res)), &added); err != nil || added.Link == "" {
		t.Fatal(res.StatusCode, err)
	}
	rosa := s.as("")
	res = s.call(rosa, "POST", "/api/links/"+added.Link[strings.LastIndex(added.Link, "/")+1:],
		strings.NewReplacer("ines@", "rosa@", "Ines Karne", "Rosa Moss").Replace(who))
	if text := body(res); res.StatusCode != 200 || !strings.Contains(text, `"editor"`) {
		t.Error(res.StatusCode, text)
	}
	if res := s.call(rosa, "GET", "/api/people", ""); res.StatusCode != 403 {
		t.Errorf("an editor lists people: %d", res.StatusCode)
	}
}

// Problems name the field at fault.
func TestProblems(t *testing.T) {
	s := newSite(t, true)
	rec := s.loans()
	c := s.as(store.Coordinator)
	rules, err := s.st.Rules(context.Background(), rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range []struct {
		method, path, data string
		status             int
		field, title       string
	}{
		{"PUT", "/sending", `{"on":"yes"}`, 422, "/on", "True or false is wanted here"},
		{"PUT", "/sending", `{`, 400, "", "cannot be read"},
		{"PUT", "/sheets/" + rec.ID + "/rules/" + rules[0].ID, strings.Replace(`{"body":`+rules[0].Body+`}`, `"09:00"`,
			`"9am"`, 1), 422, "/body/trigger/at", "is not a time of day"},
		{"PATCH", "/sheets/" + rec.ID + "/rows/1", `{"cells":{"c99":"x"}}`, 422, "/cells/c99", "The sheet has no column"},
		{"PATCH", "/sheets/" + rec.ID + "/rows/1", `{"cells":{"c2":"x"},"expected":{"c2":"what it was not"}}`, 409,
			"/cells/c2", "has been changed meanwhile"},
		{"PATCH", "/sheets/elsewhere/rows/1", `{"cells":{"c2":"x"}}`, 404, "", "not there"},
		{"GET", "/log?limit=9999", "", 422, "/limit", ""},
		{"POST", "/setup/do-not-email", `{"address":"nobody"}`, 422, "/address", "one email address"},
		{"POST", "/clock", `{"to":"next"}`, 403, "", "administrator"},
	} {
		res := s.call(c, k.method, "/api"+k.path, k.data)
		var p Problem
		text := body(res)
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			t.Errorf("%s: %v %s", k.path, err, text)
			continue
		}
		field := ""
		if p.Field != nil {
			field = *p.Field
		}
		if res.StatusCode != k.status || field != k.field || !strings.Contains(p.Title, k.title) {
			t.Errorf("%s %s: %s", k.path, k.data, text)
		}
	}
	// A row of one sheet cannot be reached by another's address.
	other := s.loans()
	if res := s.call(c, "GET", "/api/sheets/"+other.ID+"/rows/1", ""); res.StatusCode != 404 {
		t.Errorf("another sheet's row: %d", res.StatusCode)
	}
}

// A CSV becomes a sheet: what is found, what is asked, what is made; and again
// by key, first dry.
func TestImport(t *testing.T) {
	s := newSite(t, true)
	c := s.as(store.Coordinator)
	csv := "Loan;Email;Return due\nLN-1;a@b.example;03/04/2027\nLN-2;c@d;05/06/2027\nLN-3;nobody at " +
		"all;05/06/2027\nLN-4;e@f.example;05/06/2027\n"
	send := func(path string, parts map[string]string) (int, string) {
		var b strings.Builder
		w := multipart.NewWriter(&b)
		for k, v := range parts {
			if k == "file" {
				f, _ := w.CreateFormFile("file", "Spring loans.csv")
				_, _ = io.WriteString(f, v)
			} else {
				_ = w.WriteField(k, v)
			}
		}
		w.Close()
		req, _ := http.NewRequest("POST", s.srv.URL+"/api"+path, strings.NewReader(b.String()))
		req.Header.Set("Content-Type", w.FormDataContentType())
		req.Header.Set("Sec-Fetch-Site", "same-origin")
		res, err := c.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, body(res)
	}
	status, text := send("/imports", map[string]string{"file": csv})
	var p ImportPreview
	if err := json.Unmarshal([]byte(text), &p); err != nil || status != 200 {
		t.Fatal(status, text)
	}
	if p.Rows != 4 || p.Key != 0 || p.Address != 1 || !p.Columns[2].AskDay || p.Columns[1].Fit != 3 ||
		p.Columns[1].Misfits[0].Line != 4 || p.Separator != "semicolon" || p.Name != "Spring loans" {
		t.Errorf("%+v", p)
	}
	spec := `{"name":"Spring","zone":"Europe/London","locale":"en-GB","key":0,"address":1,"columns":[{"name":"Loan","type":"text"},{"name":"Email","type":"email"},{"name":"Return due","type":"date","order":"day-month-year"}]}`
	status, text = send("/sheets", map[string]string{"file": csv, "spec": spec})
	var made MakeSheet201JSONResponse
	if err := json.Unmarshal([]byte(text), &made); err != nil || status != 201 || made.Sheet.Figures.Rows != 4 ||
		made.Job != nil {
		t.Fatal(status, text)
	}
	sh := made.Sheet
	if status, text = send("/sheets", map[string]string{"file": "a,b\n1,2,3\n", "spec": spec}); status != 422 ||
		!strings.Contains(text, "Line 2, column 5") {
		t.Error(status, text)
	}
	again := "Loan,Return due\nLN-2,01/07/2027\nLN-1,03/04/2027\nLN-9,02/07/2027\n"
	want := `"doubled":0,"gone":2`
	status, text = send("/sheets/"+sh.Id+"/import/plan", map[string]string{"file": again})
	var plan ImportResult
	if err := json.Unmarshal([]byte(text), &plan); err != nil || status != 200 || !strings.Contains(text, want) ||
		plan.Change != "" || len(plan.Samples) != 1 ||
		jsonOf(
			plan.Samples[0].Changes) != `[{"after":"01/07/2027","before":"05/06/2027","column":"c3","name":"Return due"}]` ||
		jsonOf(plan.GoneNames) != `["LN-3","LN-4"]` {
		t.Errorf("%d %s", status, text)
	}
	status, text = send("/sheets/"+sh.Id+"/import", map[string]string{"file": again})
	if status != 202 {
		t.Fatal(status, text)
	}
	if j := s.job(c, text); j.State != JobStateDone || j.Import.New != 1 || j.Import.Changed != 1 ||
		j.Import.Unchanged != 1 || j.Import.Gone != 2 || j.Import.Change == "" {
		t.Errorf("%+v", j)
	}
	res := s.call(c, "POST", "/api/sheets/"+sh.Id+"/rows/query",
		`{"offset":0,"limit":10,"sort":[{"column":"c3","down":true}]}`)
	var page RowPage
	if err := json.Unmarshal([]byte(body(res)), &page); err != nil || page.Total != 5 || page.Rows[0].Name != "LN-9" ||
		page.Rows[1].Name != "LN-2" {
		t.Errorf("%+v", page)
	}
	if e := page.Rows[1].Cells[1]; e.Bad != nil {
		t.Errorf("%+v", e)
	}
}

// job waits for a job to end.
func (s *site) job(c *http.Client, text string) (j Job) {
	s.t.Helper()
	for range 500 {
		if err := json.Unmarshal([]byte(text), &j); err != nil {
			s.t.Fatal(text)
		}
		if j.State != JobStateRunning {
			return j
		}
		time.Sleep(10 * time.Millisecond)
		text = body(s.call(c, "GET", "/api/jobs/"+j.Id, ""))
	}
	s.t.Fatal("the job does not end: " + text)
	return j
}

// What the template page cannot show comes back from a save as it was, and the
// grid and the preview show what formulas give.
func TestTemplateKeepsItsVariants(t *testing.T) {
	s := newSite(t, true)
	sh := s.bundle("cases")
	c := s.as(store.Coordinator)
	recs, err := s.st.Templates(context.Background(), sh.ID)
	if err != nil {
		t.Fatal(err)
	}
	var path string
	for _, r := range recs {
		if r.Name == "Damp" {
			path = "/api/sheets/" + sh.ID + "/templates/" + r.ID
		}
	}
	get := func() (out Template) {
		t.Helper()
		if err := json.Unmarshal([]byte(body(s.call(c, "GET", path, ""))), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	was := get()
	if len(was.Content.Variants) == 0 || was.Content.Language == "" {
		t.Fatalf("%+v", was)
	}
	ask, _ := json.Marshal(TemplateSave{Template: was.Content})
	if res := s.call(c, "PUT", path, string(ask)); res.StatusCode != 200 {
		t.Fatal(res.StatusCode, body(res))
	}
	is := get()
	was.Version++
	if a, b := jsonOf(was), jsonOf(is); a != b {
		t.Errorf("saved\n%s\ncame back as\n%s", a, b)
	}
	var p Preview
	preview, _ := json.Marshal(map[string]any{"index": 0, "template": is.Content})
	if err := json.Unmarshal([]byte(body(s.call(c, "POST", "/api/sheets/"+sh.ID+"/preview", string(preview)))),
		&p); err != nil {
		t.Fatal(err)
	}
	var rows RowPage
	if err := json.Unmarshal([]byte(body(s.call(c, "POST", "/api/sheets/"+sh.ID+"/rows/query",
		`{"offset":0,"limit":1}`))), &rows); err != nil {
		t.Fatal(err)
	}
	core, err := sh.Core()
	if err != nil {
		t.Fatal(err)
	}
	for i := range core.Columns {
		if core.Columns[i].Formula != "" && rows.Rows[0].Cells[i].Text == "" {
			t.Errorf("%s is empty in the grid", core.Columns[i].Name)
		}
	}
	if !strings.Contains(p.Subject, "above") || len(p.Missing) > 0 {
		t.Errorf("%+v", p)
	}
}

func jsonOf(v any) string {
	b, _ := json.Marshal(v)
	return string(b)
}

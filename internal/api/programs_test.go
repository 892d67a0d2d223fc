package api

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	ics "github.com/arran4/golang-ical"
	"github.com/xuri/excelize/v2"

	"nivot/internal/engine"
	"nivot/internal/store"
)

func (s *site) token(c *http.Client, data string) (secret string, t Token) {
	s.t.Helper()
	res := s.call(c, "POST", "/api/tokens", data)
	var out AddToken201JSONResponse
	if text := body(res); res.StatusCode != 201 || json.Unmarshal([]byte(text), &out) != nil {
		s.t.Fatal(res.StatusCode, text)
	}
	return out.Secret, out.Token
}

// ask calls the API as a program does: with a token, and nothing else.
func (s *site) ask(method, path, token, data string, header ...string) (int, string, http.Header) {
	s.t.Helper()
	req, err := http.NewRequest(method, s.srv.URL+path, strings.NewReader(data))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, body(res), res.Header
}

var curlExample = regexp.MustCompile(`(?m)^    (curl (?:.*\\\n)*.*)$`)

// Every example of the served description runs as it stands, in the order of
// the description, and does what it should.
func TestCurlExamples(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		t.Fatal("curl is not installed; scripts/setup.sh installs it")
	}
	s := newSite(t, true)
	sh := s.loans()
	secret, _ := s.token(s.as(store.Editor), `{"name":"Loans script","role":"editor","sheet":"`+sh.ID+`"}`)
	rows, err := s.st.RowsAfter(context.Background(), sh.ID, 0, 1)
	if err != nil {
		t.Fatal(err)
	}
	env := append(os.Environ(), "NIVOT="+s.srv.URL, "TOKEN="+secret, "SHEET="+sh.ID, "ROW="+store.RowID(rows[0].ID))
	want := map[string]string{"listRows": `"next":"2"`, "addRow": `"name":"LN-9001"`, "getRow": `"history"`,
		"editRow": `"text":"back"`, "deleteRow": "",
		"getByKey": `"State":"out"`, "putByKey": `"key":"LN-9002"`, "changeByKey": `"State":"back"`, "deleteByKey": ""}
	ran := map[string]bool{}
	for _, id := range []string{"listRows", "addRow", "getByKey", "putByKey", "changeByKey", "deleteByKey", "editRow",
		"getRow", "deleteRow"} {
		op := s.h.s.operations()[id]
		found := curlExample.FindStringSubmatch(op.Description)
		if found == nil {
			t.Errorf("%s has no example:\n%s", id, op.Description)
			continue
		}
		cmd := exec.Command("sh", "-c", found[1]+` -w '\n%{http_code}'`)
		cmd.Env = env
		out, err := cmd.CombinedOutput()
		text := strings.TrimSpace(string(out))
		if err != nil || !regexp.MustCompile(`\n?20[014]$`).MatchString(text) || !strings.Contains(text, want[id]) {
			t.Errorf("%s: %v\n%s\n%s\nwant %s", id, err, found[1], text, want[id])
		}
		ran[id] = true
	}
	for id := range s.h.s.forPrograms {
		if s.h.s.forPrograms[id] && !ran[id] {
			t.Errorf("%s may be called with a token and has no example that is run", id)
		}
	}
}

func TestTokens(t *testing.T) {
	s := newSite(t, true)
	sh, other := s.loans(), s.loans()
	editor := s.as(store.Editor)
	secret, tok := s.token(editor, `{"name":"Loans script","role":"editor","sheet":"`+sh.ID+`"}`)
	reading, _ := s.token(editor, `{"name":"Board","role":"reader"}`)
	rows := "/api/sheets/" + sh.ID + "/rows"
	for _, k := range []struct {
		method, path, token, data string
		want                      int
	}{
		{"GET", rows, secret, "", 200},
		{"GET", rows, reading, "", 200},
		{"GET", "/api/sheets/" + other.ID + "/rows", secret, "", 404},
		{"GET", "/api/sheets/" + other.ID + "/rows", reading, "", 200},
		{"POST", rows, reading, `{"cells":{}}`, 403},
		{"GET", "/api/sheets", secret, "", 403},
		{"GET", "/api/tokens", secret, "", 403},
		{"GET", rows, secret[:len(secret)-1] + "0", "", 401},
		{"GET", rows, "nothing", "", 401},
		{"POST", rows, secret, `{"cells":{"Colour":"red"}}`, 422},
		{"PUT", rows + "/by-key/%20", secret, `{"cells":{}}`, 422},
		{"GET", rows + "/by-key/none", secret, "", 404},
		{"PATCH", rows + "/by-key/none", secret, `{"cells":{"State":"out"}}`, 404},
	} {
		if got, text, _ := s.ask(k.method, k.path, k.token, k.data); got != k.want {
			t.Errorf("%s %s: %d %s, want %d", k.method, k.path, got, text, k.want)
		}
	}
	if res := s.call(editor, "POST", "/api/tokens", `{"name":"x","role":"coordinator"}`); res.StatusCode != 422 {
		t.Errorf("a token above its person: %d", res.StatusCode)
	}
	// Twice the same request with one key adds one row; another request is refused.
	add := func(data string) (int, string, http.Header) {
		return s.ask("POST", rows, secret, data, "Idempotency-Key", "k1")
	}
	status, one, _ := add(`{"cells":{"Loan":"LN-77"}}`)
	again, two, header := add(`{"cells":{"Loan":"LN-77"}}`)
	if status != 201 || again != 201 || strings.TrimSpace(one) != strings.TrimSpace(two) ||
		header.Get("Idempotency-Replayed") != "true" {
		t.Errorf("%d %s\n%d %s", status, one, again, two)
	}
	if status, text, _ := add(`{"cells":{"Loan":"LN-78"}}`); status != 422 {
		t.Errorf("%d %s", status, text)
	}
	if status, text, _ := s.ask("GET", rows+"/by-key/ln-77", secret, ""); status != 200 ||
		!strings.Contains(text, `"key":"LN-77"`) {
		t.Errorf("%d %s", status, text)
	}
	var list []Token
	_ = json.Unmarshal([]byte(body(s.call(editor, "GET", "/api/tokens", ""))), &list)
	if len(list) != 2 || list[1].UsedAt == nil || strings.Contains(jsonOf(list), "nivot_") {
		t.Errorf("%+v", list)
	}
	if res := s.call(s.as(store.Coordinator), "DELETE", "/api/tokens/"+tok.Id, ""); res.StatusCode != 404 {
		t.Errorf("somebody else's token: %d", res.StatusCode)
	}
	if res := s.call(editor, "DELETE", "/api/tokens/"+tok.Id, ""); res.StatusCode != 204 {
		t.Error(res.StatusCode)
	}
	if status, _, _ := s.ask("GET", rows, secret, ""); status != 401 {
		t.Errorf("a revoked token: %d", status)
	}
	// The history names program and person.
	events, err := s.st.SheetHistory(context.Background(), sh.ID, 0, 5)
	if err != nil || events[0].Actor != "Loans script (editor)" {
		t.Errorf("%+v %v", events, err)
	}
}

func (s *site) fill(address string, values url.Values) (int, string) {
	s.t.Helper()
	res, err := http.PostForm(s.srv.URL+address, values)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, body(res)
}

func TestIntakeForm(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	core, err := sh.Core()
	if err != nil {
		t.Fatal(err)
	}
	var fields []FormField

	kinds := map[string]string{}
	for i := range core.Columns {
		if !core.Columns[i].Asked() {
			continue
		}
		fields = append(fields, FormField{Column: core.Columns[i].ID, Label: "Your " + core.Columns[i].Name,
			Required: ptr(i == 0)})
		kinds[string(core.Columns[i].Type)] = core.Columns[i].ID
	}
	form := Form{Open: true, Title: "Ask for a <loan>", Intro: "Tell us.", Button: "Ask", Thanks: "Thank you.",
		Fields: fields, Unconfirmed: ptr(true)}
	save := func(f Form) FormState {
		t.Helper()
		res := s.call(c, "PUT", "/api/sheets/"+sh.ID+"/form", jsonOf(f))
		var out FormState
		if text := body(res); res.StatusCode != 200 || json.Unmarshal([]byte(text), &out) != nil {
			t.Fatal(res.StatusCode, text)
		}
		return out
	}
	state := save(form)
	u, err := url.Parse(state.Address)
	if err != nil || len(u.Path) < 30 {
		t.Fatalf("%s %v", state.Address, err)
	}
	page := body(s.call(s.as(""), "GET", u.Path, ""))
	if !strings.Contains(page, "Ask for a &lt;loan&gt;") || strings.Count(page, "<script") != 1 ||
		!strings.Contains(page, `src="/form.js"`) || !strings.Contains(page, "<select") ||
		!strings.Contains(page, `type="date"`) {
		t.Errorf("%s", page)
	}
	count := func() int {
		n, err := s.st.CountRows(context.Background(), sh.ID)
		if err != nil {
			t.Fatal(err)
		}
		return int(n)
	}
	before := count()
	good := url.Values{core.Columns[0].ID: {"LN-500"}, kinds["email"]: {"ada@fenwick.example"},
		kinds["date"]: {"2027-05-04"}}
	for _, k := range []struct {
		values url.Values
		status int
		want   string
	}{
		{url.Values{}, 422, "Please fill this in."},
		{url.Values{core.Columns[0].ID: {"LN-500"}, kinds["email"]: {"nobody"}}, 422, "nobody"},
		{url.Values{core.Columns[0].ID: {"LN\x00-500"}}, 422, "cannot be kept"},
		{url.Values{core.Columns[0].ID: {strings.Repeat("x", maxAnswer+1)}}, 422, "too long"},
		{url.Values{core.Columns[0].ID: {strings.Repeat("x", maxForm+1)}}, 413, "write less"},
		{url.Values{core.Columns[0].ID: {"LN-1"}, "website": {"http://spam.example"}}, 200, "Thank you."},
	} {
		if status, text := s.fill(u.Path, k.values); status != k.status || !strings.Contains(text, k.want) ||
			count() != before {
			t.Errorf("%v: %d, %d rows\n%s", k.values, status, count(), text)
		}
	}
	if status, text := s.fill(u.Path, good); status != 200 || !strings.Contains(text, "Thank you.") ||
		strings.Contains(text, "<form") || count() != before+1 {
		t.Errorf("%d %s", status, text)
	}
	rec, err := s.h.s.e.FindByKey(context.Background(), sh.ID, "LN-500")
	if err != nil {
		t.Fatal(err)
	}
	row, _ := rec.Core(core)
	due, _ := core.Column(kinds["date"])
	if got := core.Input(due, row.Cell(due)); got != "04/05/2027" || rec.FirstEdit == nil {
		t.Errorf("%q", got)
	}
	// Too many in a minute are turned away, and nothing of them is taken in.
	status := 200
	for range intakeTries + 1 {
		status, _ = s.fill(u.Path, good)
	}
	if status != 429 {
		t.Errorf("%d", status)
	}
	form.Open = false
	save(form)
	if status, text := s.fill(u.Path, good); status != 410 || !strings.Contains(text, "closed") {
		t.Errorf("%d %s", status, text)
	}
	var moved FormState
	_ = json.Unmarshal([]byte(body(s.call(c, "POST", "/api/sheets/"+sh.ID+"/form/address", ""))), &moved)
	if moved.Address == "" || moved.Address == state.Address {
		t.Errorf("%+v", moved)
	}
	if res := s.call(s.as(""), "GET", u.Path, ""); res.StatusCode != 404 {
		t.Errorf("the old address: %d", res.StatusCode)
	}
	form.Fields[0].Column = "c99"
	if res := s.call(c, "PUT", "/api/sheets/"+sh.ID+"/form", jsonOf(form)); res.StatusCode != 422 {
		t.Errorf("%d", res.StatusCode)
	}
}

// send uploads a file, if it has a name, with what else there is to say.
func (s *site) send(c *http.Client, path, name string, file []byte, parts map[string]string) (int, string) {
	s.t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if name != "" {
		f, _ := w.CreateFormFile("file", name)
		_, _ = f.Write(file)
	}
	for k, v := range parts {
		_ = w.WriteField(k, v)
	}
	w.Close()
	req, _ := http.NewRequest("POST", s.srv.URL+"/api"+path, &b)
	req.Header.Set("Content-Type", w.FormDataContentType())
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	res, err := c.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, body(res)
}

// What is taken out comes in again and changes nothing; a bundle becomes the
// same sheet.
func TestTakeOut(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	out := func(query string) ([]byte, http.Header) {
		t.Helper()
		res := s.call(c, "GET", "/api/sheets/"+sh.ID+"/out?"+query, "")
		b, _ := io.ReadAll(res.Body)
		if res.StatusCode != 200 {
			t.Fatal(res.StatusCode, string(b))
		}
		return b, res.Header
	}
	for _, format := range []string{"csv", "xlsx"} {
		for _, emails := range []string{"", "&emails=true"} {
			file, header := out("format=" + format + emails)
			if !strings.Contains(header.Get("Content-Disposition"), "."+format) {
				t.Error(header)
			}
			status, text := s.send(c, "/sheets/"+sh.ID+"/import/plan", "again."+format, file, nil)
			var plan ImportResult
			if err := json.Unmarshal([]byte(text), &plan); err != nil || status != 200 ||
				plan.New+plan.Changed+plan.Gone != 0 || plan.Unchanged < 3 {
				t.Errorf("%s: %d %s", format, status, text)
			}
		}
	}
	some, _ := out(`format=csv&from=1&to=2&columns=c1&view=` + url.QueryEscape(`{"sort":[{"column":"c1","down":true}]}`))
	if lines := strings.Split(strings.TrimSpace(string(some)), "\r\n"); len(lines) != 2 || lines[0] != "Loan" {
		t.Errorf("%q", some)
	}
	if res := s.call(c, "GET", "/api/sheets/"+sh.ID+"/out?format=csv&view=%7B", ""); res.StatusCode != 422 {
		t.Errorf("%d", res.StatusCode)
	}
	bundle, _ := out("format=bundle")
	status, text := s.send(c, "/bundles", "loans.zip", bundle, nil)
	var made Sheet
	if err := json.Unmarshal([]byte(text), &made); err != nil || status != 201 {
		t.Fatal(status, text)
	}
	old, _ := s.st.Rules(context.Background(), sh.ID)
	fresh, _ := s.st.Rules(context.Background(), made.Id)
	a, _ := s.st.CountRows(context.Background(), sh.ID)
	b, _ := s.st.CountRows(context.Background(), made.Id)
	if len(old) == 0 || len(old) != len(fresh) || a != b {
		t.Errorf("%d rules and %d rows became %d and %d", len(old), a, len(fresh), b)
	}
}

// Two people in one sheet: each hears of the other, an edit made meanwhile is
// shown to the later writer, undoing is one's own.
func TestTogether(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	editor, coordinator, reader := s.as(store.Editor), s.as(store.Coordinator), s.as(store.Reader)
	at := "/api/sheets/" + sh.ID
	if text := body(s.call(editor, "POST", at+"/presence",
		`{"page":"page-of-editor","row":"1","column":"c2"}`)); text != "[]\n" {
		t.Error(text)
	}
	if text := body(s.call(coordinator, "POST", at+"/presence", `{"page":"page-of-coordinator"}`)); !strings.Contains(
		text, `"column":"c2","initials":"E","name":"editor","row":"1"`) {
		t.Error(text)
	}
	s.call(editor, "POST", at+"/presence", `{"page":"page-of-editor","leaves":true}`)
	if text := body(s.call(coordinator, "POST", at+"/presence", `{"page":"page-of-coordinator"}`)); text != "[]\n" {
		t.Error(text)
	}
	change := func(c *http.Client, data string) (out ChangeResult) {
		t.Helper()
		res := s.call(c, "POST", at+"/changes", data)
		if text := body(res); res.StatusCode != 200 || json.Unmarshal([]byte(text), &out) != nil {
			t.Fatal(res.StatusCode, text)
		}
		return out
	}
	mine := change(editor, `{"kind":"edit","steps":[{"op":"edit","row":"1","cells":{"Object":"Oak bellows, mended"}}]}`)
	theirs := change(coordinator,
		`{"kind":"paste","steps":[{"op":"edit","row":"1","cells":{"Object":"x"},"expected":{"Object":"what stood there before"}},{"op":"add","cells":{"Loan":"LN-901"}}]}`)
	if len(theirs.Conflicts) != 1 || theirs.Conflicts[0].Theirs != "Oak bellows, mended" || len(theirs.Added) != 1 ||
		len(theirs.Rows) != 2 {
		t.Errorf("%+v", theirs)
	}
	if res := s.call(editor, "POST", at+"/changes/"+theirs.Id+"/undo", ""); res.StatusCode != 403 {
		t.Errorf("an editor undoes another's: %d", res.StatusCode)
	}
	if res := s.call(reader, "POST", at+"/changes",
		`{"kind":"edit","steps":[{"op":"delete","row":"1"}]}`); res.StatusCode != 403 {
		t.Errorf("a reader edits: %d", res.StatusCode)
	}
	var history struct {
		Now     string
		Entries []CellEntry
	}
	_ = json.Unmarshal([]byte(body(s.call(reader, "GET", at+"/rows/1/cells/c2", ""))), &history)
	if len(history.Entries) != 1 || history.Entries[0].Actor != "editor" || history.Now != "Oak bellows, mended" {
		t.Errorf("%+v", history)
	}
	for _, id := range []string{theirs.Id, mine.Id} {
		if res := s.call(coordinator, "POST", at+"/changes/"+id+"/undo", ""); res.StatusCode != 200 {
			t.Errorf("%d %s", res.StatusCode, body(res))
		}
	}
	var events []SheetEvent
	_ = json.Unmarshal([]byte(body(s.call(reader, "GET", at+"/history", ""))), &events)
	if len(events) < 4 || events[0].Kind != "row-edited" || events[0].Undoable ||
		!strings.Contains(events[0].Words, "from “Oak bellows, mended”") {
		t.Errorf("%+v", events)
	}
	// Views: one's own, and shared ones.
	if res := s.call(reader, "POST", at+"/views", `{"name":"Mine","shared":true,"spec":{}}`); res.StatusCode != 403 {
		t.Errorf("a reader shares: %d", res.StatusCode)
	}
	for c, data := range map[*http.Client]string{reader: `{"name":"Mine","shared":false,"spec":{"find":"oak"}}`,
		editor: `{"name":"Ours","shared":true,"spec":{"sort":[{"column":"c1"}]}}`} {
		if res := s.call(c, "POST", at+"/views", data); res.StatusCode != 201 {
			t.Errorf("%d %s", res.StatusCode, body(res))
		}
	}
	var views []View
	_ = json.Unmarshal([]byte(body(s.call(reader, "GET", at+"/views", ""))), &views)
	if len(views) != 2 || !views[0].Mine || views[1].Mine || views[1].By != "editor" {
		t.Errorf("%+v", views)
	}
	if res := s.call(reader, "DELETE", at+"/views/"+views[1].Id, ""); res.StatusCode != 403 {
		t.Errorf("%d", res.StatusCode)
	}
	if text := body(s.call(editor, "GET", at+"/views", "")); strings.Contains(text, "Mine") {
		t.Error(text)
	}
}

// A workbook into a sheet that is there: its worksheet and heading are chosen,
// columns meet by name and are remembered, new ones are made, what Nivot worked
// out is left out.
func TestImportWorkbook(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	f := excelize.NewFile()
	defer f.Close()
	if _, err := f.NewSheet("Loans"); err != nil {
		t.Fatal(err)
	}
	for i, row := range [][]any{{"Spring list"}, {"Loan", "Object", "Kept in", "Last email"},
		{"LN-0501", "Tin weathercock, gilt", "Store 4", "x"}, {"LN-0777", "Hand bell", "Store 5"}} {
		cell, _ := excelize.CoordinatesToCellName(1, i+1)
		if err := f.SetSheetRow("Loans", cell, &row); err != nil {
			t.Fatal(err)
		}
	}
	file, err := f.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	part := map[string]string{"worksheet": "Loans", "heading": "2", "sheet": sh.ID}
	look := func() (p ImportPreview, to []string) {
		t.Helper()
		status, text := s.send(c, "/imports", "list.xlsx", file.Bytes(), part)
		if err := json.Unmarshal([]byte(text), &p); err != nil || status != 200 {
			t.Fatal(status, text)
		}
		for _, x := range p.Columns {
			to = append(to, *x.To)
		}
		return p, to
	}
	p, to := look()
	if p.Rows != 2 || p.Worksheet != "Loans" || len(p.Worksheets) != 2 || strings.Join(to, " ") != "c1 c2 + " ||
		p.Lines[0] != 3 {
		t.Fatalf("%+v goes into %v", p, to)
	}
	part["spec"] = `{"keep":true,"columns":[{"name":"Loan","type":"text","to":"c1"},{"name":"Object","type":"text","to":"c2"},{"name":"Kept in","type":"choice","to":"+"},{"name":"Last email","type":"text","to":""}]}`
	status, text := s.send(c, "/imports/measure", "list.xlsx", file.Bytes(), part)
	if status != 200 || !strings.Contains(text, `"options":["Store 4","Store 5"]`) {
		t.Errorf("%d %s", status, text)
	}
	status, text = s.send(c, "/sheets/"+sh.ID+"/import", "list.xlsx", file.Bytes(), part)
	if status != 202 {
		t.Fatal(status, text)
	}
	if j := s.job(c, text); j.State != JobStateDone || j.Import.New != 1 || j.Import.Changed != 1 || j.Import.Gone != 0 {
		t.Errorf("%+v", j)
	}
	delete(part, "spec")
	if _, to := look(); len(to) != 4 || !strings.HasPrefix(to[2], "c") || to[3] != "" {
		t.Errorf("remembered as %v", to)
	}
	if status, text := s.send(c, "/imports", "list.xlsx", file.Bytes(), map[string]string{"worksheet": "Loans",
		"heading": "two"}); status != 422 {
		t.Errorf("%d %s", status, text)
	}
	for spec, want := range map[string]string{`{"keep":false,"columns":[]}`: "not those of the file",
		`{`: "cannot be read",
		`{"keep":false,"columns":[{"name":"a","type":"text","to":""},{"name":"b","type":"text","to":"c2"},{"name":"c","type":"text","to":""},{"name":"d","type":"text","to":""}]}`: "no column for Loan"} {
		part["spec"] = spec
		if status, text := s.send(c, "/sheets/"+sh.ID+"/import/plan", "list.xlsx", file.Bytes(), part); status != 422 ||
			!strings.Contains(text, want) {
			t.Errorf("%s: %d %s", spec, status, text)
		}
	}
}

// Columns by way of the API: what a change would do, doing it, and who may not.
func TestColumnsOverHTTP(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	at := "/api/sheets/" + sh.ID
	get := func() (out Sheet) {
		t.Helper()
		if err := json.Unmarshal([]byte(body(s.call(c, "GET", at, ""))), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	edits := func() (b ColumnsEdit) {
		was := get()
		b.Seen = &was.Seen
		for _, x := range was.Columns {
			e := ColumnEdit{Id: ptr(x.Id), Name: x.Name, Type: x.Type, Order: x.Order, Formula: x.Formula}
			options := []struct {
				Id   *string `json:"id,omitempty"`
				Name string  `json:"name"`
			}{}
			for _, o := range x.Options {
				options = append(options, struct {
					Id   *string `json:"id,omitempty"`
					Name string  `json:"name"`
				}{ptr(o.Id), o.Name})
			}
			if len(options) > 0 {
				e.Options = &options
			}
			b.Columns = append(b.Columns, e)
		}
		return b
	}
	b := edits()
	b.Columns = append(b.Columns, ColumnEdit{Name: "Days left", Type: "formula", Formula: ptr("days_until(return_due)")})
	var effects []ColumnEffect
	if err := json.Unmarshal([]byte(body(s.call(c, "POST", at+"/columns/effect", jsonOf(b)))), &effects); err != nil ||
		len(effects) != 1 || effects[0].Type != "number" || effects[0].Results[0] != "14" {
		t.Errorf("%+v %v", effects, err)
	}
	b.Columns[1].Locked, b.Columns[1].Name = ptr(true), "Thing"
	if res := s.call(c, "PUT", at+"/columns", jsonOf(b)); res.StatusCode != 200 {
		t.Fatal(res.StatusCode, body(res))
	}
	if got := get(); got.Columns[1].Name != "Thing" || !got.Columns[1].Locked ||
		*got.Columns[len(got.Columns)-1].Result != "number" {
		t.Errorf("%+v", got.Columns)
	}
	if res := s.call(c, "PUT", at+"/columns", jsonOf(b)); res.StatusCode != 422 ||
		!strings.Contains(body(res), "meanwhile") {
		t.Errorf("an old version: %d", res.StatusCode)
	}
	editor := s.as(store.Editor)
	if res := s.call(editor, "PATCH", at+"/rows/1", `{"cells":{"Thing":"x"}}`); res.StatusCode != 422 ||
		!strings.Contains(body(res), "locked") {
		t.Errorf("an editor in a locked column: %d", res.StatusCode)
	}
	if res := s.call(editor, "PUT", at+"/columns", jsonOf(edits())); res.StatusCode != 403 {
		t.Errorf("an editor changes columns: %d", res.StatusCode)
	}
	// A rule looks at return due, and letters name the object: neither can go.
	for _, i := range []int{1} {
		b := edits()
		b.Columns = append(b.Columns[:i], b.Columns[i+1:]...)
		if res := s.call(c, "PUT", at+"/columns", jsonOf(b)); res.StatusCode != 422 ||
			!strings.Contains(body(res), "would not do any more") {
			t.Errorf("taking column %d out: %d", i, res.StatusCode)
		}
	}
	for patch, want := range map[string]int{`{"nameColumn":"c3"}`: 200, `{"languageColumn":"c99"}`: 422,
		`{"address":"c1"}`: 422, `{"frozen":2}`: 200, `{"frozen":9}`: 422, `{"key":""}`: 200, `{"key":"c1"}`: 200,
		`{"name":" "}`: 422} {
		if res := s.call(c, "PATCH", at, patch); res.StatusCode != want {
			t.Errorf("%s: %d %s", patch, res.StatusCode, body(res))
		}
	}
	var functions []struct{ Name, Usage, What string }
	if err := json.Unmarshal([]byte(body(s.call(c, "GET", "/api/functions", ""))), &functions); err != nil ||
		len(functions) < 20 {
		t.Errorf("%v %v", functions, err)
	}
	for _, ask := range []struct{ path, data, want string }{
		{"/rows/summary", `{"view":{},"from":0,"to":99,"columns":["c1"]}`, `"filled":5`},
		{"/rows/find", `{"view":{},"text":"ln-0503","from":0}`, `"column":"c1","index":2,"matches":1`},
		{"/rows/find", `{"view":{},"text":"nowhere","from":0}`, `"index":-1`},
		{"/rows/find", `{"view":{"sort":[{"column":"c1","down":true}]},"text":"ln-050","from":0,"back":true}`,
			`"index":0,"matches":5`},
	} {
		if text := body(s.call(c, "POST", at+ask.path, ask.data)); !strings.Contains(text, ask.want) {
			t.Errorf("%s %s: %s, want %s", ask.path, ask.data, text, ask.want)
		}
	}
}

// A source by way of the API: following, and what Today says when it fails.
func TestSourceOverHTTP(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	at := "/api/sheets/" + sh.ID + "/source"
	src := `{"place":"http://10.0.0.7/loans.csv","worksheet":"","headingRow":0,"everyMinutes":60,"atTime":"","share":33,"keep":false,"paused":false}`
	if res := s.call(c, "PUT", at, src); res.StatusCode != 422 || !strings.Contains(body(res), "inside the own network") {
		t.Errorf("an address inside: %d", res.StatusCode)
	}
	admin := s.as(store.Administrator)
	if res := s.call(c, "PUT", "/api/setup/sources", `{"inside":true}`); res.StatusCode != 403 {
		t.Errorf("a coordinator opens the network: %d", res.StatusCode)
	}
	if res := s.call(admin, "PUT", "/api/setup/sources", `{"inside":true}`); res.StatusCode != 200 {
		t.Error(res.StatusCode)
	}
	file := "Loan,State\nLN-0501,back\n"
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, file)
	}))
	defer web.Close()
	src = strings.Replace(src, "http://10.0.0.7", web.URL, 1)
	if res := s.call(c, "PUT", at, strings.Replace(src, `"keep":false`, `"keep":true`, 1)); res.StatusCode != 200 {
		t.Fatal(res.StatusCode, body(res))
	}
	look := func() (out SourceState) {
		t.Helper()
		if found, err := s.h.s.e.Refresh(context.Background()); err != nil || !found {
			t.Fatal(found, err)
		}
		if err := json.Unmarshal([]byte(body(s.call(c, "GET", at, ""))), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	if st := look(); st.LastError != nil || (*st.Log)[0].Words != "0 new, 1 changed, 0 gone" || st.NextAt == nil {
		t.Errorf("%+v", st)
	}
	file = "Loan,State\n\"LN-0501,back\n"
	s.call(c, "POST", at+"/refresh", `{}`)
	if st := look(); st.LastError == nil || !strings.Contains(*st.LastError, "quote") {
		t.Errorf("%+v", st)
	}
	if text := body(s.call(c, "GET", "/api/today", "")); !strings.Contains(text, "quote that opens here is not closed") {
		t.Errorf("Today does not say it: %s", text)
	}
	if res := s.call(c, "DELETE", at, ""); res.StatusCode != 204 {
		t.Error(res.StatusCode)
	}
	if st := body(s.call(c, "GET", at, "")); strings.Contains(st, `"source"`) {
		t.Error(st)
	}
}

// A feed gives what is coming to whoever has its address, and to nobody once it
// is taken back.
func TestFeedOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	rules := m.rulesOf(sh.ID)
	m.want(m.co, "PUT", at+"/rules/"+rules[0].Id+"/state", `{"state":"on"}`, 200, nil)
	var made struct {
		Feed    Feed
		Address string
	}
	m.want(m.co, "POST", at+"/feeds", `{"rule":"`+rules[0].Id+`"}`, 201, &made)
	path := made.Address[strings.Index(made.Address, "/feeds/"):]
	get := func() (int, string) {
		res, err := http.Get(m.srv.URL + path) // nobody signs in
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(b)
	}
	code, text := get()
	c, err := ics.ParseCalendar(strings.NewReader(text))
	if code != 200 || err != nil {
		t.Fatalf("%d %v %s", code, err, text)
	}
	var fc []engine.Coming
	f, err := m.e.Forecast(context.Background(), sh.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range f.Coming {
		if x.Rule == rules[0].Id {
			fc = append(fc, x)
		}
	}
	events := c.Events()
	if len(events) != len(fc) || len(events) == 0 {
		t.Fatalf("%d events, %d emails are coming", len(events), len(fc))
	}
	for i, ev := range events {
		start, err := ev.GetStartAt()
		if err != nil || !start.Equal(fc[i].At) || !strings.HasPrefix(ev.Id(), fc[i].Occasion.String()+"@") {
			t.Errorf("%s %s, want %s %s", start, ev.Id(), fc[i].At, fc[i].Occasion)
		}
	}
	m.want(m.co, "DELETE", at+"/feeds/"+made.Feed.Id, "", 204, nil)
	if code, _ := get(); code != 404 {
		t.Errorf("a feed that was taken back answers %d", code)
	}
}

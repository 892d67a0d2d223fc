package api

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"

	"nivot/internal/core/template"
	"nivot/internal/store"
)

// filesBundle is a sheet whose rows name files, one of which is there.
func filesBundle(t *testing.T) []byte {
	t.Helper()
	files := fstest.MapFS{}
	for name, text := range map[string]string{
		"sheet.json": `{"format":"nivot-bundle/1","name":"Agreements","zone":"Europe/London","locale":"en-GB","key":"Loan","settle":"PT0S",
			"columns":[{"name":"Loan","type":"text"},{"name":"Email","type":"email"},{"name":"Agreement","type":"file"}]}`,
		"rows.csv": "Loan,Email,Agreement\nL-1,ada@lender.example,L-1.pdf\nL-2,ben@lender.example,scans\\L-2.pdf; " +
			"l-1.PDF\nL-3,cy@lender.example,\nL-4,di@lender.example,\"L-4.pdf\nL-1.pdf\"\n",
		"templates.json":   `[{"name":"Agreement","subject":"Agreement [Loan]","text":"It comes with this.","attachments":[{"kind":"column","column":"Agreement"}]}]`,
		"rules.json":       `[{"name":"Agreement","state":"on","trigger":{"kind":"by-hand"},"send":[{"template":"Agreement"}],"to":[{"column":"Email"}]}]`,
		"shelf/L-1.pdf":    "%PDF-1.4 one",
		"shelf/unused.txt": "nobody names it",
	} {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return zipped(t, files)
}

// A row's files go with its email. One that is missing keeps it back by name until it comes.
func TestFilesOfRowsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	status, text := m.send(m.co, "/bundles", "agreements.zip", filesBundle(t), map[string]string{"on": "true"})
	if status != 201 {
		t.Fatal(status, text)
	}
	var sheet Sheet
	if err := json.Unmarshal([]byte(text), &sheet); err != nil {
		t.Fatal(err)
	}
	at := "/sheets/" + sheet.Id
	shelf := func() (out SheetFiles) {
		t.Helper()
		m.want(m.co, "GET", at+"/files", "", 200, &out)
		return out
	}
	if s := shelf(); len(s.Files) != 2 || s.Files[0].Name != "L-1.pdf" || s.Files[0].Rows != 3 || s.Files[1].Rows != 0 ||
		len(s.Absent) != 2 || s.Absent[0].Name != "L-2.pdf" || s.Absent[1].Rows != 1 {
		t.Errorf("%+v", s)
	}
	rule := m.rulesOf(sheet.Id)[0]
	if rule.State != "on" {
		m.want(m.co, "PUT", at+"/rules/"+rule.Id+"/state", `{"state":"on"}`, 200, nil)
	}
	var page RowPage
	m.want(m.co, "POST", at+"/rows/query", `{"offset":0,"limit":10}`, 200, &page)
	var ids []string
	for _, r := range page.Rows {
		ids = append(ids, r.Id)
	}
	for i, want := range []string{"", "L-2.pdf: not among the files of the sheet", "", "L-4.pdf: not among"} {
		c := page.Rows[i].Cells[2]
		if is(c.Bad) != (want != "") || want != "" && !strings.HasPrefix(*c.Why, want) {
			t.Errorf("%s: bad %v, %v; want %q", page.Rows[i].Name, is(c.Bad), c.Why, want)
		}
	}
	m.want(m.co, "POST", at+"/rules/"+rule.Id+"/send", `{"batch":"first","rows":`+jsonOf(ids)+`}`, 200, nil)
	m.until("2027-03-15T08:45:00Z")
	outcomes := func() map[string]string {
		t.Helper()
		out := map[string]string{}
		for _, l := range m.log("").Lines {
			out[l.Row] = l.Outcome
		}
		return out
	}
	got := outcomes()
	for row, want := range map[string]string{"L-1": "accepted",
		"L-2": "Agreement names L-2.pdf, which is not among the files of the sheet",
		"L-3": "Agreement names no file, and the email is to carry one", "L-4": "Agreement names L-4.pdf, which"} {
		if !strings.Contains(strings.ToLower(got[row]), strings.ToLower(want)) {
			t.Errorf("%s: %q, want %q", row, got[row], want)
		}
	}
	// It comes: by an editor, under the name that a row has for it.
	editor := m.as(store.Editor)
	put := func(name, data, replace string) (f SheetFile, status int, text string) {
		t.Helper()
		status, text = m.send(editor, at+"/files", name, []byte(data), map[string]string{"replace": replace})
		_ = json.Unmarshal([]byte(text), &f)
		return f, status, text
	}
	if f, status, text := put("l-2.pdf", "%PDF-1.4 two", ""); status != 201 || f.Name != "l-2.pdf" {
		t.Fatal(status, text)
	}
	m.until("2027-03-15T08:50:00Z")
	if got := outcomes(); !strings.Contains(strings.ToLower(got["L-2"]), "accepted") ||
		strings.Contains(strings.ToLower(got["L-4"]), "accepted") {
		t.Errorf("after the file has come: %v", got)
	}
	for _, l := range m.log("").Lines {
		if l.Row != "L-2" {
			continue
		}
		var d Delivery
		m.want(m.co, "GET", "/deliveries/"+l.Id, "", 200, &d)
		if len(d.Files) != 2 || d.Files[0].Name != "l-2.pdf" ||
			d.Files[1].File != template.ContentID([]byte("%PDF-1.4 one")) {
			t.Errorf("%+v", d.Files)
		}
	}
	// A name that is taken gets a number, or gives way; what has gone keeps what it carried.
	if f, _, _ := put("L-1.pdf", "%PDF-1.4 another", ""); f.Name != "L-1 (2).pdf" {
		t.Errorf("a name that is taken: %+v", f)
	}
	if f, _, _ := put("l-1.PDF", "%PDF-1.4 another", "true"); f.Name != "L-1.pdf" ||
		f.File != template.ContentID([]byte("%PDF-1.4 another")) {
		t.Errorf("in its place: %+v", f)
	}
	for _, c := range []struct{ name, data, want string }{
		{"a;b.pdf", "%PDF-1.4", "cannot be the name"}, {"notes.pdf", "<script>", "something else"},
		{"run.exe", "MZ", "programs"}, {"empty.pdf", "", "empty"}} {
		if _, status, text := put(c.name, c.data, ""); status != 422 || !strings.Contains(text, c.want) {
			t.Errorf("%s: %d %s", c.name, status, text)
		}
	}
	m.want(editor, "DELETE", at+"/files?name=unused.txt", "", 204, nil)
	m.refused(editor, "DELETE", at+"/files?name=unused.txt", "", 404, "not there")
	m.refused(m.as(store.Reader), "DELETE", at+"/files?name=L-1.pdf", "", 403, "")
	// All of it comes out again, and in.
	status, again := m.send(m.co, "/bundles", "again.zip",
		[]byte(body(m.call(m.co, "GET", "/api"+at+"/out?format=bundle", ""))), nil)
	if status != 201 {
		t.Fatal(status, again)
	}
	_ = json.Unmarshal([]byte(again), &sheet)
	at = "/sheets/" + sheet.Id
	if s := shelf(); len(s.Files) != 3 || s.Files[1].Rows != 3 {
		t.Errorf("from a bundle: %+v", s)
	}
}

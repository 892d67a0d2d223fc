package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/rule"
	"nivot/internal/core/template"
	"nivot/internal/store"
)

func keptFile(t *testing.T, s *site, c *http.Client, name string, data []byte, image bool) (KeptFile, int, string) {
	t.Helper()
	parts := map[string]string{}
	if image {
		parts["image"] = "true"
	}
	status, text := s.send(c, "/files", name, data, parts)
	var out KeptFile
	_ = json.Unmarshal([]byte(text), &out)
	return out, status, text
}

func somePNG(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 40, 30))); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// Files are kept once by their content, given back to the byte, and refused next to where they
// come in when they are not what they are said to be.
func TestFilesOverHTTP(t *testing.T) {
	m := newMuseum(t)
	pdf := []byte("%PDF-1.4 plan")
	a, status, text := keptFile(t, m.site, m.co, `C:\desk\plan.pdf`, pdf, false)
	if status != 201 || a.Name != "plan.pdf" || a.Type != "application/pdf" || a.Size != len(pdf) ||
		a.File != template.ContentID(pdf) {
		t.Fatalf("%d %s", status, text)
	}
	if again, _, _ := keptFile(t, m.site, m.co, "other.pdf", pdf, false); again.File != a.File {
		t.Errorf("the same content twice: %+v", again)
	}
	res := m.call(m.as(store.Reader), "GET", "/api/files/"+a.File, "")
	if got := body(res); got != string(pdf) || res.Header.Get("Content-Type") != "application/octet-stream" ||
		res.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("%q, %v", got, res.Header)
	}
	if p, status, text := keptFile(t, m.site, m.co, "p.png", somePNG(t), true); status != 201 || p.Width == nil ||
		*p.Width != 40 || *p.Height != 30 {
		t.Errorf("%d %s", status, text)
	}
	for _, c := range []struct {
		name  string
		data  []byte
		image bool
		want  string
	}{
		{"notes.pdf", []byte("<script>"), false,
			"“notes.pdf” cannot be taken: its name says .pdf, but its content is something else"},
		{"a.exe", []byte("MZ"), false, "refuse programs"}, {"empty.txt", nil, false, "empty"},
		{"p.png", []byte("GIF8"), true, "cannot be taken"}, {"p.png", somePNG(t)[:40], true, "broken"},
		{"p.svg", []byte("<svg/>"), true, "no PNG"},
	} {
		if _, status, text := keptFile(t, m.site, m.co, c.name, c.data, c.image); status != 422 ||
			!strings.Contains(text, c.want) {
			t.Errorf("%s: %d %s, want %q", c.name, status, text, c.want)
		}
	}
	if _, status, _ := keptFile(t, m.site, m.as(store.Editor), "x.txt", []byte("x"), false); status != 403 {
		t.Errorf("an editor keeps a file: %d", status)
	}
	m.refused(m.co, "GET", "/files/"+strings.Repeat("0", 64), "", 404, "not there")
	m.refused(m.co, "GET", "/files/..%2f..%2fkey", "", 404, "")
}

// What an email carries is bounded as a whole, its images too.
func TestCarriedTooMuch(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	c := list[0].Content
	for i := range 2 {
		data := append([]byte("%PDF-"), bytes.Repeat([]byte{byte(i)}, template.MaxAttachment-5)...)
		f, status, text := keptFile(t, m.site, m.co, fmt.Sprintf("%d.pdf", i), data, false)
		if status != 201 {
			t.Fatal(status, text)
		}
		c.Attachments = append(c.Attachments, template.Attachment{Kind: template.FileKind,
			Name: template.Line{{Text: f.Name}}, File: f.File, Type: f.Type, Size: f.Size})
	}
	put := func(status int, words string) {
		t.Helper()
		m.refused(m.co, "PUT", "/sheets/"+sh.ID+"/templates/"+list[0].Id, `{"template":`+jsonOf(c)+`}`, status, words)
	}
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/templates/"+list[0].Id, `{"template":`+jsonOf(c)+`}`, 200, nil)
	picture, _, _ := keptFile(t, m.site, m.co, "p.png", somePNG(t), true)
	c.Body.Content = append(c.Body.Content, template.Node{Type: template.ImageNode,
		Image: &template.Image{File: picture.File, Type: picture.Type, Alt: template.Line{{Text: "A bell"}}}})
	put(422, "images and attachments have 21 MB together")
}

// A template's checks, its preview and the page of a sending by hand say beforehand that an email is larger than
// the sender's mail server takes.
func TestLargerThanTheServerTakes(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	c := list[0].Content
	f, status, text := keptFile(t, m.site, m.co, "plan.pdf", append([]byte("%PDF-"), bytes.Repeat([]byte{7}, 3<<20)...),
		false)
	if status != 201 {
		t.Fatal(status, text)
	}
	c.Attachments = []template.Attachment{{Kind: template.FileKind, Name: template.Line{{Text: f.Name}}, File: f.File,
		Type: f.Type, Size: f.Size}}
	at := "/sheets/" + sh.ID
	m.want(m.co, "PUT", at+"/templates/"+list[0].Id, `{"template":`+jsonOf(c)+`}`, 200, nil)
	var senders []Sender
	m.want(m.admin, "GET", "/setup/senders", "", 200, &senders)
	var rules []Rule
	m.want(m.co, "GET", at+"/rules", "", 200, &rules)
	body := rules[0].Body
	body.Trigger, body.Send, body.Condition = rule.Trigger{Kind: rule.ByHand}, []rule.Wording{{Template: list[0].Id}}, nil
	body.Then, body.Repeat, body.Window = nil, nil, nil
	for _, x := range []struct {
		most int64
		over bool
	}{{0, false}, {4 << 20, true}, {5 << 20, false}} {
		if err := m.st.AllowBytes(context.Background(), senders[0].Id, x.most); err != nil {
			t.Fatal(err)
		}
		var checks Checks
		m.want(m.co, "POST", at+"/checks", jsonOf(c), 200, &checks)
		found := slices.ContainsFunc(checks.Checks, func(k Check) bool {
			return strings.HasPrefix(k.Text, "The email is larger than the sender’s mail server takes: 4.0 MB")
		})
		var preview Preview
		m.want(m.co, "POST", at+"/preview", `{"template":`+jsonOf(c)+`,"index":0}`, 200, &preview)
		var send SendPreview
		m.want(m.co, "POST", at+"/send/preview", jsonOf(map[string]any{"body": body, "view": map[string]any{}}), 200, &send)
		if found != x.over || (preview.TooLarge != nil) != x.over || (send.TooLarge > 0) != x.over || send.Emails == 0 {
			t.Errorf("the server takes %d: checks say so %v, the preview %v, the sending of %d emails %d; want %v", x.most,
				found, preview.TooLarge, send.Emails, send.TooLarge, x.over)
		}
	}
}

// A letter with an image, an attachment, a piece and a signature goes out with all of them, and
// the log shows what went.
func TestWholeLetterGoesOut(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	plan, _, _ := keptFile(t, m.site, m.co, "plan.pdf", []byte("%PDF-1.4 plan"), false)
	poster, _, _ := keptFile(t, m.site, m.co, "poster.png", somePNG(t), true)
	var piece Piece
	words := func(text string) string {
		return `{"type":"paragraph","content":[{"type":"text","text":"` + text + `"}]}`
	}
	m.want(m.co, "POST", "/pieces", `{"piece":{"name":"Hours","body":{"type":"doc","content":[`+words("Open at ten.")+
		`]}}}`, 201, &piece)
	var senders []Sender
	m.want(m.admin, "GET", "/setup/senders", "", 200, &senders)
	s := senders[0]
	m.want(m.admin, "PUT", "/setup/senders/"+s.Id,
		fmt.Sprintf(
			`{"name":%q,"address":%q,"host":%q,"port":%d,"security":"none","signature":{"name":"x","body":{"type":"doc","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"of":"sender"}}]}]}}}`,
			s.Name, s.Address, s.Host, s.Port), 200, nil)
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	letter := list[1]
	save := func(blocks string) Template {
		var out Template
		c := letter.Content
		if err := json.Unmarshal([]byte(`{"type":"doc","content":[`+blocks+`]}`), &c.Body); err != nil {
			t.Fatal(err)
		}
		c.Attachments = []template.Attachment{{Kind: "file", Name: template.Line{{Text: "plan.pdf"}}, File: plan.File,
			Type: plan.Type, Size: plan.Size},
			{Kind: "rows", Format: "csv", Name: template.Line{{Text: "Rows of "},
				{Field: &template.Field{Of: template.RowKey}}}, Columns: []string{"c1", "c6"}},
			{Kind: "invitation", Start: "c6", Title: template.Line{{Text: "Return"}},
				Name: template.Line{{Text: "invitation.ics"}}}}
		m.want(m.co, "PUT", at+"/templates/"+letter.Id, `{"template":`+jsonOf(c)+`}`, 200, &out)
		return out
	}
	blocks := words("Look:") + `,{"type":"image","attrs":{"file":"` + poster.File +
		`","type":"image/png","alt":"The poster"}},{"type":"piece","attrs":{"piece":"` + piece.Id +
		`"}},{"type":"signature"},` +
		`{"type":"paragraph","content":[{"type":"text","text":"No more","marks":[{"type":"link","attrs":{"href":[{"of":"opt-out"}]}}]}]}`
	saved := save(blocks)
	m.refused(m.co, "DELETE", "/pieces/"+piece.Id, "", 422, "used by Return")
	m.refused(m.co, "PUT", at+"/templates/"+letter.Id, `{"template":`+strings.Replace(jsonOf(saved.Content), poster.File,
		strings.Repeat("0", 64), 1)+`}`, 422, "not there any more")
	var rules []Rule
	m.want(m.co, "GET", at+"/rules", "", 200, &rules)
	var ask map[string]any
	_ = json.Unmarshal([]byte(jsonOf(rules[0].Body)), &ask)
	ask["optOut"] = true
	ask["each"] = true
	delete(ask, "cc") // one click is offered to a single recipient alone
	m.want(m.co, "PUT", at+"/rules/"+rules[0].Id, jsonOf(map[string]any{"body": ask}), 200, nil)
	m.want(m.co, "PUT", at+"/rules/"+rules[0].Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-19T09:31:00Z")
	var went *LogLine
	for _, l := range m.log("state=accepted").Lines {
		if l.Letter == "A" {
			went = &l
			break
		}
	}
	if went == nil {
		t.Fatalf("nothing went: %+v", m.log(""))
	}
	var d Delivery
	m.want(m.co, "GET", "/deliveries/"+went.Id, "", 200, &d)
	if len(d.Files) != 3 || d.Files[1].Name != "Rows of LN-0502.csv" || d.Files[0].Name != "plan.pdf" ||
		d.Files[0].Size != plan.Size || !strings.Contains(d.Text, "Open at ten.\n\nLoans desk\n") ||
		!strings.Contains(d.Text, "[The poster]") {
		t.Errorf("%+v", d)
	}
	// As it arrived: every part, and a link of its own to stop it.
	var mails PracticePage
	m.want(m.co, "GET", "/practice/messages?find="+url.QueryEscape(went.Subject), "", 200, &mails)
	var mail PracticeDetail
	mailID := ""
	for _, x := range mails.Messages { // each mailbox has one of its own
		m.want(m.co, "GET", "/practice/messages/"+x.Id, "", 200, &mail)
		if mailID = x.Id; strings.Contains(mail.Source, d.MessageId) {
			break
		}
	}
	if len(mail.Files) != 3 || mail.Files[0].Name != "plan.pdf" ||
		!strings.Contains(mail.Html, "data:image/png;base64,") || strings.Contains(mail.Html, "cid:") {
		t.Errorf("%+v", mail)
	}
	if got := body(m.call(m.co, "GET", "/api/practice/messages/"+mailID+"/files/0", "")); got != "%PDF-1.4 plan" {
		t.Errorf("the attachment: %q", got)
	}
	if got := body(m.call(m.co, "GET", "/api/practice/messages/"+mailID+"/files/1",
		"")); got != "Loan,Return due\r\nLN-0502,22/03/2027\r\n" {
		t.Errorf("the rows: %q", got)
	}
	if got := body(m.call(m.co, "GET", "/api/practice/messages/"+mailID+"/files/2", "")); !strings.Contains(got,
		"METHOD:REQUEST") || !strings.Contains(got, "DTSTART;VALUE=DATE:20270322") ||
		!strings.Contains(mail.Source, "text/calendar; charset=UTF-8; method=REQUEST") {
		t.Errorf("the invitation: %q", got)
	}
	link := regexp.MustCompile(`http://127\.0\.0\.1:8420(/stop/[\w-]+)`).FindStringSubmatch(mail.Html)
	if link == nil || strings.Contains(mail.Source, template.OptOutMark) ||
		!strings.Contains(mail.Source, "List-Unsubscribe-Post: List-Unsubscribe=One-Click") {
		t.Fatalf("no link: %s", mail.Source)
	}
	left := string(stopLinks.Conceal([]byte(mail.Source))) // the link is the recipient's alone
	if strings.Contains(left, link[1]) || !strings.Contains(left, template.OptOutWord) {
		t.Errorf("the link is not hidden: %s", left)
	}
	var hidden PracticeDetail
	if m.want(m.as(store.Reader), "GET", "/practice/messages/"+mailID, "", 200, &hidden); hidden.Source != left ||
		strings.Contains(hidden.Html, "/stop/") || strings.Contains(hidden.Text, "/stop/") {
		t.Errorf("a reader reads in the practice mailbox\n%s", hidden.Source)
	}
	if eml := body(m.call(m.co, "GET", "/api/deliveries/"+went.Id+"/message.eml", "")); eml != left {
		t.Errorf("the log shows\n%s\nand what left was\n%s", eml, left)
	}
	// The sender is called otherwise since: what has left stays as it was, and says whose words it has.
	m.want(m.admin, "PUT", "/setup/senders/"+s.Id,
		fmt.Sprintf(`{"name":"Renamed \"desk\"","address":"other@marrowby.example","host":%q,"port":%d,"security":"none"}`,
			s.Host, s.Port), 200, nil)
	if eml := body(m.call(m.co, "GET", "/api/deliveries/"+went.Id+"/message.eml", "")); eml != left {
		t.Errorf("with the sender renamed the log shows\n%s\nand what left was\n%s", eml, left)
	}
	m.want(m.co, "GET", "/deliveries/"+went.Id, "", 200, &d)
	if d.From == nil || !strings.Contains(*d.From, s.Address) || d.Template == nil || d.Template.Name != letter.Name ||
		d.Template.Version != 2 {
		t.Errorf("from %v, in the words of %+v", d.From, d.Template)
	}
	m.stops(link[1])
	// The piece changes everywhere at once.
	m.want(m.co, "PUT", "/pieces/"+piece.Id, `{"version":1,"piece":{"name":"Hours","body":{"type":"doc","content":[`+
		words("Open at nine.")+`]}}}`, 200, nil)
	m.refused(m.co, "PUT", "/pieces/"+piece.Id, `{"version":1,"piece":{"name":"Hours","body":{"type":"doc","content":[`+
		words("Never.")+`]}}}`, 409, "look at both")
	var p Preview
	m.want(m.co, "POST", at+"/preview", `{"index":0,"source":true,"template":`+jsonOf(saved.Content)+`}`, 200, &p)
	if !strings.Contains(p.Text, "Open at nine.") || p.Source == nil || !strings.Contains(*p.Source, "multipart/mixed") {
		t.Errorf("%+v", p)
	}
	if again := (Delivery{}); true {
		m.want(m.co, "GET", "/deliveries/"+went.Id, "", 200, &again)
		if again.Text != d.Text {
			t.Error("what went has changed with the piece")
		}
	}
}

// stops follows a link that stops emails: a look changes nothing, one click is enough.
func (m *museum) stops(path string) {
	m.t.Helper()
	anybody := m.as("")
	silenced := func() int {
		var list []Silenced
		m.want(m.co, "GET", "/setup/do-not-email", "", 200, &list)
		return len(list)
	}
	before := silenced()
	res := m.call(anybody, "GET", path, "")
	if text := body(res); res.StatusCode != 200 || !strings.Contains(text, "Nothing more will be sent to") ||
		silenced() != before {
		m.t.Errorf("looking: %d %s", res.StatusCode, text)
	}
	for _, bad := range []string{path[:len(path)-1] + "A", "/stop/AAAA", "/stop/" + strings.Repeat("A", 38)} {
		if res := m.call(anybody, "POST", bad, ""); res.StatusCode != 404 && bad != path {
			m.t.Errorf("%s: %d", bad, res.StatusCode)
		}
	}
	if res := m.call(anybody, "GET", "/stop/test", ""); res.StatusCode != 200 {
		m.t.Errorf("the link of a test: %d", res.StatusCode)
	}
	// RFC 8058, section 3.2: no cookie, no other field.
	req, _ := http.NewRequest("POST", m.srv.URL+path, strings.NewReader("List-Unsubscribe=One-Click"))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	one, err := http.DefaultClient.Do(req)
	if err != nil || one.StatusCode != 200 {
		m.t.Fatal(err, one)
	}
	if silenced() != before+1 {
		m.t.Error("one click has not stopped it")
	}
}

// Each saving stays as it was, to the byte; a copy for another sheet says what stands for what.
func TestVersionsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh, other := m.loans(), m.loans()
	at := "/sheets/" + sh.ID
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	var mine Template
	for _, x := range list {
		if x.Sheet == sh.ID && x.Name == "Return" {
			mine = x
		}
	}
	path := at + "/templates/" + mine.Id
	first := body(m.call(m.co, "GET", "/api"+path+"/versions/1", ""))
	for i := range 10 {
		c := mine.Content
		c.Name = fmt.Sprint("Return ", i)
		m.want(m.co, "PUT", path, `{"template":`+jsonOf(c)+`}`, 200, nil)
	}
	if got := body(m.call(m.co, "GET", "/api"+path+"/versions/1", "")); got != first {
		t.Errorf("after ten changes version 1 is\n%s\nand was\n%s", got, first)
	}
	var versions []TemplateVersion
	m.want(m.as(store.Reader), "GET", path+"/versions", "", 200, &versions)
	if len(versions) != 11 || versions[0].Version != 11 || versions[0].By != "coordinator" || versions[10].Version != 1 {
		t.Errorf("%+v", versions)
	}
	m.refused(m.co, "GET", path+"/versions/12", "", 404, "not there")
	m.refused(m.co, "GET", "/sheets/"+other.ID+"/templates/"+mine.Id+"/versions/1", "", 404, "not there")

	var fit Fitted
	m.want(m.co, "POST", path+"/fit", `{"sheet":"`+other.ID+`"}`, 200, &fit)
	for _, c := range fit.Columns {
		if c.To == "" {
			t.Errorf("%s finds no column of its name", c.Name)
		}
	}
	m.want(m.co, "POST", path+"/fit", `{"sheet":"`+other.ID+`","columns":{"`+fit.Columns[0].Id+`":""}}`, 200, &fit)
	gone := template.Elsewhere + fit.Columns[0].Name
	if text := jsonOf(fit.Template); !strings.Contains(text, `"`+gone+`"`) || fit.Columns[0].To != "" {
		t.Errorf("what has no place is not marked: %s", text)
	}
}

// A letter goes out as HTML and comes back cleaned, with a word on what was taken out.
func TestHTMLOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID + "/html"
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	var out struct {
		HTML    string          `json:"html"`
		Body    json.RawMessage `json:"body"`
		Removed []string        `json:"removed"`
	}
	m.want(m.co, "POST", at, `{"body":`+jsonOf(list[1].Content.Body)+`}`, 200, &out)
	if !strings.Contains(out.HTML, "<p>Dear [Contact: first word, else colleague],</p>") {
		t.Fatalf("%s", out.HTML)
	}
	m.want(m.co, "POST", at, jsonOf(map[string]string{"html": out.HTML + `<script>x</script>`}), 200, &out)
	if a := jsonOf(list[1].Content.Body); string(out.Body) != a || len(out.Removed) != 1 || out.Removed[0] != "<script>" {
		t.Errorf("%s, removed %v; want %s", out.Body, out.Removed, a)
	}
	m.refused(m.co, "POST", at, `{"html":"<p>[Nobody]</p>"}`, 422, "there is no column")
	m.refused(m.as(store.Reader), "POST", at, `{"html":"x"}`, 403, "")
}

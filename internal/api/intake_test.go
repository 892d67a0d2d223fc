package api

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/bits"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// prove adds to what is sent by a form the proof that its script finds.
func prove(address string, values url.Values) url.Values {
	out := url.Values{}
	for k, v := range values {
		out[k] = v
	}
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	for n := time.Now().UnixNano(); ; n++ {
		sum := sha256.Sum256([]byte(fmt.Sprintf("%s.%s.%d", address, stamp, n)))
		if bits.LeadingZeros32(uint32(sum[0])<<24|uint32(sum[1])<<16|uint32(sum[2])<<8) >= proofBits {
			out.Set("stamp", stamp)
			out.Set("proof", strconv.FormatInt(n, 10))
			return out
		}
	}
}

// openForm opens a form that asks for the key and the address, and gives its path.
func (m *museum) openForm(sheetID string, more string) (path, address string) {
	m.t.Helper()
	var state FormState
	m.want(m.co, "PUT", "/sheets/"+sheetID+"/form",
		`{"open":true,"title":"Join in","intro":"","button":"Send","thanks":"Thank you.","fields":[{"column":"c1","label":"Key"},{"column":"c4","label":"Email"}]`+more+`}`, 200, &state)
	u, err := url.Parse(state.Address)
	if err != nil {
		m.t.Fatal(err)
	}
	return u.Path, strings.TrimPrefix(u.Path, formPath)
}

func (m *museum) practiceMails() (out []store.PracticeMessage) {
	m.t.Helper()
	if err := m.st.DB(context.Background()).Order("id").Find(&out).Error; err != nil {
		m.t.Fatal(err)
	}
	return out
}

// asked is how often the owner of an address is asked a day.
const asked = 3

// Whatever address is typed into a form, its owner is asked before anything else goes to it, a
// few times a day; once they have confirmed it, what they send from there counts at once, for a month.
func TestFormConfirms(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	path, address := m.openForm(sh.ID, "")
	rows := func() int64 { return m.rowsOf(sh.ID) }
	before := rows()
	fill := func(key, email string) (int, string) {
		return m.fill(path, prove(address, url.Values{"c1": {key}, "c4": {email}}))
	}
	for i := range asked + 2 {
		if status, text := fill(fmt.Sprintf("F-%d", i), "Ada@Fenwick.example"); status != 200 ||
			!strings.Contains(text, "One more step") || rows() != before {
			t.Fatalf("%d %s, %d rows", status, text, rows()-before)
		}
	}
	mails := m.practiceMails()
	if len(mails) != asked || mails[0].EnvelopeTo != "Ada@fenwick.example" &&
		mails[0].EnvelopeTo != "Ada@Fenwick.example" {
		t.Fatalf("%d emails went to an address that is not confirmed, want %d: %+v", len(mails), asked, mails)
	}
	links := regexp.MustCompile(`http://127\.0\.0\.1:8420(/confirm/\S+)`)
	link := links.FindStringSubmatch(string(mails[0].Raw))
	if link == nil {
		t.Fatalf("no link in\n%s", mails[0].Raw)
	}
	// Looking at the link does nothing: programs that check links look too.
	if res := m.call(m.as(""), "GET", link[1], ""); res.StatusCode != 200 || rows() != before {
		t.Errorf("looked at: %d, %d rows", res.StatusCode, rows()-before)
	}
	jar, _ := cookiejar.New(nil)
	browser := &http.Client{Jar: jar}
	by := func(c *http.Client, path string, values url.Values) (int, string) {
		t.Helper()
		res, err := c.PostForm(m.srv.URL+path, values)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, body(res)
	}
	if status, text := by(browser, link[1], url.Values{}); status != 200 || !strings.Contains(text, "Thank you.") ||
		rows() != before+1 {
		t.Errorf("confirmed: %d %s, %d rows", status, text, rows()-before)
	}
	if status, _ := m.fill(link[1], url.Values{}); status != 404 || rows() != before+1 {
		t.Errorf("confirmed again: %d, %d rows", status, rows()-before)
	}
	mine := func(key, email string) (int, string) {
		return by(browser, path, prove(address, url.Values{"c1": {key}, "c4": {email}}))
	}
	if status, text := mine("F-9", "ada@fenwick.example"); status != 200 || !strings.Contains(text, "Thank you.") ||
		rows() != before+2 {
		t.Errorf("in the browser that has confirmed it: %d %s, %d rows", status, text, rows()-before)
	}
	// Anywhere else it is asked about again, and the page says the same as of an address that nobody knows.
	_, known := fill("F-9a", "ada@fenwick.example")
	_, unknown := fill("F-9b", "zoe@fenwick.example")
	if !strings.Contains(known, "One more step") || rows() != before+2 ||
		strings.ReplaceAll(known, "ada@", "x@") != strings.ReplaceAll(unknown, "zoe@", "x@") {
		t.Errorf("elsewhere, %d rows:\n%s\n%s", rows()-before, known, unknown)
	}
	if _, text := mine("F-9c", "zoe@fenwick.example"); !strings.Contains(text, "One more step") || rows() != before+2 {
		t.Errorf("another address in that browser: %s", text)
	}
	m.h.s.Wall = func() time.Time { return time.Now().Add(confirmedLife + time.Hour) }
	if _, text := mine("F-9d", "ada@fenwick.example"); strings.Contains(text, "Thank you.") || rows() != before+2 {
		t.Errorf("after a month: %s", text)
	}
	m.h.s.Wall = time.Now
	if status, text := fill("F-10", "ben@x.example; cass@y.example"); status != 422 ||
		!strings.Contains(text, "one email address only") {
		t.Errorf("two addresses: %d %s", status, text)
	}
	// Without an address there is nobody to ask; a form that need not ask does not.
	if status, text := fill("F-11", ""); status != 200 || !strings.Contains(text, "Thank you.") || rows() != before+3 {
		t.Errorf("no address: %d %s", status, text)
	}
	m.openForm(sh.ID, `,"unconfirmed":true`)
	if status, text := fill("F-12", "dora@z.example"); status != 200 || !strings.Contains(text, "Thank you.") ||
		rows() != before+4 {
		t.Errorf("unconfirmed: %d %s", status, text)
	}
}

// Where nothing can be sent, a form says so and keeps what was answered on the page.
func TestFormCannotAsk(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	path, address := m.openForm(sh.ID, "")
	m.want(m.admin, "PUT", "/sending", `{"on":false}`, 200, nil)
	status, text := m.fill(path, prove(address, url.Values{"c1": {"F-1"}, "c4": {"ada@fenwick.example"}}))
	if status != 503 || !strings.Contains(text, "cannot take answers at the moment") ||
		!strings.Contains(text, `value="F-1"`) {
		t.Errorf("%d %s", status, text)
	}
	if n := len(m.practiceMails()); n != 0 {
		t.Errorf("%d emails while all sending is off", n)
	}
}

// A proof is of this form, of now, and good once; without one a few answers are taken.
func TestProofs(t *testing.T) {
	s := newSite(t, true)
	now := time.Now()
	good := prove("form", url.Values{})
	for _, x := range []struct {
		name, address, stamp, proof string
		want                        bool
	}{
		{"its own", "form", good.Get("stamp"), good.Get("proof"), true},
		{"used before", "form", good.Get("stamp"), good.Get("proof"), false},
		{"of another form", "other", good.Get("stamp"), good.Get("proof"), false},
		{"none", "form", good.Get("stamp"), "", false},
		{"old", "form", strconv.FormatInt(now.Add(-3*time.Hour).Unix(), 10), good.Get("proof"), false},
		{"of tomorrow", "form", strconv.FormatInt(now.Add(24*time.Hour).Unix(), 10), good.Get("proof"), false},
		{"no time", "form", "now", good.Get("proof"), false},
	} {
		if got := s.h.s.proven(x.address, x.stamp, x.proof); got != x.want {
			t.Errorf("%s: %v, want %v", x.name, got, x.want)
		}
	}
	none := func(string) string { return "" }
	ctx := store.WithDoer(context.Background(), &store.Doer{Network: "192.0.2.1"})
	taken := 0
	for range 50 {
		if s.h.s.mayCome(ctx, "form", none) {
			taken++
		}
	}
	if taken != plainTries {
		t.Errorf("%d without a script were taken, want %d", taken, plainTries)
	}
	b, err := json.Marshal(Form{})
	if err != nil || strings.Contains(string(b), "unconfirmed") {
		t.Errorf("a form confirms unless it says otherwise: %s %v", b, err)
	}
}

// A form asks for no files, and for nothing that is hidden or calculated; one that did loses them.
func TestFormAsksForNoFile(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	ctx := context.Background()
	path, address := m.openForm(sh.ID, `,"unconfirmed":true`)
	core, err := sh.Core()
	if err != nil {
		t.Fatal(err)
	}
	set := func(change func(c *sheet.Column)) {
		t.Helper()
		cols := slices.Clone(core.Columns)
		change(&cols[0])
		rec, err := m.st.Sheet(ctx, sh.ID)
		if err != nil {
			t.Fatal(err)
		}
		rec.SetColumns(cols)
		if err := m.st.SaveSheet(ctx, rec); err != nil {
			t.Fatal(err)
		}
	}
	for _, k := range []struct {
		name   string
		change func(c *sheet.Column)
		wants  bool
	}{
		{"a file", func(c *sheet.Column) { c.Type = value.File }, false},
		{"hidden", func(c *sheet.Column) { c.Hidden = true }, false},
		{"as it was", func(*sheet.Column) {}, true},
		{"calculated", func(c *sheet.Column) { c.Type, c.Formula = value.Formula, "1" }, false},
	} {
		set(k.change)
		name, wants := k.name, k.wants
		page := body(m.call(m.as(""), "GET", path, ""))
		if asks := strings.Contains(page, `name="c1"`); asks != wants {
			t.Errorf("%s: asked for %v", name, asks)
		}
		var state FormState
		m.want(m.co, "GET", "/sheets/"+sh.ID+"/form", "", 200, &state)
		status, _ := m.asks(m.co, "PUT", "/sheets/"+sh.ID+"/form",
			`{"open":true,"title":"Join in","intro":"","button":"Send","thanks":"T","fields":[{"column":"c1","label":"Key"}],"unconfirmed":true}`)
		if (len(state.Form.Fields) == 2) != wants || (status == 200) != wants {
			t.Errorf("%s: it has %d fields, and saving it answers %d", name, len(state.Form.Fields), status)
		}
		before := m.rowsOf(sh.ID)
		if status, _ := m.fill(path, prove(address, url.Values{"c1": {"loan-agreement.pdf"}})); !wants &&
			(status != 422 && status != 410 || m.rowsOf(sh.ID) != before) {
			t.Errorf("%s: taken in with %d", name, status)
		}
	}
}

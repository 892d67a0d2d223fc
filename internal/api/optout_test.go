package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/database/dbtest"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// stopOf returns the path of the link in the newest practice mail to an address.
func (m *museum) stopOf(address string) string {
	m.t.Helper()
	all := m.practiceMails()
	for i := len(all) - 1; i >= 0; i-- {
		if strings.Contains(all[i].EnvelopeTo, address) {
			plain := strings.ReplaceAll(string(all[i].Raw), "=\r\n", "")
			if found := regexp.MustCompile(`/stop/[\w-]+`).FindString(plain); found != "" {
				return found
			}
		}
	}
	m.t.Fatalf("no mail with a link went to %s", address)
	return ""
}

// An email that went to several has one link for all of them: the page shows nobody to another, and says the same
// whether an address is among them.
func TestStopShowsNobodyElse(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	r := m.rulesOf(sh.ID)[0]
	var ask map[string]any
	if err := json.Unmarshal([]byte(jsonOf(r.Body)), &ask); err != nil {
		t.Fatal(err)
	}
	ask["optOut"], ask["bcc"] = true, []any{map[string]any{"address": "director@marrowby.example"}}
	m.want(m.co, "PUT", at+"/rules/"+r.Id, jsonOf(map[string]any{"body": ask}), 200, nil)
	m.want(m.co, "PUT", at+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-19T09:31:00Z")
	path := m.stopOf("director@marrowby.example")
	silenced := func() (out []string) {
		var list []Silenced
		m.want(m.co, "GET", "/setup/do-not-email", "", 200, &list)
		for _, x := range list {
			out = append(out, x.Address)
		}
		return out
	}
	before := len(silenced())
	anybody := m.as("")
	res := m.call(anybody, "GET", path, "")
	if page := body(res); res.StatusCode != 200 || strings.Contains(page, "marrowby.example") ||
		!strings.Contains(page, "Your address") {
		t.Errorf("the page: %d %s", res.StatusCode, page)
	}
	post := func(address string) (int, string) {
		t.Helper()
		res, err := anybody.PostForm(m.srv.URL+path, url.Values{"address": {address}})
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, body(res)
	}
	if status, page := post(""); status != 422 || strings.Contains(page, "marrowby.example") || len(silenced()) != before {
		t.Errorf("without an address, as one click sends none: %d %s", status, page)
	}
	_, stranger := post("stranger@elsewhere.example")
	if len(silenced()) != before {
		t.Error("a stranger's address is stopped: ", silenced())
	}
	_, own := post(" Director@Marrowby.example ")
	if got := silenced(); len(got) != before+1 {
		t.Errorf("one's own address is not stopped: %v", got)
	}
	if a, b := strings.ReplaceAll(stranger, "stranger@elsewhere.example", "X"),
		regexp.MustCompile(`(?i)director@marrowby.example`).ReplaceAllString(own, "X"); a != b {
		t.Errorf("it tells who is among the recipients:\n%s\n%s", a, b)
	}
}

// A mail provider presses for all its people at once, from one address.
func TestStopsOfAProvider(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	ctx := context.Background()
	const many = 500
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/rules/"+m.rulesOf(sh.ID)[0].Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-19T09:31:00Z")
	var d store.Delivery
	if err := m.st.DB(ctx).Order("id").First(&d).Error; err != nil {
		t.Fatal(err)
	}
	var paths []string
	for i := range many {
		x := d
		x.ID, x.Occasion, x.SheetID = 0, fmt.Appendf(nil, "provider%08d", i), sh.ID
		x.Recipients = jsonOf([]store.Recipient{{Role: "to", Mailbox: fmt.Sprintf("p%d@provider.example", i)}})
		if err := m.st.DB(ctx).Create(&x).Error; err != nil {
			t.Fatal(err)
		}
		link, err := m.e.OptOutLink(ctx, &x, "")
		if err != nil {
			t.Fatal(err)
		}
		paths = append(paths, link)
	}
	var refused atomic.Int64
	var wg sync.WaitGroup
	next := make(chan string)
	for range 16 {
		wg.Go(func() {
			for path := range next {
				res, err := http.DefaultClient.Post(m.srv.URL+path, typeForm, strings.NewReader("List-Unsubscribe=One-Click"))
				if err != nil || res.StatusCode != 200 {
					refused.Add(1)
				}
				if err == nil {
					_ = body(res)
				}
			}
		})
	}
	for _, p := range paths {
		next <- p
	}
	close(next)
	wg.Wait()
	var list []Silenced
	m.want(m.co, "GET", "/setup/do-not-email", "", 200, &list)
	n := 0
	for _, x := range list {
		if strings.HasSuffix(x.Address, "@provider.example") {
			n++
		}
	}
	if refused.Load() != 0 || n != many {
		t.Errorf("%d of %d were refused, %d are stopped", refused.Load(), many, n)
	}
	var again atomic.Int64
	for range intakeTries + 3 { // one link alone is bounded
		res, err := http.DefaultClient.Post(m.srv.URL+paths[0], typeForm, strings.NewReader("List-Unsubscribe=One-Click"))
		if err != nil {
			t.Fatal(err)
		}
		if _ = body(res); res.StatusCode == 429 {
			again.Add(1)
		}
	}
	if again.Load() == 0 {
		t.Error("one link is not bounded")
	}
}

// A link of access is read in the practice mailbox by nobody but whom it is for, and outside the demo the mailbox is
// the administrator's.
func TestPracticeMailTellsNoSecrets(t *testing.T) {
	m := newMuseum(t)
	ctx := context.Background()
	secret := strings.Repeat("aB3_", 8)
	keep := func(to, path string) string {
		x := &store.PracticeMessage{ReceivedAt: time.Now(), EnvelopeTo: to, Subject: "x",
			Raw: []byte("Subject: x\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" +
				"Follow http://127.0.0.1:8420" + path[:4] + "=\r\n" + path[4:] + secret[:9] + "=\r\n" + secret[9:] + " now\r\n")}
		if err := m.st.AddPracticeMessage(ctx, x); err != nil {
			t.Fatal(err)
		}
		return store.RowID(x.ID)
	}
	if err := m.st.AddPracticeMessage(ctx, &store.PracticeMessage{ReceivedAt: time.Now(), EnvelopeTo: "p.onslow@marrowby.example",
		Subject: strings.Repeat("long ", 1000), MessageID: strings.Repeat("x", 900), Raw: []byte("x")}); err != nil {
		t.Errorf("a long subject: %v", err)
	}
	access := keep("administrator@marrowby.example", welcomePath)
	two := keep("administrator@marrowby.example\nreader@marrowby.example", welcomePath)
	stop := keep("p.onslow@marrowby.example", engine.OptOutPath)
	for _, k := range []struct {
		name  string
		role  store.Role
		id    string
		shown bool
	}{
		{"their own", store.Administrator, access, true},
		{"an administrator's, to a reader", store.Reader, access, false},
		{"an administrator's, to a coordinator", store.Coordinator, access, false},
		{"of two people", store.Administrator, two, false},
		{"to stop, to a reader", store.Reader, stop, false},
		{"to stop, to an editor", store.Editor, stop, false},
		{"to stop, to a coordinator", store.Coordinator, stop, true},
	} {
		t.Run(k.name, func(t *testing.T) {
			c := m.as(k.role)
			var d PracticeDetail
			m.want(c, "GET", "/practice/messages/"+k.id, "", 200, &d)
			eml := body(m.call(c, "GET", "/api/practice/messages/"+k.id+"/message.eml", ""))
			for what, got := range map[string]string{"text": d.Text, "source": d.Source, "message.eml": eml} {
				if shown := strings.Contains(strings.ReplaceAll(got, "=\r\n", ""), secret); shown != k.shown {
					t.Errorf("%s: shown %v, want %v: %s", what, shown, k.shown, got)
				}
				if !strings.Contains(got, " now") {
					t.Errorf("%s: the rest is gone: %s", what, got)
				}
			}
		})
	}
	s := newSite(t, true) // not the demo
	for _, path := range []string{"", "/1", "/1/message.eml", "/1/files/0"} {
		for role, want := range map[store.Role]bool{store.Reader: false, store.Coordinator: false, store.Administrator: true} {
			if res := s.call(s.as(role), "GET", "/api/practice/messages"+path, ""); (res.StatusCode != 403) != want {
				t.Errorf("outside the demo, %s as %s: %d %s", path, role, res.StatusCode, body(res))
			}
		}
	}
}

// FuzzStop looks at and presses links of any kind.
func FuzzStop(f *testing.F) {
	f.Add("test", typeForm, []byte("List-Unsubscribe=One-Click"))
	f.Add("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", typeUpload+"; boundary=x",
		[]byte("--x\r\nContent-Disposition: form-data; name=address\r\n\r\nada@x.example\r\n--x--\r\n"))
	st, err := store.Open(dbtest.Migrated(f))
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { st.Close() })
	h, err := New(Options{Engine: engine.New(st, time.Now, engine.Options{}), Wall: time.Now,
		PublicURL: "http://127.0.0.1:8420", Web: fstest.MapFS{"index.html": {Data: []byte("x")}}})
	if err != nil {
		f.Fatal(err)
	}
	ctx := context.Background()
	d := &store.Delivery{Occasion: []byte("0123456789abcdef"), SheetID: "s", State: "accepted",
		Recipients: jsonOf([]store.Recipient{{Role: "to", Mailbox: "ada@x.example"}, {Role: "bcc", Mailbox: "ben@x.example"}})}
	link, err := engine.New(st, time.Now, engine.Options{}).OptOutLink(ctx, d, "")
	if err != nil {
		f.Fatal(err)
	}
	if err := st.DB(ctx).Omit("next_try").Create(d).Error; err != nil {
		f.Fatal(err)
	}
	f.Add(strings.TrimPrefix(link, engine.OptOutPath), typeForm, []byte("address=zoe@x.example"))
	f.Fuzz(func(t *testing.T, token, typ string, data []byte) {
		for _, method := range []string{"GET", "POST"} {
			req := httptest.NewRequest(method, engine.OptOutPath+url.PathEscape(token), bytes.NewReader(data))
			req.Header["Content-Type"] = []string{typ}
			w := httptest.NewRecorder()
			h.ServeHTTP(w, req)
			page := w.Body.String()
			if w.Code >= 500 {
				t.Errorf("%s: %d %s", method, w.Code, page)
			}
			if strings.Contains(page, "ben@x.example") && !bytes.Contains(data, []byte("ben")) {
				t.Errorf("%s tells a recipient: %s", method, page)
			}
		}
	})
}

package api

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

func (s *site) who(role store.Role) *store.Person {
	s.t.Helper()
	p, err := s.st.PersonByEmail(context.Background(), string(role)+"@marrowby.example")
	if err != nil {
		s.t.Fatal(err)
	}
	return p
}

// dear gives somebody whose password costs as much to try as everybody's outside the tests.
func (s *site) dear(role store.Role) *store.Person {
	s.t.Helper()
	p := s.who(role)
	p.PasswordHash = HashPassword(password)
	if err := s.st.SavePerson(context.Background(), p); err != nil {
		s.t.Fatal(err)
	}
	return p
}

// tryIn tries to sign in, from a network address where one is given, and gives the status.
func (s *site) tryIn(email, password, from string) int {
	s.t.Helper()
	req := httptest.NewRequest("POST", "/api/session", strings.NewReader(fmt.Sprintf(`{"email":%q,"password":%q}`, email,
		password)))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	if from != "" {
		req.RemoteAddr = net.JoinHostPort(from, "40000")
	}
	w := httptest.NewRecorder()
	s.h.ServeHTTP(w, req)
	return w.Code
}

// A wrong password changes nothing of the person, and so undoes nothing that is done to them
// while it is being hashed.
func TestSignInWritesNothingOfThePerson(t *testing.T) {
	s := newSite(t, true)
	admin, reader := s.as(store.Administrator), s.dear(store.Reader)
	for i := range 4 {
		var wait sync.WaitGroup
		for k := range 3 {
			wait.Go(func() { s.tryIn(reader.Email, "wrong", fmt.Sprintf("192.0.2.%d", 10*i+k)) })
		}
		time.Sleep(5 * time.Millisecond)
		disabled := i%2 == 0
		s.want(admin, "PATCH", "/people/"+reader.ID, fmt.Sprintf(`{"disabled":%v}`, disabled), 200, nil)
		wait.Wait()
		if got := s.who(store.Reader).Disabled; got != disabled {
			t.Fatalf("round %d: disabled is %v after wrong passwords, want %v", i, got, disabled)
		}
	}
}

// However an address is spelt, tries at it are counted together, before the password is
// hashed; what others guess keeps nobody out of where they sign in from.
func TestTriesAreCounted(t *testing.T) {
	s := newSite(t, true)
	spell := func(i int) string {
		a := "editor@marrowby.example"
		return a[:i%6+1] + strings.Repeat("\u200b", i/6+1) + a[i%6+1:]
	}
	if got := s.tryIn("editor@marrowby.example", password, "192.0.2.1"); got != 200 {
		t.Fatal(got)
	}
	var tried atomic.Int32
	var wait sync.WaitGroup
	for i := range 60 {
		wait.Go(func() {
			if s.tryIn(spell(i), "wrong", "198.51.100.7") == 401 {
				tried.Add(1)
			}
		})
	}
	wait.Wait()
	if n := tried.Load(); n != pairTries {
		t.Errorf("%d of 60 spellings were tried, want %d", n, pairTries)
	}
	if got := s.tryIn("editor@marrowby.example", password, "198.51.100.7"); got != 429 {
		t.Errorf("the right password after too many tries: got %d, want 429", got)
	}
	// From many addresses, until the person's own limit is reached.
	for i := range personTries {
		s.tryIn("editor@marrowby.example", "wrong", fmt.Sprintf("203.0.113.%d", i))
	}
	for from, want := range map[string]int{"192.0.2.1": 200, "203.0.113.250": 429} {
		if got := s.tryIn("editor@marrowby.example", password, from); got != want {
			t.Errorf("from %s: got %d, want %d", from, got, want)
		}
	}
	// Who is not there is answered alike.
	for i := range pairTries + 1 {
		want := 401
		if i == pairTries {
			want = 429
		}
		if got := s.tryIn("nobody@marrowby.example", "wrong", "192.0.2.9"); got != want {
			t.Errorf("try %d at nobody: got %d, want %d", i, got, want)
		}
	}
	if got := s.tryIn("h\u00fcgh@marrowby.example", password, ""); got != 401 {
		t.Errorf("an address with an accent: %d", got)
	}
}

func TestNetworkAddresses(t *testing.T) {
	for in, want := range map[string]string{"192.0.2.7": "192.0.2.7", "::ffff:192.0.2.7": "192.0.2.7",
		"2001:db8:1:2:3:4:5:6": "2001:db8:1:2::",
		"2001:db8:1:2::9":      "2001:db8:1:2::", "fe80::1%eth0": "fe80::", "": ""} {
		if got := networkOf(in); got != want {
			t.Errorf("networkOf(%q) = %q, want %q", in, got, want)
		}
	}
	proxy := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
	for _, x := range []struct {
		name, remote, forwarded, want string
		trusted                       []netip.Prefix
	}{
		{"straight", "192.0.2.7:1", "", "192.0.2.7", proxy},
		{"somebody who says so", "192.0.2.7:1", "203.0.113.9", "192.0.2.7", proxy},
		{"by a proxy", "10.0.0.2:1", "203.0.113.9", "203.0.113.9", proxy},
		{"by a proxy, with something before", "10.0.0.2:1", "1.1.1.1, 203.0.113.9", "203.0.113.9", proxy},
		{"a proxy that is not named", "10.0.0.2:1", "203.0.113.9", "10.0.0.2", nil},
		{"this machine, not named", "127.0.0.1:1", "203.0.113.9", "127.0.0.1", proxy},
	} {
		t.Run(x.name, func(t *testing.T) {
			r := httptest.NewRequest("GET", "/", nil)
			r.RemoteAddr = x.remote
			if x.forwarded != "" {
				r.Header.Set("X-Forwarded-For", x.forwarded)
			}
			if got := extractor(x.trusted)(r); got != x.want {
				t.Errorf("got %s, want %s", got, x.want)
			}
		})
	}
}

// What ends access ends sessions, links and tokens of before, also when it is taken back.
func TestAccessEnds(t *testing.T) {
	for _, x := range []struct {
		name string
		do   func(s *site, admin *http.Client, id string)
	}{
		{"another role and back", func(s *site, admin *http.Client, id string) {
			s.want(admin, "PATCH", "/people/"+id, `{"role":"reader"}`, 200, nil)
			s.want(admin, "PATCH", "/people/"+id, `{"role":"editor"}`, 200, nil)
		}},
		{"disabled and enabled", func(s *site, admin *http.Client, id string) {
			s.want(admin, "PATCH", "/people/"+id, `{"disabled":true}`, 200, nil)
			s.want(admin, "PATCH", "/people/"+id, `{"disabled":false}`, 200, nil)
		}},
		{"deleted and restored", func(s *site, admin *http.Client, id string) {
			s.want(admin, "DELETE", "/people/"+id, "", 204, nil)
			s.want(admin, "POST", "/people/"+id+"/restore", "", 200, nil)
		}},
		{"a new password by a link", func(s *site, admin *http.Client, id string) {
			var link NewLink200JSONResponse
			s.want(admin, "POST", "/people/"+id+"/link", "", 200, &link)
			s.want(s.as(""), "POST", "/links/"+link.Link[strings.LastIndex(link.Link, "/")+1:],
				fmt.Sprintf(`{"name":"editor","email":"editor@marrowby.example","password":%q}`, password), 200, nil)
		}},
		{"a new password of one's own", func(s *site, _ *http.Client, _ string) {
			s.want(s.as(store.Editor), "PUT", "/me/password", fmt.Sprintf(`{"old":%q,"password":%q}`, password,
				"seven green barometers"), 204, nil)
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := newSite(t, true)
			sh := s.loans()
			admin, editor := s.as(store.Administrator), s.as(store.Editor)
			id := s.who(store.Editor).ID
			secret, _ := s.token(editor, `{"name":"Desk","role":"editor"}`)
			var link NewLink200JSONResponse
			s.want(admin, "POST", "/people/"+id+"/link", "", 200, &link)
			ends := s.stream(editor)
			s.want(editor, "GET", "/sheets", "", 200, nil)
			if status, text, _ := s.ask("GET", "/api/sheets/"+sh.ID+"/rows", secret, ""); status != 200 {
				t.Fatal(status, text)
			}
			x.do(s, admin, id)
			s.refused(editor, "GET", "/sheets", "", 401, "")
			if status, text, _ := s.ask("GET", "/api/sheets/"+sh.ID+"/rows", secret, ""); status != 401 {
				t.Errorf("a token of before: %d %s", status, text)
			}
			s.refused(s.as(""), "GET", "/links/"+link.Link[strings.LastIndex(link.Link, "/")+1:], "", 404, "")
			select {
			case <-ends:
			case <-time.After(2 * time.Minute):
				t.Error("the stream of changes goes on")
			}
		})
	}
}

// stream listens to changes as somebody, and says when it has ended.
func (s *site) stream(c *http.Client) <-chan struct{} {
	s.t.Helper()
	const often = 200 * time.Millisecond
	if live := s.h.s.live; live.beat != often {
		live.beat = often // before the first stream
	}
	res := s.call(c, "GET", "/api/events", "")
	if res.StatusCode != 200 {
		s.t.Fatal(res.StatusCode, body(res))
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer res.Body.Close()
		_, _ = io.Copy(io.Discard, res.Body)
	}()
	s.t.Cleanup(s.srv.CloseClientConnections)
	return ended
}

func TestStreamsAreBounded(t *testing.T) {
	s := newSite(t, true)
	reader, editor := s.as(store.Reader), s.as(store.Editor)
	for range maxStreams {
		s.stream(reader)
	}
	s.refused(reader, "GET", "/events", "", 429, "Close some")
	s.stream(editor)
}

// A session that is signed out of while a request of it goes on stays ended.
func TestSignedOutStaysOut(t *testing.T) {
	s := newSite(t, true)
	c := s.as(store.Reader)
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() { body(s.call(c, "GET", "/api/sheets", "")) })
	}
	other := &http.Client{Jar: c.Jar}
	cookies := cookiesOf(s, c)
	s.want(other, "DELETE", "/session", "", 204, nil)
	wait.Wait()
	req, _ := http.NewRequest("GET", s.srv.URL+"/api/sheets", nil)
	for _, k := range cookies {
		req.AddCookie(k)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	if text := body(res); res.StatusCode != 401 {
		t.Errorf("got %d %s, want 401", res.StatusCode, text)
	}
}

func cookiesOf(s *site, c *http.Client) []*http.Cookie {
	req, _ := http.NewRequest("GET", s.srv.URL, nil)
	return c.Jar.Cookies(req.URL)
}

// Where one is signed in is listed, and ended everywhere but here.
func TestSessions(t *testing.T) {
	s := newSite(t, true)
	here, there := s.as(store.Reader), s.as(store.Reader)
	s.as(store.Editor)
	var list []SignedIn
	s.want(here, "GET", "/me/sessions", "", 200, &list)
	if len(list) != 2 || list[0].Here == list[1].Here || list[0].Network != "127.0.0.1" || list[0].Agent == "" {
		t.Fatalf("%+v", list)
	}
	var ended SignOutElsewhere200JSONResponse
	s.want(here, "DELETE", "/me/sessions", "", 200, &ended)
	if ended.Ended != 1 {
		t.Errorf("ended %d, want 1", ended.Ended)
	}
	s.refused(there, "GET", "/sheets", "", 401, "")
	s.want(here, "GET", "/me/sessions", "", 200, &list)
	if len(list) != 1 || !list[0].Here {
		t.Errorf("%+v", list)
	}
}

func TestNewPasswords(t *testing.T) {
	for _, x := range []struct{ password, why string }{
		{"short", "shorter"},
		{"weathercock", "shorter"},
		{"password123", "shorter"},
		{"password1234", "guessed"},
		{"123456789012", "guessed"},
		{"qwertyuiop[]", "guessed"},
		{"aaaaaaaaaaaaaaaa", "guessed"},
		{"rosamoss2027", "own name"},
		{"rosa@marrowby.example", "own name"},
		{"Rosa Moss Rosa Moss", "own name"},
		{"iloveyou12345", "guessed"},
		{"weathercock-1790", ""},
		{"seven green barometers", ""},
		{"kV9#pq2!xLmw", ""},
		{strings.Repeat("glockenspiel under the stairs ", 16), ""},
	} {
		t.Run(x.password[:min(20, len(x.password))], func(t *testing.T) {
			err := checkNewPassword(x.password, "Rosa Moss", "rosa@marrowby.example")
			if (err == nil) != (x.why == "") || err != nil && !strings.Contains(err.Error(), x.why) {
				t.Errorf("got %v, want %q", err, x.why)
			}
		})
	}
}

// One's own password is changed by who knows it.
func TestOwnPassword(t *testing.T) {
	s := newSite(t, true)
	c := s.as(store.Reader)
	s.refused(c, "PUT", "/me/password", `{"old":"wrong","password":"seven green barometers"}`, 422, "not your password")
	s.refused(c, "PUT", "/me/password", fmt.Sprintf(`{"old":%q,"password":"reader-reader"}`, password), 422, "own name")
	s.want(c, "PUT", "/me/password", fmt.Sprintf(`{"old":%q,"password":"seven green barometers"}`, password), 204, nil)
	s.want(c, "GET", "/sheets", "", 200, nil) // this session goes on
	if got := s.tryIn("reader@marrowby.example", password, ""); got != 401 {
		t.Errorf("the old one: %d", got)
	}
	if got := s.tryIn("reader@marrowby.example", "seven green barometers", ""); got != 200 {
		t.Errorf("the new one: %d", got)
	}
}

// Many sign-ins at once take the memory of a few.
func TestHashingIsBounded(t *testing.T) {
	s := newSite(t, true)
	s.dear(store.Reader)
	var most atomic.Uint64
	stop := make(chan struct{})
	var watch sync.WaitGroup
	watch.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most.Store(max(most.Load(), m.HeapInuse))
			}
		}
	})
	runtime.GC()
	var wait sync.WaitGroup
	for i := range 40 {
		wait.Go(func() { s.tryIn("reader@marrowby.example", "wrong", fmt.Sprintf("192.0.2.%d", i)) })
	}
	wait.Wait()
	close(stop)
	watch.Wait()
	if most.Load() > 400<<20 {
		t.Errorf("forty sign-ins at once had %d MB in use", most.Load()>>20)
	}
}

// What is too large is refused before it is read, and what does not come is not waited for.
func TestBodiesAreBounded(t *testing.T) {
	s := newSite(t, true)
	s.refused(s.as(""), "POST", "/session", `{"email":"x","password":"`+strings.Repeat("x", 70<<10)+`"}`, 413, "64 kB")
	for _, size := range []string{"20000000", "chunked"} {
		conn, err := net.Dial("tcp", s.srv.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		head := "POST /api/session HTTP/1.1\r\nHost: x\r\nSec-Fetch-Site: same-origin\r\nContent-Type: application/json\r\n"
		if size == "chunked" {
			fmt.Fprintf(conn, "%sTransfer-Encoding: chunked\r\n\r\n", head)
			go func() {
				for range 40 {
					if _, err := fmt.Fprintf(conn, "%x\r\n%s\r\n", 4096, strings.Repeat("{", 4096)); err != nil {
						return
					}
				}
			}()
		} else {
			fmt.Fprintf(conn, "%sContent-Length: %s\r\n\r\n{", head, size)
		}
		_ = conn.SetReadDeadline(time.Now().Add(2 * time.Minute))
		res, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil || res.StatusCode != 413 {
			t.Errorf("%s: %v %v", size, res, err)
		}
	}
}

// The audit tells who did what, with what was before and after, and nobody but administrators
// reads it.
func TestAudit(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	admin, reader := s.as(store.Administrator), s.who(store.Reader)
	s.tryIn(reader.Email, "wrong", "192.0.2.77")
	s.want(admin, "PATCH", "/people/"+reader.ID, `{"role":"editor"}`, 200, nil)
	_, tok := s.token(admin, `{"name":"Desk","role":"editor"}`)
	s.want(admin, "DELETE", "/tokens/"+tok.Id, "", 204, nil)
	s.want(admin, "PUT", "/sending", `{"on":false}`, 200, nil)
	if res := s.call(admin, "GET", "/api/sheets/"+sh.ID+"/out?format=csv", ""); res.StatusCode != 200 {
		t.Fatal(res.StatusCode, body(res))
	}
	s.refused(s.as(store.Coordinator), "GET", "/audit", "", 403, "administrator")
	var page ListAudit200JSONResponse
	s.want(admin, "GET", "/audit", "", 200, &page)
	seen := map[string]AuditLine{}
	for _, l := range page.Lines { // the newest of each
		if _, ok := seen[string(l.Act)]; !ok {
			seen[string(l.Act)] = l
		}
	}
	for _, x := range []struct{ act, actor, network, was, became string }{
		{store.ActSignInFailed, reader.Email, "192.0.2.77", "", "wrong"},
		{store.EventPersonSaved, "administrator", "127.0.0.1", `"role":"reader"`, `"role":"editor"`},
		{store.EventTokenSaved, "administrator", "127.0.0.1", "", "revoked"},
		{store.EventSettingSaved, "administrator", "127.0.0.1", "", `"sending":false`},
		{store.ActExport, "administrator", "127.0.0.1", "", "csv"},
		{store.ActSignIn, "coordinator", "127.0.0.1", "", ""},
	} {
		t.Run(x.act, func(t *testing.T) {
			l, ok := seen[x.act]
			if !ok || l.Actor != x.actor || l.Network != x.network || !strings.Contains(l.Was, x.was) ||
				!strings.Contains(l.Became, x.became) {
				t.Errorf("got %+v, want %+v", l, x)
			}
		})
	}
	s.want(admin, "GET", "/audit?act=sign-in-failed&network=192.0.2.77", "", 200, &page)
	if len(page.Lines) != 1 || page.Next != "" {
		t.Errorf("filtered: %+v", page)
	}
	res := s.call(admin, "GET", "/api/audit.csv?act=sign-in-failed", "")
	if text := body(res); res.StatusCode != 200 || strings.Count(text, "\r\n") != 2 ||
		!strings.Contains(text, "192.0.2.77") {
		t.Errorf("%d %q", res.StatusCode, text)
	}
}

// Who takes another's name does not become them: changes are those of a person, not of a name.
func TestActorsAreIds(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	co, editor := s.as(store.Coordinator), s.as(store.Editor)
	var change ChangeResult
	s.want(co, "POST", "/sheets/"+sh.ID+"/changes",
		`{"kind":"edit","steps":[{"op":"edit","row":"1","cells":{"c2":"Tin cock"}}]}`, 200, &change)
	me := s.who(store.Editor)
	var link NewLink200JSONResponse
	s.want(s.as(store.Administrator), "POST", "/people/"+me.ID+"/link", "", 200, &link)
	path := "/links/" + link.Link[strings.LastIndex(link.Link, "/")+1:]
	for _, name := range []string{"coordinator", "Coordinator ", "coor\u200bdinator"} {
		s.refused(s.as(""), "POST", path, fmt.Sprintf(`{"name":%q,"email":%q,"password":%q}`, name, me.Email, password), 422,
			"/name")
	}
	// Even where the name is the same in what was kept.
	if err := s.st.DB(context.Background()).Exec("UPDATE people SET name = 'coordinator' WHERE id = ?",
		me.ID).Error; err != nil {
		t.Fatal(err)
	}
	s.refused(editor, "POST", "/sheets/"+sh.ID+"/changes/"+change.Id+"/undo", "", 403, "coordinator may")
	s.want(co, "POST", "/sheets/"+sh.ID+"/changes/"+change.Id+"/undo", "", 200, nil)
	if value.Identifier("coor\u200bdinator") != value.Identifier("Coordinator") {
		t.Error("identifiers")
	}
}

// A limit that was reached stays so, whoever else comes.
func TestLimitsAreKept(t *testing.T) {
	now := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	l := newLimiter(func() time.Time { return now }, 3, time.Minute)
	for range 3 {
		if !l.allow("guesser") {
			t.Fatal("within the limit")
		}
	}
	for i := range 20_000 {
		l.allow(fmt.Sprint("somebody ", i))
	}
	if d := l.wait("guesser"); d <= 0 || d > time.Minute {
		t.Errorf("after 20,000 others the wait is %s, want up to a minute", d)
	}
	now = now.Add(time.Minute)
	if !l.allow("guesser") || l.allow("guesser") {
		t.Error("one more a minute")
	}
}

// Tokens end by themselves.
func TestTokensExpire(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Editor)
	secret, tok := s.token(c, `{"name":"Desk","role":"editor","days":30}`)
	if tok.ExpiresAt == nil || tok.ExpiresAt.Sub(tok.CreatedAt) < 29*24*time.Hour || tok.State != Works {
		t.Errorf("%+v", tok)
	}
	s.refused(c, "POST", "/tokens", `{"name":"Desk","role":"editor","days":5000}`, 422, "/days")
	if err := s.st.DB(context.Background()).Exec(
		"UPDATE tokens SET expires_at = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND").Error; err != nil {
		t.Fatal(err)
	}
	if status, text, _ := s.ask("GET", "/api/sheets/"+sh.ID+"/rows", secret, ""); status != 401 {
		t.Errorf("%d %s", status, text)
	}
	var list []Token
	s.want(c, "GET", "/tokens", "", 200, &list)
	if len(list) != 1 || list[0].State != Expired {
		t.Errorf("%+v", list)
	}
}

// An editor stops their own work alone.
func TestWhoStopsAJob(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	ctx := context.Background()
	for id, role := range map[string]store.Role{"theirs": store.Coordinator, "mine": store.Editor} {
		if err := s.st.AddJob(ctx, &store.Job{ID: id, SheetID: sh.ID, PersonID: s.who(role).ID, Person: string(role),
			Kind: "import"}); err != nil {
			t.Fatal(err)
		}
	}
	editor := s.as(store.Editor)
	s.refused(editor, "DELETE", "/jobs/theirs", "", 403, "coordinator may")
	s.want(editor, "DELETE", "/jobs/mine", "", 204, nil)
	s.want(s.as(store.Coordinator), "DELETE", "/jobs/theirs", "", 204, nil)
}

// A cell holds no NUL character, whatever way it comes.
func TestNoNUL(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Editor)
	s.refused(c, "PATCH", "/sheets/"+sh.ID+"/rows/1", `{"cells":{"c2":"a\u0000b"}}`, 422, "NUL")
	s.refused(c, "POST", "/sheets/"+sh.ID+"/changes",
		`{"kind":"paste","steps":[{"op":"edit","row":"1","cells":{"c2":"a\u0000b"}}]}`, 422, "/steps/0/cells/c2")
}

// What was put off fills no audit: the first try of a place has a line, and those that follow one a minute.
func TestPutOffIsCounted(t *testing.T) {
	s := newSite(t, true)
	lines := func() (out []string) {
		t.Helper()
		var list []store.Audited
		if err := s.st.DB(context.Background()).Where("act = ?", store.ActSignInFailed).Order("id").Find(&list).Error; err != nil {
			t.Fatal(err)
		}
		for _, x := range list {
			if strings.Contains(x.Became, "too many tries") {
				out = append(out, x.Network+" "+x.Became)
			}
		}
		return out
	}
	for range pairTries {
		s.tryIn("editor@marrowby.example", "wrong", "198.51.100.7")
	}
	for range 40 {
		if got := s.tryIn("editor@marrowby.example", "wrong", "198.51.100.7"); got != 429 {
			t.Fatal(got)
		}
	}
	if got := lines(); len(got) != 1 || !strings.Contains(got[0], `"tries":1`) {
		t.Errorf("at once: %v", got)
	}
	ctx := context.Background()
	s.h.s.tellPutOff(ctx)
	if got := lines(); len(got) != 2 || !strings.HasPrefix(got[1], "198.51.100.7 ") || !strings.Contains(got[1], `"tries":39`) {
		t.Errorf("after a minute: %v", got)
	}
	s.h.s.tellPutOff(ctx)
	s.h.s.tellPutOff(ctx)
	if got := lines(); len(got) != 2 {
		t.Errorf("later: %v", got)
	}
	for i := range maxPutOffs + 50 {
		s.h.s.putOff(ctx, "x", fmt.Sprint("place ", i))
	}
	if got := lines(); len(got) != 2+maxPutOffs {
		t.Errorf("of many places %d lines", len(got)-2)
	}
}

// Two administrators who demote each other in one moment: one of them stays.
func TestOneAdministratorStays(t *testing.T) {
	s := newSite(t, true)
	ctx := context.Background()
	people, err := s.st.People(ctx)
	if err != nil {
		t.Fatal(err)
	}
	ids := map[store.Role]string{}
	for _, p := range people {
		ids[p.Role] = p.ID
	}
	one, first := s.as(store.Administrator), ids[store.Administrator]
	for round, change := range []string{`{"role":"reader"}`, `{"disabled":true}`, ""} {
		s.want(one, "PATCH", "/people/"+ids[store.Coordinator], `{"role":"administrator","disabled":false}`, 200, nil)
		two := s.as(store.Coordinator) // whose address says what they were
		method := "PATCH"
		if change == "" {
			method = "DELETE"
		}
		var wait sync.WaitGroup
		for _, k := range []struct {
			by *http.Client
			id string
		}{{one, ids[store.Coordinator]}, {two, first}} {
			wait.Go(func() { _ = body(s.call(k.by, method, "/api/people/"+k.id, change)) })
		}
		wait.Wait()
		people, err := s.st.People(ctx)
		if err != nil {
			t.Fatal(err)
		}
		left := 0
		for _, p := range people {
			if p.Role == store.Administrator && !p.Out() {
				left++
			}
		}
		if left != 1 {
			t.Fatalf("round %d: %d administrators are left", round, left)
		}
		if err := s.st.DB(ctx).Exec("UPDATE people SET role = ?, disabled = FALSE, deleted_at = NULL WHERE id = ?",
			store.Administrator, first).Error; err != nil {
			t.Fatal(err)
		}
		if err := s.st.DB(ctx).Exec("UPDATE people SET role = ?, disabled = FALSE, deleted_at = NULL WHERE id = ?",
			store.Coordinator, ids[store.Coordinator]).Error; err != nil {
			t.Fatal(err)
		}
		one = s.as(store.Administrator)
	}
}

// A feed ends with what its maker may do, and with its sheet; so does a token with its sheet.
func TestFeedsEnd(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	admin, co := s.as(store.Administrator), s.as(store.Coordinator)
	feed := func(c *http.Client) (path string) {
		var made AddFeed201JSONResponse
		s.want(c, "POST", "/sheets/"+sh.ID+"/feeds", `{}`, 201, &made)
		return strings.TrimPrefix(made.Address, "http://127.0.0.1:8420")
	}
	get := func(path string) int {
		res := s.call(s.as(""), "GET", path, "")
		_ = body(res)
		return res.StatusCode
	}
	works := func() (out []bool) {
		var list []Feed
		s.want(co, "GET", "/sheets/"+sh.ID+"/feeds", "", 200, &list)
		for _, f := range list {
			out = append(out, f.Works)
		}
		return out
	}
	mine, hers := feed(co), feed(admin)
	if a, b := get(mine), get(hers); a != 200 || b != 200 {
		t.Fatal(a, b)
	}
	people, err := s.st.People(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range people {
		if p.Role == store.Coordinator {
			s.want(admin, "PATCH", "/people/"+p.ID, `{"disabled":true}`, 200, nil)
			if a, b := get(mine), get(hers); a != 410 || b != 200 {
				t.Errorf("shut out: %d, another's %d", a, b)
			}
			s.want(admin, "PATCH", "/people/"+p.ID, `{"disabled":false}`, 200, nil)
		}
	}
	co = s.as(store.Coordinator)
	if got := works(); len(got) != 2 || got[0] == got[1] || get(mine) != 410 {
		t.Errorf("let in again: %v, %d", got, get(mine))
	}
	var made AddToken201JSONResponse
	s.want(co, "POST", "/tokens", `{"name":"x","role":"reader","days":30,"sheet":"`+sh.ID+`"}`, 201, &made)
	rows := func() int {
		req, _ := http.NewRequest("GET", s.srv.URL+"/api/sheets/"+sh.ID+"/rows", nil)
		req.Header.Set("Authorization", "Bearer "+made.Secret)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = body(res)
		return res.StatusCode
	}
	if got := rows(); got != 200 {
		t.Fatalf("by a token: %d", got)
	}
	s.want(co, "POST", "/sheets/"+sh.ID+"/put-away", "", 204, nil)
	if a, b := get(hers), rows(); a != 410 || b != 404 {
		t.Errorf("put away: the feed %d, the token %d", a, b)
	}
}

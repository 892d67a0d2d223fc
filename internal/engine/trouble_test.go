package engine

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// testServer is a mail server that counts, and refuses what it is told to.
type testServer struct {
	port int

	mu       sync.Mutex
	most     int // connections at once; 0 for any number
	open     int
	peak     int
	connects int
	mails    int            // MAIL commands
	taken    map[string]int // by Message-ID
	mailFrom *smtp.SMTPError
	rcpt     *smtp.SMTPError
	data     *smtp.SMTPError
}

// limitedListener greets nobody with more than a refusal while too many are connected.
type limitedListener struct {
	net.Listener
	s *testServer
}

// countedConn counts its end.
type countedConn struct {
	net.Conn
	once sync.Once
	s    *testServer
}

func (c *countedConn) Close() error {
	c.once.Do(func() {
		c.s.mu.Lock()
		c.s.open--
		c.s.mu.Unlock()
	})
	return c.Conn.Close()
}

func (l *limitedListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		l.s.mu.Lock()
		l.s.connects++
		full := l.s.most > 0 && l.s.open >= l.s.most
		if !full {
			l.s.open++
			l.s.peak = max(l.s.peak, l.s.open)
		}
		l.s.mu.Unlock()
		if !full {
			return &countedConn{Conn: c, s: l.s}, nil
		}
		fmt.Fprint(c, "421 4.7.0 too many connections from your address\r\n")
		c.Close()
	}
}

type testSession struct {
	s *testServer
}

func (s *testServer) NewSession(*smtp.Conn) (smtp.Session, error) { return &testSession{s: s}, nil }

func (x *testSession) Reset()        {}
func (x *testSession) Logout() error { return nil }

func (x *testSession) Mail(string, *smtp.MailOptions) error {
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	x.s.mails++
	if x.s.mailFrom != nil {
		return x.s.mailFrom
	}
	return nil
}

func (x *testSession) Rcpt(string, *smtp.RcptOptions) error {
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	if x.s.rcpt != nil {
		return x.s.rcpt
	}
	return nil
}

func (x *testSession) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	if x.s.data != nil {
		return x.s.data
	}
	for _, line := range strings.Split(string(b), "\r\n") {
		if id, ok := strings.CutPrefix(line, "Message-ID: "); ok {
			x.s.taken[id]++
		}
	}
	return nil
}

// newTestServer starts a server.
func newTestServer(t *testing.T) *testServer {
	t.Helper()
	s := &testServer{taken: map[string]int{}}
	srv := smtp.NewServer(s)
	srv.Domain, srv.AllowInsecureAuth, srv.MaxMessageBytes = "mail.example", true, 200_000
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s.port = l.Addr().(*net.TCPAddr).Port
	go func() { _ = srv.Serve(&limitedListener{l, s}) }()
	t.Cleanup(func() { srv.Close() })
	return s
}

// set changes what the server refuses.
func (s *testServer) set(change func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change()
}

func (s *testServer) count(of *int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return *of
}

// dueBy makes a sheet of n rows that are due at 09:00 on 15 March 2027 by a sender of its own, first in the list
// or not.
func (f *fixture) dueBy(sender string, port, n int) *store.Sheet {
	f.t.Helper()
	f.persistSender(&store.Sender{ID: sender, Name: sender, Address: sender + "@marrowby.example", Host: "127.0.0.1",
		Port: port, Security: "none", CreatedAt: f.Now(), Zone: "UTC", Position: 5})
	var lines []string
	for i := range n {
		lines = append(lines, fmt.Sprintf("C-%03d,50,%s%d@x.example,,2027-03-22", i, sender, i))
	}
	rec, _ := f.cases(`{"name":"Due","state":"on","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},"send":[{"template":"B"}],"to":[{"column":"Email"}]}`,
		lines...)
	if _, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{Sender: &sender}, "test"); err != nil {
		f.t.Fatal(err)
	}
	return rec
}

func (f *fixture) persistSender(x *store.Sender) {
	f.t.Helper()
	if err := f.Store.SaveSender(f.ctx, x); err != nil {
		f.t.Fatal(err)
	}
	f.SendersChanged()
}

// counted waits for how many deliveries there are of some states.
func (f *fixture) stateCounts() map[delivery.State]int64 {
	f.t.Helper()
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil {
		f.t.Fatal(err)
	}
	return counts
}

// A server that allows two connections gets all that is due over two, at once: no connection is no try of
// any email.
func TestServerAllowsTwoConnections(t *testing.T) {
	srv := newTestServer(t)
	srv.most = 2
	f := newFixture(t, "2027-03-15T08:30:00Z")
	f.dueBy("desk", srv.port, 300)
	f.advance(at("2027-03-15T09:02:00Z"))
	if c := f.stateCounts(); c[delivery.Accepted] != 300 {
		t.Errorf("two minutes after they were due: %v, want 300 accepted", c)
	}
	if n := f.number("SELECT COUNT(*) FROM deliveries WHERE tries <> 1"); n != 0 {
		t.Errorf("%d emails have been tried more or less than once", n)
	}
	if n := srv.count(&srv.connects); n > 40 {
		t.Errorf("%d connections were opened, want few", n)
	}
	states, err := f.Store.SenderStates(f.ctx)
	if x := states["desk"]; err != nil || x.MostConnections != 2 {
		t.Errorf("the server has been found to allow %d connections, want 2 (%v)", x.MostConnections, err)
	}
}

// A sender that cannot sign in rests: it holds up no other, is tried at 1, 5, 15 and 60 minutes, its emails wait
// as queued, and go at once, in order, when it can.
func TestBrokenSenderRests(t *testing.T) {
	for _, c := range []struct {
		name   string
		breaks func(s *testServer, x *store.Sender)
		mends  func(s *testServer)
		want   reason.Code
		counts func(s *testServer) int // what hammers the account
	}{
		{"nothing listens", func(_ *testServer, x *store.Sender) { x.Port = 1 }, nil, reason.NothingListens, nil},
		{"it offers no signing in", func(_ *testServer, x *store.Sender) { x.Username = "desk" }, nil, reason.NoSignIn, nil},
		{"it does not send for the address", func(s *testServer, _ *store.Sender) {
			s.mailFrom = &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "not your address"}
		}, func(s *testServer) { s.mailFrom = nil }, reason.SenderRefused, func(s *testServer) int { return s.count(&s.mails) }},
		{"it relays for nobody", func(s *testServer, _ *store.Sender) {
			s.rcpt = &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "Relay access denied"}
		}, func(s *testServer) { s.rcpt = nil }, reason.SignInWanted, func(s *testServer) int { return s.count(&s.mails) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // it waits most of the time
			well, ill := newTestServer(t), newTestServer(t)
			f := newFixture(t, "2027-03-15T08:30:00Z")
			f.dueBy("ill", ill.port, 40)
			f.dueBy("well", well.port, 40)
			senders, err := f.Store.Senders(f.ctx)
			if err != nil {
				t.Fatal(err)
			}
			for i := range senders {
				if senders[i].ID == "ill" {
					ill.set(func() { c.breaks(ill, &senders[i]) })
					f.persistSender(&senders[i])
				}
			}
			f.advance(at("2027-03-15T09:00:00Z"))
			if got := f.stateCounts(); got[delivery.Accepted] != 40 || got[delivery.Queued] != 40 {
				t.Fatalf("at once: %v, want 40 accepted and 40 queued\n%s", got, f.ledger())
			}
			states, err := f.Store.SenderStates(f.ctx)
			if err != nil {
				t.Fatal(err)
			}
			x := states["ill"]
			if x.RestsSince == nil || !x.RestsSince.Equal(at("2027-03-15T09:00:00Z")) || x.Trouble.Code != c.want ||
				x.ProbeAt == nil || !x.ProbeAt.Equal(at("2027-03-15T09:01:00Z")) {
				t.Errorf("it rests since %v for %q and is tried again at %v; want %q", x.RestsSince, x.Trouble.Code, x.ProbeAt,
					c.want)
			}
			f.advance(at("2027-03-15T10:00:00Z"))
			if c.counts != nil {
				if n := c.counts(ill); n != 4 {
					t.Errorf("tried %d times in an hour, want at 0, 1, 6 and 21 minutes", n)
				}
			}
			if got := f.stateCounts(); got[delivery.Queued] != 40 {
				t.Errorf("after an hour: %v, want 40 queued", got)
			}
			if n := f.number("SELECT COUNT(*) FROM deliveries WHERE tries > 0 AND state = 'queued'"); n != 0 {
				t.Errorf("%d emails of a sender that rests have been tried", n)
			}
			if c.mends == nil { // nobody does: what waits longer than it may is missed
				f.advance(at("2027-03-16T10:30:00Z"))
				if got := f.stateCounts(); got[delivery.Missed] != 40 {
					t.Errorf("after a day: %v, want 40 missed", got)
				}
				return
			}
			ill.set(func() { c.mends(ill) })
			f.advance(at("2027-03-15T11:25:00Z"))
			if got := f.stateCounts(); got[delivery.Accepted] != 80 {
				t.Errorf("once it can: %v, want 80 accepted", got)
			}
			if states, err := f.Store.SenderStates(f.ctx); err != nil || states["ill"].RestsSince != nil {
				t.Errorf("it still rests (%v)", err)
			}
		})
	}
}

// The time for which an email was held does not count towards its late limit while its sender rests.
func TestHeldThenSenderRests(t *testing.T) {
	for _, c := range []struct {
		name, approved, waits, after string
		want                         delivery.State
	}{
		{"held within its limit", "2027-03-15T21:00:00Z", "2027-03-16T20:00:00Z", "2027-03-16T23:00:00Z", delivery.Missed},
		{"held for longer than its limit", "2027-03-17T10:00:00Z", "2027-03-18T09:30:00Z", "2027-03-18T12:00:00Z", delivery.Missed},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // it waits most of the time
			f := newFixture(t, "2027-03-15T08:30:00Z")
			f.persistSender(&store.Sender{ID: "ill", Name: "ill", Address: "ill@marrowby.example", Host: "127.0.0.1", Port: 1,
				Security: "none", CreatedAt: f.Now(), Zone: "UTC", Position: 5})
			rec, rows := f.cases(`{"name":"Due","state":"on","hold":"always","trigger":{"kind":"date","column":"Read",`+
				`"offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},"send":[{"template":"B"}],"to":[{"column":"Email"}]}`,
				"C-1,50,a@x.example,,2027-03-22")
			ill := "ill"
			if _, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{Sender: &ill}, "test"); err != nil {
				t.Fatal(err)
			}
			f.advance(at(c.approved))
			if d, err := f.Decide(f.ctx, f.delivery(rows["C-1"]).ID, Approve, "Ines"); err != nil || d.State != delivery.Queued {
				t.Fatalf("approved: %v %v", d, err)
			}
			f.advance(at(c.waits))
			if d := f.delivery(rows["C-1"]); d.State != delivery.Queued {
				t.Errorf("at %s it is %s for %q, want queued", c.waits, d.State, d.Reason.Words())
			}
			f.advance(at(c.after))
			if d := f.delivery(rows["C-1"]); d.State != c.want {
				t.Errorf("at %s it is %s, want %s", c.after, d.State, c.want)
			}
		})
	}
}

// However many processes send, each email is begun once at the mail server.
func TestBegunOnce(t *testing.T) {
	for _, servers := range []int{1, 2, 4} {
		t.Run(fmt.Sprint(servers, " servers"), func(t *testing.T) {
			t.Parallel() // it waits most of the time
			srv := newTestServer(t)
			f := stillFixture(t, "2027-03-15T08:30:00Z")
			const emails = 400
			f.dueBy("desk", srv.port, emails)
			f.tickAll()
			for i := range servers {
				if i > 0 {
					e := New(f.Store, f.now, Options{Poll: 20 * time.Millisecond, Name: fmt.Sprint("server ", i)})
					(&fixture{t: t, ctx: f.ctx, Engine: e}).run()
				}
			}
			f.run()
			f.until(func() bool {
				return f.number("SELECT COUNT(*) FROM workers WHERE lease_until > UTC_TIMESTAMP(6)") == int64(servers)
			})
			for range 3 { // until all know of each other
				time.Sleep(shareFresh)
			}
			f.advance(at("2027-03-15T09:00:00Z"))
			if n := srv.count(&srv.mails); n < emails || n > emails+emails/100 {
				t.Errorf("%d MAIL commands for %d emails, want at most %d", n, emails, emails+emails/100)
			}
			if len(srv.taken) != emails {
				t.Errorf("%d emails arrived, want %d", len(srv.taken), emails)
			}
			for id, n := range srv.taken {
				if n != 1 {
					t.Errorf("%s arrived %d times", id, n)
				}
			}
		})
	}
}

// What is no fault of the address is not laid on it, an email that is too large is not transferred, and
// what the server refused after the message has reached nobody.
func TestRefusalsThatAreNoAddressFaults(t *testing.T) {
	for _, c := range []struct {
		name string
		err  *smtp.SMTPError
		want reason.Code
	}{
		{"policy", &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "message looks like spam"}, reason.Policy},
		{"too large", &smtp.SMTPError{Code: 552, EnhancedCode: smtp.EnhancedCode{5, 3, 4}, Message: "message too big"}, reason.MessageTooLarge},
		{"over quota", &smtp.SMTPError{Code: 552, EnhancedCode: smtp.EnhancedCode{5, 2, 2}, Message: "mailbox full"}, reason.MailboxFull},
	} {
		t.Run(c.name, func(t *testing.T) {
			srv := newTestServer(t)
			srv.data = c.err
			f := newFixture(t, "2027-03-15T08:30:00Z")
			f.dueBy("desk", srv.port, 1)
			f.advance(at("2027-03-15T09:00:00Z"))
			var d store.Delivery
			if err := f.Store.DB(f.ctx).First(&d).Error; err != nil {
				t.Fatal(err)
			}
			if d.State != delivery.Failed || d.LastError.Code != c.want || d.LastError.Code.OfAddress() ||
				strings.Contains(d.Recipients, "accepted") || !strings.Contains(d.Reply, c.err.Message) {
				t.Errorf("%s for %q (%s), recipients %s; want failed for %q, with what the server said and nobody reached",
					d.State, d.LastError.Code, d.Reply, d.Recipients, c.want)
			}
		})
	}
}

// The default sender is chosen, and one for which something waits, or that is used by default, is not deleted.
func TestSenderList(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec := f.dueBy("desk", 25, 1)
	first := func() string {
		t.Helper()
		list, err := f.Store.Senders(f.ctx)
		if err != nil {
			t.Fatal(err)
		}
		return list[0].ID
	}
	if got := first(); got != "sender" {
		t.Errorf("by default %s is used, want the one that was there before", got)
	}
	if err := f.UseSender(f.ctx, "desk", "Ines"); err != nil {
		t.Fatal(err)
	}
	if got := first(); got != "desk" {
		t.Errorf("by default %s is used, want the one that was chosen", got)
	}
	var refusal *Refusal
	if err := f.DeleteSender(f.ctx, "desk", "Ines"); !errors.As(err, &refusal) {
		t.Errorf("the default one is deleted: %v", err)
	}
	if err := f.UseSender(f.ctx, "sender", "Ines"); err != nil {
		t.Fatal(err)
	}
	f.turn("2027-03-15T09:00:00Z")
	f.tickAll()
	if err := f.DeleteSender(f.ctx, "desk", "Ines"); !errors.As(err, &refusal) ||
		!strings.Contains(err.Error(), "1 email waits for desk") {
		t.Errorf("one for which something waits is deleted: %v", err)
	}
	f.unchecked = true
	f.exec("UPDATE deliveries SET state = 'accepted', next_try = '9999-12-31'")
	if err := f.DeleteSender(f.ctx, "desk", "Ines"); err != nil {
		t.Error(err)
	}
	if again, err := f.Store.Sheet(f.ctx, rec.ID); err != nil || again.SenderID != "" {
		t.Errorf("its sheet sends from %q (%v), want the default one", again.SenderID, err)
	}
}

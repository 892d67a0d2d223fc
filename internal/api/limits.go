package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// limiter allows each key so many acts at once and, after that, one in a while; in this
// process. It remembers the keys used last, and forgets one at a time.
type limiter struct {
	now   engine.Clock
	every time.Duration
	burst int
	keys  *lru.Cache[string, *rate.Limiter]
}

// remembered is how many keys a limiter tells apart.
const remembered = 50_000

func newLimiter(now engine.Clock, burst int, every time.Duration) *limiter {
	keys, err := lru.New[string, *rate.Limiter](remembered)
	if err != nil { // of a size below one
		panic(err)
	}
	return &limiter{now: now, every: every, burst: burst, keys: keys}
}

// wait counts an act of a key and gives how long it has to wait; 0 for not at all. An act
// that has to wait is not counted.
func (l *limiter) wait(key string) time.Duration {
	fresh := rate.NewLimiter(rate.Every(l.every), l.burst)
	of, there, _ := l.keys.PeekOrAdd(key, fresh)
	if there {
		l.keys.Get(key) // used last
	} else {
		of = fresh
	}
	now := l.now()
	r := of.ReserveN(now, 1)
	d := r.DelayFrom(now)
	if d > 0 {
		r.CancelAt(now)
	}
	return d
}

// allow counts an act of a key, and reports whether it may be done now.
func (l *limiter) allow(key string) bool { return l.wait(key) == 0 }

// allowN counts n acts of a key, and reports whether they may be done now, all or none.
func (l *limiter) allowN(key string, n int) bool {
	fresh := rate.NewLimiter(rate.Every(l.every), l.burst)
	if of, there, _ := l.keys.PeekOrAdd(key, fresh); there {
		l.keys.Get(key) // used last
		fresh = of
	}
	return fresh.AllowN(l.now(), n)
}

// forget lets a key begin anew.
func (l *limiter) forget(key string) { l.keys.Remove(key) }

// The limits on what comes in by forms: per form and network address, and per form.
const (
	intakeTries, intakeEvery = 12, 5 * time.Second
	formTries, formEvery     = 120, 500 * time.Millisecond

	// Of what comes without a script.
	plainTries, plainEvery         = 3, 10 * time.Minute
	plainFormTries, plainFormEvery = 20, time.Minute
)

// testsAnHour is how many test emails a person may send to others in an hour.
const testsAnHour = 20

// tries bounds how often passwords are guessed: of one person from one network address; from
// one network address, whoever is meant; and of one person from everywhere, where nobody has
// signed in as that person of late. What others guess elsewhere keeps nobody out of a place
// that they sign in from.
type tries struct {
	pair, network, person *limiter
	forgotten             *limiter // emails for a forgotten password: per address, and per network address
}

// The limits on signing in: at once, and then one in a while.
const (
	pairTries, pairEvery       = 6, time.Minute
	networkTries, networkEvery = 60, time.Second
	personTries, personEvery   = 60, time.Minute
	forgottenTries             = 3
	forgottenEvery             = time.Hour
)

func newTries(now engine.Clock) tries {
	return tries{pair: newLimiter(now, pairTries, pairEvery), network: newLimiter(now, networkTries, networkEvery),
		person: newLimiter(now, personTries, personEvery), forgotten: newLimiter(now, forgottenTries, forgottenEvery)}
}

// wait counts a try to sign in, before anything is done for it, and gives how long it has to
// wait. known says that the person has signed in from the network address of late.
func (t *tries) wait(address, from string, known bool) time.Duration {
	d := max(t.network.wait(from), t.pair.wait(address+"\x00"+from))
	if d == 0 && !known {
		d = t.person.wait(address)
	}
	return d
}

// right says that a try had the right password.
func (t *tries) right(address, from string) { t.pair.forget(address + "\x00" + from) }

// asked counts a wish for a new password, and reports whether it is one too many.
func (t *tries) asked(address, from string) bool {
	return !t.network.allow(from) || !t.forgotten.allow(address)
}

// networkOf gives the network address that somebody is told apart by: an IPv4 address, or
// the /64 of an IPv6 address, which one line has.
func networkOf(ip string) string {
	a, err := netip.ParseAddr(ip)
	if err != nil {
		return ip
	}
	a = a.Unmap().WithZone("")
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr().String()
		}
	}
	return a.String()
}

// extractor gives the address that a request comes from. Where it comes by proxies that are
// trusted, it is the last in X-Forwarded-For that no trusted one has.
func extractor(trusted []netip.Prefix) echo.IPExtractor {
	if len(trusted) == 0 {
		return echo.ExtractIPDirect()
	}
	o := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range trusted {
		o = append(o,
			echo.TrustIPRange(&net.IPNet{IP: p.Masked().Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(o...)
}

// arrives tells the context of a request from where it comes, and what a session that it
// begins says of itself.
func (s *Server) arrives(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from := networkOf(s.fromAddress(r))
		if r.ContentLength != 0 {
			readBy(w, bodyDeadline)
		}
		agent := []rune(r.UserAgent())
		ctx := store.WithOpening(r.Context(), &store.Opening{Agent: string(agent[:min(len(agent), 300)])})
		next.ServeHTTP(w, r.WithContext(store.WithDoer(ctx, &store.Doer{Network: from})))
	})
}

// hereFrom is the network address that a request under the context comes from.
func hereFrom(ctx context.Context) string { return store.DoerOf(ctx).Network }

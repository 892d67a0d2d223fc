package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"nivot/internal/store"
)

// maxConnections bounds all connections, maxFromOnePlace those of one network address on which nobody has signed in.
// A connection beyond a bound replaces the one that has been silent for the longest.
const (
	maxConnections   = 4000
	maxFromOnePlace  = 200
	maxHeaderSeconds = 5

	// leaving is how long a replaced connection stays open. Its client may still send a request, and a client that
	// connects again and again is slowed down.
	leaving = 5 * time.Second
)

// crowd is who is connected.
type crowd struct {
	net.Listener
	most, ofPlace int
	trusted       []netip.Prefix // proxies, which are no one place

	mu     sync.Mutex
	all    map[*guest]bool            // guarded by mu, as all below
	places map[string]map[*guest]bool // who counts for their place, by network address
	order  uint64
}

// guest is a connection.
type guest struct {
	net.Conn
	c       *crowd
	place   string // its network address; "" for a proxy's
	quiet   uint64 // since when no request of it is under way, by the crowd's order; 0 while one is
	working int    // its requests that are under way: several by HTTP/2
}

type guestKey struct{}

// listen bounds the connections of a listener.
func (s *Server) listen(l net.Listener, most, ofPlace int) *crowd {
	return &crowd{Listener: l, most: most, ofPlace: ofPlace, trusted: s.Proxies, all: map[*guest]bool{},
		places: map[string]map[*guest]bool{}}
}

// Serve answers the connections of a listener, within bounds, until the server is closed. It sets the server's
// Handler, ReadHeaderTimeout and ConnContext.
func (h *Handler) Serve(srv *http.Server, l net.Listener) error {
	return h.serve(srv, h.s.listen(l, maxConnections, maxFromOnePlace))
}

func (h *Handler) serve(srv *http.Server, l net.Listener) error {
	srv.Handler = working(h)
	srv.ReadHeaderTimeout = maxHeaderSeconds * time.Second
	srv.ConnContext = func(ctx context.Context, c net.Conn) context.Context {
		if g, ok := c.(*guest); ok {
			ctx = context.WithValue(ctx, guestKey{}, g)
		}
		return ctx
	}
	return srv.Serve(l)
}

// working marks a connection while a request of it is answered.
func working(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if g, ok := r.Context().Value(guestKey{}).(*guest); ok {
			g.works(1)
			defer g.works(-1)
		}
		next.ServeHTTP(w, r)
	})
}

// Accept implements net.Listener. It closes a connection beyond the bounds if there is no silent one to replace.
func (c *crowd) Accept() (net.Conn, error) {
	for {
		conn, err := c.Listener.Accept()
		if err != nil {
			return nil, err
		}
		g := &guest{Conn: conn, c: c}
		if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil &&
			!slices.ContainsFunc(c.trusted, func(p netip.Prefix) bool { return p.Contains(at.Addr().Unmap()) }) {
			g.place = networkOf(at.Addr().String())
		}
		leaves, goes, in := c.enter(g)
		if leaves != nil {
			leaves.leave()
		}
		if goes != nil {
			_ = goes.Close()
		}
		if in {
			return g, nil
		}
		_ = conn.Close()
	}
}

// enter lets a connection in, and returns which of its place leaves for it, and which of all goes at once.
func (c *crowd) enter(g *guest) (leaves, goes *guest, in bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if of := c.places[g.place]; g.place != "" && len(of) >= c.ofPlace {
		if leaves = quietest(of); leaves == nil {
			return nil, nil, false
		}
	}
	if len(c.all) >= c.most {
		if goes = quietest(c.all); goes == nil {
			return nil, nil, false
		}
		c.forget(goes)
	}
	if leaves != nil {
		c.leavePlace(leaves)
	}
	c.order++
	g.quiet = c.order
	c.all[g] = true
	if g.place == "" {
		return leaves, goes, true
	}
	if c.places[g.place] == nil {
		c.places[g.place] = map[*guest]bool{}
	}
	c.places[g.place][g] = true
	return leaves, goes, true
}

// leave ends a connection soon, once none of its requests is under way.
func (g *guest) leave() {
	time.AfterFunc(leaving, func() {
		g.c.mu.Lock()
		busy := g.working > 0
		g.c.mu.Unlock()
		if busy {
			g.leave()
			return
		}
		_ = g.Close()
	})
}

// quietest is the connection that no request has come from for the longest; nil for none.
func quietest(of map[*guest]bool) (out *guest) {
	for g := range of {
		if g.quiet > 0 && (out == nil || g.quiet < out.quiet) {
			out = g
		}
	}
	return out
}

// forget counts a connection out; the caller holds mu.
func (c *crowd) forget(g *guest) {
	delete(c.all, g)
	c.leavePlace(g)
}

func (c *crowd) leavePlace(g *guest) {
	of := c.places[g.place]
	if delete(of, g); len(of) == 0 {
		delete(c.places, g.place)
	}
}

// Close implements net.Conn.
func (g *guest) Close() error {
	g.c.mu.Lock()
	g.c.forget(g)
	g.c.mu.Unlock()
	return g.Conn.Close()
}

// works counts the requests of a connection that are under way.
func (g *guest) works(n int) {
	g.c.mu.Lock()
	defer g.c.mu.Unlock()
	if g.working += n; g.working > 0 {
		g.quiet = 0
		return
	}
	g.c.order++
	g.quiet = g.c.order
}

// reads has the connection of a stranger's request give way while its body comes, as if it were silent; what it
// returns is called once the body is there.
func reads(r *http.Request) (done func()) {
	g, ok := r.Context().Value(guestKey{}).(*guest)
	if !ok || person(r.Context()) != nil {
		return func() {}
	}
	g.works(-1)
	return func() { g.works(1) }
}

// signedInOn has the connection of a request count for its place no more: who is signed in is kept out by nobody
// who is not, and has bounds of their own.
func signedInOn(ctx context.Context, p *store.Person) {
	g, ok := ctx.Value(guestKey{}).(*guest)
	if !ok || p == nil {
		return
	}
	g.c.mu.Lock()
	defer g.c.mu.Unlock()
	g.c.leavePlace(g)
}

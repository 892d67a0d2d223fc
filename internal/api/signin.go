package api

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

func (s *Server) session(ctx context.Context, p *store.Person) (Session, error) {
	on, err := s.st.SendingOn(ctx)
	if err != nil {
		return Session{}, err
	}
	n, err := s.st.CountPeople(ctx)
	if err != nil {
		return Session{}, err
	}
	out := Session{Demo: s.Clock != nil, Sending: on, Version: s.Version, Started: n > 0,
		Limits: Limits{Steps: engine.MaxOps, Offset: rule.MaxOffset, Foretold: engine.ForetoldFrom, Password: minPassword},
		Clock:  Clock{Now: s.e.Now(), Practice: s.Clock != nil, Zone: s.Zone.String()}}
	out.May = []Role{}
	if p != nil {
		x := toPerson(p)
		out.Person = &x
		for _, r := range store.Roles {
			if p.Role.May(r) {
				out.May = append(out.May, Role(r))
			}
		}
	}
	return out, nil
}

// GetSession implements StrictServerInterface.
func (s *Server) GetSession(ctx context.Context, _ GetSessionRequestObject) (GetSessionResponseObject, error) {
	out, err := s.session(ctx, person(ctx))
	return GetSession200JSONResponse(out), err
}

// The keys of a session's data.
const (
	sessionPerson = "person"
	sessionEpoch  = "epoch"
)

// signedIn gives who a session is of; nil for nobody, and for a session of before something
// that ends them.
func (s *Server) signedIn(ctx context.Context) (*store.Person, error) {
	id := s.sessions.GetString(ctx, sessionPerson)
	if id == "" {
		return nil, nil
	}
	p, err := s.st.Person(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && (p.Out() || p.Epoch != s.sessions.GetInt(ctx, sessionEpoch)) {
		return nil, nil
	}
	return p, err
}

// SignIn implements StrictServerInterface. Every try is counted before anything costly is
// done; whether the address is anybody's changes neither the answer nor its time.
func (s *Server) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	address, from := value.Identifier(r.Body.Email), store.DoerOf(ctx).Network
	p, err := s.st.PersonByEmail(ctx, address)
	if errors.Is(err, store.ErrNotFound) {
		p, err = &store.Person{}, nil
	}
	if err != nil {
		return nil, err
	}
	known, err := s.st.KnownFrom(ctx, p.ID, from)
	if err != nil {
		return nil, err
	}
	if wait := s.tries.wait(address, from, known); wait > 0 {
		s.putOff(ctx, r.Body.Email, from)
		return nil, problem(http.StatusTooManyRequests, fmt.Sprintf("Too many tries. Wait %s and try again.", spoken(wait)))
	}
	right, err := isPassword(ctx, p.PasswordHash, r.Body.Password)
	if err != nil {
		return nil, err
	}
	if !right || p.Out() {
		s.audit(ctx, store.Audited{Actor: r.Body.Email, Act: store.ActSignInFailed,
			Became: store.Detail(map[string]any{"why": "wrong"})})
		return nil, problem(http.StatusUnauthorized, "The address or the password is not right.")
	}
	s.tries.right(address, from)
	out, err := s.begin(ctx, p)
	return SignIn200JSONResponse(out), err
}

// putOff notes that a try to sign in was put off: the first of a network address at once, and of those that follow
// their number, once a minute (tellPutOff).
func (s *Server) putOff(ctx context.Context, actor, from string) {
	s.putOffs.mu.Lock()
	n, known := s.putOffs.of[from]
	if s.putOffs.of == nil {
		s.putOffs.of = map[string]int{}
	}
	if known || len(s.putOffs.of) < maxPutOffs {
		if !known {
			n = -1 // it has its line
		}
		s.putOffs.of[from] = n + 1
	} else {
		s.putOffs.of[""]++ // of many places
		known = true
	}
	s.putOffs.mu.Unlock()
	if !known {
		s.audit(ctx, store.Audited{Actor: actor, Act: store.ActSignInFailed,
			Became: store.Detail(map[string]any{"why": "too many tries", "tries": 1})})
	}
}

// tellPutOff writes how many tries have been put off since it last did.
func (s *Server) tellPutOff(ctx context.Context) {
	s.putOffs.mu.Lock()
	of := s.putOffs.of
	s.putOffs.of = nil
	for from, n := range of {
		if n > 0 { // it goes on, perhaps
			if s.putOffs.of == nil {
				s.putOffs.of = map[string]int{}
			}
			s.putOffs.of[from] = 0
		}
	}
	s.putOffs.mu.Unlock()
	for from, n := range of {
		if n > 0 {
			s.audit(store.WithDoer(ctx, &store.Doer{Network: from}), store.Audited{Act: store.ActSignInFailed,
				Became: store.Detail(map[string]any{"why": "too many tries", "tries": n})})
		}
	}
}

// runPutOff tells of tries that were put off, until the context ends.
func (s *Server) runPutOff(ctx context.Context) {
	for tick := time.NewTicker(time.Minute); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			s.tellPutOff(context.WithoutCancel(ctx))
			return
		case <-tick.C:
			s.tellPutOff(ctx)
		}
	}
}

// maxPutOffs is how many network addresses are told apart among those whose tries are put off.
const maxPutOffs = 1000

// putOffs counts tries to sign in that were put off.
type putOffs struct {
	mu sync.Mutex
	of map[string]int // by network address, since it last had a line; guarded by mu
}

// spoken says how long to wait.
func spoken(d time.Duration) string {
	if d <= time.Minute {
		return "a minute"
	}
	return fmt.Sprintf("%d minutes", int((d+time.Minute-1)/time.Minute))
}

// audit appends a line that belongs to no transaction; that it could not be written stops
// nothing but is logged.
func (s *Server) audit(ctx context.Context, a store.Audited) {
	a.At = s.e.Now()
	if err := s.st.AddAudit(context.WithoutCancel(ctx), a); err != nil {
		slog.Error("a line of the audit could not be written", "act", a.Act, "error", err)
	}
}

// begin starts a session under a new token.
func (s *Server) begin(ctx context.Context, p *store.Person) (Session, error) {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return Session{}, err
	}
	if o := store.OpeningOf(ctx); o != nil {
		o.Person = p.ID
	}
	s.sessions.Put(ctx, sessionPerson, p.ID)
	s.sessions.Put(ctx, sessionEpoch, p.Epoch)
	s.audit(ctx, store.Audited{ActorID: p.ID, Actor: p.Name, Act: store.ActSignIn})
	return s.session(ctx, p)
}

// SignOut implements StrictServerInterface.
func (s *Server) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	if p := person(ctx); p != nil {
		s.audit(ctx, store.Audited{ActorID: p.ID, Actor: p.Name, Act: store.ActSignOut})
	}
	return SignOut204Response{}, s.sessions.Destroy(ctx)
}

// ListSessions implements StrictServerInterface.
func (s *Server) ListSessions(ctx context.Context, _ ListSessionsRequestObject) (ListSessionsResponseObject, error) {
	list, err := s.st.SessionsOf(ctx, person(ctx).ID)
	here := store.HashToken(s.sessions.Token(ctx))
	out := ListSessions200JSONResponse{}
	for _, x := range list {
		out = append(out, SignedIn{Id: hex.EncodeToString(x.TokenHash[:8]), Agent: x.Agent, Network: x.Network,
			Since: x.CreatedAt, SeenAt: x.SeenAt, Here: string(x.TokenHash) == string(here)})
	}
	return out, err
}

// SignOutElsewhere implements StrictServerInterface.
func (s *Server) SignOutElsewhere(ctx context.Context,
	_ SignOutElsewhereRequestObject) (SignOutElsewhereResponseObject, error) {
	n, err := s.st.EndSessions(ctx, person(ctx).ID, store.HashToken(s.sessions.Token(ctx)))
	if err != nil {
		return nil, err
	}
	s.audit(ctx, store.Audited{Act: store.ActSessionsOver, Became: store.Detail(map[string]any{"sessions": n})})
	return SignOutElsewhere200JSONResponse{Ended: int(n)}, nil
}

// ChangePassword implements StrictServerInterface. Sessions elsewhere end, and tokens.
func (s *Server) ChangePassword(ctx context.Context,
	r ChangePasswordRequestObject) (ChangePasswordResponseObject, error) {
	me, from := person(ctx), store.DoerOf(ctx).Network
	if wait := s.tries.wait(value.Identifier(me.Email), from, true); wait > 0 {
		return nil, problem(http.StatusTooManyRequests, fmt.Sprintf("Too many tries. Wait %s and try again.", spoken(wait)))
	}
	right, err := isPassword(ctx, me.PasswordHash, r.Body.Old)
	if err != nil {
		return nil, err
	}
	if !right {
		return nil, &engine.Refusal{Field: "/old", Message: "this is not your password"}
	}
	s.tries.right(value.Identifier(me.Email), from)
	hash, err := newHash(ctx, r.Body.Password, me.Name, me.Email)
	if err != nil {
		return nil, err
	}
	var p *store.Person
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if p, err = tx.LockPerson(ctx, me.ID); err != nil {
			return err
		}
		if p.PasswordHash != me.PasswordHash {
			return &engine.Refusal{Field: "/old", Message: "your password has been changed meanwhile"}
		}
		p.PasswordHash = hash
		p.EndAccess()
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		return tx.AddAudit(ctx, store.Audited{At: s.e.Now(), Act: store.ActPassword, Subject: p.Name})
	})
	if err != nil {
		return nil, err
	}
	_, err = s.begin(ctx, p)
	return ChangePassword204Response{}, err
}

// forgottenLife is how long a link for a forgotten password works.
const forgottenLife = time.Hour

// ForgotPassword implements StrictServerInterface. Its answer is the same whether the address
// is anybody's or not, and does not wait for the email.
func (s *Server) ForgotPassword(ctx context.Context,
	r ForgotPasswordRequestObject) (ForgotPasswordResponseObject, error) {
	if s.tries.asked(value.Identifier(r.Body.Email), store.DoerOf(ctx).Network) {
		return nil, problem(http.StatusTooManyRequests, "Too many tries. Wait an hour, or ask an administrator for a link.")
	}
	go func(ctx context.Context) {
		ctx, cancel := context.WithTimeout(ctx, tryTimeout)
		defer cancel()
		if err := s.sendForgotten(ctx, r.Body.Email); err != nil && !errors.Is(err, store.ErrNotFound) {
			slog.Error("the link for a forgotten password could not be sent", "error", err)
		}
	}(context.WithoutCancel(ctx))
	return ForgotPassword204Response{}, nil
}

func (s *Server) sendForgotten(ctx context.Context, address string) error {
	p, err := s.st.PersonByEmail(ctx, address)
	if err != nil || p.Out() || p.PasswordHash == "" {
		return err
	}
	to, err := value.ParseMailboxes(p.Email)
	if err != nil {
		return err
	}
	sender, server, err := s.e.Sender(ctx, "")
	if err != nil {
		return err
	}
	var link string
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if p, err = tx.LockPerson(ctx, p.ID); err != nil {
			return err
		}
		link, err = s.linkFor(ctx, tx, p, linkForgot, forgottenLife)
		return err
	})
	if err != nil {
		return err
	}
	m := &mail.Message{To: to, Subject: "A new password for Nivot", Date: s.e.Now(), Text: fmt.Sprintf(
		"Somebody, probably you, asked for a new password for Nivot.\n\nSet it here, once, within an hour:\n%s\n\nIf it "+
			"was not you, do nothing: your password stays as it is.\n", link)}
	return engine.SendBy(ctx, sender, server, m, delivery.MessageID("password-"+store.NewID(), 1, "nivot.invalid"))
}

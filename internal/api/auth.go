package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// Cost of argon2id (RFC 9106): two passes over 19 MiB, one lane.
const (
	hashPasses = 2
	hashMemory = 19 * 1024
	hashLength = 32
)

// HashPassword hashes a password with argon2id and a random salt.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	h := argon2.IDKey([]byte(password), salt, hashPasses, hashMemory, 1, hashLength)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, hashMemory, hashPasses, enc(salt), enc(h))
}

// checkPassword tells whether a password is the one that was hashed. A hash
// that cannot be read costs the same time.
func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	salt, want := make([]byte, 16), make([]byte, hashLength)
	memory, passes := uint32(hashMemory), uint32(hashPasses)
	ok := len(parts) == 6 && parts[1] == "argon2id"
	if ok {
		_, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes)
		s, err1 := base64.RawStdEncoding.DecodeString(parts[4])
		w, err2 := base64.RawStdEncoding.DecodeString(parts[5])
		if ok = errors.Join(err, err1, err2) == nil; ok {
			salt, want = s, w
		}
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, 1, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && ok
}

// NewToken makes a token for a one-time link: 160 random bits.
func NewToken() string { return store.NewID() + store.NewID() }

// linkLife is how long a one-time link works.
const linkLife = 7 * 24 * time.Hour

// FirstLink makes the one-time link with which the first administrator is
// made, while nobody can sign in yet; "" afterwards.
func FirstLink(ctx context.Context, s *store.Store, now time.Time, publicURL string) (string, error) {
	n, err := s.CountPeople(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	token := NewToken()
	// One that another process has printed goes on being good: the first that is
	// used ends all others.
	err = s.SaveLink(ctx, &store.Link{TokenHash: store.HashToken(token), Purpose: "first-start", ExpiresAt: now.Add(24 * time.Hour)})
	return publicURL + "/welcome/" + token, err
}

func (s *Server) session(ctx context.Context, p *store.Person) (Session, error) {
	on, err := s.st.SendingOn(ctx)
	if err != nil {
		return Session{}, err
	}
	n, err := s.st.CountPeople(ctx)
	if err != nil {
		return Session{}, err
	}
	out := Session{Demo: s.Clock != nil, Sending: on, Version: s.Version, Started: n > 0, Limits: Limits{Steps: engine.MaxOps, Offset: rule.MaxOffset, Foretold: engine.ForetoldFrom},
		Clock: Clock{Now: s.e.Now(), Practice: s.Clock != nil, Zone: s.Zone.String()}}
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

func toPerson(p *store.Person) Person {
	out := Person{Id: p.ID, Email: p.Email, Name: p.Name, Role: Role(p.Role), Disabled: p.Disabled, SignedUp: p.PasswordHash != "", DeletedAt: p.DeletedAt}
	if p.DeletedAt != nil {
		out.DeletedBy = &p.DeletedBy
	}
	return out
}

// GetSession implements StrictServerInterface.
func (s *Server) GetSession(ctx context.Context, _ GetSessionRequestObject) (GetSessionResponseObject, error) {
	out, err := s.session(ctx, person(ctx))
	return GetSession200JSONResponse(out), err
}

// Signing in to one account stops for a while after so many failures, longer
// with each more.
const maxFailures = 6

// SignIn implements StrictServerInterface.
func (s *Server) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	if !s.signIns.allow(value.Fold(r.Body.Email)) {
		return nil, problem(http.StatusTooManyRequests, "Too many tries. Wait a minute and try again.")
	}
	now := s.Wall()
	wrong := problem(http.StatusUnauthorized, "The address or the password is not right.")
	p, err := s.st.PersonByEmail(ctx, value.Trim(r.Body.Email))
	if errors.Is(err, store.ErrNotFound) {
		checkPassword("", r.Body.Password) // the same time as for somebody who is there
		return nil, wrong
	}
	if err != nil {
		return nil, err
	}
	if p.LockedUntil != nil && p.LockedUntil.After(now) {
		return nil, problem(http.StatusTooManyRequests, fmt.Sprintf("Too many tries. Wait %d minutes and try again.", 1+int(p.LockedUntil.Sub(now).Minutes())))
	}
	if !checkPassword(p.PasswordHash, r.Body.Password) || p.Out() {
		p.Failures++
		if over := p.Failures - maxFailures; over >= 0 {
			until := now.Add(time.Minute << min(over, 5))
			p.LockedUntil = &until
		}
		if err := s.st.SavePerson(ctx, p); err != nil {
			return nil, err
		}
		return nil, wrong
	}
	if p.Failures > 0 {
		p.Failures, p.LockedUntil = 0, nil
		if err := s.st.SavePerson(ctx, p); err != nil {
			return nil, err
		}
	}
	out, err := s.begin(ctx, p)
	return SignIn200JSONResponse(out), err
}

// begin starts a session under a new token.
func (s *Server) begin(ctx context.Context, p *store.Person) (Session, error) {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return Session{}, err
	}
	s.sessions.Put(ctx, "person", p.ID)
	return s.session(ctx, p)
}

// SignOut implements StrictServerInterface.
func (s *Server) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	return SignOut204Response{}, s.sessions.Destroy(ctx)
}

// GetLink implements StrictServerInterface.
func (s *Server) GetLink(ctx context.Context, r GetLinkRequestObject) (GetLinkResponseObject, error) {
	l, err := s.findLink(ctx, r.Token)
	if err != nil {
		return nil, err
	}
	out := GetLink200JSONResponse{Purpose: GetLink200JSONResponseBodyPurpose(l.Purpose)}
	if l.PersonID != "" {
		p, err := s.st.Person(ctx, l.PersonID)
		if err != nil {
			return nil, err
		}
		out.Name, out.Email = p.Name, p.Email
	}
	return out, nil
}

func (s *Server) findLink(ctx context.Context, token string) (*store.Link, error) {
	l, err := s.st.FindLink(ctx, token, s.Wall())
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem(http.StatusNotFound, "This link has been used or is too old. Ask an administrator for a new one.")
	}
	return l, err
}

// UseLink implements StrictServerInterface.
func (s *Server) UseLink(ctx context.Context, r UseLinkRequestObject) (UseLinkResponseObject, error) {
	l, err := s.findLink(ctx, r.Token)
	if err != nil {
		return nil, err
	}
	email, err := oneAddress("/email", r.Body.Email)
	if err != nil {
		return nil, err
	}
	var p *store.Person
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.UseLink(ctx, l, s.Wall()); err != nil {
			return err
		}
		if l.Purpose == "first-start" {
			if err := tx.DropLinks(ctx, ""); err != nil { // those that other processes have printed
				return err
			}
			p = &store.Person{ID: store.NewID(), Role: store.Administrator, CreatedAt: s.Wall().UTC()}
		} else if p, err = tx.Person(ctx, l.PersonID); err != nil {
			return err
		}
		if err := freeAddress(ctx, tx, email, p.ID); err != nil {
			return err
		}
		p.Name, p.Email, p.PasswordHash, p.Failures, p.LockedUntil = r.Body.Name, email, HashPassword(r.Body.Password), 0, nil
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: p.Name, Kind: store.EventPersonSaved,
			Detail: store.Detail(map[string]any{"person": p.Name, "link": l.Purpose})})
	})
	if err != nil {
		return nil, err
	}
	out, err := s.begin(ctx, p)
	return UseLink200JSONResponse(out), err
}

func freeAddress(ctx context.Context, tx *store.Store, email, person string) error {
	other, err := tx.PersonByEmail(ctx, email)
	if err == nil && other.ID != person && other.DeletedAt != nil {
		return &engine.Refusal{Field: "/email", Message: other.Name + " had this address and was deleted; restore them below, or use another address"}
	}
	if err == nil && other.ID != person {
		return &engine.Refusal{Field: "/email", Message: "somebody with this address is there already"}
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

func oneAddress(field, text string) (string, error) {
	boxes, err := value.ParseMailboxes(text)
	if err != nil || len(boxes) != 1 {
		return "", &engine.Refusal{Field: field, Message: fmt.Sprintf("%q is not one email address", text)}
	}
	return boxes[0].Address(), nil
}

// ListPeople implements StrictServerInterface.
func (s *Server) ListPeople(ctx context.Context, _ ListPeopleRequestObject) (ListPeopleResponseObject, error) {
	people, err := s.st.People(ctx)
	out := ListPeople200JSONResponse{}
	for i := range people {
		if at := people[i].DeletedAt; at != nil && !s.e.Restorable(at) {
			continue
		}
		p := toPerson(&people[i])
		views, err := s.st.CountViews(ctx, p.Id)
		if err != nil {
			return nil, err
		}
		tokens, err := s.st.Tokens(ctx, p.Id)
		if err != nil {
			return nil, err
		}
		p.Views, p.Tokens = ptr(int(views)), ptr(len(slices.DeleteFunc(tokens, func(t store.Token) bool { return t.RevokedAt != nil })))
		out = append(out, p)
	}
	return out, err
}

// DeletePerson implements StrictServerInterface.
func (s *Server) DeletePerson(ctx context.Context, r DeletePersonRequestObject) (DeletePersonResponseObject, error) {
	me := person(ctx)
	if r.Person == me.ID {
		return nil, &engine.Refusal{Message: "another administrator deletes you; you cannot do it yourself"}
	}
	_, err := s.changePerson(ctx, r.Person, func(tx *store.Store, p *store.Person) error {
		if p.DeletedAt != nil {
			return store.ErrNotFound
		}
		now := s.e.Now()
		p.DeletedAt, p.DeletedBy = &now, me.Name
		return tx.DropLinks(ctx, p.ID)
	})
	return DeletePerson204Response{}, err
}

// RestorePerson implements StrictServerInterface.
func (s *Server) RestorePerson(ctx context.Context, r RestorePersonRequestObject) (RestorePersonResponseObject, error) {
	p, err := s.changePerson(ctx, r.Person, func(_ *store.Store, p *store.Person) error {
		if !s.e.Restorable(p.DeletedAt) {
			return store.ErrNotFound
		}
		p.DeletedAt, p.DeletedBy = nil, ""
		return nil
	})
	if err != nil {
		return nil, err
	}
	return RestorePerson200JSONResponse(toPerson(p)), nil
}

// changePerson changes a person, and notes who did.
func (s *Server) changePerson(ctx context.Context, id string, change func(*store.Store, *store.Person) error) (p *store.Person, err error) {
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if p, err = tx.Person(ctx, id); err != nil {
			return err
		}
		if err := change(tx, p); err != nil {
			return err
		}
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventPersonSaved,
			Detail: store.Detail(map[string]any{"person": p.Name, "role": p.Role, "disabled": p.Disabled, "deleted": p.DeletedAt != nil})})
	})
	return p, err
}

// ListColleagues implements StrictServerInterface.
func (s *Server) ListColleagues(ctx context.Context, _ ListColleaguesRequestObject) (ListColleaguesResponseObject, error) {
	people, err := s.st.People(ctx)
	out := ListColleagues200JSONResponse{}
	for i := range people {
		if !people[i].Out() {
			out = append(out, struct {
				Email string `json:"email"`
				Name  string `json:"name"`
			}{people[i].Email, people[i].Name})
		}
	}
	return out, err
}

// AddPerson implements StrictServerInterface.
func (s *Server) AddPerson(ctx context.Context, r AddPersonRequestObject) (AddPersonResponseObject, error) {
	email, err := oneAddress("/email", r.Body.Email)
	if err != nil {
		return nil, err
	}
	p := &store.Person{ID: store.NewID(), Name: r.Body.Name, Email: email, Role: store.Role(r.Body.Role), CreatedAt: s.Wall().UTC()}
	var link string
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if err := freeAddress(ctx, tx, email, p.ID); err != nil {
			return err
		}
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		if link, err = s.invite(ctx, tx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventPersonSaved,
			Detail: store.Detail(map[string]any{"person": p.Name, "role": p.Role})})
	})
	return AddPerson200JSONResponse{Person: toPerson(p), Link: link}, err
}

func (s *Server) invite(ctx context.Context, tx *store.Store, p *store.Person) (string, error) {
	token := NewToken()
	if err := tx.DropLinks(ctx, p.ID); err != nil {
		return "", err
	}
	err := tx.SaveLink(ctx, &store.Link{TokenHash: store.HashToken(token), PersonID: p.ID, Purpose: "invite", ExpiresAt: s.Wall().Add(linkLife)})
	return s.PublicURL + "/welcome/" + token, err
}

// ChangePerson implements StrictServerInterface.
func (s *Server) ChangePerson(ctx context.Context, r ChangePersonRequestObject) (ChangePersonResponseObject, error) {
	me := person(ctx)
	if r.Person == me.ID {
		return nil, &engine.Refusal{Message: "your own role and access are for another administrator to change"}
	}
	p, err := s.changePerson(ctx, r.Person, func(_ *store.Store, p *store.Person) error {
		if r.Body.Role != nil {
			p.Role = store.Role(*r.Body.Role)
		}
		if r.Body.Disabled != nil {
			p.Disabled = *r.Body.Disabled
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return ChangePerson200JSONResponse(toPerson(p)), nil
}

// NewLink implements StrictServerInterface.
func (s *Server) NewLink(ctx context.Context, r NewLinkRequestObject) (NewLinkResponseObject, error) {
	p, err := s.st.Person(ctx, r.Person)
	if err != nil {
		return nil, err
	}
	link, err := s.invite(ctx, s.st, p)
	return NewLink200JSONResponse{Link: link}, err
}

// SetSending implements StrictServerInterface.
func (s *Server) SetSending(ctx context.Context, r SetSendingRequestObject) (SetSendingResponseObject, error) {
	return SetSending200JSONResponse{Sending: r.Body.On}, s.e.SetSending(ctx, r.Body.On, person(ctx).Name)
}

// farthest is how far one request moves the practice clock at the most.
const farthest = 400 * 24 * time.Hour

// MoveClock implements StrictServerInterface.
func (s *Server) MoveClock(ctx context.Context, r MoveClockRequestObject) (MoveClockResponseObject, error) {
	if s.Clock == nil {
		return nil, problem(http.StatusNotFound, "There is a practice clock in the demo only.")
	}
	now := s.e.Now()
	to := now
	switch r.Body.To {
	case Day:
		to = now.Add(24 * time.Hour)
	case Instant:
		if r.Body.At == nil || r.Body.At.Before(now) || r.Body.At.After(now.Add(farthest)) {
			return nil, &engine.Refusal{Field: "/at", Message: "the practice clock goes forward only, by 400 days at the most"}
		}
		to = *r.Body.At
	case Next:
		next, err := s.nextEmail(ctx, now)
		if err != nil {
			return nil, err
		}
		if next.IsZero() {
			return nil, &engine.Refusal{Message: "no email is coming: no rule that is on will write one in the next four weeks"}
		}
		to = next
	}
	at, err := s.Clock.Advance(ctx, to)
	if err != nil {
		return nil, err
	}
	err = s.st.AddEvents(ctx, store.Event{At: at, Actor: person(ctx).Name, Kind: store.EventClockMoved})
	return MoveClock200JSONResponse{Now: at}, err
}

package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// welcomePath is where the page stands on which a link lets somebody in; a token follows.
const welcomePath = "/welcome/"

// linkLife is how long a one-time link works.
const linkLife = 7 * 24 * time.Hour

// FirstLink makes the one-time link with which the first administrator is
// made, while nobody can sign in yet; "" afterwards.
func FirstLink(ctx context.Context, s *store.Store, now time.Time, publicURL string) (string, error) {
	n, err := s.CountPeople(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	token := store.NewToken()
	// One that another process has printed goes on being good: the first that is
	// used ends all others.
	err = s.SaveLink(ctx, &store.Link{TokenHash: store.HashToken(token), Purpose: linkFirst,
		ExpiresAt: now.Add(24 * time.Hour)})
	return publicURL + welcomePath + token, err
}

// The purposes of links.
const (
	linkFirst  = "first-start"
	linkInvite = "invite"
	linkForgot = "forgotten"
)

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
		if p.Out() || p.Epoch != l.Epoch {
			return nil, errLink
		}
		out.Name, out.Email = p.Name, p.Email
	}
	return out, nil
}

// errLink says that a link is good no more.
var errLink = problem(http.StatusNotFound,
	"This link has been used or is too old. Ask an administrator for a new one.")

func (s *Server) findLink(ctx context.Context, token string) (*store.Link, error) {
	l, err := s.st.FindLink(ctx, token, s.Wall())
	if errors.Is(err, store.ErrNotFound) {
		return nil, errLink
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
	hash, err := newHash(ctx, r.Body.Password, r.Body.Name, email)
	if err != nil {
		return nil, err
	}
	var p *store.Person
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.UseLink(ctx, l, s.Wall()); err != nil {
			return err
		}
		was := ""
		if l.Purpose == linkFirst {
			if err := tx.DropLinks(ctx, ""); err != nil { // those that other processes have printed
				return err
			}
			p = &store.Person{ID: store.NewID(), Role: store.Administrator, CreatedAt: s.Wall().UTC()}
		} else {
			if p, err = tx.LockPerson(ctx, l.PersonID); err != nil {
				return err
			}
			if p.Out() || p.Epoch != l.Epoch {
				return errLink
			}
			was = auditedPerson(p)
		}
		p.Name, p.Email, p.PasswordHash = value.Trim(r.Body.Name), email, hash
		p.EndAccess()
		if err := alone(ctx, tx, p); err != nil {
			return err
		}
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), ActorID: p.ID, Actor: p.Name, Kind: store.EventPersonSaved,
			Was: was, Detail: auditedPerson(p)})
	})
	if err != nil {
		return nil, err
	}
	out, err := s.begin(ctx, p)
	return UseLink200JSONResponse(out), err
}

// linkFor makes a link for a person in place of those that they have, and gives its address.
func (s *Server) linkFor(ctx context.Context, tx *store.Store, p *store.Person, purpose string,
	life time.Duration) (string, error) {
	token := store.NewToken()
	if err := tx.DropLinks(ctx, p.ID); err != nil {
		return "", err
	}
	err := tx.SaveLink(ctx, &store.Link{TokenHash: store.HashToken(token), PersonID: p.ID, Purpose: purpose,
		Epoch: p.Epoch, ExpiresAt: s.Wall().Add(life)})
	if err != nil {
		return "", err
	}
	return s.PublicURL + welcomePath + token, tx.AddAudit(ctx, store.Audited{At: s.e.Now(), Act: store.ActLinkMade,
		Subject: p.Name, Became: store.Detail(map[string]any{"purpose": purpose})})
}

// NewLink implements StrictServerInterface.
func (s *Server) NewLink(ctx context.Context, r NewLinkRequestObject) (NewLinkResponseObject, error) {
	var link string
	err := s.st.Tx(ctx, func(tx *store.Store) error {
		if _, err := stillAdministrator(ctx, tx); err != nil {
			return err
		}
		p, err := tx.LockPerson(ctx, r.Person)
		if err != nil {
			return err
		}
		if p.Out() {
			return store.ErrNotFound
		}
		link, err = s.linkFor(ctx, tx, p, linkInvite, linkLife)
		return err
	})
	return NewLink200JSONResponse{Link: link}, err
}

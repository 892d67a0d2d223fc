package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

func toPerson(p *store.Person) Person {
	out := Person{Id: p.ID, Email: p.Email, Name: p.Name, Role: Role(p.Role), Disabled: p.Disabled,
		SignedUp: p.PasswordHash != "", DeletedAt: p.DeletedAt}
	if p.DeletedAt != nil {
		out.DeletedBy = &p.DeletedBy
	}
	return out
}

// alone refuses an address or a name that is another's already: by both people are told
// apart, and a name that is nearly another's is taken for it.
func alone(ctx context.Context, tx *store.Store, p *store.Person) error {
	other, err := tx.PersonByEmail(ctx, p.Email)
	switch {
	case err == nil && other.ID != p.ID && other.DeletedAt != nil:
		return &engine.Refusal{Field: "/email", Message: other.Name +
			" had this address and was deleted; restore them below, or use another address"}
	case err == nil && other.ID != p.ID:
		return &engine.Refusal{Field: "/email", Message: "somebody with this address is there already"}
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return err
	}
	if value.Identifier(p.Name) == "" {
		return &engine.Refusal{Field: "/name", Message: "the name is empty"}
	}
	other, err = tx.PersonByName(ctx, p.Name)
	switch {
	case err == nil && other.ID != p.ID && other.DeletedAt != nil:
		return &engine.Refusal{Field: "/name",
			Message: fmt.Sprintf(
				"%s was deleted, and a name says who did a thing; restore them below, or add something that tells the two apart",
				other.Name)}
	case err == nil && other.ID != p.ID:
		return &engine.Refusal{Field: "/name",
			Message: fmt.Sprintf("%s is there already, and a name says who did a thing; add something that tells the two apart",
				other.Name)}
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return err
	}
	return nil
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
		p.Views, p.Tokens = ptr(int(views)),
			ptr(len(slices.DeleteFunc(tokens, func(t store.Token) bool { return !t.Works(&people[i], s.Wall()) })))
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
	_, err := s.changePerson(ctx, r.Person, func(p *store.Person) error {
		if p.DeletedAt != nil {
			return store.ErrNotFound
		}
		now := s.e.Now()
		p.DeletedAt, p.DeletedBy = &now, me.Name
		return nil
	})
	return DeletePerson204Response{}, err
}

// RestorePerson implements StrictServerInterface.
func (s *Server) RestorePerson(ctx context.Context,
	r RestorePersonRequestObject) (RestorePersonResponseObject, error) {
	p, err := s.changePerson(ctx, r.Person, func(p *store.Person) error {
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

// auditedPerson is what the audit says of a person.
func auditedPerson(p *store.Person) string {
	return store.Detail(map[string]any{"person": p.Name, "email": p.Email, "role": p.Role, "disabled": p.Disabled,
		"deleted": p.DeletedAt != nil})
}

// stillAdministrator locks the administrators and returns them, if who asks is one of them still: two who demote each
// other in the same moment come one after the other.
func stillAdministrator(ctx context.Context, tx *store.Store) ([]store.Person, error) {
	all, err := tx.LockAdministrators(ctx)
	if err != nil {
		return nil, err
	}
	me := person(ctx)
	if !slices.ContainsFunc(all, func(p store.Person) bool { return p.ID == me.ID && p.Epoch == me.Epoch }) {
		return nil, problem(http.StatusForbidden, "You are not an administrator any more.")
	}
	return all, nil
}

// changePerson changes what a person may do, under a lock, and notes who did. Whatever the
// person had of sessions, links and tokens ends with it.
func (s *Server) changePerson(ctx context.Context, id string,
	change func(*store.Person) error) (p *store.Person, err error) {
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		others, err := stillAdministrator(ctx, tx)
		if err != nil {
			return err
		}
		if p, err = tx.LockPerson(ctx, id); err != nil {
			return err
		}
		was := auditedPerson(p)
		if err := change(p); err != nil {
			return err
		}
		if auditedPerson(p) == was {
			return nil
		}
		remains := !p.Out() && p.Role.May(store.Administrator) ||
			slices.ContainsFunc(others, func(x store.Person) bool { return x.ID != p.ID })
		if !remains {
			return &engine.Refusal{Field: "/role", Message: "there has to be an administrator; make somebody else one first"}
		}
		p.EndAccess()
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventPersonSaved, Was: was,
			Detail: auditedPerson(p)})
	})
	return p, err
}

// ListColleagues implements StrictServerInterface.
func (s *Server) ListColleagues(ctx context.Context,
	_ ListColleaguesRequestObject) (ListColleaguesResponseObject, error) {
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
	p := &store.Person{ID: store.NewID(), Name: value.Trim(r.Body.Name), Email: email, Role: store.Role(r.Body.Role),
		CreatedAt: s.Wall().UTC()}
	var link string
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if _, err := stillAdministrator(ctx, tx); err != nil {
			return err
		}
		if err := alone(ctx, tx, p); err != nil {
			return err
		}
		if err := tx.SavePerson(ctx, p); err != nil {
			return err
		}
		if link, err = s.linkFor(ctx, tx, p, linkInvite, linkLife); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventPersonSaved,
			Detail: auditedPerson(p)})
	})
	return AddPerson200JSONResponse{Person: toPerson(p), Link: link}, err
}

// ChangePerson implements StrictServerInterface.
func (s *Server) ChangePerson(ctx context.Context, r ChangePersonRequestObject) (ChangePersonResponseObject, error) {
	me := person(ctx)
	if r.Person == me.ID {
		return nil, &engine.Refusal{Message: "your own role and access are for another administrator to change"}
	}
	p, err := s.changePerson(ctx, r.Person, func(p *store.Person) error {
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

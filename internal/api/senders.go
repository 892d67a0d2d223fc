package api

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// SenderLoad implements StrictServerInterface.
func (s *Server) SenderLoad(ctx context.Context, r SenderLoadRequestObject) (SenderLoadResponseObject, error) {
	l, err := s.e.LoadOf(ctx, r.Sender)
	if err != nil {
		return nil, err
	}
	out := SenderLoad200JSONResponse{Used: l.Used, Cap: l.Cap, Left: max(0, l.Cap-l.Used)}
	for i, n := range l.Days {
		out.Days = append(out.Days, struct {
			Day        string `json:"day"`
			Over       int    `json:"over"`
			Recipients int    `json:"recipients"`
		}{(l.Today + value.Day(i)).String(), l.Over[i], n})
	}
	out.Sheets = make([]struct {
		Id   string `json:"id"`
		Name string `json:"name"`
	}, 0)
	for _, sh := range l.Sheets {
		out.Sheets = append(out.Sheets, struct {
			Id   string `json:"id"`
			Name string `json:"name"`
		}{sh.ID, sh.Name})
	}
	return out, nil
}

// tryTimeout bounds how long a try of a sender may take.
const tryTimeout = 40 * time.Second

// TrySender implements StrictServerInterface: it sends one email to the person
// who asks, by a sender as it stands on the page, and says what the server said.
func (s *Server) TrySender(ctx context.Context, r TrySenderRequestObject) (TrySenderResponseObject, error) {
	b := &r.Body.Sender
	from, err := parseOne("/address", b.Address)
	if err != nil {
		return nil, err
	}
	me := person(ctx)
	to, err := value.ParseMailboxes(me.Email)
	if err != nil {
		return nil, &engine.Refusal{Message: "your own address cannot be used: " + err.Error()}
	}
	server := mail.Server{Host: strings.TrimSpace(b.Host), Port: b.Port, Security: mail.Security(b.Security)}
	if b.Username != nil {
		server.Username = *b.Username
	}
	if b.Password != nil && *b.Password != "" {
		server.Password = *b.Password
	} else if r.Body.Id != nil {
		// The password that is kept goes only where it was kept for.
		saved, was, err := s.e.Sender(ctx, *r.Body.Id)
		if err == nil && saved.ID == *r.Body.Id && was.Host == server.Host && was.Port == server.Port &&
			was.Username == server.Username {
			server.Password = was.Password
		}
	}
	ctx, cancel := context.WithTimeout(ctx, tryTimeout)
	defer cancel()
	m := &mail.Message{To: to, Subject: "A try of the sender " + value.Trim(b.Name), Date: s.e.Now(),
		Text: "This is a try of a sender in Nivot, sent to you alone. It has reached you.\n"}
	err = engine.SendBy(ctx, &store.Sender{Name: value.Trim(b.Name), Address: from.Address()}, server, m,
		delivery.MessageID("try-"+store.NewID(), 1, "nivot.invalid"))
	if err != nil {
		return TrySender200JSONResponse{Said: plainly(err)}, nil
	}
	return TrySender200JSONResponse{Ok: true, Said: fmt.Sprintf("The mail server took it. Look for it at %s.", me.Email)},
		nil
}

// plainly says in plain words what kept a try from going and what to do, with what the server said.
func plainly(err error) string {
	var f *mail.Fault
	if !errors.As(err, &f) {
		return "It could not be sent: " + err.Error()
	}
	why := f.Reason()
	said := sentence(why.Words())
	if advice := why.Advice(); advice != "" {
		said += " " + advice
	}
	if f.Reply.Code != 0 {
		said += " It said: " + f.Reply.String()
	}
	return said
}

// ReadClosedDays implements StrictServerInterface.
func (s *Server) ReadClosedDays(_ context.Context,
	r ReadClosedDaysRequestObject) (ReadClosedDaysResponseObject, error) {
	days, err := exchange.ReadClosedDays(strings.NewReader(r.Body.Text))
	if err != nil {
		return nil, &engine.Refusal{Field: "/text", Message: err.Error()}
	}
	out := ReadClosedDays200JSONResponse{}
	for _, d := range days {
		out = append(out, d.String())
	}
	return out, nil
}

// GetPersonLimit implements StrictServerInterface.
func (s *Server) GetPersonLimit(ctx context.Context,
	_ GetPersonLimitRequestObject) (GetPersonLimitResponseObject, error) {
	l, err := s.st.PersonLimit(ctx, false)
	return GetPersonLimit200JSONResponse(l), err
}

// SetPersonLimit implements StrictServerInterface.
func (s *Server) SetPersonLimit(ctx context.Context,
	r SetPersonLimitRequestObject) (SetPersonLimitResponseObject, error) {
	if err := s.e.SetPersonLimit(ctx, *r.Body, person(ctx).Name); err != nil {
		return nil, err
	}
	return SetPersonLimit200JSONResponse(*r.Body), nil
}

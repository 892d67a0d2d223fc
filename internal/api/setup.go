package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"nivot/internal/core/calendar"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/practice"
	"nivot/internal/store"
)

func toCalendar(c calendar.Calendar) CalendarBody {
	weekdays, closed := c.Names()
	out := CalendarBody{Weekdays: []CalendarBodyWeekdays{}, Closed: []openapi_types.Date{}}
	for _, w := range weekdays {
		out.Weekdays = append(out.Weekdays, CalendarBodyWeekdays(w))
	}
	for _, d := range closed {
		t, _ := time.Parse("2006-01-02", d)
		out.Closed = append(out.Closed, openapi_types.Date{Time: t})
	}
	return out
}

// GetCalendar implements StrictServerInterface.
func (s *Server) GetCalendar(ctx context.Context, _ GetCalendarRequestObject) (GetCalendarResponseObject, error) {
	rec, err := s.st.Calendar(ctx, store.DefaultCalendar)
	if err != nil {
		return nil, err
	}
	c, err := rec.Core()
	return GetCalendar200JSONResponse(toCalendar(c)), err
}

// SetCalendar implements StrictServerInterface.
func (s *Server) SetCalendar(ctx context.Context, r SetCalendarRequestObject) (SetCalendarResponseObject, error) {
	var weekdays, closed []string
	for _, w := range r.Body.Weekdays {
		weekdays = append(weekdays, string(w))
	}
	for _, d := range r.Body.Closed {
		closed = append(closed, d.Format("2006-01-02"))
	}
	c, err := s.e.SetCalendar(ctx, weekdays, closed, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	return SetCalendar200JSONResponse(toCalendar(c)), nil
}

func (s *Server) silenced(ctx context.Context) ([]Silenced, error) {
	list, err := s.st.DoNotEmailList(ctx)
	out := []Silenced{}
	for _, d := range list {
		out = append(out, Silenced{Address: d.Address, Reason: d.Reason, By: d.AddedBy, At: d.AddedAt})
	}
	return out, err
}

// ListSilenced implements StrictServerInterface.
func (s *Server) ListSilenced(ctx context.Context, _ ListSilencedRequestObject) (ListSilencedResponseObject, error) {
	out, err := s.silenced(ctx)
	return ListSilenced200JSONResponse(out), err
}

func parseOne(field, text string) (value.Mailbox, error) {
	boxes, err := value.ParseMailboxes(text)
	if err != nil || len(boxes) != 1 {
		return value.Mailbox{}, &engine.Refusal{Field: field, Message: "write one email address"}
	}
	return boxes[0], nil
}

// AddSilenced implements StrictServerInterface.
func (s *Server) AddSilenced(ctx context.Context, r AddSilencedRequestObject) (AddSilencedResponseObject, error) {
	m, err := parseOne("/address", r.Body.Address)
	if err != nil {
		return nil, err
	}
	reason := ""
	if r.Body.Reason != nil {
		reason = *r.Body.Reason
	}
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.AddDoNotEmail(ctx, m, reason, person(ctx).Name, s.e.Now()); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"doNotEmail": m.Address()})})
	})
	if err != nil {
		return nil, err
	}
	out, err := s.silenced(ctx)
	return AddSilenced200JSONResponse(out), err
}

// RemoveSilenced implements StrictServerInterface.
func (s *Server) RemoveSilenced(ctx context.Context,
	r RemoveSilencedRequestObject) (RemoveSilencedResponseObject, error) {
	text, err := url.PathUnescape(r.Address)
	if err != nil {
		text = r.Address
	}
	m, err := parseOne("/address", text)
	if err != nil {
		return nil, err
	}
	err = s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.RemoveDoNotEmail(ctx, m); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"mayEmailAgain": m.Address()})})
	})
	return RemoveSilenced204Response{}, err
}

func toSender(x *store.Sender) Sender {
	out := Sender{Id: x.ID, Name: x.Name, Address: x.Address, Host: x.Host, Port: x.Port,
		Security: SenderSecurity(x.Security),
		Username: x.Username, HasPassword: len(x.SealedPassword) > 0, DailyCap: x.DailyCap, Pace: x.Pace, Batch: x.Batch,
		PauseSeconds: x.PauseSeconds, Zone: x.Zone, MaxConnections: x.MaxConnections, Sheets: []string{}}
	if p, err := x.Signs(); err == nil {
		out.Signature = p
	}
	return out
}

// ListSenders implements StrictServerInterface.
func (s *Server) ListSenders(ctx context.Context, _ ListSendersRequestObject) (ListSendersResponseObject, error) {
	out, err := s.listSenders(ctx)
	return ListSenders200JSONResponse(out), err
}

// listSenders lists the senders with how they do, and for which sheets they send.
func (s *Server) listSenders(ctx context.Context) ([]Sender, error) {
	list, err := s.st.Senders(ctx)
	if err != nil {
		return nil, err
	}
	states, err := s.st.SenderStates(ctx)
	if err != nil {
		return nil, err
	}
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	out := []Sender{}
	for i := range list {
		x := toSender(&list[i])
		x.IsDefault = i == 0
		ids := list[i].StandsUnder(x.IsDefault)
		for k := range sheets {
			if slices.Contains(ids, sheets[k].SenderID) {
				x.Sheets = append(x.Sheets, sheets[k].Name)
			}
		}
		n, err := s.st.CountWaiting(ctx, ids)
		if err != nil {
			return nil, err
		}
		x.Waiting = int(n)
		state := states[x.Id]
		if at := state.AvailableAt; at != nil && at.After(s.e.Now()) {
			x.AvailableAt = at
			x.ThroughAt = ptr(list[i].Limits().Through(*at, x.Waiting))
		}
		if state.RestsSince != nil {
			x.Rests = &SenderRest{Since: *state.RestsSince, Again: state.ProbeAt, Why: sentence(state.Trouble.Words()),
				Advice: state.Trouble.Advice(), Said: state.Reply}
		}
		out = append(out, x)
	}
	return out, nil
}

// UseSender implements StrictServerInterface.
func (s *Server) UseSender(ctx context.Context, r UseSenderRequestObject) (UseSenderResponseObject, error) {
	if err := s.e.UseSender(ctx, r.Sender, person(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.listSenders(ctx)
	return UseSender200JSONResponse(out), err
}

// DeleteSender implements StrictServerInterface.
func (s *Server) DeleteSender(ctx context.Context, r DeleteSenderRequestObject) (DeleteSenderResponseObject, error) {
	return DeleteSender204Response{}, s.e.DeleteSender(ctx, r.Sender, person(ctx).Name)
}

func (s *Server) putSender(ctx context.Context, x *store.Sender, b *SenderSave) error {
	m, err := parseOne("/address", b.Address)
	if err != nil {
		return err
	}
	host := strings.TrimSpace(b.Host)
	if err := mail.Bearable(value.Trim(b.Name), host); err != nil {
		return &engine.Refusal{Field: err.Field, Message: err.Message}
	}
	ip := net.ParseIP(host)
	local := host == "localhost" || ip != nil && ip.IsLoopback()
	moved := x.Host != host || x.Port != b.Port || b.Username != nil && x.Username != *b.Username
	x.Name, x.Address, x.Host, x.Port, x.Security = value.Trim(b.Name), m.Address(), host, b.Port, string(b.Security)
	if b.Username != nil {
		x.Username = *b.Username
	}
	if b.DailyCap != nil {
		x.DailyCap = *b.DailyCap
	}
	if b.Pace != nil {
		x.Pace = *b.Pace
	}
	if b.Batch != nil {
		x.Batch = *b.Batch
	}
	if b.PauseSeconds != nil {
		x.PauseSeconds = *b.PauseSeconds
	}
	if b.MaxConnections != nil {
		x.MaxConnections = *b.MaxConnections
	}
	if b.Zone != nil {
		x.Zone = *b.Zone
	}
	if x.Zone == "" {
		x.Zone = s.Zone.String()
	}
	if b.Signature != nil {
		if err := s.putSignature(ctx, x, b.Signature); err != nil {
			return err
		}
	}
	if _, err := time.LoadLocation(x.Zone); err != nil {
		return &engine.Refusal{Field: "/zone", Message: fmt.Sprintf("zone %q is not known; use a name like Europe/London",
			x.Zone)}
	}
	switch {
	case b.Password != nil && *b.Password == "", x.Username == "": // it signs in no more
		x.SealedPassword = nil
	case b.Password != nil:
		if s.Key == nil {
			return &engine.Refusal{Field: "/password",
				Message: "a password can be kept only with a key file; start Nivot with NIVOT_KEY_FILE"}
		}
		x.SealedPassword = s.Key.Seal(*b.Password, engine.PasswordUse(x.ID))
	case moved && len(x.SealedPassword) > 0:
		// A password must not follow to a server that its owner did not mean.
		return &engine.Refusal{Field: "/password", Message: "the server or user has changed; type the password again"}
	}
	if len(x.SealedPassword) > 0 && x.Security == "none" && !local {
		return &engine.Refusal{Field: "/security",
			Message: "a password needs a protected connection; choose STARTTLS or TLS"}
	}
	defer s.e.SendersChanged()
	return s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SaveSender(ctx, x); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"sender": toSender(x)})})
	})
}

// putSignature gives a sender its signature; an empty one is none.
func (s *Server) putSignature(ctx context.Context, x *store.Sender, p *template.Piece) error {
	x.Signature = nil
	if len(p.Body.Content) == 0 && len(p.Variants) == 0 {
		return nil
	}
	p.ID, p.Name = "", "signature"
	if err := p.Validate(); err != nil {
		return &engine.Refusal{Field: "/signature", Message: err.Error()}
	}
	if err := s.e.KeepImages(ctx, s.st, p.Images()); err != nil {
		return err
	}
	signs := store.Detail(p)
	x.Signature = &signs
	return nil
}

// AddSender implements StrictServerInterface.
func (s *Server) AddSender(ctx context.Context, r AddSenderRequestObject) (AddSenderResponseObject, error) {
	x, err := s.e.NewSender(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.putSender(ctx, x, r.Body); err != nil {
		return nil, err
	}
	return AddSender201JSONResponse(s.senderNamed(ctx, x)), nil
}

// senderNamed is a sender that has just been saved, with how it does.
func (s *Server) senderNamed(ctx context.Context, x *store.Sender) Sender {
	if all, err := s.listSenders(ctx); err == nil {
		for i := range all {
			if all[i].Id == x.ID {
				return all[i]
			}
		}
	}
	return toSender(x)
}

// SaveSender implements StrictServerInterface.
func (s *Server) SaveSender(ctx context.Context, r SaveSenderRequestObject) (SaveSenderResponseObject, error) {
	list, err := s.st.Senders(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].ID == r.Sender {
			if err := s.putSender(ctx, &list[i], r.Body); err != nil {
				return nil, err
			}
			return SaveSender200JSONResponse(s.senderNamed(ctx, &list[i])), nil
		}
	}
	return nil, store.ErrNotFound
}

// What others than its recipient read of an email has no link that is the recipient's alone.
var (
	stopLinks   = mail.NewConcealer(engine.OptOutPath, template.OptOutWord)
	accessLinks = mail.NewConcealer(welcomePath, "link-of-access")
)

// openPractice lets the practice mailbox be read: in the demo by everybody, else by an administrator, since it holds
// what is sent to others.
func (s *Server) openPractice(ctx context.Context) error {
	if s.Clock == nil && !person(ctx).Role.May(store.Administrator) {
		return problem(http.StatusForbidden, "Outside the demo the practice mailbox is for an administrator.")
	}
	return nil
}

// concealed takes out of a practice mail the links that its reader may not follow: to get in, others' than their own;
// to stop emails, a reader and an editor.
func concealed(m *store.PracticeMessage, reader *store.Person) []byte {
	raw := m.Raw
	own := func(to string) bool { return value.Identifier(to) == value.Identifier(reader.Email) }
	if to := strings.Split(m.EnvelopeTo, "\n"); len(to) != 1 || !own(to[0]) {
		raw = accessLinks.Conceal(raw)
	}
	if !reader.Role.May(store.Coordinator) {
		raw = stopLinks.Conceal(raw)
	}
	return raw
}

func toPracticeMessage(m *store.PracticeMessage) PracticeMessage {
	return PracticeMessage{Id: store.RowID(m.ID), At: m.ReceivedAt, To: strings.Split(m.EnvelopeTo, "\n"),
		Subject: m.Subject}
}

// ListPractice implements StrictServerInterface.
func (s *Server) ListPractice(ctx context.Context, r ListPracticeRequestObject) (ListPracticeResponseObject, error) {
	if err := s.openPractice(ctx); err != nil {
		return nil, err
	}
	var before int64
	find := ""
	if r.Params.Before != nil {
		id, err := parseID(*r.Params.Before)
		if err != nil {
			return nil, err
		}
		before = id
	}
	if r.Params.Find != nil {
		find = *r.Params.Find
	}
	list, total, err := s.st.PracticeMessages(ctx, before, 100, find)
	out := ListPractice200JSONResponse{Messages: []PracticeMessage{}, Total: int(total)}
	for i := range list {
		out.Messages = append(out.Messages, toPracticeMessage(&list[i]))
	}
	return out, err
}

// practiceMessage finds a practice mail, as who asks may read it.
func (s *Server) practiceMessage(ctx context.Context, text string) (*store.PracticeMessage, error) {
	if err := s.openPractice(ctx); err != nil {
		return nil, err
	}
	id, err := parseID(text)
	if err != nil {
		return nil, err
	}
	m, err := s.st.PracticeMessage(ctx, id)
	if err == nil {
		m.Raw = concealed(m, person(ctx))
	}
	return m, err
}

// GetPractice implements StrictServerInterface.
func (s *Server) GetPractice(ctx context.Context, r GetPracticeRequestObject) (GetPracticeResponseObject, error) {
	m, err := s.practiceMessage(ctx, r.Message)
	if err != nil {
		return nil, err
	}
	out := GetPractice200JSONResponse{Message: toPracticeMessage(m), EnvelopeFrom: m.EnvelopeFrom, Headers: [][]string{},
		Source: string(m.Raw)}
	out.Files = make([]struct {
		Name string `json:"name"`
		Size int    `json:"size"`
		Type string `json:"type"`
	}, 0)
	if c, err := practice.Open(m.Raw); err == nil {
		out.Html, out.Text = c.HTML, c.Text
		for _, f := range c.Files {
			if f.CID != "" {
				// As a mail reader shows it: the picture out of the mail itself.
				out.Html = strings.ReplaceAll(out.Html, "cid:"+f.CID, "data:"+f.Type+";base64,"+
					base64.StdEncoding.EncodeToString(f.Data))
				continue
			}
			out.Files = append(out.Files, struct {
				Name string `json:"name"`
				Size int    `json:"size"`
				Type string `json:"type"`
			}{f.Name, len(f.Data), f.Type})
		}
		for _, h := range c.Headers {
			out.Headers = append(out.Headers, []string{h[0], h[1]})
		}
	}
	return out, nil
}

// GetPracticeMessage implements StrictServerInterface.
func (s *Server) GetPracticeMessage(ctx context.Context,
	r GetPracticeMessageRequestObject) (GetPracticeMessageResponseObject, error) {
	m, err := s.practiceMessage(ctx, r.Message)
	if err != nil {
		return nil, err
	}
	return GetPracticeMessage200Messagerfc822Response{Body: bytes.NewReader(m.Raw), ContentLength: int64(len(m.Raw))}, nil
}

// GetPracticeFile implements StrictServerInterface.
func (s *Server) GetPracticeFile(ctx context.Context,
	r GetPracticeFileRequestObject) (GetPracticeFileResponseObject, error) {
	m, err := s.practiceMessage(ctx, r.Message)
	if err != nil {
		return nil, err
	}
	c, err := practice.Open(m.Raw)
	if err != nil {
		return nil, err
	}
	n := r.File
	for _, f := range c.Files {
		if f.CID != "" {
			continue
		}
		if n == 0 {
			return GetPracticeFile200ApplicationoctetStreamResponse{Body: bytes.NewReader(f.Data),
				ContentLength: int64(len(f.Data))}, nil
		}
		n--
	}
	return nil, store.ErrNotFound
}

// StreamEvents implements StrictServerInterface; the stream itself is served
// by the broadcaster.
func (s *Server) StreamEvents(context.Context, StreamEventsRequestObject) (StreamEventsResponseObject, error) {
	return nil, store.ErrNotFound
}

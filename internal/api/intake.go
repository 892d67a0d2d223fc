package api

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/bits"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"nivot/internal/core/delivery"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// confirmPath is where the owner of an address confirms what was sent by a form.
const confirmPath = "/confirm/"

// What a form lets anybody make Nivot send: one email to an address that is not confirmed yet,
// asking for that; so many to one address and by one form a day.
const (
	confirmLife   = 48 * time.Hour
	confirmsOfOne = 3   // a day
	confirmsOfAll = 300 // a day and form
	sendWithin    = 20 * time.Second
)

// A browser shows that it has spent a moment on a form: it finds a number which, hashed with the
// form's address and the time, begins with so many zero bits.
const (
	proofBits = 15
	proofLife = 2 * time.Hour
)

// proven reports whether a form came with a proof of its own that was not used before. The
// stamp is in seconds since 1970.
func (s *Server) proven(address, stamp, nonce string) bool {
	at, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil || len(nonce) > 20 {
		return false
	}
	if age := s.Wall().Sub(time.Unix(at, 0)); age < -time.Minute || age > proofLife {
		return false
	}
	sum := sha256.Sum256([]byte(address + "." + stamp + "." + nonce))
	if bits.LeadingZeros32(uint32(sum[0])<<24|uint32(sum[1])<<16|uint32(sum[2])<<8|uint32(sum[3])) < proofBits {
		return false
	}
	_, used, _ := s.proofs.PeekOrAdd(sum, true)
	return !used
}

// mayCome reports whether a form may be taken in now: a browser that shows a proof, often; one
// that runs no script, seldom.
func (s *Server) mayCome(ctx context.Context, address string, get func(string) string) bool {
	from := hereFrom(ctx)
	if s.proven(address, get("stamp"), get("proof")) {
		return s.intakes.allow(address+" "+from) && s.crowds.allow(address)
	}
	return s.plainIntakes.allow(address+" "+from) && s.plainCrowds.allow(address)
}

// takeAnswers makes a row of what was answered, or, where it names an address that nobody has
// confirmed, asks its owner first. said is what the page says then.
func (s *Server) takeAnswers(ctx context.Context, in *intake, edits []engine.CellEdit, answers map[string]string) (said string, err error) {
	address, err := in.toConfirm(answers)
	if err != nil {
		return "", err
	}
	if address != nil {
		confirmed, err := s.askToConfirm(ctx, in, *address, edits)
		if err != nil || !confirmed {
			return fmt.Sprintf("One more step. An email is on its way to %s; follow the link in it within two days, and we have your answers. If none comes, look among the unwanted emails.", address.Address()), err
		}
	}
	if _, err := s.e.AddRow(ctx, in.record.SheetID, edits, engine.System(byForm)); err != nil {
		return "", err
	}
	return in.form.Thanks, nil
}

// byForm is who stands in the history for what came in by a form.
const byForm = "the intake form"

// An answerFault is what is wrong with an answer, by its column.
type answerFault map[string]string

// Error implements error.
func (f answerFault) Error() string { return "an answer cannot be taken" }

// toConfirm gives the one address that the answers name, where the form has such addresses
// confirmed; nil for none.
func (in *intake) toConfirm(answers map[string]string) (*value.Mailbox, error) {
	if is(in.form.Unconfirmed) {
		return nil, nil
	}
	var found *value.Mailbox
	for _, x := range in.form.Fields {
		c, ok := in.sheet.Column(x.Column)
		if !ok || c.Type != value.Email || value.Trim(answers[c.ID]) == "" {
			continue
		}
		boxes, err := value.ParseMailboxes(answers[c.ID])
		if err != nil {
			return nil, answerFault{c.ID: upperFirst(err.Error()) + "."}
		}
		for i := range boxes {
			if found != nil && value.Identifier(found.Address()) != value.Identifier(boxes[i].Address()) {
				return nil, answerFault{c.ID: "Please give one email address only; its owner is asked to confirm it."}
			}
			found = &boxes[i]
		}
	}
	return found, nil
}

// errBusy says that a form has sent as many emails as it may in a day.
var errBusy = errors.New("the form has sent as many emails as it may today")

// askToConfirm reports whether an address is confirmed; where it is not, it keeps the answers and
// asks its owner by email. One address is asked a few times a day; the page says the same then.
func (s *Server) askToConfirm(ctx context.Context, in *intake, to value.Mailbox, edits []engine.CellEdit) (confirmed bool, err error) {
	key, now := []byte(value.Identifier(to.Address())), s.Wall().UTC()
	all, ofOne, confirmed, err := s.st.IntakesSince(ctx, in.record.SheetID, key, now.Add(-24*time.Hour))
	switch {
	case err != nil || confirmed:
		return confirmed, err
	case ofOne >= confirmsOfOne:
		return false, nil
	case all >= confirmsOfAll:
		return false, errBusy
	}
	sender, server, err := s.senderOf(ctx, in.record.SheetID)
	if err != nil {
		return false, err
	}
	cells := map[string]string{}
	for _, e := range edits {
		cells[e.Column] = e.Text
	}
	token := NewToken()
	kept := &store.Intake{TokenHash: store.HashToken(token), SheetID: in.record.SheetID, AddressKey: key, Answers: store.Detail(cells), At: now}
	if err := s.st.AddIntake(ctx, kept); err != nil {
		return false, err
	}
	sending, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	to.Name = ""
	m := &mail.Message{To: []value.Mailbox{to}, Subject: "Please confirm: " + in.form.Title, Date: s.e.Now(), Text: fmt.Sprintf(
		"Somebody, probably you, filled in “%s” and gave this address.\n\nConfirm it here within two days, and we have the answers:\n%s%s%s\n\nIf it was not you, do nothing. Nothing more is sent to you.\n",
		in.form.Title, s.PublicURL, confirmPath, token)}
	if err := engine.SendBy(sending, sender, server, m, delivery.MessageID("confirm-"+store.NewID(), 1, "nivot.invalid")); err != nil {
		return false, errors.Join(err, s.st.DropIntake(context.WithoutCancel(ctx), kept.TokenHash))
	}
	return false, nil
}

// senderOf gives the sender of a sheet, who must not have been told to be silent.
func (s *Server) senderOf(ctx context.Context, sheetID string) (*store.Sender, mail.Server, error) {
	on, _, err := s.st.Lever(ctx)
	if err == nil && !on {
		err = errors.New("all sending is switched off")
	}
	if err != nil {
		return nil, mail.Server{}, err
	}
	rec, err := s.st.Sheet(ctx, sheetID)
	if err != nil {
		return nil, mail.Server{}, err
	}
	return s.e.Sender(ctx, rec.SenderID)
}

// waiting finds what waits behind a link to be confirmed, with its form.
func (s *Server) waiting(c *echo.Context) (*store.Intake, *intake, error) {
	ctx := c.Request().Context()
	kept, err := s.st.Intake(ctx, c.Param("token"), s.Wall().Add(-confirmLife))
	if err != nil {
		return nil, nil, err
	}
	f, err := s.st.SheetForm(ctx, kept.SheetID)
	if err != nil {
		return nil, nil, err
	}
	in, err := s.intakeOf(ctx, f)
	return kept, in, err
}

func noConfirm(c *echo.Context, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return answerPage(c, http.StatusNotFound, formView{Form: Form{Title: "This link leads nowhere"}, Said: "It has been used, or is older than two days. Fill in the form again."})
	}
	return err
}

// showConfirm asks for a press: programs that check links look at them too.
func (s *Server) showConfirm(c *echo.Context) error {
	_, in, err := s.waiting(c)
	if err != nil {
		return noConfirm(c, err)
	}
	return answerPage(c, http.StatusOK, formView{Form: Form{Title: in.form.Title, Intro: "Press the button, and we have your answers.", Button: "Confirm"}, Ask: true})
}

// takeConfirm makes the row of what was sent.
func (s *Server) takeConfirm(c *echo.Context) error {
	ctx := c.Request().Context()
	readBy(c.Response(), 0)
	if !s.intakes.allow("confirm " + hereFrom(ctx)) {
		return answerPage(c, http.StatusTooManyRequests, formView{Form: Form{Title: "Please wait a minute"}, Said: "Then follow the link again."})
	}
	kept, in, err := s.waiting(c)
	if err != nil {
		return noConfirm(c, err)
	}
	cells := map[string]string{}
	if err := json.Unmarshal([]byte(kept.Answers), &cells); err != nil {
		return err
	}
	var edits []engine.CellEdit
	for i := range in.sheet.Columns {
		// A column may have been deleted since.
		if col := &in.sheet.Columns[i]; cells[col.ID] != "" && col.Type != value.Formula {
			edits = append(edits, engine.CellEdit{Column: col.ID, Text: cells[col.ID]})
		}
	}
	if err := s.st.ConfirmIntake(ctx, kept.TokenHash, s.Wall().UTC()); err != nil {
		return noConfirm(c, err)
	}
	if _, err := s.e.AddRow(ctx, kept.SheetID, edits, engine.System(byForm)); err != nil {
		return err
	}
	if err := s.st.DropIntakes(ctx, s.Wall().Add(-confirmLife)); err != nil {
		slog.Warn("what nobody confirmed could not be forgotten", "error", err)
	}
	return answerPage(c, http.StatusOK, formView{Form: in.form, Said: in.form.Thanks})
}

package api

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/bits"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
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
		return s.intakes.allow(address+" "+from) && s.forms.allow(address)
	}
	return s.plainIntakes.allow(address+" "+from) && s.plainForms.allow(address)
}

// takeAnswers makes a row of what was answered, or, where it names an address that nobody has
// confirmed, asks its owner first. said is what the page says then.
func (s *Server) takeAnswers(ctx context.Context, in *intake, edits []engine.CellEdit,
	answers map[string]string) (said string, err error) {
	address, err := in.toConfirm(answers)
	if err != nil {
		return "", err
	}
	if address != nil {
		confirmed, err := s.e.AskToConfirm(ctx, in.record.SheetID, in.form.Title, *address, edits)
		if err != nil || !confirmed {
			return fmt.Sprintf(
				"One more step. An email is on its way to %s; follow the link in it within two days, and we have your answers. "+
					"If none comes, look among the unwanted emails.", address.Address()), err
		}
	}
	return in.form.Thanks, s.e.TakeAnswers(ctx, in.record.SheetID, edits)
}

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

// waiting finds what waits behind a link to be confirmed, with its form.
func (s *Server) waiting(c *echo.Context) (*store.Intake, *intake, error) {
	ctx := c.Request().Context()
	kept, err := s.e.IntakeOf(ctx, c.Param("token"))
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
		return answerPage(c, http.StatusNotFound, formView{Form: Form{Title: "This link leads nowhere"},
			Said: "It has been used, or is older than two days. Fill in the form again."})
	}
	return err
}

// showConfirm asks for a press: programs that check links look at them too.
func (s *Server) showConfirm(c *echo.Context) error {
	_, in, err := s.waiting(c)
	if err != nil {
		return noConfirm(c, err)
	}
	return answerPage(c, http.StatusOK,
		formView{Form: Form{Title: in.form.Title, Intro: "Press the button, and we have your answers.", Button: "Confirm"},
			Ask: true})
}

// takeConfirm makes the row of what was sent.
func (s *Server) takeConfirm(c *echo.Context) error {
	ctx := c.Request().Context()
	readBy(c.Response(), 0)
	if !s.intakes.allow("confirm " + hereFrom(ctx)) {
		return answerPage(c, http.StatusTooManyRequests, formView{Form: Form{Title: "Please wait a minute"},
			Said: "Then follow the link again."})
	}
	kept, in, err := s.waiting(c)
	if err != nil {
		return noConfirm(c, err)
	}
	if err := s.e.Confirm(ctx, kept); err != nil {
		return noConfirm(c, err)
	}
	return answerPage(c, http.StatusOK, formView{Form: in.form, Said: in.form.Thanks})
}

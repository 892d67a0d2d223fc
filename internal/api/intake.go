package api

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"math/bits"
	"net/http"
	"strconv"
	"strings"
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

// takeAnswers makes a row of the answers. If they name an address that this browser has not confirmed, it asks the
// owner of the address first. It returns what the page says.
func (s *Server) takeAnswers(c *echo.Context, in *intake, edits []engine.CellEdit,
	answers map[string]string) (said string, err error) {
	ctx := c.Request().Context()
	address, err := in.toConfirm(answers)
	if err != nil {
		return "", err
	}
	if address != nil {
		confirmed, err := s.hasConfirmed(c, in.record.SheetID, []byte(value.Identifier(address.Address())))
		if err != nil {
			return "", err
		}
		if !confirmed {
			err := s.e.AskToConfirm(ctx, in.record.SheetID, in.form.Title, *address, edits)
			return fmt.Sprintf(
				"One more step. An email is on its way to %s; follow the link in it within two days, and we have your answers. "+
					"If none comes, look among the unwanted emails.", address.Address()), err
		}
	}
	return in.form.Thanks, s.e.TakeAnswers(ctx, in.record.SheetID, edits)
}

// confirmedCookie is the name of the cookie of a browser whose owner has confirmed an address. Its value is when it
// ends, in seconds since 1970, and a code over the sheet, the address and that (confirmation).
const (
	confirmedCookie = "nivot-confirmed"
	confirmedLife   = 30 * 24 * time.Hour
)

// confirmation signs that a browser's owner has confirmed an address for the form of a sheet, until an instant.
func (s *Server) confirmation(ctx context.Context, sheetID string, address []byte, until int64) (string, error) {
	key, err := s.e.Secret(ctx, store.SettingFormKey)
	if err != nil {
		return "", err
	}
	h := hmac.New(sha256.New, key)
	fmt.Fprintf(h, "%s\x00%s\x00%d", sheetID, address, until)
	return fmt.Sprintf("%d.%s", until, base64.RawURLEncoding.EncodeToString(h.Sum(nil))), nil
}

// hasConfirmed reports whether a browser shows that its owner has confirmed an address for the form of a sheet.
func (s *Server) hasConfirmed(c *echo.Context, sheetID string, address []byte) (bool, error) {
	for _, k := range c.Request().CookiesNamed(confirmedCookie) {
		text, _, _ := strings.Cut(k.Value, ".")
		until, err := strconv.ParseInt(text, 10, 64)
		if err != nil || until < s.Wall().Unix() {
			continue
		}
		want, err := s.confirmation(c.Request().Context(), sheetID, address, until)
		if err != nil {
			return false, err
		}
		if hmac.Equal([]byte(k.Value), []byte(want)) {
			return true, nil
		}
	}
	return false, nil
}

// confirms has the browser that has confirmed an address say so for a month.
func (s *Server) confirms(c *echo.Context, kept *store.Intake) error {
	f, err := s.st.SheetForm(c.Request().Context(), kept.SheetID)
	if err != nil {
		return err
	}
	until := s.Wall().Add(confirmedLife)
	signed, err := s.confirmation(c.Request().Context(), kept.SheetID, kept.AddressKey, until.Unix())
	if err != nil {
		return err
	}
	c.SetCookie(&http.Cookie{Name: confirmedCookie, Value: signed, Path: s.base + formPath + f.Address, Expires: until,
		HttpOnly: true, Secure: strings.HasPrefix(s.PublicURL, "https://"), SameSite: http.SameSiteLaxMode})
	return nil
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
	if err := s.confirms(c, kept); err != nil {
		return err
	}
	return answerPage(c, http.StatusOK, formView{Form: in.form, Said: in.form.Thanks})
}

package api

import (
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// stopPage asks a recipient whether such emails are to stop. Looking at it changes nothing: programs that check
// links look too. An email that went to several has one link for all: the page shows none of them to another, and
// asks.
func stopPage(boxes []value.Mailbox, fault string) formView {
	v := formView{Ask: true, Fault: fault, Form: Form{Title: "Stop these emails", Button: "Send nothing more"}}
	switch len(boxes) {
	case 0:
		return formView{Form: v.Form, Said: "There is no address here to stop emails to."}
	case 1:
		v.Form.Intro = "Nothing more will be sent to " + boxes[0].Address() + "."
	default:
		v.Form.Intro = "To which address did the email come?"
		v.Fields = []formField{{Name: "address", Label: "Your address", Kind: "email", Required: true}}
	}
	return v
}

// stopping finds the email of an unsubscribe link, and those whom it went to.
func (s *Server) stopping(c *echo.Context) (*store.Delivery, []value.Mailbox, error) {
	d, err := s.e.OptOutOf(c.Request().Context(), c.Param("token"))
	if err != nil {
		return nil, nil, err
	}
	var boxes []value.Mailbox
	for _, r := range recipients(d) {
		list, err := value.ParseMailboxes(r.Mailbox)
		if err != nil {
			return nil, nil, err
		}
		boxes = append(boxes, list...)
	}
	return d, boxes, nil
}

func (s *Server) noStop(c *echo.Context, err error) error {
	if c.Param("token") == engine.TestToken {
		return answerPage(c, http.StatusOK, formView{Form: Form{Title: "Stop these emails"},
			Said: "This link came with a test email. In a real one it asks whether nothing more is to be sent."})
	}
	if errors.Is(err, store.ErrNotFound) {
		return answerPage(c, http.StatusNotFound, formView{Form: Form{Title: "There is nothing here"},
			Said: "The link is not whole. Follow the one in the email, or answer the email and say so."})
	}
	return err
}

func (s *Server) showStop(c *echo.Context) error {
	_, boxes, err := s.stopping(c)
	if err != nil {
		return s.noStop(c, err)
	}
	return answerPage(c, http.StatusOK, stopPage(boxes, ""))
}

// takeStop stops the emails: asked by the page, or by a mail reader with one click (RFC
// 8058), which sends no address.
func (s *Server) takeStop(c *echo.Context) error {
	d, boxes, err := s.stopping(c)
	if err != nil {
		return s.noStop(c, err)
	}
	r := c.Request()
	r.Body = http.MaxBytesReader(c.Response(), r.Body, maxForm)
	there := reads(r)
	err = r.ParseMultipartForm(maxForm)
	if there(); err != nil && !errors.Is(err, http.ErrNotMultipart) {
		return answerPage(c, http.StatusBadRequest, stopPage(boxes, "That could not be read. Please try again."))
	}
	readBy(c.Response(), 0)
	// By the link: a mail provider sends the clicks of all its people from a few addresses.
	if !s.stops.allow(c.Param("token")) {
		return answerPage(c, http.StatusTooManyRequests, stopPage(boxes, "Please wait a minute and try again."))
	}
	if r.PostForm.Get("website") != "" || len(boxes) == 0 {
		return answerPage(c, http.StatusOK, stopPage(boxes, ""))
	}
	if len(boxes) == 1 {
		if err := s.e.OptOut(r.Context(), d, boxes[0]); err != nil {
			return err
		}
		return answerPage(c, http.StatusOK, formView{Form: Form{Title: "Done"}, Said: "Nothing more will be sent to " +
			boxes[0].Address() + ". Should that be a mistake, answer the email and say so."})
	}
	given, err := value.ParseMailboxes(r.PostForm.Get("address"))
	if err != nil || len(given) != 1 {
		return answerPage(c, http.StatusUnprocessableEntity, stopPage(boxes, "Please give the one address that is yours."))
	}
	for _, b := range boxes {
		if value.Identifier(b.Address()) == value.Identifier(given[0].Address()) {
			if err := s.e.OptOut(r.Context(), d, b); err != nil {
				return err
			}
		}
	}
	return answerPage(c, http.StatusOK, formView{Form: Form{Title: "Done"}, Said: "If the email went to " +
		given[0].Address() + ", nothing more will be sent there. Should that be a mistake, answer the email and say so."})
}

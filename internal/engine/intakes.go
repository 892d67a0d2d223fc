package engine

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/value"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// ConfirmPath is where the owner of an address confirms what was sent by a form; a token follows.
const ConfirmPath = "/confirm/"

// What a form lets anybody make Nivot send: one email to an address that is not confirmed yet,
// asking for that; so many to one address, and by one form.
const (
	confirmLife   = 48 * time.Hour
	confirmsIn    = 24 * time.Hour
	confirmsOfOne = 3
	confirmsOfAll = 300
	sendWithin    = 20 * time.Second
)

// byForm is who stands in the history for what came in by a form.
var byForm = System("the intake form")

var (
	errFormBusy   = errors.New("the form has sent as many emails as it may in a day")
	errSendingOff = errors.New("all sending is switched off")
)

// TakeAnswers makes a row of what was sent by the form of a sheet.
func (e *Engine) TakeAnswers(ctx context.Context, sheetID string, cells []CellEdit) error {
	_, err := e.AddRow(ctx, sheetID, cells, byForm)
	return err
}

// AskToConfirm keeps what was sent by the form of a sheet, which goes by a title, and asks the owner of its address by
// email; an address on the do-not-email list, and one that was asked often enough, is not asked.
func (e *Engine) AskToConfirm(ctx context.Context, sheetID, title string, to value.Mailbox, cells []CellEdit) error {
	sender, server, err := e.formSender(ctx, sheetID)
	if err != nil {
		return err
	}
	token := store.NewToken()
	kept := &store.Intake{TokenHash: store.HashToken(token), SheetID: sheetID,
		AddressKey: []byte(value.Identifier(to.Address())), At: e.opts.Wall().UTC()}
	texts := make(map[string]string, len(cells))
	for _, c := range cells {
		texts[c.Column] = c.Text
	}
	kept.Answers = store.Detail(texts)
	ask := false
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		ask = false
		if err := tx.LockForm(ctx, sheetID); err != nil { // those who come together are counted
			return err
		}
		all, ofOne, err := tx.IntakesSince(ctx, sheetID, kept.AddressKey, kept.At.Add(-confirmsIn))
		switch {
		case err != nil:
			return err
		case ofOne >= confirmsOfOne:
			return nil
		case all >= confirmsOfAll:
			return errFormBusy
		}
		silent, err := tx.OnDoNotEmail(ctx, to)
		if err != nil || silent {
			return err
		}
		ask = true
		return tx.AddIntake(ctx, kept)
	})
	if err != nil || !ask {
		return err
	}
	sending, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	to.Name = ""
	m := &mail.Message{To: []value.Mailbox{to}, Subject: "Please confirm: " + title, Date: e.now(), Text: fmt.Sprintf(
		"Somebody, probably you, filled in “%s” and gave this address.\n\nConfirm it here within two days, and we have "+
			"the answers:\n%s%s%s\n\nIf it was not you, do nothing. Nothing more is sent to you.\n",
		title, e.opts.PublicURL, ConfirmPath, token)}
	if err := SendBy(sending, sender, server, m, delivery.MessageID("confirm-"+store.NewID(), 1,
		"nivot.invalid")); err != nil {
		return errors.Join(err, e.Store.DropIntake(context.WithoutCancel(ctx), kept.TokenHash))
	}
	return nil
}

// formSender gives the sender of a sheet, unless all sending is off.
func (e *Engine) formSender(ctx context.Context, sheetID string) (*store.Sender, mail.Server, error) {
	sending, err := e.Store.Sending(ctx)
	if err == nil && !sending.On {
		err = errSendingOff
	}
	if err != nil {
		return nil, mail.Server{}, err
	}
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, mail.Server{}, err
	}
	return e.Sender(ctx, rec.SenderID)
}

// IntakeOf finds what waits behind the token of a link to be confirmed.
func (e *Engine) IntakeOf(ctx context.Context, token string) (*store.Intake, error) {
	return e.Store.Intake(ctx, token, e.opts.Wall().Add(-confirmLife))
}

// Confirm makes the row of what waited for the owner of its address, once: where the process ends
// between the row and the mark, following the link again finds the row there.
func (e *Engine) Confirm(ctx context.Context, kept *store.Intake) error {
	rec, err := e.Store.Sheet(ctx, kept.SheetID)
	if err != nil {
		return err
	}
	core, err := rec.Core()
	if err != nil {
		return err
	}
	texts := map[string]string{}
	if err := json.Unmarshal([]byte(kept.Answers), &texts); err != nil {
		return err
	}
	var cells []CellEdit
	for i := range core.Columns {
		// A column may have been deleted since, or become what no form asks for.
		if c := &core.Columns[i]; texts[c.ID] != "" && c.Asked() {
			cells = append(cells, CellEdit{Column: c.ID, Text: texts[c.ID]})
		}
	}
	key := sha256.Sum256(append([]byte("intake\x00"), kept.TokenHash...))
	if err := e.TakeAnswers(WithOnce(ctx, store.Once{Key: key[:], Request: key[:]}), kept.SheetID, cells); err != nil {
		return err
	}
	return e.Store.ConfirmIntake(ctx, kept.TokenHash, e.opts.Wall().UTC())
}

// dropIntakes forgets what was sent by forms and was confirmed, or could not be any more at an instant.
func (e *Engine) dropIntakes(ctx context.Context, now time.Time) error {
	return e.Store.DropIntakes(ctx, now.UTC().Add(-confirmLife))
}

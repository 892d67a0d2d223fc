package engine

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// OptOutPath is where the pages stand on which a recipient stops emails; a token follows.
const OptOutPath = "/stop/"

// tokenMAC is how much of the code over an occasion's identity a token carries, in bytes.
const tokenMAC = 12

// OptOutLink gives the address with which a recipient of a delivery stops such emails. It
// cannot be guessed from another one.
func (e *Engine) OptOutLink(ctx context.Context, d *store.Delivery, publicURL string) (string, error) {
	key, err := e.Secret(ctx, store.SettingOptOutKey)
	if err != nil {
		return "", err
	}
	h := hmac.New(sha256.New, key)
	h.Write(d.Occasion)
	token := append(append([]byte{}, d.Occasion...), h.Sum(nil)[:tokenMAC]...)
	return publicURL + OptOutPath + base64.RawURLEncoding.EncodeToString(token), nil
}

// OptOutOf finds the delivery whose link carries a token.
func (e *Engine) OptOutOf(ctx context.Context, token string) (*store.Delivery, error) {
	b, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(b) != 16+tokenMAC {
		return nil, store.ErrNotFound
	}
	key, err := e.Secret(ctx, store.SettingOptOutKey)
	if err != nil {
		return nil, err
	}
	h := hmac.New(sha256.New, key)
	h.Write(b[:16])
	if !hmac.Equal(b[16:], h.Sum(nil)[:tokenMAC]) {
		return nil, store.ErrNotFound
	}
	return e.Store.DeliveryOf(ctx, b[:16])
}

// OptOut puts an address on the do-not-email list, as its owner asked by the link in an
// email.
func (e *Engine) OptOut(ctx context.Context, d *store.Delivery, m value.Mailbox) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.AddDoNotEmail(ctx, m, fmt.Sprintf("asked by the link in “%s”", clipped(d.Subject, 120)),
			"the recipient", e.now()); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: "the recipient", Kind: store.EventSettingSaved,
			SheetID: d.SheetID,
			Detail:  store.Detail(map[string]any{"doNotEmail": m.Address()})})
	})
}

func clipped(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

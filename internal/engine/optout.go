package engine

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// OptOutPath is where the pages stand on which a recipient stops emails; a token follows.
const OptOutPath = "/stop/"

// tokenMAC is how much of the code over an occasion's identity a token carries, in bytes.
const tokenMAC = 12

// optOutUse is what the key of unsubscribe links is sealed for.
const optOutUse = "opt-out links"

// optOutKey gives the database's key for the tokens of unsubscribe links; it is made once, and sealed where there
// is a key to seal with.
func (e *Engine) optOutKey(ctx context.Context) ([]byte, error) {
	if k := e.optOut.Load(); k != nil {
		return *k, nil
	}
	fresh := make([]byte, optOutBytes)
	_, _ = rand.Read(fresh)
	if err := e.Store.SetSettingOnce(ctx, store.SettingOptOutKey, e.sealedOptOut(fresh)); err != nil {
		return nil, err
	}
	var key []byte
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		var kept []byte
		if _, err := tx.LockSetting(ctx, store.SettingOptOutKey, &kept); err != nil {
			return err
		}
		if len(kept) != optOutBytes {
			if e.opts.Key == nil {
				return errors.New("the key of unsubscribe links is sealed, and this process has no key file")
			}
			opened, err := e.opts.Key.Open(kept, optOutUse)
			key = []byte(opened)
			return err
		}
		if key = kept; e.opts.Key == nil {
			return nil
		}
		return tx.SetSetting(ctx, store.SettingOptOutKey, e.sealedOptOut(key)) // from before keys were sealed
	})
	if err != nil {
		return nil, err
	}
	e.optOut.Store(&key)
	return key, nil
}

// optOutBytes is the length of the key.
const optOutBytes = 32

func (e *Engine) sealedOptOut(key []byte) []byte {
	if e.opts.Key == nil {
		return key
	}
	return e.opts.Key.Seal(string(key), optOutUse)
}

// OptOutLink gives the address with which a recipient of a delivery stops such emails. It
// cannot be guessed from another one.
func (e *Engine) OptOutLink(ctx context.Context, d *store.Delivery, publicURL string) (string, error) {
	key, err := e.optOutKey(ctx)
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
	key, err := e.optOutKey(ctx)
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

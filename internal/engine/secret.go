package engine

import (
	"context"
	"crypto/rand"
	"errors"

	"nivot/internal/store"
)

// secretBytes is the length of a secret.
const secretBytes = 32

// Secret gives a secret of the database, with which Nivot signs what it gives away: it is made once, kept under the
// name of a setting, and sealed where there is a key to seal with.
func (e *Engine) Secret(ctx context.Context, name string) ([]byte, error) {
	if k, ok := e.secrets.Load(name); ok {
		return k.([]byte), nil
	}
	fresh := make([]byte, secretBytes)
	_, _ = rand.Read(fresh)
	if err := e.Store.SetSettingOnce(ctx, name, e.sealedSecret(fresh, name)); err != nil {
		return nil, err
	}
	var secret []byte
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		var kept []byte
		if _, err := tx.LockSetting(ctx, name, &kept); err != nil {
			return err
		}
		if len(kept) != secretBytes {
			if e.opts.Key == nil {
				return errors.New("the secret " + name + " is sealed, and this process has no key file")
			}
			opened, err := e.opts.Key.Open(kept, name)
			secret = []byte(opened)
			return err
		}
		if secret = kept; e.opts.Key == nil {
			return nil
		}
		return tx.SetSetting(ctx, name, e.sealedSecret(secret, name)) // from before secrets were sealed
	})
	if err != nil {
		return nil, err
	}
	e.secrets.Store(name, secret)
	return secret, nil
}

func (e *Engine) sealedSecret(secret []byte, name string) []byte {
	if e.opts.Key == nil {
		return secret
	}
	return e.opts.Key.Seal(string(secret), name)
}

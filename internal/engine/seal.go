package engine

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"strings"
)

// Key seals secrets with AES-256-GCM (NIST SP 800-38D).
type Key struct{ aead cipher.AEAD }

// NewKey makes a key of 32 bytes.
func NewKey(b []byte) (*Key, error) {
	if len(b) != 32 {
		return nil, fmt.Errorf("the key has %d bytes; 32 are wanted", len(b))
	}
	block, err := aes.NewCipher(b)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Key{aead}, err
}

// forOthers are the permissions that a key file must not have: a group may read it, as
// orchestrators give secrets.
const forOthers = 0o037

// LoadKey reads a key file, base64 of 32 bytes, and makes it, readable by its
// owner alone, where it is missing. One that is open to everybody is refused.
func LoadKey(path string) (*Key, error) {
	info, err := os.Stat(path)
	if err == nil && info.Mode().Perm()&forOthers != 0 {
		return nil, fmt.Errorf("the key file %s can be read by everybody or written by others (%v); run chmod 600 %s", path,
			info.Mode().Perm(), path)
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		raw := make([]byte, 32)
		_, _ = rand.Read(raw)
		b = []byte(base64.StdEncoding.EncodeToString(raw) + "\n")
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file: %w", err)
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(b)))
	if err != nil {
		return nil, fmt.Errorf("the key file %s is not base64", path)
	}
	return NewKey(raw)
}

// Seal encrypts a secret for one use, such as "sender 42 password".
func (k *Key) Seal(secret, use string) []byte {
	nonce := make([]byte, k.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return k.aead.Seal(nonce, nonce, []byte(secret), []byte(use))
}

// Open decrypts what Seal made for the same use.
func (k *Key) Open(sealed []byte, use string) (string, error) {
	n := k.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("the secret is cut short")
	}
	b, err := k.aead.Open(nil, sealed[:n], sealed[n:], []byte(use))
	if err != nil {
		return "", errors.New("the secret was sealed with another key")
	}
	return string(b), nil
}

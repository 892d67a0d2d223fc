package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
	"golang.org/x/sync/semaphore"

	"nivot/internal/engine"
)

// Cost of argon2id (RFC 9106): two passes over 19 MiB, one lane.
const (
	hashPasses = 2
	hashMemory = 19 * 1024
	hashLength = 32
)

// hashesAtOnce bounds how many passwords are hashed at the same time, and with it the memory
// for it, in this process.
const hashesAtOnce = 4

var hashing = semaphore.NewWeighted(hashesAtOnce)

// HashPassword hashes a password with argon2id and a random salt.
func HashPassword(password string) string { return hashAt(password, hashMemory, hashPasses) }

// hashAt hashes a password with so many KiB of memory and passes over it.
func hashAt(password string, memory, passes uint32) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	h := argon2.IDKey([]byte(password), salt, passes, memory, 1, hashLength)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, memory, passes, enc(salt), enc(h))
}

// checkPassword reports whether a password is the one that was hashed. A hash
// that cannot be read costs the same time.
func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	salt, want := make([]byte, 16), make([]byte, hashLength)
	memory, passes := uint32(hashMemory), uint32(hashPasses)
	ok := len(parts) == 6 && parts[1] == "argon2id"
	if ok {
		_, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes)
		s, err1 := base64.RawStdEncoding.DecodeString(parts[4])
		w, err2 := base64.RawStdEncoding.DecodeString(parts[5])
		if ok = errors.Join(err, err1, err2) == nil; ok {
			salt, want = s, w
		}
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, 1, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && ok
}

// newHash hashes the new password of somebody when its turn has come; one that is short or
// easily guessed is refused.
func newHash(ctx context.Context, password, name, email string) (string, error) {
	if err := checkNewPassword(password, name, email); err != nil {
		return "", err
	}
	if err := hashing.Acquire(ctx, 1); err != nil {
		return "", err
	}
	defer hashing.Release(1)
	return HashPassword(password), nil
}

// isPassword reports, when its turn has come, whether a password is the one that was hashed.
func isPassword(ctx context.Context, hash, password string) (bool, error) {
	if err := hashing.Acquire(ctx, 1); err != nil {
		return false, err
	}
	defer hashing.Release(1)
	return checkPassword(hash, password), nil
}

// What a new password is to be: of some length, and not among the first that are guessed, as
// zxcvbn (Wheeler, USENIX Security 2016) reckons from its lists of common passwords, words and
// names, the order of keys and dates, and from what the person is called.
const (
	minPassword   = 12 // characters
	leastStrength = 3  // of zxcvbn's 0 to 4
	weighed       = 64 // characters; a longer one is judged by these
)

// checkNewPassword refuses a password that is short or easily guessed.
func checkNewPassword(password, name, email string) error {
	refuse := func(why string) error { return &engine.Refusal{Field: "/password", Message: why} }
	if utf8.RuneCountInString(password) < minPassword {
		return refuse(
			fmt.Sprintf(
				"the password is shorter than %d characters; some words that only you put together are easy to keep in mind",
				minPassword))
	}
	folded := strings.ToLower(password)
	local, domain, _ := strings.Cut(email, "@")
	theirs := append(strings.Fields(name), name, email, local, domain, "nivot")
	for _, own := range theirs {
		// What is left without one's own name must be a password by itself.
		if own = strings.ToLower(own); utf8.RuneCountInString(own) >= 3 {
			folded = strings.ReplaceAll(folded, own, "")
		}
	}
	if utf8.RuneCountInString(folded) < minPassword/2 {
		return refuse("the password is hardly more than your own name or address")
	}
	judged := []rune(password)
	if zxcvbn.PasswordStrength(string(judged[:min(len(judged), weighed)]), theirs).Score < leastStrength {
		return refuse(
			"the password is among the first that are guessed: common words, names, dates or keys in a row; put some words " +
				"together that only you would")
	}
	return nil
}

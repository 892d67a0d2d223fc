package engine

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nivot/internal/store"
)

// A sealed secret opens with its key and for its use alone, and never looks
// the same twice; the key file is its owner's.
func TestSeal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	k, err := LoadKey(path)
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	again, err := LoadKey(path)
	if err != nil {
		t.Fatal(err)
	}
	a, b := k.Seal("weathercock", "sender 1"), k.Seal("weathercock", "sender 1")
	if bytes.Equal(a, b) || bytes.Contains(a, []byte("weathercock")) {
		t.Error("what is sealed can be recognised")
	}
	if got, err := again.Open(a, "sender 1"); err != nil || got != "weathercock" {
		t.Error(got, err)
	}
	other, err := NewKey(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		t.Fatal(err)
	}
	broken := bytes.Clone(a)
	broken[len(broken)-1] ^= 1
	for what, open := range map[string]func() (string, error){
		"another key":     func() (string, error) { return other.Open(a, "sender 1") },
		"another use":     func() (string, error) { return k.Open(a, "sender 2") },
		"a changed byte":  func() (string, error) { return k.Open(broken, "sender 1") },
		"a part of it":    func() (string, error) { return k.Open(a[:9], "sender 1") },
		"nothing at all":  func() (string, error) { return k.Open(nil, "sender 1") },
		"without its end": func() (string, error) { return k.Open(a[:len(a)-3], "sender 1") },
	} {
		if got, err := open(); err == nil || got != "" {
			t.Errorf("%s opens it: %q", what, got)
		}
	}
	for data, want := range map[string]string{"not base64!": "is not base64", "c2hvcnQ=": "5 bytes; 32 are wanted",
		"": "0 bytes"} {
		p := filepath.Join(t.TempDir(), "key")
		if err := os.WriteFile(p, []byte(data), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := LoadKey(p); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", data, err, want)
		}
	}
	if _, err := LoadKey(filepath.Join(t.TempDir(), "no", "such", "folder")); err == nil ||
		!strings.Contains(err.Error(), "key file") {
		t.Error(err)
	}
}

// A key that everybody can read is none; a group's is, as orchestrators give secrets.
func TestKeyFileIsClosed(t *testing.T) {
	p := filepath.Join(t.TempDir(), "key")
	if _, err := LoadKey(p); err != nil {
		t.Fatal(err)
	}
	for mode, ok := range map[os.FileMode]bool{0o600: true, 0o400: true, 0o440: true, 0o640: true, 0o644: false,
		0o604: false, 0o660: false, 0o666: false} {
		if err := os.Chmod(p, mode); err != nil {
			t.Fatal(err)
		}
		if _, err := LoadKey(p); (err == nil) != ok {
			t.Errorf("%v: %v", mode, err)
		} else if err != nil && !strings.Contains(err.Error(), "chmod 600") {
			t.Errorf("%v: it does not say what to do: %v", mode, err)
		}
	}
}

// What Nivot signs with is kept sealed; what was kept in the open is sealed when it is next needed.
func TestSecretsAreSealed(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	kept := func() (b []byte) {
		t.Helper()
		if _, err := f.Store.Setting(f.ctx, store.SettingOptOutKey, &b); err != nil {
			t.Fatal(err)
		}
		return b
	}
	open, err := New(f.Store, f.Now, Options{}).Secret(f.ctx, store.SettingOptOutKey)
	if err != nil || !bytes.Equal(kept(), open) {
		t.Fatalf("without a key file: %v", err)
	}
	key, err := NewKey(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		sealed, err := New(f.Store, f.Now, Options{Key: key}).Secret(f.ctx, store.SettingOptOutKey)
		if err != nil || !bytes.Equal(sealed, open) || bytes.Contains(kept(), open) {
			t.Fatalf("with a key file: %v, kept as %x", err, kept())
		}
	}
	if _, err := New(f.Store, f.Now, Options{}).Secret(f.ctx, store.SettingOptOutKey); err == nil {
		t.Error("a process without the key file opens it")
	}
}

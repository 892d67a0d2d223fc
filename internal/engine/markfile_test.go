package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/store"
)

func TestMarkFile(t *testing.T) {
	at := at("2027-03-15T08:40:00Z")
	one := map[string]store.Mark{"ours": {Life: "ours", Event: 7, At: at}}
	t.Run("comes back", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "key.mark")
		if _, err := writeMarks(path, one); err != nil {
			t.Fatal(err)
		}
		// What another process has written stays, and what is further.
		if _, err := writeMarks(path, map[string]store.Mark{"theirs": {Life: "theirs", Event: 3, At: at},
			"ours": {Life: "ours", Event: 5, At: at}}); err != nil {
			t.Fatal(err)
		}
		got, err := readMarks(path)
		if err != nil || len(got) != 2 || got["ours"].Event != 7 || got["theirs"].Event != 3 {
			t.Errorf("got %v, %v; want event 7 of ours and 3 of theirs", got, err)
		}
	})
	t.Run("of an earlier version", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "key.mark")
		writeText(t, path, `{"ours":{"life":"ours","event":7,"at":"2027-03-15T08:40:00Z"}}`)
		got, err := readMarks(path)
		if err != nil || got["ours"].Event != 7 {
			t.Errorf("got %v, %v; want event 7", got, err)
		}
	})
	for name, spoil := range map[string]func(string) string{
		"empty":          func(string) string { return "" },
		"cut off":        func(s string) string { return s[:len(s)/2] },
		"of two":         func(s string) string { return s[:len(s)/2] + s },
		"zeros":          func(s string) string { return strings.Repeat("\x00", len(s)) },
		"another number": func(s string) string { return strings.Replace(s, `"event":7`, `"event":1`, 1) },
	} {
		t.Run("spoilt: "+name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "key.mark")
			if _, err := writeMarks(path, one); err != nil {
				t.Fatal(err)
			}
			writeText(t, path, spoil(readText(t, path)))
			_, err := readMarks(path)
			var unread *MarkFileError
			if !errors.As(err, &unread) || !strings.Contains(err.Error(), path) {
				t.Errorf("got %v, want an error that names the file", err)
			}
		})
	}
	t.Run("many write at once", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "key.mark")
		var writers sync.WaitGroup
		for i := range 8 {
			writers.Go(func() {
				for n := range 20 {
					life := fmt.Sprint("life ", i)
					if _, err := writeMarks(path, map[string]store.Mark{life: {Life: life, Event: int64(n + 1)}}); err != nil {
						t.Error(err)
					}
					if _, err := readMarks(path); err != nil {
						t.Error(err)
					}
				}
			})
		}
		writers.Wait()
		got, err := readMarks(path)
		if err != nil || len(got) != 8 {
			t.Errorf("got %v, %v; want eight lives", got, err)
		}
		for life, m := range got {
			if m.Event != 20 {
				t.Errorf("%s is at %d, want 20", life, m.Event)
			}
		}
		if left, _ := filepath.Glob(path + ".*.new"); len(left) > 0 {
			t.Errorf("%v are left", left)
		}
	})
}

func writeText(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

func readText(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// An engine whose mark file is spoilt says so, judges nothing, and begins by itself once the file has been
// put right; one that has ended says so too.
func TestSpoiltMarkFileIsTold(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:40:00Z")
	f.opts.MarkFile = filepath.Join(t.TempDir(), "key.mark")
	writeText(t, f.opts.MarkFile, "")
	if err := f.Trouble(); err != nil {
		t.Fatalf("before it runs: %v", err)
	}
	ctx, cancel := context.WithCancel(f.ctx)
	ended := make(chan error, 1)
	go func() { ended <- f.Run(ctx) }()
	f.until(func() bool { return f.Trouble() != nil })
	if err := f.Trouble(); !strings.Contains(err.Error(), f.opts.MarkFile) ||
		!strings.Contains(err.Error(), "delete the file") {
		t.Errorf("told: %v; want the file and what to do", err)
	}
	if err := os.Remove(f.opts.MarkFile); err != nil {
		t.Fatal(err)
	}
	f.until(func() bool { return f.Trouble() == nil })
	cancel()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if err := f.Trouble(); !errors.Is(err, errEnded) {
		t.Errorf("after it has ended: %v", err)
	}
}

// until waits for something to be so.
func (f *fixture) until(so func() bool) {
	f.t.Helper()
	for deadline := time.Now().Add(time.Minute); !so(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			f.t.Fatal("it did not come to be so")
		}
	}
}

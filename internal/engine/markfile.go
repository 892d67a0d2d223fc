package engine

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"nivot/internal/store"
)

// A mark file keeps how far each database that a machine has known had come, by the database's life. Several
// processes may write one: each writes a file of its own, whole and synced, and renames it; what the
// others have written is kept where it is further.

// markFileBody is what a mark file holds: the marks, and their SHA-256.
type markFileBody struct {
	Sum   string          `json:"sum"`
	Lives json.RawMessage `json:"lives"`
}

// MarkFileError says that a mark file is there and cannot be used.
type MarkFileError struct {
	Path string
	Err  error
}

// Error names the file and what to do.
func (e *MarkFileError) Error() string {
	return fmt.Sprintf("%s cannot be read: %v. The file keeps how far the database has come, so that an older copy of it "+
		"is noticed; nothing is judged or sent without it. Put the file back from a backup, or, if this is certainly the "+
		"latest state of the database, delete the file. Nivot then goes on by itself", e.Path, e.Err)
}

// Unwrap returns what is wrong with the file.
func (e *MarkFileError) Unwrap() error { return e.Err }

// readMarks reads a mark file. One that is not there holds nothing.
func readMarks(path string) (map[string]store.Mark, error) {
	lives := map[string]store.Mark{}
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return lives, nil
	}
	if err == nil {
		err = decodeMarks(b, &lives)
	}
	if err != nil {
		return nil, &MarkFileError{path, err}
	}
	return lives, nil
}

func decodeMarks(b []byte, lives *map[string]store.Mark) error {
	if len(bytes.TrimSpace(b)) == 0 {
		return errors.New("it is empty")
	}
	var body markFileBody
	if err := json.Unmarshal(b, &body); err != nil {
		return fmt.Errorf("it is damaged: %w", err)
	}
	if body.Sum == "" && body.Lives == nil { // as versions before 1.0 wrote it
		body.Lives = b
	} else if body.Sum != sumOf(body.Lives) {
		return errors.New("it is damaged: its checksum does not match")
	}
	if err := json.Unmarshal(body.Lives, lives); err != nil {
		return fmt.Errorf("it is damaged: %w", err)
	}
	return nil
}

func sumOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// writeMarks adds marks to a mark file, and returns all that it holds then. A file that is damaged is
// written anew.
func writeMarks(path string, lives map[string]store.Mark) (all map[string]store.Mark, err error) {
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer lock.Close() // which unlocks it
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if all, err = readMarks(path); err != nil {
		all = map[string]store.Mark{}
	}
	for life, m := range lives {
		if m.Event >= all[life].Event {
			all[life] = m
		}
	}
	marks, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(markFileBody{sumOf(marks), marks})
	if err != nil {
		return nil, err
	}
	return all, replaceFile(path, b)
}

// replaceFile writes a file so that a stop at any moment leaves the old one or the new one, whole.
func replaceFile(path string, b []byte) error {
	dir := filepath.Dir(path)
	f, err := os.CreateTemp(dir, filepath.Base(path)+".*.new")
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// leftAfter is how old a file must be that a process began to write and did not rename, to be removed.
const leftAfter = time.Minute

// clearMarks removes what processes that were killed have left beside a mark file.
func clearMarks(path string) {
	left, _ := filepath.Glob(path + ".*.new")
	for _, name := range left {
		if info, err := os.Stat(name); err == nil && time.Since(info.ModTime()) > leftAfter {
			_ = os.Remove(name)
		}
	}
}

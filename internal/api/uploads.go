package api

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/semaphore"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
)

// Bounds of what is uploaded, beside that of its operation.
const (
	maxValues     = 2 << 20  // bytes of the named values of an upload together
	maxParts      = 32       // its parts
	atOnceOfOne   = 4        // uploads of a person that are taken in at once
	waitingOfOne  = 60       // and those that wait for that
	readAtOnce    = 32 << 20 // bytes of files that are read at once
	heavy         = 8 << 20  // bytes of a file whose memory is given back at once
	workbookBytes = 8        // what a byte of a workbook, which is packed, counts for there
)

// uploads takes in what people upload: into a folder of its own, so that none is in memory before its turn to
// be read, and so much of each person at once.
type uploads struct {
	folder string
	turns  turns               // of people
	bytes  *semaphore.Weighted // that are read
}

// uploadName is the pattern of the names of files in the folder of uploads.
const uploadName = "upload-*"

// newUploads makes the folder of uploads, or removes the uploads in the one that is there. A file has no name once
// it is open, so that what is found there is left from a process that was killed between the two.
func newUploads(folder string) (*uploads, error) {
	if folder == "" {
		folder = filepath.Join(os.TempDir(), fmt.Sprintf("nivot-uploads-%d", os.Getuid()))
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the folder of uploads: %w", err)
	}
	info, err := os.Lstat(folder)
	if err != nil {
		return nil, fmt.Errorf("the folder of uploads: %w", err)
	}
	// In a folder that everybody may write to, somebody else may have been there first.
	if of, ok := info.Sys().(*syscall.Stat_t); !info.IsDir() || ok && int(of.Uid) != os.Getuid() {
		return nil, fmt.Errorf("the folder of uploads %s is no folder of its own user; name another one with NIVOT_UPLOADS",
			folder)
	}
	left, err := filepath.Glob(filepath.Join(folder, uploadName))
	if err != nil {
		return nil, fmt.Errorf("the folder of uploads: %w", err)
	}
	for _, name := range left {
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("the folder of uploads: %w", err)
		}
	}
	return &uploads{folder: folder, bytes: semaphore.NewWeighted(readAtOnce)}, nil
}

// file makes a file without a name, which is gone once it is closed, and however the process ends.
func (u *uploads) file() (*os.File, error) {
	f, err := os.CreateTemp(u.folder, uploadName)
	if err != nil {
		return nil, err
	}
	// Another process that starts may have emptied the folder.
	if err := os.Remove(f.Name()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// upload is an upload's share of what is bounded, until its request has ended, and the job that it began.
type upload struct {
	u    *uploads
	most int64 // bytes of the request

	mu     sync.Mutex
	held   int      // by how many; guarded by mu, as all below
	file   *os.File // nil before it comes, and once it is read
	weight int64    // of the bytes that are read
}

type uploadKey struct{}

// uploadOf returns the upload of a request, of an operation that takes one.
func uploadOf(ctx context.Context) *upload {
	u, _ := ctx.Value(uploadKey{}).(*upload)
	return u
}

// hold has the bytes of an upload count as long as more than its request needs them, until what it returns
// is called.
func (u *upload) hold() (done func()) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.held++
	return sync.OnceFunc(u.end)
}

func (u *upload) end() {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.held--; u.held > 0 {
		return
	}
	if u.weight > 0 {
		if u.weight >= heavy {
			debug.FreeOSMemory() // before the next takes as much again
		}
		u.u.bytes.Release(u.weight)
		u.weight = 0
	}
}

// close ends the part of a request in it: its file goes, however the request ends.
func (u *upload) close() {
	u.mu.Lock()
	if u.file != nil {
		_ = u.file.Close()
		u.file = nil
	}
	u.mu.Unlock()
	u.end()
}

// takesUpload lets a request of an operation bring a file, of so many bytes at the most.
func (s *Server) takesUpload(c *echo.Context, most int64, next echo.HandlerFunc) error {
	r := c.Request()
	w := c.Response()
	if _, params, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || params["boundary"] == "" {
		return problem(http.StatusUnprocessableEntity, "The request has no form.")
	}
	if r.ContentLength > most {
		w.Header().Set("Connection", "close") // the rest is not waited for
		return tooLargeUpload(most)
	}
	readBy(w, 2*fileDeadline) // its turn has to come first
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(3 * fileDeadline))
	leave, err := s.uploads.turns.enter(r.Context(), person(r.Context()).ID, atOnceOfOne, waitingOfOne)
	if err != nil {
		return err
	}
	defer leave()
	readBy(w, fileDeadline)
	u := &upload{u: s.uploads, most: most, held: 1}
	defer u.close()
	r.Body = http.MaxBytesReader(w, r.Body, most)
	c.SetRequest(r.WithContext(context.WithValue(r.Context(), uploadKey{}, u)))
	return next(c)
}

func tooLargeUpload(most int64) error {
	return problem(http.StatusRequestEntityTooLarge,
		fmt.Sprintf("What was sent is larger than the %d MB that are taken here.", most>>20))
}

// form is an upload: a file and named values.
type form struct {
	name   string
	file   []byte
	values map[string]string
}

// readForm reads an upload part by part; what is too large is refused as soon as that is seen. Its file is
// taken in as a file, and read once it is its turn.
func readForm(ctx context.Context, r *multipart.Reader) (*form, error) {
	u := uploadOf(ctx)
	if r == nil || u == nil {
		return nil, problem(422, "The request has no form.")
	}
	f := &form{values: map[string]string{}}
	left := int64(maxValues)
	there := false
	for parts := 0; ; parts++ {
		p, err := r.NextPart()
		switch {
		case errors.Is(err, io.EOF):
			if !there {
				return f, nil
			}
			f.file, err = u.read(ctx)
			return f, err
		case err != nil:
			return nil, u.fault(err)
		case parts == maxParts:
			return nil, problem(422, fmt.Sprintf("The form has more than %d parts.", maxParts))
		case p.FormName() == "file" && there:
			return nil, problem(422, "The form has two files; send one at a time.")
		case p.FormName() == "file":
			f.name, there = p.FileName(), true
			if err := u.take(p); err != nil {
				return nil, err
			}
			continue
		}
		b, err := io.ReadAll(io.LimitReader(p, left+1))
		if err != nil {
			return nil, u.fault(err)
		}
		if left -= int64(len(b)); left < 0 {
			return nil, problem(413, fmt.Sprintf("The form’s values are larger than %d MB.", maxValues>>20))
		}
		f.values[p.FormName()] = string(b)
	}
}

// fault says why an upload could not be read.
func (u *upload) fault(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return tooLargeUpload(u.most)
	}
	return problem(422, "The upload was cut short; try again.")
}

// take writes the file of an upload to the folder.
func (u *upload) take(r io.Reader) error {
	file, err := u.u.file()
	if err != nil {
		return err
	}
	u.mu.Lock()
	u.file = file
	u.mu.Unlock()
	n, err := io.Copy(file, io.LimitReader(r, exchange.MaxBytes+1))
	switch {
	case errors.Is(err, syscall.ENOSPC):
		return problem(http.StatusInsufficientStorage,
			"There is no room on the server’s disk for the file. Tell an administrator.")
	case err != nil:
		return u.fault(err)
	case n > exchange.MaxBytes:
		return problem(413, fmt.Sprintf("The file is larger than %d MB.", exchange.MaxBytes>>20))
	}
	return nil
}

// read reads the file, once there is room for it in memory beside those of others.
func (u *upload) read(ctx context.Context) ([]byte, error) {
	u.mu.Lock()
	file := u.file
	u.mu.Unlock()
	size, err := file.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, err
	}
	var head [2]byte
	if n, err := file.ReadAt(head[:], 0); err != nil && !errors.Is(err, io.EOF) || n < 0 {
		return nil, err
	}
	weight := size + 1
	if string(head[:]) == "PK" {
		weight *= workbookBytes
	}
	weight = min(weight, readAtOnce)
	if err := u.u.bytes.Acquire(ctx, weight); err != nil {
		return nil, err
	}
	b := make([]byte, size)
	_, err = file.ReadAt(b, 0)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.weight = weight
	u.file = nil
	return b, errors.Join(err, file.Close())
}

// tables keeps the tables that were read last: a file that is brought in is
// looked at several times before.
type tables struct {
	mu   sync.Mutex
	list []readTable // guarded by mu; the latest last
}

type readTable struct {
	print [sha256.Size]byte
	table *exchange.Table // never changed
	size  int             // of its file, in bytes
	at    time.Time
}

func (t *tables) find(print [sha256.Size]byte, now time.Time) *exchange.Table {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.list = slices.DeleteFunc(t.list, func(r readTable) bool { return now.Sub(r.at) > tableLife })
	for _, r := range t.list {
		if r.print == print {
			return r.table
		}
	}
	return nil
}

func (t *tables) keep(print [sha256.Size]byte, table *exchange.Table, size int, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.list = append(t.list, readTable{print, table, size, now})
	bytes := 0
	for _, r := range t.list {
		bytes += r.size
	}
	for len(t.list) > tablesKept || len(t.list) > 1 && bytes > tablesBytes {
		bytes -= t.list[0].size
		t.list = slices.Delete(t.list, 0, 1)
	}
}

// table reads the file as a table, in the part of a workbook that was chosen.
func (s *Server) table(f *form, l *value.Locale) (*exchange.Table, error) {
	if f.file == nil {
		return nil, &engine.Refusal{Field: "/file", Message: "choose a file"}
	}
	c := exchange.Choice{Worksheet: f.values["worksheet"]}
	if h := f.values["heading"]; h != "" {
		n, err := strconv.Atoi(h)
		if err != nil || n < 0 {
			return nil, &engine.Refusal{Field: "/heading", Message: "the row that names the columns is a number from 1"}
		}
		c.Heading = n
	}
	c.Encoding = f.values["encoding"]
	if sep := f.values["separator"]; sep != "" {
		r, n := utf8.DecodeRuneInString(sep)
		if n != len(sep) || r == utf8.RuneError || strings.ContainsRune("\"\r\n\x00", r) {
			return nil, &engine.Refusal{Field: "/separator",
				Message: "what separates the cells is one sign, and no quote or line break"}
		}
		c.Separator = r
	}
	h := sha256.New()
	h.Write(f.file)
	fmt.Fprintf(h, "\x00%s\x00%d\x00%s\x00%c\x00%s", c.Worksheet, c.Heading, l.Tag, c.Separator, c.Encoding)
	print := [sha256.Size]byte(h.Sum(nil))
	if t := s.tables.find(print, s.Wall()); t != nil {
		return t, nil
	}
	t, err := exchange.ReadTable(f.file, c, l)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	s.tables.keep(print, t, len(f.file), s.Wall())
	f.file = []byte{} // it is not needed beside its table
	return t, nil
}

func formLocale(tag string) (*value.Locale, error) {
	if tag == "" {
		tag = "en-GB"
	}
	l, err := value.FindLocale(tag)
	if err != nil {
		return nil, &engine.Refusal{Field: "/locale", Message: err.Error()}
	}
	return l, nil
}

// How many tables are kept, of how many bytes of files where they are several, and for how long.
const (
	tablesKept  = 2
	tablesBytes = 16 << 20
	tableLife   = 3 * time.Minute
)

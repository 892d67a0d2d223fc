package api

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
)

// form is an upload: a file and named values.
type form struct {
	name   string
	file   []byte
	values map[string]string
}

// readForm reads an upload part by part; what is too large is refused as soon
// as that is seen.
func readForm(r *multipart.Reader) (*form, error) {
	if r == nil {
		return nil, problem(422, "The request has no form.")
	}
	f := &form{values: map[string]string{}}
	for {
		p, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return f, nil
		}
		if err != nil {
			return nil, problem(422, "The upload was cut short; try again.")
		}
		b, err := io.ReadAll(io.LimitReader(p, exchange.MaxBytes+1))
		if err != nil {
			return nil, problem(422, "The upload was cut short; try again.")
		}
		if len(b) > exchange.MaxBytes {
			return nil, problem(413, fmt.Sprintf("The file is larger than %d MB.", exchange.MaxBytes>>20))
		}
		if p.FormName() == "file" {
			f.name, f.file = p.FileName(), b
		} else {
			f.values[p.FormName()] = string(b)
		}
	}
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

func (t *tables) keep(print [sha256.Size]byte, table *exchange.Table, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.list = append(t.list, readTable{print, table, now})
	t.list = t.list[max(0, len(t.list)-tablesKept):]
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
	print := sha256.Sum256(fmt.Appendf(bytes.Clone(f.file), "\x00%s\x00%d\x00%s\x00%c\x00%s", c.Worksheet, c.Heading,
		l.Tag, c.Separator, c.Encoding))
	if t := s.tables.find(print, s.Wall()); t != nil {
		return t, nil
	}
	t, err := exchange.ReadTable(f.file, c, l)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	s.tables.keep(print, t, s.Wall())
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

// How many tables are kept, and for how long.
const (
	tablesKept = 2
	tableLife  = 3 * time.Minute
)

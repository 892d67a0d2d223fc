package plan

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"io"
	"slices"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/template"
)

// SameWordsSpan is how long before an email another counts that says the same.
const SameWordsSpan = 12 * time.Hour

// Words identifies what an email says to whom: the first 16 bytes of the SHA-256 of its To mailboxes, as a set
// of addresses, its subject, its plain text and its files. Links of Nivot's own stand in the text as marks.
type Words [16]byte

// WordsOf returns the words of an email whose letter has been written.
func WordsOf(v *Decision) (out Words) {
	h := sha256.New()
	to := make([]string, len(v.To))
	for i, m := range v.To {
		to[i] = m.Key()
	}
	slices.Sort(to)
	to = slices.Compact(to)
	putCount(h, len(to))
	for _, key := range to {
		putText(h, key)
	}
	putText(h, v.Subject)
	putText(h, v.Text)
	putCount(h, len(v.Attachments))
	for i := range v.Attachments {
		putFile(h, &v.Attachments[i])
	}
	copy(out[:], h.Sum(nil))
	return out
}

// putFile adds a file: its content by the name that content has, or, of one that is yet to be written, what it
// is written from.
func putFile(h hash.Hash, a *template.Attached) {
	putText(h, a.Name)
	putText(h, a.Type)
	switch {
	case a.Event != nil:
		putText(h, a.Event.Words())
	case a.Rows != nil:
		putText(h, a.Rows.Words())
	default:
		putText(h, a.File)
	}
}

func putCount(h hash.Hash, n int) {
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], uint64(n))
	h.Write(b[:])
}

func putText(h hash.Hash, s string) {
	putCount(h, len(s))
	_, _ = io.WriteString(h, s) // a hash takes everything
}

// Said is an email that goes, or is held, as the clause "same words" compares it with others.
type Said struct {
	Words    Words
	At       time.Time // when it was judged to go
	Rule     string    // id
	Row      string    // id; "" of a round-up
	Batch    string    // by hand
	Occasion rule.ID
	RuleName string
	RowName  string
}

// IsBefore reports whether another email was judged to go not later than this one, and within the span that
// counts; of one instant who calls knows which comes first.
func (s *Said) IsBefore(o *Said) bool {
	return !s.At.After(o.At) && !s.At.Before(o.At.Add(-SameWordsSpan))
}

// IsApart reports whether another email is of another row, rule or sending by hand: only such stand in each
// other's way.
func (s *Said) IsApart(o *Said) bool {
	return s.Rule != o.Rule || s.Row != o.Row || s.Batch != o.Batch
}

// Skips returns the reason for which a later email that says the same is skipped.
func (s *Said) Skips(zone *time.Location) reason.Reason {
	at := s.At
	r := reason.Reason{Code: reason.SameWords, Name: s.RuleName, Value: s.Occasion.String(), At: &at, Zone: zone.String()}
	if s.RowName != "" {
		r.Rows = []string{s.RowName}
	}
	return r
}

// Heard keeps what has been said of late, by its words.
type Heard struct {
	by    map[Words][]Said
	order []Said // by instant
}

// Add takes an email that goes or is held; instants come in order.
func (h *Heard) Add(s Said) {
	if h.by == nil {
		h.by = map[Words][]Said{}
	}
	h.by[s.Words] = append(h.by[s.Words], s)
	h.order = append(h.order, s)
}

// Before returns the last email that stands in the way of one that comes after all that have been heard; nil
// for none.
func (h *Heard) Before(o *Said) *Said {
	list := h.by[o.Words]
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].IsBefore(o) && list[i].IsApart(o) {
			return &list[i]
		}
	}
	return nil
}

// Forget drops what no email at an instant, or later, can be compared with.
func (h *Heard) Forget(at time.Time) {
	old := at.Add(-SameWordsSpan)
	n := 0
	for n < len(h.order) && h.order[n].At.Before(old) {
		w := h.order[n].Words
		if h.by[w] = h.by[w][1:]; len(h.by[w]) == 0 {
			delete(h.by, w)
		}
		n++
	}
	h.order = h.order[n:]
}

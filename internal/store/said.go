package store

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Said is what the email of an occasion says, for the clause "same words".
type Said struct {
	Occasion []byte
	Words    []byte
	At       time.Time // when it was judged to go
}

// PutSaid writes what emails say, or say now.
func (s *Store) PutSaid(ctx context.Context, all []Said) error {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b Said) int { return bytes.Compare(a.Occasion, b.Occasion) }) // locked in one order
	return chunks(all, bulk, func(c []Said) error {
		args := make([]any, 0, 3*len(c))
		for _, x := range c {
			args = append(args, x.At, x.Occasion, x.Words) // a slice not first: GORM spreads it behind "("
		}
		return s.DB(ctx).Exec("INSERT INTO said (at, occasion, words) VALUES "+
			strings.TrimSuffix(strings.Repeat("(?,?,?),", len(c)), ",")+
			" ON DUPLICATE KEY UPDATE words = VALUES(words), at = VALUES(at)", args...).Error
	})
}

// LockSaid is SaidBy for who decides by it: in a cluster one transaction at a time does, where locks hold on one
// node only.
func (s *Store) LockSaid(ctx context.Context, words [][]byte) ([]Said, error) {
	if err := s.guard(ctx, "same words"); err != nil {
		return nil, err
	}
	return s.SaidBy(ctx, words)
}

// SaidBy lists which emails say some words. It waits for those that other transactions are writing.
func (s *Store) SaidBy(ctx context.Context, words [][]byte) (out []Said, err error) {
	err = chunks(words, bulk, func(c [][]byte) error {
		var part []Said
		err := s.DB(ctx).Raw("SELECT occasion, words, at FROM said WHERE words IN ? LOCK IN SHARE MODE", c).Scan(&part).Error
		out = append(out, part...)
		return err
	})
	return out, err
}

// DeliveriesOf lists the deliveries of occasions that are in some states.
func (s *Store) DeliveriesOf(ctx context.Context, occasions [][]byte, in []delivery.State) (out []Delivery, err error) {
	err = chunks(occasions, bulk, func(c [][]byte) error {
		var part []Delivery
		err := s.DB(ctx).Find(&part, "occasion IN ? AND state IN ?", c, in).Error
		out = append(out, part...)
		return err
	})
	return out, err
}

// JudgedSince lists the deliveries that were judged to go not before an instant, in some states, by id.
func (s *Store) JudgedSince(ctx context.Context, at time.Time, in []delivery.State, after int64,
	limit int) (out []Delivery, err error) {
	err = s.DB(ctx).Order("id").Limit(limit).Find(&out, "due_at >= ? AND went_at >= ? AND state IN ? AND id > ?",
		at.Add(-2*delivery.CapSpan), at, in, after).Error
	return out, err
}

// Said returns what a delivery says by its letter, as far as the clause "same words" compares it. Tables and
// invitations that were made for it have become files by now, and equal no other's.
func (d *Delivery) Said(l *Letter) (*plan.Decision, error) {
	var rs []Recipient
	if err := json.Unmarshal([]byte(d.Recipients), &rs); err != nil {
		return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	v := &plan.Decision{}
	for _, r := range rs {
		boxes, err := value.ParseMailboxes(r.Mailbox)
		if err != nil {
			return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
		}
		if r.Role == "to" {
			v.To = append(v.To, boxes...)
		}
	}
	if v.Subject, v.Text = d.Subject, l.Text; l.Subject != "" {
		v.Subject = l.Subject
	}
	for _, c := range l.Carried {
		if !c.Inline {
			v.Attachments = append(v.Attachments, template.Attached{Name: c.Name, Type: c.Type, File: c.File})
		}
	}
	return v, nil
}

// SkippedFor writes another reason for the deliveries that were skipped for the same words as one occasion's.
func (s *Store) SkippedFor(ctx context.Context, words, occasion []byte, why Why) error {
	return s.DB(ctx).Exec(`UPDATE deliveries d JOIN said s ON s.occasion = d.occasion SET d.reason = ?
		WHERE s.words = ? AND d.state = 'skipped' AND JSON_VALUE(d.reason, '$.code') = ?
			AND JSON_VALUE(d.reason, '$.value') = ?`, why, words, reason.SameWords, hex.EncodeToString(occasion)).Error
}

// forgetBatch is how much of what was said one statement forgets.
const forgetBatch = 10_000

// ForgetSaid removes what was said so long before an instant that nothing is compared with it any more.
func (s *Store) ForgetSaid(ctx context.Context, now time.Time) error {
	for {
		r := s.DB(ctx).Exec("DELETE FROM said WHERE at < ? LIMIT ?", now.Add(-2*plan.SameWordsSpan), forgetBatch)
		if r.Error != nil || r.RowsAffected < forgetBatch {
			return r.Error
		}
	}
}

// Places returns the places of rows in the order of their sheets.
func (s *Store) Places(ctx context.Context, rows []int64) (map[int64]int64, error) {
	out := map[int64]int64{}
	err := chunks(rows, bulk, func(c []int64) error {
		var part []struct{ ID, Place int64 }
		err := s.DB(ctx).Raw("SELECT id, place FROM sheet_rows WHERE id IN ?", c).Scan(&part).Error
		for _, p := range part {
			out[p.ID] = p.Place
		}
		return err
	})
	return out, err
}

package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
	"gorm.io/gorm"

	"nivot/internal/core/value"
)

// Who deliveries are addressed to stands in two tables beside them: each mailbox once, and which
// deliveries it met. A delivery that is judged again may have other recipients; those that it had
// stay noted, so whoever reads looks at the delivery too.

// maxMailbox is how many characters of a mailbox an addressee keeps.
const maxMailbox = 500

func mailboxDigest(mailbox string) (out [16]byte) {
	sum := sha256.Sum256([]byte(mailbox))
	copy(out[:], sum[:])
	return out
}

// meet notes whom deliveries are addressed to.
func (s *Store) meet(ctx context.Context, ds []*Delivery) error {
	by := map[[16]byte]string{}
	var args []any
	met := make([][][16]byte, len(ds))
	for i, d := range ds {
		var rs []Recipient
		if d.Recipients == "" || json.Unmarshal([]byte(d.Recipients), &rs) != nil {
			continue // what cannot be read is told when it is sent
		}
		for _, r := range rs {
			m := clip(r.Mailbox, maxMailbox)
			digest := mailboxDigest(m)
			if !slices.Contains(met[i], digest) {
				by[digest], met[i] = m, append(met[i], digest)
			}
		}
	}
	ids, err := s.addresseeIDs(ctx, by)
	if err != nil {
		return err
	}
	for i, d := range ds {
		for _, digest := range met[i] {
			args = append(args, ids[digest], d.DueAt, d.ID)
		}
	}
	return chunks(args, 3*bulk, func(c []any) error {
		return s.DB(ctx).Exec("INSERT IGNORE INTO delivery_addressees (addressee_id, due_at, delivery_id) VALUES "+
			strings.TrimSuffix(strings.Repeat("(?,?,?),", len(c)/3), ","), c...).Error
	})
}

// addresseeIDs gives the ids of mailboxes, and adds those that are new.
func (s *Store) addresseeIDs(ctx context.Context, by map[[16]byte]string) (map[[16]byte]int64, error) {
	ids := make(map[[16]byte]int64, len(by))
	var missing [][]byte
	for digest := range by {
		missing = append(missing, slices.Clone(digest[:]))
	}
	slices.SortFunc(missing, func(a, b []byte) int { return strings.Compare(string(a), string(b)) })
	// met notes what a statement gives of those that are missing.
	met := func(q *gorm.DB) error {
		var found []struct {
			ID     int64
			Digest []byte
		}
		err := q.Scan(&found).Error
		for _, f := range found {
			ids[[16]byte(f.Digest)] = f.ID
		}
		return err
	}
	find := func() error {
		err := chunks(missing, bulk, func(c [][]byte) error {
			return met(s.DB(ctx).Raw("SELECT id, digest FROM addressees WHERE digest IN ?", c))
		})
		missing = slices.DeleteFunc(missing, func(d []byte) bool { return ids[[16]byte(d)] != 0 })
		return err
	}
	add := func() error {
		err := chunks(missing, bulk, func(c [][]byte) error {
			args := make([]any, 0, 3*len(c))
			for _, d := range c {
				m := by[[16]byte(d)]
				args = append(args, m, searchable(m), d) // the digest not first: GORM spreads a slice behind "("
			}
			return met(s.DB(ctx).Raw("INSERT IGNORE INTO addressees (mailbox, searched, digest) VALUES "+
				strings.TrimSuffix(strings.Repeat("(?,?,?),", len(c)), ",")+" RETURNING id, digest", args...))
		})
		missing = slices.DeleteFunc(missing, func(d []byte) bool { return ids[[16]byte(d)] != 0 })
		return err
	}
	for _, step := range []func() error{find, add, find} { // the last for what another has added meanwhile
		if err := step(); err != nil {
			return nil, err
		}
		if len(missing) == 0 {
			return ids, nil
		}
	}
	return nil, errRaced // committed by another since, and not to be seen yet
}

// maxAddressees is how many mailboxes may match a part of an address for their emails to be found
// through them. Where more match, so many emails do that looking through the latest finds them.
const maxAddressees = 1000

// addresseesLike gives the ids of the mailboxes that hold a text, upper or lower case and accents
// aside; all is false where there are more than maxAddressees.
func (s *Store) addresseesLike(ctx context.Context, part string) (ids []int64, all bool, err error) {
	err = s.DB(ctx).Raw("SELECT id FROM addressees WHERE searched LIKE ? LIMIT ?", "%"+escapeLike(searchable(part))+"%",
		maxAddressees+1).Scan(&ids).Error
	return ids, len(ids) <= maxAddressees, err
}

// searchable is a mailbox as it is searched, byte by byte: which is ten times as fast as by the
// database's own comparison.
func searchable(mailbox string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(value.Identifier(mailbox)))
}

// fillSearched completes the mailboxes that a migration has found.
func (s *Store) fillSearched(ctx context.Context) error {
	for {
		var found []struct {
			ID      int64
			Mailbox string
		}
		if err := s.DB(ctx).Raw("SELECT id, mailbox FROM addressees WHERE searched IS NULL LIMIT 5000").Scan(
			&found).Error; err != nil || len(found) == 0 {
			return err
		}
		for _, f := range found {
			if err := s.DB(ctx).Exec("UPDATE addressees SET searched = ? WHERE id = ?", searchable(f.Mailbox),
				f.ID).Error; err != nil {
				return err
			}
		}
	}
}

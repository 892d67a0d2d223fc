package store

import (
	"context"
	"strings"
	"time"

	"nivot/internal/core/delivery"
)

// SettingPersonLimit names the limit per person: a delivery.PersonLimit.
const SettingPersonLimit = "person-limit"

// PersonLimit reads the limit per person; of none its N is 0. lock makes those
// who count by it go one after the other.
func (s *Store) PersonLimit(ctx context.Context, lock bool) (l delivery.PersonLimit, err error) {
	ok, err := s.Setting(ctx, SettingPersonLimit, &l)
	if err != nil || !ok || l.N == 0 || !lock {
		return l, err
	}
	if err := s.guard(ctx, SettingPersonLimit); err != nil {
		return l, err
	}
	_, err = s.LockSetting(ctx, SettingPersonLimit, &l)
	return l, err
}

// Had is an email that a mailbox got in To.
type Had struct {
	Mailbox    string
	DeliveryID int64
	At         time.Time
}

// HadSince gives what mailboxes got after an instant, in time order; what is
// among a batch of deliveries, or did not go, does not count.
func (s *Store) HadSince(ctx context.Context, mailboxes []string, batch []int64,
	after time.Time) (map[string][]time.Time, error) {
	out := map[string][]time.Time{}
	err := chunks(mailboxes, 1000, func(c []string) error {
		var part []Had
		err := s.DB(ctx).Raw(`SELECT h.* FROM had h JOIN deliveries d ON d.id = h.delivery_id
			WHERE h.mailbox IN ? AND h.at > ? AND h.delivery_id NOT IN ?
				AND d.state NOT IN ('failed', 'skipped', 'dropped', 'missed') ORDER BY h.at`,
			c, after, batch).Scan(&part).Error
		for _, h := range part {
			out[h.Mailbox] = append(out[h.Mailbox], h.At)
		}
		return err
	})
	return out, err
}

// AllHad gives what all mailboxes got after an instant, in time order.
func (s *Store) AllHad(ctx context.Context, after time.Time) (map[string][]time.Time, error) {
	var all []Had
	err := s.DB(ctx).Raw("SELECT * FROM had WHERE at > ? ORDER BY at", after).Scan(&all).Error
	out := map[string][]time.Time{}
	for _, h := range all {
		out[h.Mailbox] = append(out[h.Mailbox], h.At)
	}
	return out, err
}

// PutHad writes what mailboxes get.
func (s *Store) PutHad(ctx context.Context, all []Had) error {
	return chunks(all, bulk, func(c []Had) error {
		args := make([]any, 0, 3*len(c))
		for _, h := range c {
			args = append(args, h.Mailbox, h.DeliveryID, h.At)
		}
		return s.DB(ctx).Exec("INSERT INTO had (mailbox, delivery_id, at) VALUES "+
			strings.TrimSuffix(strings.Repeat("(?,?,?),", len(c)), ",")+" ON DUPLICATE KEY UPDATE at = VALUES(at)",
			args...).Error
	})
}

// ForgetHad removes what mailboxes got up to an instant: all of it, and before
// the limit counts anew.
func (s *Store) ForgetHad(ctx context.Context, to time.Time) error {
	return s.DB(ctx).Exec("DELETE FROM had WHERE at <= ?", to).Error
}

// ForgetHadBy removes what mailboxes got up to an instant, which counts no more.
func (s *Store) ForgetHadBy(ctx context.Context, mailboxes []string, to time.Time) error {
	return chunks(mailboxes, 1000, func(c []string) error {
		return s.DB(ctx).Exec("DELETE FROM had WHERE mailbox IN ? AND at <= ?", c, to).Error
	})
}

// WentSince gives the deliveries that have gone after an instant, or may have.
func (s *Store) WentSince(ctx context.Context, after time.Time, f func(*Delivery) error) error {
	for last := int64(0); ; {
		var part []Delivery
		if err := s.DB(ctx).Raw(
			`SELECT * FROM deliveries WHERE id > ? AND sending_at > ? AND `+hasGone+`
			AND state IN ('sending', 'accepted', 'bounced', 'in-doubt', 'deferred')
			ORDER BY id LIMIT 2000`, last, after).Scan(&part).Error; err != nil || len(part) == 0 {
			return err
		}
		for i := range part {
			if err := f(&part[i]); err != nil {
				return err
			}
		}
		last = part[len(part)-1].ID
	}
}

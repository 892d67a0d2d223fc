package store

import (
	"context"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"
)

// A sheet's stamp is drawn anew by every change of the sheet, its rules, letters and files, in the
// change's transaction; the common stamp by every change of what all sheets rest on: senders, working
// calendars, pieces of text, the do-not-email list. Whoever has read these things under a stamp need
// not read them again while it stands. Stamps are drawn, not counted: in a database that went back in
// time, or in a transaction that is rolled back, a counted one would stand for two states.

// common is the name of the common stamp; the others bear their sheets' ids.
const common = ""

// renewing changes something, and the stamp of what has it, in one transaction.
func (s *Store) renewing(ctx context.Context, name string, change func(*gorm.DB) error) error {
	if s.tally == nil {
		return s.Tx(ctx, func(tx *Store) error { return tx.renewing(ctx, name, change) })
	}
	s.renewed[name] = true
	return change(s.DB(ctx))
}

// writeStamps draws what a transaction has changed.
func (s *Store) writeStamps(ctx context.Context) error {
	names := slices.Sorted(maps.Keys(s.renewed)) // the order in which everybody locks them
	return chunks(names, bulk, func(c []string) error {
		args := make([]any, 0, 2*len(c))
		for _, n := range c {
			args = append(args, n, NewID())
		}
		return s.DB(ctx).Exec("INSERT INTO stamps (name, stamp) VALUES "+
			strings.TrimSuffix(strings.Repeat("(?,?),", len(c)), ",")+" ON DUPLICATE KEY UPDATE stamp = VALUES(stamp)",
			args...).Error
	})
}

// Halt locks a sheet against being judged until the transaction ends, by drawing its stamp: what is being
// judged by its rules is waited for. Who changes what the rules rest on halts the sheet before an instant
// is taken for the change, so that all that fell due before it has been judged as things were, and nothing
// after it is. It is the first lock of a transaction, but for that of the sheet itself.
func (s *Store) Halt(ctx context.Context, sheetID string) error {
	s.renewed[sheetID] = true
	return s.writeStamps(ctx)
}

// Judging locks sheets against being halted until the transaction ends, and returns which of some could
// be: the others are halted, or being halted. With exclusive, nobody else judges by them meanwhile, and
// what judges already is waited for.
func (s *Store) Judging(ctx context.Context, sheetIDs []string, exclusive bool) (map[string]bool, error) {
	how := " LOCK IN SHARE MODE SKIP LOCKED"
	if exclusive {
		how = " FOR UPDATE"
	}
	out := map[string]bool{}
	var found []string
	if err := s.DB(ctx).Raw("SELECT name FROM stamps WHERE name IN ? ORDER BY name"+how, sheetIDs).Scan(
		&found).Error; err != nil {
		return nil, err
	}
	for _, id := range found {
		out[id] = true
	}
	if len(out) == len(sheetIDs) {
		return out, nil
	}
	// One that has no stamp is not there any more, and nobody changes it.
	var stamped []string
	err := s.DB(ctx).Raw("SELECT name FROM stamps WHERE name IN ?", sheetIDs).Scan(&stamped).Error
	for _, id := range sheetIDs {
		out[id] = out[id] || !slices.Contains(stamped, id)
	}
	return out, err
}

// Stamp gives a text that stays as it is while a sheet and all that it rests on do; "" where it
// stands for nothing: in a transaction that has changed them itself.
func (s *Store) Stamp(ctx context.Context, sheetID string) (string, error) {
	if len(s.renewed) > 0 {
		return "", nil
	}
	var found []string
	if err := s.DB(ctx).Raw("SELECT stamp FROM stamps WHERE name IN (?, ?) ORDER BY name", common, sheetID).
		Scan(&found).Error; err != nil || len(found) != 2 {
		return "", err
	}
	return strings.Join(found, " "), nil
}

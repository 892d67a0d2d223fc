package store_test

import (
	"context"
	"errors"
	"testing"

	"nivot/internal/core/calendar"
	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Whatever changes what rules and letters rest on changes the sheet's stamp, or every sheet's; an edit
// of rows changes none. In the transaction that changes it nothing has a stamp; one that is rolled back
// leaves it.
func TestStamps(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	sh := func(id string) *store.Sheet {
		return &store.Sheet{ID: id, Name: id, Zone: "UTC", Locale: "en-GB", Columns: "[]", CreatedAt: noon}
	}
	for _, s := range []*store.Sheet{sh("own"), sh("other")} {
		if err := st.SaveSheet(ctx, s); err != nil {
			t.Fatal(err)
		}
	}
	r := &store.Rule{ID: "r", SheetID: "own", Letter: "A", Name: "A", State: rule.On, Body: "{}", Generation: 1,
		CreatedAt: noon}
	cal := &store.Calendar{ID: "c", Name: "Working days"}
	cal.SetCore(calendar.Default())
	mailboxes, err := value.ParseMailboxes("hugh@marrowby.example")
	if err != nil {
		t.Fatal(err)
	}
	version := int64(0)
	stamp := func(id string) string {
		t.Helper()
		s, err := st.Stamp(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for _, x := range []struct {
		name string
		own  bool // the sheet's stamp changes
		all  bool // every sheet's does
		do   func(s *store.Store) error
	}{
		{"a sheet", true, false, func(s *store.Store) error { return s.SaveSheet(ctx, sh("own")) }},
		{"a sheet's version", false, false, func(s *store.Store) error { return s.TouchSheet(ctx, "own", true, 1) }},
		{"a rule", true, false, func(s *store.Store) error { return s.SaveRule(ctx, r) }},
		{"a rule's arming", true, false, func(s *store.Store) error { return s.SaveArming(ctx, r) }},
		{"a rule's place", true, false, func(s *store.Store) error { return s.PlaceRule(ctx, r, 3) }},
		{"a sheet put away", true, false, func(s *store.Store) error { return s.RetireSheet(ctx, "own", noon) }},
		{"a template", true, false, func(s *store.Store) error {
			version++
			return s.SaveTemplateVersion(ctx, &store.Template{ID: "t", SheetID: "own", Name: "T", Content: "{}", Version: version,
				CreatedAt: noon},
				"Ines", noon)
		}},
		{"a file of the sheet", true, false, func(s *store.Store) error {
			return s.PutOnShelf(ctx, &store.ShelfFile{SheetID: "own", Name: "L.pdf", File: []byte("0123456789abcdef"),
				AddedAt: noon})
		}},
		{"a file taken off", true, false, func(s *store.Store) error { return s.TakeOffShelf(ctx, "own", "L.pdf") }},
		{"a piece of text", true, true, func(s *store.Store) error {
			return s.SavePiece(ctx, &store.Piece{ID: "p", Name: "P", Content: "{}", CreatedAt: noon})
		}},
		{"a sender", true, true, func(s *store.Store) error {
			return s.SaveSender(ctx, &store.Sender{ID: "s", Name: "Desk", Address: "desk@marrowby.example", CreatedAt: noon})
		}},
		{"a working calendar", true, true, func(s *store.Store) error { return s.SaveCalendar(ctx, cal) }},
		{"a calendar taken away", true, true, func(s *store.Store) error { return s.DropCalendar(ctx, "c") }},
		{"the do-not-email list", true, true, func(s *store.Store) error {
			return s.AddDoNotEmail(ctx, mailboxes[0], "", "Ines", noon)
		}},
		{"off the list", true, true, func(s *store.Store) error { return s.RemoveDoNotEmail(ctx, mailboxes[0]) }},
	} {
		t.Run(x.name, func(t *testing.T) {
			own, other := stamp("own"), stamp("other")
			if own == "" || own == other {
				t.Fatalf("the stamps are %q and %q", own, other)
			}
			broken := errors.New("given up")
			if err := st.Tx(ctx, func(tx *store.Store) error {
				if err := x.do(tx); err != nil {
					return err
				}
				if s, err := tx.Stamp(ctx, "own"); err != nil || (s == "") != x.own {
					t.Errorf("in the transaction the stamp is %q, %v", s, err)
				}
				return broken
			}); !errors.Is(err, broken) {
				t.Fatal(err)
			}
			if got := stamp("own"); got != own {
				t.Errorf("rolled back, the stamp is %q, want %q", got, own)
			}
			if err := x.do(st); err != nil {
				t.Fatal(err)
			}
			if changed := stamp("own") != own; changed != x.own {
				t.Errorf("the sheet's stamp has changed: %v, want %v", changed, x.own)
			}
			if changed := stamp("other") != other; changed != x.all {
				t.Errorf("the other's stamp has changed: %v, want %v", changed, x.all)
			}
		})
	}
}

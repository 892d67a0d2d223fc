package store_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// Every table is one of things that are kept, for a reason, or of things that have an age.
func TestEveryTableHasAnAge(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(dbtest.Migrated(t))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	kept := map[string]string{
		"people": "who did a thing is an id", "settings": "as many as there are names", "senders": "set by people",
		"sender_states": "one of a sender", "identities": "what emails were sent as", "sheets": "made by people",
		"sheet_rows": "made by people", "rules": "their emails name them", "templates": "made by people",
		"template_versions": "what emails were written in", "pieces": "made by people", "calendars": "made by people",
		"views": "made by people", "sources": "one of a sheet", "forms": "one of a sheet", "feeds": "taken back by people",
		"tokens": "taken back by people", "shelf_files": "taken away by people", "files": "what emails carried",
		"batches": "sendings by hand, which the log names", "deliveries": "the log", "letters": "the log",
		"letter_bases": "the log", "addressees": "the log", "delivery_addressees": "the log", "delivery_counts": "the log",
		"events": "the history", "audit": "the audit", "do_not_email": "asked by recipients", "set_asides": "said by people",
		"row_states": "what rules know of rows", "had": "one of a recipient and rule", "stamps": "one of a sheet",
		"guards": "one of what is locked", "agenda": "goes as it falls due", "workers": "go with their leases",
		"intakes": "go after two days (engine)", "said": "goes after a day (ForgetSaid)",
		"practice_messages": "what the practice mail server took", "goose_db_version": "the version of the tables",
	}
	var tables []string
	if err := s.DB(ctx).Raw("SHOW TABLES").Scan(&tables).Error; err != nil {
		t.Fatal(err)
	}
	for _, name := range tables {
		ages := slices.Contains(store.AgedTables(), name)
		if _, is := kept[name]; is == ages {
			t.Errorf("%s: kept for a reason %v, has an age %v; want one of them", name, is, ages)
		}
		delete(kept, name)
	}
	for name := range kept {
		t.Errorf("there is no table %s", name)
	}
}

// What is over goes, and what is not stays.
func TestDropAged(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(dbtest.Migrated(t))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for i, age := range []string{"INTERVAL 200 DAY", "INTERVAL -1 DAY"} { // long ago, and tomorrow
		at, id := "UTC_TIMESTAMP(6) - "+age, fmt.Sprintf("x%d", i)
		for _, q := range []string{
			"INSERT INTO sessions (token_hash, data, expiry) VALUES (UNHEX(SHA2('" + id + "', 256)), '', " + at + ")",
			"INSERT INTO links (token_hash, person_id, purpose, expires_at) VALUES (UNHEX(SHA2('" + id + "', 256)), '', 'x', " + at + ")",
			"INSERT INTO jobs (id, sheet_id, person, kind, state, started_at, seen_at) VALUES ('" + id + "', '', '', '', 'done', " +
				at + ", " + at + ")",
			"INSERT INTO jobs (id, sheet_id, person, kind, state, started_at, seen_at) VALUES ('r" + id + "', '', '', '', 'running', " +
				at + ", " + at + ")",
			"INSERT INTO answers (key_hash, request_hash, outcome, at) VALUES (UNHEX(SHA2('" + id + "', 256)), '', '', " + at + ")",
			"INSERT INTO presence (page, sheet_id, person_id, seen_at) VALUES ('" + id + "', '', '', " + at + ")",
			"INSERT INTO test_emails (sheet_id, template_id, template_name, version, row_id, row_name, why, sent_by, sent_at, " +
				"sender_id, identity_id, recipients, subject, message_id, pack) VALUES ('', '', '', 1, 1, '', '', '', " + at +
				", '', 1, '[]', '', '', '')",
		} {
			if err := s.DB(ctx).Exec(q).Error; err != nil {
				t.Fatal(q, err)
			}
		}
	}
	if err := s.DropAged(ctx); err != nil {
		t.Fatal(err)
	}
	for _, table := range store.AgedTables() {
		var n int64
		if err := s.DB(ctx).Table(table).Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		want := int64(1)
		if table == "jobs" {
			want = 3 // one that runs is no job of the past
		}
		if n != want {
			t.Errorf("%s: %d are left, want %d", table, n, want)
		}
	}
}

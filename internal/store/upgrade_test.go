package store_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// column is a column of a table as the database describes it.
type column struct {
	TableName, ColumnName, DataType string
}

// filling is what a column without a default is given: what means something where that is
// needed, else by its type. n numbers the row.
func filling(c column, n int) any {
	switch c.TableName + "." + c.ColumnName {
	case "deliveries.state":
		return []string{"accepted", "queued", "held", "sending"}[n%4]
	case "deliveries.due_at", "deliveries.judged_at":
		return fmt.Sprintf("2027-0%d-28 09:00:00", 1+n%4)
	case "deliveries.recipients":
		return fmt.Sprintf(
			`[{"role":"to","mailbox":"Keeper %d <keeper%d@marrowby.example>","address":"keeper%d@marrowby.example"}]`, n, n, n)
	case "deliveries.origin", "events.detail", "rules.body", "templates.body", "settings.value", "sheets.columns":
		return "{}"
	case "deliveries.facts":
		return "[]"
	case "people.email", "senders.address":
		return fmt.Sprintf("person%d@marrowby.example", n)
	case "rules.letter":
		return fmt.Sprint(n)
	case "people.role":
		return "editor"
	case "agenda.kind":
		return "due"
	}
	switch c.DataType {
	case "datetime":
		return "2027-03-15 09:00:00"
	case "bigint", "int", "tinyint":
		return n + 1
	case "binary", "varbinary", "blob", "mediumblob":
		return fmt.Sprintf("%016d", n)
	}
	return fmt.Sprintf("%s %d", strings.ToUpper(c.ColumnName[:1]), n)
}

// A database that is brought up version by version, with rows put into all its tables at each, holds
// as many rows in the end; the emails in it are counted and found, and its people sign in.
func TestUpgradeFromEveryVersion(t *testing.T) {
	files, err := fs.Glob(os.DirFS("migrations"), "*.sql")
	if err != nil || len(files) < 19 {
		t.Fatal(files, err)
	}
	// rows a table and version; since version 18 what deliveries are counted as is written with them
	const each, kept = 4, 18
	ctx := context.Background()
	st, err := store.Open(dbtest.DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	rows := map[string]int{}
	for version := 1; version < len(files); version++ {
		if err := st.MigrateUpTo(ctx, int64(version)); err != nil {
			t.Fatal(err)
		}
		var all []column
		if err := st.DB(ctx).Raw(`SELECT table_name, column_name, data_type FROM information_schema.columns
			WHERE table_schema = DATABASE() AND table_name NOT LIKE 'goose%' AND extra NOT LIKE '%auto_increment%' AND is_generated = 'NEVER'
				AND (column_default IS NULL AND is_nullable = 'NO' OR column_key <> '' AND column_name NOT IN ('email_key', 'name_key') OR column_name IN ('finished_at', 'dated_at', 'row_key', 'pack'))
			ORDER BY table_name, ordinal_position`).Scan(&all).Error; err != nil {
			t.Fatal(err)
		}
		tables := map[string][]column{}
		for _, c := range all {
			if version >= kept && (c.TableName == "deliveries" || c.TableName == "delivery_counts" ||
				strings.HasSuffix(c.TableName, "addressees")) {
				continue
			}
			tables[c.TableName] = append(tables[c.TableName], c)
		}
		if len(tables) < 14 {
			t.Fatalf("version %d has only %d tables", version, len(tables))
		}
		for name, cols := range tables {
			for k := range each {
				var names, marks []string
				args := []any{}
				for _, c := range cols {
					names, marks = append(names, "`"+c.ColumnName+"`"), append(marks, "?")
					args = append(args, filling(c, each*version+k))
				}
				if err := st.DB(ctx).Exec("INSERT INTO "+name+" ("+strings.Join(names, ",")+") VALUES ("+strings.Join(marks, ",")+
					")", args...).Error; err != nil {
					t.Fatalf("version %d: %s: %v", version, name, err)
				}
				rows[name]++
			}
		}
	}
	for range 2 { // a second time there is nothing to be done
		if err := st.Migrate(ctx); err != nil {
			t.Fatal(err)
		}
	}
	rows["row_states"] += rows["standings"]
	delete(rows, "standings")
	for _, short := range []string{"sessions", "answers"} { // who was signed in signs in anew; answers are kept for a day
		delete(rows, short)
	}
	for name, want := range rows {
		var n int
		if err := st.DB(ctx).Raw("SELECT COUNT(*) FROM " + name).Scan(&n).Error; err != nil || n < want {
			t.Errorf("%s has %d rows of %d, %v", name, n, want, err)
		}
	}
	right(t, st)
	counts, err := st.CountStates(ctx, store.LogFilter{})
	if want := int64(kept - 1); err != nil || counts[delivery.Accepted] != want || counts[delivery.Queued] != want ||
		counts[delivery.Held] != want || counts[delivery.Sending] != want {
		t.Errorf("%v, want %d of each, %v", counts, want, err)
	}
	for version := 1; version < kept; version++ {
		page, err := st.Log(ctx, store.LogFilter{To: fmt.Sprintf("KEEPER%d@", each*version+2)}, "", 10)
		if err != nil || len(page.Lines) != 1 || page.Lines[0].State != delivery.Held {
			t.Errorf("an email of version %d: %+v, %v", version, page, err)
		}
		if _, err := st.PersonByEmail(ctx, fmt.Sprintf("Person%d@marrowby.example", each*version)); err != nil {
			t.Errorf("a person of version %d is not found by the address: %v", version, err)
		}
	}
	if ds, err := st.Needing(ctx, 100); err != nil || len(ds) != kept-1 {
		t.Errorf("%d need somebody, %v", len(ds), err)
	}
}

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
	TableName, ColumnName, DataType, ColumnKey string
	Nullable                                   bool
}

// filling is what a column without a default is given: what means something where that is
// needed, else by its type. n numbers the row.
func filling(c column, n int) any {
	switch c.TableName + "." + c.ColumnName {
	case "deliveries.state":
		return []string{"accepted", "queued", "held", "sending"}[n%4]
	case "deliveries.due_at", "deliveries.judged_at":
		return fmt.Sprintf("2027-0%d-28 09:00:00", 1+n)
	case "deliveries.recipients":
		return fmt.Sprintf(`[{"role":"to","mailbox":"Keeper %d <keeper%d@marrowby.example>","address":"keeper%d@marrowby.example"}]`, n, n, n)
	case "deliveries.origin", "events.detail", "rules.body", "templates.body", "settings.value", "sheets.columns":
		return "{}"
	case "deliveries.facts":
		return "[]"
	case "people.email", "senders.address":
		return fmt.Sprintf("person%d@marrowby.example", n)
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

// A database of each earlier version of the tables, with rows in all of them, comes up to date, and
// holds as many rows as before; the emails in it are counted, found and can be read.
func TestUpgradeOfEveryVersion(t *testing.T) {
	files, err := fs.Glob(os.DirFS("migrations"), "*.sql")
	if err != nil || len(files) < 18 {
		t.Fatal(files, err)
	}
	const each = 4
	for version := 1; version < len(files); version++ {
		t.Run(strings.TrimSuffix(files[version-1], ".sql"), func(t *testing.T) {
			ctx := context.Background()
			st, err := store.Open(dbtest.DSN(t))
			if err != nil {
				t.Fatal(err)
			}
			defer st.Close()
			if err := st.MigrateUpTo(ctx, int64(version)); err != nil {
				t.Fatal(err)
			}
			var all []column
			if err := st.DB(ctx).Raw(`SELECT table_name, column_name, data_type, column_key, is_nullable = 'YES' AS nullable FROM information_schema.columns
				WHERE table_schema = DATABASE() AND table_name NOT LIKE 'goose%' AND extra NOT LIKE '%auto_increment%' AND is_generated = 'NEVER'
					AND (column_default IS NULL AND is_nullable = 'NO' OR column_key <> '' AND column_name NOT IN ('email_key', 'name_key') OR column_name IN ('finished_at', 'dated_at', 'row_key', 'pack')) ORDER BY table_name, ordinal_position`).Scan(&all).Error; err != nil {
				t.Fatal(err)
			}
			tables := map[string][]column{}
			for _, c := range all {
				tables[c.TableName] = append(tables[c.TableName], c)
			}
			if len(tables) < 14 {
				t.Fatalf("only %d tables", len(tables))
			}
			for name, cols := range tables {
				for n := range each {
					var names, marks []string
					args := []any{}
					for _, c := range cols {
						names, marks = append(names, "`"+c.ColumnName+"`"), append(marks, "?")
						args = append(args, filling(c, n))
					}
					if err := st.DB(ctx).Exec("INSERT INTO "+name+" ("+strings.Join(names, ",")+") VALUES ("+strings.Join(marks, ",")+")", args...).Error; err != nil {
						t.Fatal(name, err)
					}
				}
			}
			for range 2 { // a second time there is nothing to be done
				if err := st.Migrate(ctx); err != nil {
					t.Fatal(err)
				}
			}
			for name := range tables {
				if later, ok := map[string]string{"standings": "row_states"}[name]; ok {
					name = later
				}
				var n int
				if err := st.DB(ctx).Raw("SELECT COUNT(*) FROM " + name).Scan(&n).Error; err != nil {
					t.Error(name, err)
				}
				if name != "sessions" && name != "answers" && n < each { // who was signed in signs in anew; answers are kept for a day
					t.Errorf("%s has %d rows of %d", name, n, each)
				}
			}
			right(t, st)
			counts, err := st.CountStates(ctx, store.LogFilter{})
			if err != nil || counts[delivery.Accepted] != 1 || counts[delivery.Queued] != 1 || counts[delivery.Held] != 1 || counts[delivery.Sending] != 1 {
				t.Errorf("%v, %v", counts, err)
			}
			page, err := st.Log(ctx, store.LogFilter{To: "KEEPER2@"}, "", 10)
			if err != nil || len(page.Lines) != 1 || page.Lines[0].State != delivery.Held {
				t.Errorf("%+v, %v", page, err)
			}
			if ds, err := st.Needing(ctx, 10); err != nil || len(ds) != 1 {
				t.Errorf("%d need somebody, %v", len(ds), err)
			}
			people, err := st.People(ctx)
			if err != nil || len(people) != each {
				t.Errorf("%d people, %v", len(people), err)
			}
			if _, err := st.PersonByEmail(ctx, "Person1@marrowby.example"); err != nil {
				t.Errorf("a person is not found by the address: %v", err)
			}
		})
	}
}

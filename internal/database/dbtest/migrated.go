package dbtest

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"sync"
	"testing"

	_ "github.com/go-sql-driver/mysql" // the driver that copies tables

	"nivot/internal/store"
)

// like is the database whose tables are copied: brought up to date once.
var like = struct {
	once   sync.Once
	db     *sql.DB
	name   string
	tables []string
	filled map[string]bool // those with rows
	failed error
}{filled: map[string]bool{}}

// Migrated gives the data source name of a database for the test whose tables are up to date: copies,
// since bringing them up version by version takes a second.
func Migrated(t testing.TB) string {
	t.Helper()
	dsn := DSN(t)
	like.once.Do(func() { like.failed = makeLike(dsn) })
	if like.failed != nil {
		t.Fatal(like.failed)
	}
	own := DSN(t)
	name := own[strings.LastIndex(own, "/")+1:]
	conn, err := like.db.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	for _, table := range like.tables {
		from, to := fmt.Sprintf("`%s`.`%s`", like.name, table), fmt.Sprintf("`%s`.`%s`", name, table)
		if _, err := conn.ExecContext(context.Background(), "CREATE TABLE "+to+" LIKE "+from); err != nil {
			t.Fatal(err)
		}
		if like.filled[table] {
			if _, err := conn.ExecContext(context.Background(), "INSERT INTO "+to+" SELECT * FROM "+from); err != nil {
				t.Fatal(err)
			}
		}
	}
	return own
}

func makeLike(dsn string) error {
	ctx := context.Background()
	st, err := store.Open(dsn)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	like.name = dsn[strings.LastIndex(dsn, "/")+1:]
	if err := st.DB(ctx).Raw("SELECT table_name FROM information_schema.tables WHERE table_schema = ?", like.name).
		Scan(&like.tables).Error; err != nil {
		return err
	}
	for _, table := range like.tables {
		var n int
		one := st.DB(ctx).Raw("SELECT COUNT(*) FROM (SELECT 1 FROM `" + table + "` LIMIT 1) x")
		if err := one.Scan(&n).Error; err != nil {
			return err
		}
		like.filled[table] = n > 0
	}
	like.db, err = sql.Open("mysql", dsn)
	return err
}

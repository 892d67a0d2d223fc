// Package store keeps everything in MariaDB: models, migrations and queries,
// one file per aggregate.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	mrand "math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database, or one transaction on it.
type Store struct {
	db   *gorm.DB
	long *gorm.DB // connections whose transactions may stand still for longer
	beat *sql.DB  // a connection apart: of leases and clocks

	packers    *packers                  // of letters
	identities *identityCache            // that were read
	silenced   *atomic.Pointer[silenced] // as last read
	shard      uint8                     // of the counts that this process writes
	clustered  bool                      // the database is a cluster of nodes
	tally      tally                     // in a transaction: what it changes of the counts; else nil
	renewed    map[string]bool           // and of the stamps
}

// ErrNotFound says that what was asked for is not there.
var ErrNotFound = errors.New("not found")

// Open connects to a database. The session runs in UTC, reads what is
// committed, and writes text as utf8mb4, whatever the server's defaults.
func Open(dsn string) (*Store, error) {
	cfg, err := sqldriver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("NIVOT_DSN cannot be read: %w", err)
	}
	cfg.ParseTime, cfg.Loc, cfg.InterpolateParams = true, time.UTC, true
	cfg.Collation = "utf8mb4_unicode_ci"
	cfg.MaxAllowedPacket = 64 << 20
	cfg.ClientFoundRows = true
	cfg.MultiStatements = true // a round of outcomes is one script
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["time_zone"] = "'+00:00'"
	cfg.Params["tx_isolation"] = "'READ-COMMITTED'"
	// A process that stops in the middle of a transaction lets go of what it has
	// locked after this many seconds; who waits for it waits a little longer.
	cfg.Params["idle_transaction_timeout"] = "4"
	cfg.Params["innodb_lock_wait_timeout"] = "10"
	cfg.Params["sql_mode"] = "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'"
	db, err := connect(cfg)
	if err != nil {
		return nil, err
	}
	clustered, err := isCluster(db)
	if err != nil {
		return nil, fmt.Errorf("the database cannot be asked what it is: %w", err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	if clustered {
		cfg.Params["wsrep_sync_wait"] = clusterReads
		if err := pool.Close(); err != nil {
			return nil, err
		}
		if db, err = connect(cfg); err != nil {
			return nil, err
		}
		if pool, err = db.DB(); err != nil {
			return nil, err
		}
	}
	if err := measure(db); err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(40)
	pool.SetMaxIdleConns(40) // a connection that is made anew costs more than one that waits
	pool.SetConnMaxIdleTime(5 * time.Minute)
	connector, err := sqldriver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	cfg.Params["idle_transaction_timeout"] = "300"
	long, err := connect(cfg)
	if err != nil {
		return nil, err
	}
	longPool, err := long.DB()
	if err != nil {
		return nil, err
	}
	longPool.SetMaxOpenConns(8)
	longPool.SetConnMaxIdleTime(time.Minute)
	beat := sql.OpenDB(connector)
	beat.SetMaxOpenConns(1)
	return &Store{db: db, long: long, beat: beat, packers: &packers{}, identities: &identityCache{},
		silenced: &atomic.Pointer[silenced]{}, shard: uint8(mrand.IntN(shards)), clustered: clustered}, nil
}

// dialector is MariaDB's. Scan has every statement written out for a log, with its values in their
// places, before anybody has asked for it: a tenth of a tick that enters many emails.
type dialector struct{ *mysql.Dialector }

// Explain implements gorm.Dialector: nothing is logged, so nothing is written out.
func (dialector) Explain(sql string, _ ...any) string { return sql }

func connect(cfg *sqldriver.Config) (*gorm.DB, error) {
	mariadb := dialector{&mysql.Dialector{Config: &mysql.Config{DSN: cfg.FormatDSN(), DSNConfig: cfg}}}
	db, err := gorm.Open(mariadb, &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true, PrepareStmt: false,
	})
	if err != nil {
		return nil, fmt.Errorf("the database cannot be reached: %w", err)
	}
	return db, nil
}

// Close closes the connections.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	long, err := s.long.DB()
	if err != nil {
		return err
	}
	return errors.Join(s.beat.Close(), long.Close(), pool.Close())
}

// DB gives a handle for the context.
func (s *Store) DB(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// migrateLock is the name of the lock under which one process migrates.
const migrateLock = "nivot migrate"

// Migrate brings the tables up to date. Of several processes that start at
// once one does it, the others wait for it.
func (s *Store) Migrate(ctx context.Context) error {
	return s.migrate(ctx, func(p *goose.Provider) error {
		if _, err := p.Up(ctx); err != nil {
			return err
		}
		if err := s.keyPeople(ctx); err != nil {
			return err
		}
		return s.fillSearched(ctx)
	})
}

func (s *Store) migrate(ctx context.Context, do func(*goose.Provider) error) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return fmt.Errorf("the database cannot be reached: %w", err)
	}
	defer conn.Close()
	var got int
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(?, 120)", migrateLock).Scan(&got); err != nil || got != 1 {
		return fmt.Errorf("another process has been migrating for two minutes: %w", errors.Join(err))
	}
	defer func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(?)", migrateLock) }()
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, pool, dir)
	if err != nil {
		return err
	}
	return do(p)
}

// maxTries bounds how often a transaction that lost to another is tried.
const maxTries = 12

// Tx runs f in a transaction. A deadlock or lock timeout, which a claim on
// another node may bring as late as the commit, is tried again with jitter;
// f must therefore have no effect but on the database.
func (s *Store) Tx(ctx context.Context, f func(tx *Store) error) error {
	for try := 1; ; try++ {
		var t Store
		err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			t = *s
			t.db, t.tally, t.renewed = tx, tally{}, map[string]bool{}
			maps.Copy(t.renewed, s.renewed)
			if err := f(&t); err != nil || s.tally != nil {
				return err
			}
			if err := t.writeStamps(ctx); err != nil {
				return err
			}
			if err := t.writeCounts(ctx); err != nil {
				return err
			}
			if try == 1 && repeats.Load() {
				return errRaced
			}
			return nil
		})
		if err == nil && s.tally != nil { // a transaction within one, which writes for both
			for b, n := range t.tally {
				s.tally[b] += n
			}
			maps.Copy(s.renewed, t.renewed)
		}
		// The database has undone the whole transaction: one within another cannot be made once more by itself.
		if err == nil || s.tally != nil || !Retryable(err) || try == maxTries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(mrand.IntN(1+4<<min(try, 7))) * time.Millisecond):
		}
	}
}

// repeats says that each transaction is made twice.
var repeats atomic.Bool

// RepeatTx has each transaction lose its first race when it is about to be committed, so that tests see whether what
// it does depends on what its first run did.
func RepeatTx(on bool) { repeats.Store(on) }

// LongTx is Tx for work that computes for long between its statements, over many rows: the database waits for
// it for minutes, and not for four seconds.
func (s *Store) LongTx(ctx context.Context, f func(tx *Store) error) error {
	if s.tally != nil {
		return s.Tx(ctx, f)
	}
	t := *s
	t.db = s.long
	return t.Tx(ctx, f)
}

// Retryable tells whether the error is a lost race: 1213 deadlock, 1205 lock
// wait timeout, 1020 record changed.
func Retryable(err error) bool {
	var me *sqldriver.MySQLError
	return errors.Is(err, errRaced) || errors.As(err, &me) && (me.Number == 1213 || me.Number == 1205 ||
		me.Number == 1020)
}

// Away reports whether an error says that the database does not answer, rather
// than that it has refused something: whether a transaction that ended so has
// been committed is not known.
func Away(err error) bool {
	var me *sqldriver.MySQLError
	var ne net.Error
	if errors.As(err, &me) {
		switch me.Number {
		// no room, shutting down, connection killed, still locked by another; of a cluster's node: cut off
		// from the others, and in the middle of a commit
		case 1040, 1053, 1152, 1184, 1205, 1213, 1927, 4031, 3024, 1047, 1180:
			return true
		}
		return false
	}
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, sqldriver.ErrInvalidConn) ||
		errors.Is(err, sql.ErrConnDone) ||
		errors.Is(err, context.DeadlineExceeded) || errors.As(err, &ne)
}

// Full reports whether the database has no room left.
func Full(err error) bool {
	var me *sqldriver.MySQLError
	return errors.As(err, &me) && (me.Number == 1021 || me.Number == 1114)
}

// Unfit reports whether the database has refused a text as too long, or a number as
// too large, for where it was to go.
func Unfit(err error) bool {
	var me *sqldriver.MySQLError
	return errors.As(err, &me) && (me.Number == 1406 || me.Number == 1264)
}

// errRaced says that another process wrote between two statements.
var errRaced = errors.New("another process wrote the same occasion")

// first turns GORM's "record not found" into ErrNotFound.
func first(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// Missing tells whether an error says that what was asked for is not there. Ids
// are kept as ASCII, and one with other letters cannot even be compared with
// them (illegal mix of collations; 1267 of two, 1270 of three, 1271 of more): nothing has such an id.
func Missing(err error) bool {
	var me *sqldriver.MySQLError
	return errors.Is(err, ErrNotFound) || errors.As(err, &me) && slices.Contains([]uint16{1267, 1270, 1271}, me.Number)
}

// NewID makes an opaque id of 80 random bits.
func NewID() string {
	b := make([]byte, 10)
	_, _ = rand.Read(b)
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}

// Clear empties every table but the migrations' and the workers', for a fresh
// demo. The settings named in keep stay.
func (s *Store) Clear(ctx context.Context, keep ...string) error {
	var tables []string
	if err := s.DB(ctx).Raw(
		"SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name NOT LIKE " +
			"'goose%' AND table_name <> 'workers'").Scan(&tables).Error; err != nil {
		return err
	}
	for _, t := range tables {
		q := "DELETE FROM `" + t + "`"
		if t == "settings" && len(keep) > 0 {
			if err := s.DB(ctx).Exec(q+" WHERE name NOT IN ?", keep).Error; err != nil {
				return err
			}
			continue
		}
		if err := s.DB(ctx).Exec(q).Error; err != nil {
			return err
		}
	}
	return nil
}

// bulk is how many rows one INSERT carries.
const bulk = 500

// chunks calls f for runs of at most n items.
func chunks[T any](items []T, n int, f func([]T) error) error {
	for len(items) > 0 {
		k := min(n, len(items))
		if err := f(items[:k]); err != nil {
			return err
		}
		items = items[k:]
	}
	return nil
}

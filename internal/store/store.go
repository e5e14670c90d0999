// Package store keeps the records: MariaDB through sqlx.
//
// It is the only durable truth, and the queue. Each method is one question or
// one change; rows come out as plain structs. Every query on what a workspace
// owns carries the workspace. Times are UTC with milliseconds; those that decide
// something (holds, leases) are the database's own. In: values. Out: rows, ErrNotFound,
// ErrTaken, or the database's error.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
	"github.com/pressly/goose/v3"
	"github.com/sethvargo/go-retry"
)

// ErrNotFound says that there is no such row (in this workspace).
var ErrNotFound = errors.New("not found")

// ErrTaken says that a row with the same key is there already.
var ErrTaken = errors.New("taken already")

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database.
type Store struct {
	db  *sqlx.DB
	dsn string
}

// NewID makes an id that sorts by time.
func NewID() string { return ulid.Make().String() }

// Open connects to the database and brings its tables up to date; one process
// at a time does so.
func Open(ctx context.Context, dsn string) (*Store, error) {
	s, err := Bare(dsn)
	if err != nil {
		return nil, err
	}
	err = s.checkCollation(ctx)
	if err == nil {
		err = s.migrate(ctx)
	}
	if err != nil {
		_ = s.Close()
		return nil, err
	}
	return s, nil
}

// Bare connects to the database and leaves it as it is.
func Bare(dsn string) (*Store, error) {
	db, err := connect(dsn, 60*time.Second)
	if err != nil {
		return nil, err
	}
	return &Store{db, dsn}, nil
}

// connect makes a pool of connections whose answers must come within a time; 0: whenever they come.
func connect(dsn string, within time.Duration) (*sqlx.DB, error) {
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the database's name %q can't be read: write user:password@tcp(host:port)/database", redacted(dsn))
	}
	cfg.ParseTime, cfg.Loc, cfg.InterpolateParams, cfg.MultiStatements = true, time.UTC, true, false
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = 10*time.Second, within, within
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["time_zone"] = "'+00:00'"
	cfg.Params["tx_isolation"] = "'READ-COMMITTED'"
	cfg.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	db := sqlx.NewDb(sql.OpenDB(connector), "mysql")
	db.SetMaxOpenConns(40)
	db.SetMaxIdleConns(20)
	db.SetConnMaxIdleTime(5 * time.Minute)
	return db, nil
}

// splitAddress takes host:port apart; MariaDB's own port where there is none.
func splitAddress(address string) (host, port string) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return address, "3306"
	}
	return host, port
}

func redacted(dsn string) string {
	if len(dsn) > 8 {
		return dsn[:4] + "…"
	}
	return "…"
}

// collation tells capital and small letters apart, and spaces at the end: names and keys here are exact.
const collation = "utf8mb4_nopad_bin"

// checkCollation sees that the database compares texts byte by byte: an empty one is set so, one that is filled is refused.
func (s *Store) checkCollation(ctx context.Context) error {
	var is string
	if err := s.db.GetContext(ctx, &is, "SELECT @@collation_database"); err != nil {
		return fmt.Errorf("the database can't be reached: %w", err)
	}
	if strings.HasPrefix(is, "utf8mb4_") && strings.HasSuffix(is, "_bin") {
		return nil
	}
	var tables int
	if err := s.db.GetContext(ctx, &tables, "SELECT count(*) FROM information_schema.tables WHERE table_schema = database()"); err != nil {
		return err
	}
	remedy := fmt.Sprintf("make it anew with: CREATE DATABASE %s CHARACTER SET utf8mb4 COLLATE %s", s.Name(), collation)
	if tables > 0 {
		return fmt.Errorf("the database %s has the collation %s, to which names that differ are the same, and it holds tables already: %s", s.Name(), is, remedy)
	}
	if _, err := s.db.ExecContext(ctx, "ALTER DATABASE `"+strings.ReplaceAll(s.Name(), "`", "``")+"` CHARACTER SET utf8mb4 COLLATE "+collation); err != nil {
		return fmt.Errorf("the database %s has the collation %s, to which names that differ are the same, and it could not be changed (%w): %s", s.Name(), is, err, remedy)
	}
	return nil
}

// migrate brings the tables up to date. Changing a large table takes as long as it takes: no answer is waited for in vain here but by ctx. Migrations can be
// run again after one that was cut off, since the database commits each statement by itself.
func (s *Store) migrate(ctx context.Context) error {
	patient, err := connect(s.dsn, 0)
	if err != nil {
		return err
	}
	defer patient.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	// One process at a time looks whether there is anything to do; the lock under which it is done is the migrating connection's own.
	conn, err := patient.Conn(ctx)
	if err != nil {
		return fmt.Errorf("the database can't be reached: %w", err)
	}
	defer conn.Close()
	start := migrating("start")
	if err := start.SessionLock(ctx, conn); err != nil {
		return err
	}
	defer func() { _ = start.SessionUnlock(context.WithoutCancel(ctx), conn) }()
	p, err := goose.NewProvider(goose.DialectMySQL, patient.DB, files, goose.WithSessionLocker(migrating("migrate")))
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the database's tables up to date: %w", err)
	}
	return nil
}

// migrating is a lock under which tables are changed. It is a connection's own: it lasts as long as that does.
type migrating string

const migrateWaits = 600 // seconds for another process that changes the tables

// SessionLock implements lock.SessionLocker.
func (m migrating) SessionLock(ctx context.Context, conn *sql.Conn) error {
	var got sql.NullInt64
	err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(concat('tessellant.', ?, '.', md5(database())), ?)", string(m), migrateWaits).Scan(&got)
	if err != nil {
		return fmt.Errorf("the database can't be reached: %w", err)
	}
	if got.Int64 != 1 {
		return fmt.Errorf("another process has been changing the database's tables for %d s", migrateWaits)
	}
	return nil
}

// SessionUnlock implements lock.SessionLocker.
func (m migrating) SessionUnlock(ctx context.Context, conn *sql.Conn) error {
	_, err := conn.ExecContext(ctx, "SELECT RELEASE_LOCK(concat('tessellant.', ?, '.', md5(database())))", string(m))
	return err
}

// Close closes the connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// InTx runs f in a transaction, again where the database asks for it
// (deadlock, lock wait, a conflict found at commit): f must be safe to run twice.
func (s *Store) InTx(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return again(ctx, func() error { return s.inTx(ctx, f) })
}

// exec runs one statement, again where the database asks for it.
func (s *Store) exec(ctx context.Context, query string, args ...any) (res sql.Result, err error) {
	err = again(ctx, func() error {
		res, err = s.db.ExecContext(ctx, query, args...)
		return err
	})
	return res, err
}

// again tries f anew, a few times, while the database says that it only came at a bad moment.
func again(ctx context.Context, f func() error) error {
	return retry.Do(ctx, retry.WithMaxRetries(5, retry.NewExponential(5*time.Millisecond)), func(context.Context) error {
		err := f()
		var me *mysql.MySQLError
		if errors.As(err, &me) && (me.Number == 1213 || me.Number == 1205 || me.Number == 1020) {
			return retry.RetryableError(err)
		}
		return err
	})
}

func (s *Store) inTx(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Unfit says whether the database will never take a value: it is too long, out of range, or of characters that it does not have. (MariaDB's ER_DATA_TOO_LONG,
// ER_WARN_DATA_OUT_OF_RANGE, WARN_DATA_TRUNCATED, ER_TRUNCATED_WRONG_VALUE, ER_TRUNCATED_WRONG_VALUE_FOR_FIELD, ER_CONSTRAINT_FAILED.)
func Unfit(err error) bool {
	var me *mysql.MySQLError
	return errors.As(err, &me) && slices.Contains([]uint16{1406, 1264, 1265, 1292, 1366, 4025}, me.Number)
}

// taken turns a duplicate key into ErrTaken.
func taken(err error) error {
	var me *mysql.MySQLError
	if errors.As(err, &me) && me.Number == 1062 {
		return ErrTaken
	}
	return err
}

func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// JSON is a column that holds a value as JSON.
type JSON[T any] struct{ V T }

// Scan reads the column.
func (j *JSON[T]) Scan(src any) error {
	switch v := src.(type) {
	case []byte:
		return json.Unmarshal(v, &j.V)
	case string:
		return json.Unmarshal([]byte(v), &j.V)
	case nil: // of rows that were written before there was the column
		return nil
	}
	return fmt.Errorf("a JSON column holds a %T", src)
}

// Value writes the column.
func (j JSON[T]) Value() (driver.Value, error) { return json.Marshal(j.V) }

func asJSON(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // only for values that can't be written; ours can
	}
	return string(raw)
}

// now is the time as it is kept.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

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

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("there is no such record")

// Store is the database.
type Store struct {
	Pool *pgxpool.Pool
	db   *sqlx.DB
}

// Open connects to a PostgreSQL server by its address (postgres://…) and does not
// change its schema.
func Open(ctx context.Context, url string) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("DATABASE_URL is not a PostgreSQL address such as postgres://user@host:5432/name")
	}
	if cfg.MaxConns < 16 {
		cfg.MaxConns = 16
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connect to the database at %s: %w", cfg.ConnConfig.Host, err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("connect to the database at %s:%d: %w. Check that the server runs and DATABASE_URL is right", cfg.ConnConfig.Host, cfg.ConnConfig.Port, err)
	}
	return &Store{Pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")}, nil
}

// Close closes all connections.
func (s *Store) Close() {
	_ = s.db.Close()
	s.Pool.Close()
}

// Migrate brings the schema up to date, that of the job queue too.
func (s *Store) Migrate(ctx context.Context) error { return Migrate(ctx, s.db.DB, s.Pool) }

// Migrate brings a database's schema up to date.
func Migrate(ctx context.Context, db *sql.DB, pool *pgxpool.Pool) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, dir)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the database up to date: %w", err)
	}
	m, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return fmt.Errorf("read the job queue's migrations: %w", err)
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job queue up to date: %w", err)
	}
	return nil
}

// JSON is a value kept in a jsonb column.
type JSON[T any] struct{ V T }

// Scan reads the column.
func (j *JSON[T]) Scan(src any) error {
	switch x := src.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(x, &j.V)
	case string:
		return json.Unmarshal([]byte(x), &j.V)
	}
	return fmt.Errorf("a jsonb column came as %T", src)
}

// Value writes the column.
func (j JSON[T]) Value() (driver.Value, error) {
	raw, err := json.Marshal(j.V)
	return string(raw), err
}

// one reads a single row.
func one[T any](ctx context.Context, s *Store, what, query string, args ...any) (T, error) {
	var out T
	err := s.db.GetContext(ctx, &out, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return out, fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return out, fmt.Errorf("read %s: %w", what, err)
	}
	return out, nil
}

// many reads all rows.
func many[T any](ctx context.Context, s *Store, what, query string, args ...any) ([]T, error) {
	out := []T{}
	if err := s.db.SelectContext(ctx, &out, query, args...); err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	return out, nil
}

func (s *Store) exec(ctx context.Context, what, query string, args ...any) error {
	if _, err := s.db.ExecContext(ctx, query, args...); err != nil {
		return fmt.Errorf("write %s: %w", what, err)
	}
	return nil
}

// insert runs a query that returns the new row's id.
func (s *Store) insert(ctx context.Context, what, query string, args ...any) (int64, error) {
	var id int64
	if err := s.db.GetContext(ctx, &id, query, args...); err != nil {
		return 0, fmt.Errorf("write %s: %w", what, err)
	}
	return id, nil
}

// inTx does something all at once or not at all.
func (s *Store) inTx(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin to write: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Notice is told to everybody who listens when something changed.
type Notice struct {
	Site   int64 `json:"site,omitempty"`
	Run    int64 `json:"run,omitempty"`
	Change int64 `json:"change,omitempty"`
}

const channel = "tidemarker"

// Tell sends a notice to every process that listens on this database.
func (s *Store) Tell(ctx context.Context, n Notice) error {
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return s.exec(ctx, "a notice", `SELECT pg_notify($1, $2)`, channel, string(raw))
}

// Listen calls hear for every notice until the context ends or the connection is
// lost; it returns why.
func (s *Store) Listen(ctx context.Context, hear func(Notice)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		// A connection that listened is not given back to the pool.
		_ = conn.Hijack().Close(context.WithoutCancel(ctx))
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+pgx.Identifier{channel}.Sanitize()); err != nil {
		return err
	}
	for {
		got, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var n Notice
		if json.Unmarshal([]byte(got.Payload), &n) == nil {
			hear(n)
		}
	}
}

// Lock kinds, so that the numbers of runs and environments do not meet.
const (
	lockRun         = 1
	lockEnvironment = 2
	lockSignIn      = 3
)

// TryLockRun takes the lock that says this process works on a run. It is lost
// with the process, whatever ends it. ok is false when another process has it.
func (s *Store) TryLockRun(ctx context.Context, id int64) (unlock func(), ok bool, err error) {
	return s.lock(ctx, lockRun, id, false)
}

// LockEnvironment waits until nothing else acts on an environment.
func (s *Store) LockEnvironment(ctx context.Context, id int64) (unlock func(), err error) {
	unlock, _, err = s.lock(ctx, lockEnvironment, id, true)
	return unlock, err
}

// TryLockEnvironment is the same without waiting; ok is false when something acts on
// the environment.
func (s *Store) TryLockEnvironment(ctx context.Context, id int64) (unlock func(), ok bool, err error) {
	return s.lock(ctx, lockEnvironment, id, false)
}

func (s *Store) lock(ctx context.Context, kind int32, id int64, wait bool) (unlock func(), ok bool, err error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, false, fmt.Errorf("take a lock: %w", err)
	}
	ok = true
	if wait {
		_, err = conn.Exec(ctx, `SELECT pg_advisory_lock($1, $2)`, kind, int32(id))
	} else {
		err = conn.QueryRow(ctx, `SELECT pg_try_advisory_lock($1, $2)`, kind, int32(id)).Scan(&ok)
	}
	if err != nil || !ok {
		conn.Release()
		if err != nil {
			err = fmt.Errorf("take a lock: %w", err)
		}
		return nil, false, err
	}
	return func() {
		clean := context.WithoutCancel(ctx)
		if _, err := conn.Exec(clean, `SELECT pg_advisory_unlock($1, $2)`, kind, int32(id)); err != nil {
			_ = conn.Hijack().Close(clean) // the lock goes with the connection
			return
		}
		conn.Release()
	}, true, nil
}

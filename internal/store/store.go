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

// Store is the database, or one transaction on it: see [Store.Within].
type Store struct {
	Pool *pgxpool.Pool
	db   conn
	tx   *sqlx.Tx // nil outside a transaction
}

// conn is what statements run on: the pool of connections, or one transaction.
type conn interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
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
	if db, ok := s.db.(*sqlx.DB); ok {
		_ = db.Close()
	}
	s.Pool.Close()
}

// Migrate brings the schema up to date, that of the job queue too.
func (s *Store) Migrate(ctx context.Context) error {
	db, ok := s.db.(*sqlx.DB)
	if !ok {
		return errors.New("a schema is not brought up to date within a transaction")
	}
	return Migrate(ctx, db.DB, s.Pool)
}

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

// Within does something all at once or not at all: every statement of the store that do
// gets is part of one transaction. Within a transaction it joins that one.
func (s *Store) Within(ctx context.Context, do func(*Store) error) error {
	if s.tx != nil {
		return do(s)
	}
	db, ok := s.db.(*sqlx.DB)
	if !ok {
		return errors.New("begin to write: the store has no database")
	}
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin to write: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := do(&Store{Pool: s.Pool, db: tx, tx: tx}); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("write it all at once: %w", err)
	}
	return nil
}

// Tx is the transaction that the store is, for those who have to write in it beside the
// store; nil outside one.
func (s *Store) Tx() *sql.Tx {
	if s.tx == nil {
		return nil
	}
	return s.tx.Tx
}

// inTx is Within for statements that are written out.
func (s *Store) inTx(ctx context.Context, do func(*sqlx.Tx) error) error {
	return s.Within(ctx, func(s *Store) error { return do(s.tx) })
}

// changed runs a statement and tells whether it changed exactly one row.
func (s *Store) changed(ctx context.Context, what, query string, args ...any) (bool, error) {
	res, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		return false, fmt.Errorf("write %s: %w", what, err)
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

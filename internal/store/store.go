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

	"tidemarker/internal/secret"
	"tidemarker/internal/trouble"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("there is no such record")

// Store is the database, or one transaction on it: see [Store.Within].
type Store struct {
	Pool   *pgxpool.Pool
	pinned *pgxpool.Pool // for those who keep a connection for themselves
	db     conn
	tx     *sqlx.Tx // nil outside a transaction
	keys   secret.Keys
	// objects is where the bytes of blobs lie; nil when that is the database.
	objects Objects
	// fence is that of the attempt at a run that writes; nil for everybody else.
	fence *fence
}

// conn is what statements run on: the pool of connections, or one transaction.
type conn interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// mostConns is how many connections statements have at least, and mostPinned how many there are beside them for what keeps
// one for itself: locks and listeners. Whoever waits for one of these keeps nobody from working.
const mostConns, mostPinned = 16, 64

// Open connects to a PostgreSQL server by its address (postgres://…) and does not
// change its schema. Secrets are sealed and opened with the keys.
func Open(ctx context.Context, url string, keys secret.Keys) (*Store, error) {
	return OpenTraced(ctx, url, keys, nil)
}

// OpenTraced is Open with something that is told of each statement before it is made; nil for nothing.
func OpenTraced(ctx context.Context, url string, keys secret.Keys, told pgx.QueryTracer) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("DATABASE_URL is not a PostgreSQL address such as postgres://user@host:5432/name")
	}
	if err := refusePooler(ctx, cfg.ConnConfig); err != nil {
		return nil, fmt.Errorf("connect to the database at %s:%d: %w", cfg.ConnConfig.Host, cfg.ConnConfig.Port, err)
	}
	cfg.MaxConns, cfg.ConnConfig.Tracer = max(cfg.MaxConns, mostConns), told
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connect to the database at %s: %w", cfg.ConnConfig.Host, err)
	}
	cfg = cfg.Copy()
	cfg.MaxConns, cfg.MinConns, cfg.MinIdleConns = mostPinned, 0, 0
	pinned, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("connect to the database at %s: %w", cfg.ConnConfig.Host, err)
	}
	return &Store{Pool: pool, pinned: pinned, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), keys: keys}, nil
}

// Close closes all connections.
func (s *Store) Close() {
	if db, ok := s.db.(*sqlx.DB); ok {
		_ = db.Close()
	}
	s.Pool.Close()
	s.pinned.Close()
}

// Migrate brings the schema up to date, that of the job queue too.
func (s *Store) Migrate(ctx context.Context) error {
	db, ok := s.db.(*sqlx.DB)
	if !ok {
		return errors.New("a schema is not brought up to date within a transaction")
	}
	// Of processes that start at once one does it, and the others wait.
	lock, _, err := s.lock(ctx, lockKey{lockMigrate, 0}, true)
	if err != nil {
		return err
	}
	defer lock.Unlock()
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
	if s.alone(query) {
		err := s.Within(ctx, func(s *Store) (err error) { out, err = one[T](ctx, s, what, query, args...); return err })
		return out, err
	}
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
	if s.alone(query) {
		err := s.Within(ctx, func(s *Store) (err error) { out, err = many[T](ctx, s, what, query, args...); return err })
		return out, err
	}
	if err := s.db.SelectContext(ctx, &out, query, args...); err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	return out, nil
}

func (s *Store) exec(ctx context.Context, what, query string, args ...any) error {
	if s.alone(query) {
		return s.Within(ctx, func(s *Store) error { return s.exec(ctx, what, query, args...) })
	}
	if _, err := s.db.ExecContext(ctx, query, args...); err != nil {
		return fmt.Errorf("write %s: %w", what, err)
	}
	return nil
}

// insert runs a query that returns the new row's id.
func (s *Store) insert(ctx context.Context, what, query string, args ...any) (int64, error) {
	var id int64
	if s.alone(query) {
		err := s.Within(ctx, func(s *Store) (err error) { id, err = s.insert(ctx, what, query, args...); return err })
		return id, err
	}
	if err := s.db.GetContext(ctx, &id, query, args...); err != nil {
		return 0, fmt.Errorf("write %s: %w", what, err)
	}
	return id, nil
}

// Within does something all at once or not at all: every statement of the store that do gets is part of one transaction. Within
// a transaction it joins that one, and leaves nothing in it when do fails.
func (s *Store) Within(ctx context.Context, do func(*Store) error) error {
	if s.tx != nil {
		return s.joined(ctx, do)
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
	in := &Store{Pool: s.Pool, pinned: s.pinned, db: tx, tx: tx, keys: s.keys, objects: s.objects, fence: s.fence}
	if s.fence != nil {
		if err := s.fence.check(ctx, in); err != nil {
			return err
		}
	}
	if err := do(in); err != nil {
		return err
	}
	trouble.At(trouble.Committing)
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("write it all at once: %w", err)
	}
	trouble.At(trouble.Committed)
	return nil
}

func (s *Store) joined(ctx context.Context, do func(*Store) error) error {
	if _, err := s.tx.ExecContext(ctx, "SAVEPOINT joined"); err != nil {
		return fmt.Errorf("begin to write: %w", err)
	}
	if err := do(s); err != nil {
		if _, back := s.tx.ExecContext(context.WithoutCancel(ctx), "ROLLBACK TO SAVEPOINT joined; RELEASE SAVEPOINT joined"); back != nil {
			return errors.Join(err, fmt.Errorf("take back what was written: %w", back))
		}
		return err
	}
	if _, err := s.tx.ExecContext(ctx, "RELEASE SAVEPOINT joined"); err != nil {
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
func (s *Store) changed(ctx context.Context, what, query string, args ...any) (did bool, err error) {
	if s.alone(query) {
		err := s.Within(ctx, func(s *Store) (err error) { did, err = s.changed(ctx, what, query, args...); return err })
		return did, err
	}
	res, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		return false, fmt.Errorf("write %s: %w", what, err)
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

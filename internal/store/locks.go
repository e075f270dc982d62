package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// Lock kinds, so that the numbers of runs and environments do not meet.
const (
	lockRun         = 1
	lockEnvironment = 2
	lockSignIn      = 3
	lockField       = 4
	lockMigrate     = 5
)

// ErrLockLost says that the connection is gone that held a lock: another process may have it now.
var ErrLockLost = errors.New("its lock was lost together with the connection to the database")

// Lock is what this process has taken for itself. All of it is held by one connection, and lost with that one or with the
// process, whatever ends them.
type Lock struct {
	mu   sync.Mutex
	conn *pgxpool.Conn // nil once it was given back
	held []lockKey
}

type lockKey struct {
	kind int32
	id   int64
}

// TryLockRun takes the lock that says this process works on a run. ok is false when another process has it.
func (s *Store) TryLockRun(ctx context.Context, id int64) (l *Lock, ok bool, err error) {
	return s.lock(ctx, lockKey{lockRun, id}, false)
}

// TryLockEnvironment takes an environment, on which nothing else acts then; ok is false when something does.
func (s *Store) TryLockEnvironment(ctx context.Context, id int64) (l *Lock, ok bool, err error) {
	return s.lock(ctx, lockKey{lockEnvironment, id}, false)
}

// LockEnvironment is [Store.TryLockEnvironment], but lets who has it finish first: for that long and no longer.
func (s *Store) LockEnvironment(ctx context.Context, id int64, within time.Duration) (l *Lock, ok bool, err error) {
	if l, ok, err = s.TryLockEnvironment(ctx, id); ok || err != nil {
		return l, ok, err
	}
	patience, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	tick := time.NewTicker(within / 20)
	defer tick.Stop()
	for {
		select {
		case <-patience.Done():
			return nil, false, ctx.Err()
		case <-tick.C: // asked again, so that no connection is pinned by who waits
			if l, ok, err = s.TryLockEnvironment(ctx, id); ok || err != nil {
				return l, ok, err
			}
		}
	}
}

// TryLockField takes the lock of who makes days of page views, until the transaction ends; ok is false when another process
// has it.
func (s *Store) TryLockField(ctx context.Context) (ok bool, err error) {
	return one[bool](ctx, s, "a lock", `SELECT pg_try_advisory_xact_lock($1, 0)`, lockField)
}

func (s *Store) lock(ctx context.Context, key lockKey, wait bool) (*Lock, bool, error) {
	conn, err := s.pinned.Acquire(ctx)
	if err != nil {
		return nil, false, fmt.Errorf("take a lock: %w", err)
	}
	l := &Lock{conn: conn}
	ok, err := l.take(ctx, key, wait)
	if err != nil || !ok {
		conn.Release()
		return nil, false, err
	}
	return l, true, nil
}

// AlsoEnvironment takes an environment with the same connection; ok is false when something else acts on it.
func (l *Lock) AlsoEnvironment(ctx context.Context, id int64) (ok bool, err error) {
	return l.take(ctx, lockKey{lockEnvironment, id}, false)
}

func (l *Lock) take(ctx context.Context, key lockKey, wait bool) (ok bool, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	ok = true
	if wait {
		_, err = l.conn.Exec(ctx, `SELECT pg_advisory_lock($1, $2)`, key.kind, int32(key.id))
	} else {
		err = l.conn.QueryRow(ctx, `SELECT pg_try_advisory_lock($1, $2)`, key.kind, int32(key.id)).Scan(&ok)
	}
	if err != nil {
		return false, fmt.Errorf("take a lock: %w", err)
	}
	if ok {
		l.held = append(l.held, key)
	}
	return ok, nil
}

// Unlock gives back all that is held.
func (l *Lock) Unlock() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), answersWithin)
	defer cancel()
	for _, key := range l.held {
		if _, err := l.conn.Exec(ctx, `SELECT pg_advisory_unlock($1, $2)`, key.kind, int32(key.id)); err != nil {
			_ = l.conn.Hijack().Close(ctx) // the locks go with the connection
			l.conn = nil
			return
		}
	}
	l.conn.Release()
	l.conn = nil
}

const (
	// watchEvery is how often a lock's connection is asked, and answersWithin how long that may take.
	watchEvery    = time.Second
	answersWithin = 5 * time.Second
)

// Watch asks the connection that holds the locks again and again, until ctx ends. The first time that it does not answer,
// lost is called with [ErrLockLost].
func (l *Lock) Watch(ctx context.Context, lost func(error)) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := l.alive(ctx); err != nil && ctx.Err() == nil {
				lost(errors.Join(ErrLockLost, err))
				return
			}
		}
	}
}

func (l *Lock) alive(ctx context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil {
		return nil
	}
	// Not ctx itself: a question that is broken off would end the connection, and the locks with it.
	ask, cancel := context.WithTimeout(context.WithoutCancel(ctx), answersWithin)
	defer cancel()
	_, err := l.conn.Exec(ask, `SELECT 1`)
	return err
}

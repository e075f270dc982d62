package store

import (
	"context"
	"fmt"
)

// Lock kinds, so that the numbers of runs and environments do not meet.
const (
	lockRun         = 1
	lockEnvironment = 2
	lockSignIn      = 3
	lockField       = 4
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

// TryLockField takes the lock of who makes days of page views, until the transaction ends; ok is false when another process
// has it.
func (s *Store) TryLockField(ctx context.Context) (ok bool, err error) {
	return one[bool](ctx, s, "a lock", `SELECT pg_try_advisory_xact_lock($1, 0)`, lockField)
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

package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// ErrTakenOver says that another process has begun the run since: whoever worked on it before writes nothing more.
var ErrTakenOver = errors.New("another process has taken the run over")

// fence lets only one attempt at a run write.
type fence struct {
	run     int64
	attempt int
}

// Fenced is the store for one attempt at a run. Each of its writes is made only while that attempt is the latest, and is
// [ErrTakenOver] otherwise, whatever became of the locks: the row of the run is held against [Store.BeginRun] until the
// write is committed.
func (s *Store) Fenced(run int64, attempt int) *Store {
	out := *s
	out.fence = &fence{run, attempt}
	return &out
}

// MayAct is [ErrTakenOver] when the store is that of an attempt which is not the latest any more: to be asked before
// anything is done outside the database.
func (s *Store) MayAct(ctx context.Context) error {
	if s.fence == nil {
		return nil
	}
	return s.Within(ctx, func(*Store) error { return nil })
}

// check holds the run's row for the transaction that s is.
func (f *fence) check(ctx context.Context, s *Store) error {
	var now int
	if err := s.db.GetContext(ctx, &now, `SELECT attempt FROM runs WHERE id = $1 FOR KEY SHARE`, f.run); err != nil {
		return fmt.Errorf("read the run: %w", err)
	}
	if now != f.attempt {
		return fmt.Errorf("run %d, attempt %d of %d: %w", f.run, f.attempt, now, ErrTakenOver)
	}
	return nil
}

// alone tells whether a statement has to be put into a transaction of its own to be checked.
func (s *Store) alone(query string) bool {
	if s.fence == nil || s.tx != nil {
		return false
	}
	verb, _, _ := strings.Cut(strings.TrimSpace(query), " ")
	return !strings.EqualFold(verb, "SELECT") && !strings.EqualFold(verb, "WITH")
}

package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// TestAnAttemptThatWasTakenOverWritesNothing: from the moment another process has begun the run, the first writes nothing,
// neither by itself nor as a part of something; what it is just writing is waited for.
func TestAnAttemptThatWasTakenOverWritesNothing(t *testing.T) {
	s, row, env := kept(t)
	ctx := t.Context()
	id, err := s.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: env.ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	r, err := s.BeginRun(ctx, id)
	require.NoError(t, err)
	first := s.Fenced(id, r.Attempt)
	require.NoError(t, first.MayAct(ctx))
	require.NoError(t, first.SaveLoad(ctx, id, measure.Load{Page: "/"}, nil))
	require.NoError(t, s.MayAct(ctx), "who works on no run is not asked")

	// The second begins while the first is writing.
	begun := make(chan store.Run, 1)
	require.NoError(t, first.Within(ctx, func(in *store.Store) error {
		go func() {
			r, err := s.BeginRun(context.WithoutCancel(ctx), id)
			assert.NoError(t, err)
			begun <- r
		}()
		waits := func() bool {
			var n int
			err := s.Pool.QueryRow(ctx, `SELECT count(*) FROM pg_locks WHERE NOT granted`).Scan(&n)
			return err == nil && n > 0
		}
		require.Eventually(t, waits, time.Minute, 10*time.Millisecond, "it does not wait for what is being written")
		return in.SaveLoad(ctx, id, measure.Load{Page: "/kits"}, nil)
	}))
	second := <-begun
	assert.Equal(t, 2, second.Attempt)

	writes := map[string]func(*store.Store) error{
		"a row":             func(s *store.Store) error { return s.SaveLoad(ctx, id, measure.Load{Page: "/late"}, nil) },
		"a row with its id": func(s *store.Store) error { _, err := s.NewRun(ctx, r); return err },
		"a state":           func(s *store.Store) error { _, err := s.MoveRun(ctx, id, release.RunFinished); return err },
		"a row read back":   func(s *store.Store) error { _, err := s.HandIn(ctx, id); return err },
		"several at once": func(s *store.Store) error {
			return s.Within(ctx, func(s *store.Store) error {
				return s.Record(ctx, store.Event{SiteID: row.ID, Kind: "x", Text: "y", Who: "ada"})
			})
		},
		"an act": func(s *store.Store) error { return s.MayAct(ctx) },
	}
	for what, write := range writes {
		require.ErrorIs(t, write(first), store.ErrTakenOver, what)
	}
	loads, err := first.Loads(ctx, id)
	require.NoError(t, err, "it may read")
	require.Len(t, loads, 2)
	for what, write := range writes {
		require.NoError(t, write(s.Fenced(id, second.Attempt)), what)
	}
}

// TestWhoLosesTheConnectionOfALockIsTold ends the connection in the server, as a failover or a router does.
func TestWhoLosesTheConnectionOfALockIsTold(t *testing.T) {
	s, _, env := kept(t)
	ctx := t.Context()
	l, ok, err := s.TryLockRun(ctx, 7)
	require.NoError(t, err)
	require.True(t, ok)
	ok, err = l.AlsoEnvironment(ctx, env.ID)
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = s.TryLockEnvironment(ctx, env.ID)
	require.NoError(t, err)
	require.False(t, ok)
	lost := make(chan error, 1)
	go l.Watch(ctx, func(err error) { lost <- err })
	var ended bool
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT bool_and(pg_terminate_backend(pid)) FROM pg_locks WHERE locktype = 'advisory' AND classid = 1 AND objid = 7
		AND database = (SELECT oid FROM pg_database WHERE datname = current_database())`).Scan(&ended))
	require.True(t, ended)
	select {
	case err := <-lost:
		require.ErrorIs(t, err, store.ErrLockLost)
	case <-time.After(time.Minute):
		require.Fail(t, "nobody said that the lock is lost")
	}
	theirs, ok, err := s.TryLockRun(ctx, 7)
	require.NoError(t, err)
	require.True(t, ok, "another may have it")
	l.Unlock()
	theirs.Unlock()
}

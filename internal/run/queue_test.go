package run_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// start hands a check of an environment in.
func (b *bench) start(env int) store.Run {
	b.Helper()
	r, err := b.runner.Start(b.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[env].ID, Kind: release.CheckRun, RequestedBy: "tester"})
	require.NoError(b, err)
	return r
}

func (b *bench) work(workers int) {
	b.Helper()
	q, err := run.NewQueue(b.runner, run.Options{Workers: workers})
	require.NoError(b, err)
	require.NoError(b, q.Start(b.Context()))
	b.Cleanup(func() { q.Stop(b.Context()) })
}

func (b *bench) over(id int64) {
	b.Helper()
	require.Eventually(b, func() bool { return b.run(id).State.Over() }, patience, 50*time.Millisecond, "run %d is %s", id, b.run(id).State)
}

func TestWaitingForAnEnvironmentGivesTheWorkerBack(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	held, free, err := b.store.TryLockEnvironment(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	require.True(t, free)
	first, second := b.start(0), b.start(1)
	b.work(1)
	b.over(second.ID) // although the only worker met the other first
	assert.Equal(t, release.Queued, b.run(first.ID).State)
	assert.Zero(t, b.run(first.ID).Attempt, "it was not begun")
	held.Unlock()
	b.over(first.ID)
	assert.Equal(t, release.Done, b.run(first.ID).State)
}

func TestARunWhoseWorkerDiedBeforeItBeganIsHandedInAgain(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	r := b.start(0)
	// A worker took the job and was killed while it waited for a lock.
	_, err := b.store.Pool.Exec(t.Context(), `UPDATE river_job SET state = 'running', attempt = 1, attempted_at = now() - interval '1 minute' WHERE kind = 'run' AND (args->>'run')::bigint = $1`, r.ID)
	require.NoError(t, err)
	_, err = b.store.Pool.Exec(t.Context(), `UPDATE runs SET created_at = now() - interval '1 minute' WHERE id = $1`, r.ID)
	require.NoError(t, err)
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, 2, b.run(r.ID).Handed)
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, 2, b.run(r.ID).Handed, "its new job waits already")
	b.work(1)
	b.over(r.ID)
	assert.Equal(t, 1, b.run(r.ID).Attempt)
}

func TestARunThatSomebodyWorksOnIsNotTaken(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	r := b.start(0)
	_, err := b.store.Pool.Exec(t.Context(), `UPDATE runs SET state = 'running', created_at = now() - interval '1 minute' WHERE id = $1`, r.ID)
	require.NoError(t, err)
	_, err = b.store.Pool.Exec(t.Context(), `DELETE FROM river_job`)
	require.NoError(t, err)
	held, free, err := b.store.TryLockRun(t.Context(), r.ID)
	require.NoError(t, err)
	require.True(t, free)
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, 1, b.run(r.ID).Handed)
	held.Unlock()
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, 2, b.run(r.ID).Handed, "its process died")
}

func TestAJobOfAnEarlierTimeDoesNothing(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	r := b.start(0)
	require.NoError(t, b.store.Within(t.Context(), func(s *store.Store) error { _, err := s.HandIn(t.Context(), r.ID); return err }))
	b.work(1)
	require.Eventually(t, func() bool {
		var n int
		return b.store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM river_job WHERE kind = 'run' AND state = 'completed'`).Scan(&n) == nil && n == 1
	}, patience, 50*time.Millisecond)
	assert.Equal(t, release.Queued, b.run(r.ID).State)
}

package run_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// program is the built product, for processes that can be killed.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "tidemarker-program-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "tidemarker")
	out, err := exec.Command("go", "build", "-o", bin, "tidemarker/cmd/tidemarker").CombinedOutput()
	if err != nil {
		_, _ = os.Stderr.Write(out)
	}
	return bin, err
})

// killAt starts a worker on the bench's database and kills it when the run is in a
// phase, at once or a moment later.
func (b *bench) killAt(run int64, phase string, later time.Duration) {
	b.Helper()
	bin, err := program()
	require.NoError(b, err)
	worker := exec.Command(bin, "worker")
	worker.Env = append(os.Environ(), "DATABASE_URL="+b.url, "TIDEMARKER_KEY="+testdb.Key)
	require.NoError(b, worker.Start())
	reached := func() bool {
		r, err := b.store.Run(context.Background(), run)
		return err == nil && (r.Phase == phase || r.State.Over())
	}
	assert.Eventually(b, reached, patience, 2*time.Millisecond, "the run did not come to %q", phase)
	if later > 0 {
		<-time.After(later) // not a wait for anything: it chooses the point at which to kill
	}
	require.NoError(b, worker.Process.Kill())
	_, _ = worker.Process.Wait()
}

// takeUp carries on what the killed process left, in this one.
func (b *bench) takeUp(id int64) store.Run {
	b.Helper()
	require.Eventually(b, func() bool {
		// The killed process's lock goes with its connection, which the server notices soon.
		if err := b.runner.Run(b.Context(), id); err != nil {
			return false
		}
		return b.run(id).State.Over()
	}, patience, 100*time.Millisecond)
	return b.run(id)
}

func TestAKilledRunLeavesARecordedRevisionAndIsFinished(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	c, target := b.begin(settings.Values{"markup.compact": true})
	base := c.Base
	seed := rand.Uint64() // another point in each run; with the seed it can be found again
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	within := func(most time.Duration) time.Duration { return time.Duration(random.Int64N(int64(most))) }
	for _, tc := range []struct {
		short bool // make soak kills in all of them, TIDEMARKER_RUNS asks for them here
		kind  release.RunKind
		phase string
		later time.Duration
	}{
		{false, release.TryRun, "reading", within(200 * time.Millisecond)},
		{true, release.TryRun, "applying", within(30 * time.Millisecond)},
		{false, release.TryRun, "looking", within(time.Second)},
		{false, release.PromoteRun, "applying", within(30 * time.Millisecond)},
		{true, release.PromoteRun, "warming", within(500 * time.Millisecond)},
	} {
		if !tc.short && os.Getenv("TIDEMARKER_RUNS") == "" {
			continue
		}
		t.Run(fmt.Sprintf("%s killed %s into %s", tc.kind, tc.later, tc.phase), func(t *testing.T) {
			env, inst := b.envs[0], b.staging
			event, done := release.Try, release.Checked
			if tc.kind == release.PromoteRun {
				env, inst, event, done = b.envs[1], b.production, release.Promote, release.Marked
			}
			b.reset(c.ID, tc.kind, target)
			b.move(b.change(c.ID), event)
			wanted, err := b.runner.Start(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: env.ID, ChangeID: &c.ID, Kind: tc.kind, Target: target, RequestedBy: "tester"})
			require.NoError(t, err)
			id := wanted.ID
			b.killAt(id, tc.phase, tc.later)
			now, _ := inst.Layer.Settings()
			assert.Contains(t, []string{base, target}, fingerprint(t, now), "the environment has exactly one of the recorded revisions")

			r := b.takeUp(id)
			assert.Equal(t, release.Done, r.State, r.Problem)
			now, _ = inst.Layer.Settings()
			assert.Equal(t, target, fingerprint(t, now))
			got := b.change(c.ID)
			assert.Equal(t, done, got.State, "the change says where it is: %s", got.Explanation)
			_, err = b.store.OpenAct(t.Context(), env.ID)
			assert.ErrorIs(t, err, store.ErrNotFound, "every intent has its outcome")
		})
	}
}

// reset brings the change and the environment back to where a run of the kind
// begins, as a person would: by rolling back.
func (b *bench) reset(change int64, kind release.RunKind, target string) {
	b.Helper()
	env := b.envs[0]
	if kind == release.PromoteRun {
		env = b.envs[1]
	}
	marks, err := b.store.Marks(b.Context(), env.ID, 10)
	require.NoError(b, err)
	for _, m := range marks {
		if m.Fingerprint != target {
			r := b.carryOut(store.Run{EnvironmentID: env.ID, Kind: release.RollBackRun, Target: m.Fingerprint, MarkID: &m.ID})
			require.Equal(b, release.Done, r.State, r.Problem)
			break
		}
	}
	state := release.Drafted
	if kind == release.PromoteRun {
		state = release.Checked
	}
	if c := b.change(change); c.State != state {
		_, err := b.store.MoveChange(b.Context(), change, c.State, state, "")
		require.NoError(b, err)
	}
}

func TestARunOfTheCommandLineThatWasKilledIsRestored(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	before, _ := b.staging.Layer.Settings()
	bin, err := program()
	require.NoError(t, err)
	try := exec.Command(bin, "try", "--site", "Fernhollow", "--set", "markup.compact=true")
	try.Env = append(os.Environ(), "DATABASE_URL="+b.url, "TIDEMARKER_KEY="+testdb.Key)
	require.NoError(t, try.Start())
	require.Eventually(t, func() bool {
		now, _ := b.staging.Layer.Settings()
		return now["markup.compact"] == true
	}, patience, time.Millisecond)
	require.NoError(t, try.Process.Kill())
	_, _ = try.Process.Wait()
	runs, err := b.store.Runs(t.Context(), b.site.ID, 1)
	require.NoError(t, err)
	r := b.takeUp(runs[0].ID)
	assert.Equal(t, release.Failed, r.State)
	assert.True(t, r.Restored)
	assert.Contains(t, r.Problem, "cut off when its process ended")
	now, _ := b.staging.Layer.Settings()
	assert.Empty(t, settings.Diff(before, now))
}

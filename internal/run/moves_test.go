package run_test

import (
	"context"
	"errors"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

func TestARunThatFailsFiveTimesPutsTheEnvironmentBackAndKeepsWhy(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	before, _ := b.production.Layer.Settings()
	c := b.promotable(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	b.runner.Tools.Browser = func() (*browser.Browser, error) { panic("no memory is left") }
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	id := runs[0].ID
	for n := 1; n < release.MostAttempts; n++ {
		require.ErrorContains(t, b.runner.Run(t.Context(), id), "no memory is left")
		r := b.run(id)
		require.Equal(t, release.Running, r.State)
		require.Equal(t, n, r.Attempt)
		require.NotNil(t, r.ResumeAt, "it is not begun again at once")
	}
	require.NoError(t, b.runner.Run(t.Context(), id))
	r := b.run(id)
	assert.Equal(t, release.Failed, r.State)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
	assert.Contains(t, r.Problem, "started 5 times")
	assert.Contains(t, r.Problem, "no memory is left")
	assert.True(t, r.Restored)
	now, _ := b.production.Layer.Settings()
	assert.Empty(t, settings.Diff(before, now))
	assert.Equal(t, release.Checked, b.change(c.ID).State, "production does not have it")
}

func TestAMoveItsRunAndItsJobAreOneOrNothing(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	c, _ := b.begin(settings.Values{"markup.compact": true})
	jobs := func() (n int) {
		require.NoError(t, b.store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM river_job WHERE kind = 'run' AND state = 'available'`).Scan(&n))
		return n
	}
	had := jobs()
	closed, tab := context.WithCancel(t.Context())
	tab() // the person's tab is closed just now
	require.Error(t, b.changes.Try(closed, c.ID, "marin"))
	assert.Equal(t, release.Drafted, b.change(c.ID).State)

	// Somebody else has the environment: the change does not move either.
	other, err := b.runner.Start(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.CheckRun, RequestedBy: "vera"})
	require.NoError(t, err)
	assert.Equal(t, had+1, jobs())
	var refused *release.NotAllowed
	require.ErrorAs(t, b.changes.Try(t.Context(), c.ID, "marin"), &refused)
	assert.Equal(t, release.Drafted, b.change(c.ID).State)
	assert.Equal(t, had+1, jobs())
	require.NoError(t, b.runner.Stop(t.Context(), other.ID))

	require.NoError(t, b.changes.Try(t.Context(), c.ID, "marin"))
	assert.Equal(t, release.Trying, b.change(c.ID).State)
	assert.Equal(t, had+2, jobs())
}

func TestAQueuedRunIsStoppedAtOnceAndItsChangeIsWhereItWas(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	c, _ := b.begin(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Try(t.Context(), c.ID, "marin"))
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	require.NoError(t, b.runner.Stop(t.Context(), runs[0].ID))
	r := b.run(runs[0].ID)
	assert.Equal(t, release.Stopped, r.State)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
	assert.Equal(t, release.Drafted, b.change(c.ID).State)
	require.NoError(t, b.runner.Run(t.Context(), r.ID))
	assert.Equal(t, release.Stopped, b.run(r.ID).State, "its job does nothing any more")
	require.NoError(t, b.changes.Try(t.Context(), c.ID, "marin"), "and the environment is free")
}

func TestAPersonCannotBeginTwoRunsOnOneEnvironment(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	began := make(chan error, 8)
	for range cap(began) {
		go func() {
			_, err := b.runner.Start(context.Background(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.CheckRun, RequestedBy: "marin"})
			began <- err
		}()
	}
	ok := 0
	for range cap(began) {
		err := <-began
		if err == nil {
			ok++
			continue
		}
		var busy *run.NotIdle
		assert.ErrorAs(t, err, &busy)
	}
	assert.Equal(t, 1, ok, "eight people at the same moment")
}

func TestACancelledContextDoesNotBreakAnActOff(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.mark(0)
	ctx, stop := context.WithCancel(t.Context())
	tr.answer(func(w http.ResponseWriter, applied func() *http.Response) {
		stop()
		appliesAndHangsUp(w, applied)
	})
	env, now, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	layer, err := b.runner.Acts.Layer(env)
	require.NoError(t, err)
	want := now.Values.With(settings.Values{"markup.compact": true})
	fp, err := b.store.SaveRevision(t.Context(), b.site.ID, want)
	require.NoError(t, err)
	o := b.runner.Acts.Apply(ctx, act.Intent{Environment: env, Layer: layer, Values: want, Fingerprint: fp, Kind: release.ActTry, Who: "tester"})
	assert.Equal(t, release.ActApplied, o.State(), "it was carried to its end")
	require.ErrorIs(t, ctx.Err(), context.Canceled)
	_, err = b.store.OpenAct(t.Context(), env.ID)
	assert.True(t, errors.Is(err, store.ErrNotFound))
}

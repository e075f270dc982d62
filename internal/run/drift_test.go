package run_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
)

func (b *bench) drifts() []store.Drift {
	b.Helper()
	list, err := b.store.OpenDrifts(b.Context(), b.site.ID)
	require.NoError(b, err)
	return list
}

// meddle changes settings as somebody in the site's own administration would.
func (b *bench) meddle(inst *standin.Instance, edits settings.Values) settings.Values {
	b.Helper()
	now, etag := inst.Layer.Settings()
	_, ok := inst.Layer.Replace(now.With(edits), etag)
	require.True(b, ok)
	return now
}

func TestWhatWasChangedOutsideWaitsForAPerson(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	staging := b.envs[0].ID
	was := b.meddle(b.staging, settings.Values{"markup.compact": true})
	env, _, err := b.runner.Acts.Read(t.Context(), staging)
	require.NoError(t, err)
	require.Len(t, b.drifts(), 1)
	d := b.drifts()[0]
	assert.Equal(t, fingerprint(t, was), d.Was)
	assert.Equal(t, env.Fingerprint, d.Found)
	applied, err := b.store.Acts(t.Context(), staging, 1)
	require.NoError(t, err)
	assert.Equal(t, "outside", applied[0].Who, "the revision is nobody's here")

	_, err = b.runner.Acts.Propose(t.Context(), staging, settings.Values{"images.lazy": true})
	assert.ErrorContains(t, err, "Accept what was found, or revert it")
	r := b.carryOut(store.Run{EnvironmentID: staging, Kind: release.MarkRun})
	assert.Equal(t, release.Failed, r.State, "a mark does not accept in passing")
	r = b.carryOut(store.Run{EnvironmentID: staging, Kind: release.CheckRun})
	assert.Equal(t, release.Done, r.State, "it can be looked at: %s", r.Problem)

	// More is changed outside: it is one drift still, from where it began.
	b.meddle(b.staging, settings.Values{"images.lazy": true})
	_, _, err = b.runner.Acts.Read(t.Context(), staging)
	require.NoError(t, err)
	require.Len(t, b.drifts(), 1)
	assert.Equal(t, d.Was, b.drifts()[0].Was)
	ok, err := b.store.AcceptDrift(t.Context(), d.ID, d.Found, "ada", "meant")
	require.NoError(t, err)
	assert.False(t, ok, "what the person saw is not what is there")

	// Going back to the mark puts it back, and is proven.
	m, err := b.store.LatestMark(t.Context(), staging)
	require.NoError(t, err)
	r = b.carryOut(store.Run{EnvironmentID: staging, Kind: release.RollBackRun, Target: d.Was, MarkID: &m.ID})
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Empty(t, b.drifts())
	d, err = b.store.Drift(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, store.DriftReverted, d.State)
	assert.Equal(t, "tester", d.SettledBy)
	now, _ := b.staging.Layer.Settings()
	assert.Empty(t, settings.Diff(was, now))
}

func TestAChangeOutsideThatIsUndoneOutsideIsGone(t *testing.T) {
	b := newBench(t, tiny())
	for _, e := range b.envs {
		_, _, err := b.runner.Acts.Read(t.Context(), e.ID)
		require.NoError(t, err)
	}
	b.meddle(b.production, settings.Values{"pages.lifetime": 120})
	require.NoError(t, b.runner.Acts.ReadAll(t.Context()))
	require.Len(t, b.drifts(), 1)
	id := b.drifts()[0].ID
	b.meddle(b.production, settings.Values{"pages.lifetime": 600})
	b.meddle(b.production, settings.Values{"pages.lifetime": 3600})
	require.NoError(t, b.runner.Acts.ReadAll(t.Context()))
	d, err := b.store.Drift(t.Context(), id)
	require.NoError(t, err)
	was, err := b.store.Revision(t.Context(), b.site.ID, d.Was)
	require.NoError(t, err)
	b.meddle(b.production, settings.Values{"pages.lifetime": was["pages.lifetime"]})
	require.NoError(t, b.runner.Acts.ReadAll(t.Context()))
	d, err = b.store.Drift(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, store.DriftGone, d.State)
	assert.Equal(t, "outside", d.SettledBy)
}

func TestEnvironmentsAreReadOnASchedule(t *testing.T) {
	b := newBench(t, tiny())
	_, _, err := b.runner.Acts.Read(t.Context(), b.envs[1].ID)
	require.NoError(t, err)
	b.meddle(b.production, settings.Values{"pages.lifetime": 120})
	q, err := run.NewQueue(b.runner, run.Options{Workers: 1, ReadEvery: time.Second})
	require.NoError(t, err)
	require.NoError(t, q.Start(t.Context()))
	defer q.Stop(t.Context())
	require.Eventually(t, func() bool { return len(b.drifts()) == 1 }, patience, 100*time.Millisecond)
}

func TestWhileARunActsNobodyElseReads(t *testing.T) {
	b := newBench(t, tiny())
	held, free, err := b.store.TryLockEnvironment(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	require.True(t, free)
	_, _, err = b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	var busy *act.Busy
	require.ErrorAs(t, err, &busy)
	held.Unlock()
	_, _, err = b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	assert.NoError(t, err)
}

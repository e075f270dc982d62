package run_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/browser"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Between request and work somebody changed production, and somebody accepted it.
func TestAPromotionGoesOnlyOntoWhatItWasCheckedAgainst(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	c := b.promotable(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	b.meddle(b.production, settings.Values{"pages.lifetime": 77})
	_, _, err = b.runner.Acts.ReadLocked(t.Context(), b.envs[1].ID)
	require.NoError(t, err)
	require.Len(t, b.drifts(), 1)
	_, err = b.store.AcceptDrift(t.Context(), b.drifts()[0].ID, b.drifts()[0].Found, "vera", "meant")
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), runs[0].ID))
	r := b.run(runs[0].ID)
	assert.Equal(t, release.Failed, r.State)
	assert.Contains(t, r.Problem, "production has other settings than when the run was requested")
	now, _ := b.production.Layer.Settings()
	assert.EqualValues(t, 77, now["pages.lifetime"], "nothing was overwritten")
	assert.Equal(t, release.Checked, b.change(c.ID).State)
}

// A check that was cut off while it looked with the earlier settings goes on with what it is to look at.
func TestACheckThatWasCutOffInItsControlLooksAtWhatItFound(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	c := b.promotable(settings.Values{"markup.compact": true})
	with, tag := b.staging.Layer.Settings()
	fp := fingerprint(t, with)
	r, err := b.runner.Start(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.CheckRun, RequestedBy: "tester"})
	require.NoError(t, err)
	looks := b.runner.Tools.Browser
	b.runner.Tools.Browser = func() (*browser.Browser, error) { panic("no memory is left") }
	require.Error(t, b.runner.Run(t.Context(), r.ID))
	b.runner.Tools.Browser = looks
	control, err := b.store.Intend(t.Context(), store.Act{EnvironmentID: b.envs[0].ID, RunID: &r.ID, Kind: release.ActControl, Fingerprint: c.Base, Predecessor: fp, Who: "tester"})
	require.NoError(t, err)
	earlier, err := b.store.Revision(t.Context(), b.site.ID, c.Base)
	require.NoError(t, err)
	_, ok := b.staging.Layer.Replace(earlier, tag)
	require.True(t, ok)
	require.NoError(t, b.store.EndAct(t.Context(), control, release.ActApplied, "Read back.", c.Base))

	require.NoError(t, b.runner.Run(t.Context(), r.ID))
	r = b.run(r.ID)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Problem)
	assert.Equal(t, fp, r.Target)
	now, _ := b.staging.Layer.Settings()
	assert.Equal(t, fp, fingerprint(t, now), "staging has the change, as by the record")
	placed, err := b.store.Placed(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	assert.True(t, release.InForce(release.Record(placed), c.ID))
}

// Half of what was looked at had other settings.
func TestWhatChangedWhileItWasLookedAtIsNotChecked(t *testing.T) {
	b := newBench(t, tiny())
	looks, once := b.runner.Tools.Browser, sync.Once{}
	b.runner.Tools.Browser = func() (*browser.Browser, error) {
		once.Do(func() { b.meddle(b.staging, settings.Values{"pages.lifetime": 77}) })
		return looks()
	}
	id, err := b.store.NewRun(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.MarkRun, RequestedBy: "tester"})
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), id))
	r := b.run(id)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
	assert.Contains(t, r.Summary, "staging was changed outside Tide Marker while it was looked at")
	_, err = b.store.LatestMark(t.Context(), b.envs[0].ID)
	require.ErrorIs(t, err, store.ErrNotFound, "no mark names settings that its evidence is not of")
	assert.Len(t, b.drifts(), 1)
}

// What a check puts in force to look, and takes back, says nothing about what somebody changed outside.
func TestAControlSettlesNoDrift(t *testing.T) {
	b := newBench(t, tiny())
	_, _, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	b.meddle(b.staging, settings.Values{"pages.lifetime": 77})
	env, now, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	require.Len(t, b.drifts(), 1)
	for _, kind := range []release.ActKind{release.ActControl, release.ActTry, release.ActRestore} {
		act, err := b.store.Intend(t.Context(), store.Act{EnvironmentID: env.ID, Kind: kind, Fingerprint: b.drifts()[0].Was, Predecessor: fingerprint(t, now.Values), Who: "tester"})
		require.NoError(t, err)
		require.NoError(t, b.store.EndAct(t.Context(), act, release.ActApplied, "Read back.", b.drifts()[0].Was))
		require.Len(t, b.drifts(), 1, "%s: nobody has decided", kind)
	}
	back, err := b.store.Intend(t.Context(), store.Act{EnvironmentID: env.ID, Kind: release.ActRollBack, Fingerprint: b.drifts()[0].Was, Predecessor: b.drifts()[0].Was, Who: "vera"})
	require.NoError(t, err)
	require.NoError(t, b.store.EndAct(t.Context(), back, release.ActApplied, "Read back.", b.drifts()[0].Was))
	assert.Empty(t, b.drifts(), "reverting it is a decision")
}

package watching_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/store"
)

func (b *bench) says(words string) int {
	b.Helper()
	history, err := b.Store.History(b.Context(), b.ID, 0, 100)
	require.NoError(b, err)
	n := 0
	for _, e := range history {
		if strings.Contains(e.Text, words) {
			n++
		}
	}
	return n
}

// measured keeps staging busy with what takes hours.
func (b *bench) measured() store.Run {
	b.Helper()
	r, err := b.Runner.Start(b.Context(), store.Run{SiteID: b.ID, EnvironmentID: b.Environments().Staging.ID, Kind: release.MeasureRun, RequestedBy: "otto"})
	require.NoError(b, err)
	return r
}

func TestProductionThatLooksBrokenIsSaidAtOnceAndStagingHasTenMinutes(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true, Minutes: 15})
	b.measured()
	b.now = noon.Add(11 * time.Minute)
	b.goOn()
	b.End(t.Context(), b.look(b.Environments().Production).ID, evidence.VerdictBroken, broken("/"))
	b.goOn()
	assert.Equal(t, 1, b.says("found something on production"), "nobody waits for staging to be told")
	assert.Equal(t, watch.Under, b.looks(b.id)[0].State)
	b.now = b.now.Add(9 * time.Minute)
	b.goOn()
	assert.Nil(t, b.watch(b.id).BackAt)
	b.now = b.now.Add(time.Minute)
	b.goOn()
	l := b.looks(b.id)[0]
	assert.Equal(t, watch.Found, l.State)
	assert.Contains(t, l.Held.V[0].Why, "could not be looked at within 10 minutes")
	assert.Equal(t, 1, b.says("found something on production"), "once")
}

func TestProductionIsRolledBackThoughStagingIsBusy(t *testing.T) {
	b := newBench(t)
	m := b.measured()
	situation, _, err := b.Changes.Situation(t.Context(), b.change.ID)
	require.NoError(t, err)
	_, err = release.Apply(situation, release.RollBack)
	require.NoError(t, err)
	require.NoError(t, b.Changes.RollBack(t.Context(), b.change.ID, false, "vera"))
	runs, err := b.Store.ChangeRuns(t.Context(), b.change.ID)
	require.NoError(t, err)
	states := map[int64]release.RunState{}
	for _, r := range runs {
		if r.Kind == release.RollBackRun {
			states[r.EnvironmentID] = r.State
		}
	}
	envs := b.Environments()
	assert.Equal(t, map[int64]release.RunState{envs.Production.ID: release.Queued, envs.Staging.ID: release.Waiting}, states)
	left, err := b.Store.Run(t.Context(), m.ID)
	require.NoError(t, err)
	assert.False(t, left.State.Over(), "what is measured goes on")
}

func TestPromotingAgainHandsTheWatchOver(t *testing.T) {
	b := newBench(t)
	moved, err := b.Store.MoveChange(t.Context(), b.change.ID, release.Marked, release.Promoting, "Being promoted.")
	require.NoError(t, err)
	require.True(t, moved)
	b.goOn()
	assert.Equal(t, watch.Watching, b.watch(b.id).State, "how the promotion ends says what follows")
	_, err = b.Store.MoveChange(t.Context(), b.change.ID, release.Promoting, release.Promoted, "It was stopped.")
	require.NoError(t, err)
	assert.Equal(t, 6, b.day(clear))
}

func TestARollbackThatCannotBeginIsSaidOnce(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true, Minutes: 15})
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	require.NotNil(t, b.watch(b.id).BackAt)
	_, err := b.Store.Pool.Exec(t.Context(), `UPDATE runs SET evidence_gone_at = now() WHERE kind = 'mark'`)
	require.NoError(t, err)
	b.now = b.now.Add(16 * time.Minute)
	for range 3 {
		b.goOn()
		b.now = b.now.Add(time.Minute)
	}
	assert.NotEmpty(t, b.watch(b.id).BackRefused)
	assert.Equal(t, 1, b.says("was not rolled back automatically"))
}

func TestAcceptingMarksWhatThePromotionSaw(t *testing.T) {
	b := newBench(t)
	move := func(from, to release.State) {
		t.Helper()
		ok, err := b.Store.MoveChange(t.Context(), b.change.ID, from, to, "")
		require.NoError(t, err)
		require.True(t, ok)
	}
	move(release.Marked, release.Promoted)
	envs := b.Environments()
	b.Ended(t.Context(), store.Run{EnvironmentID: envs.Production.ID, Kind: release.CheckRun, Target: envs.Production.Fingerprint}, evidence.VerdictUnsure)
	situation, _, err := b.Changes.Situation(t.Context(), b.change.ID)
	require.NoError(t, err)
	assert.Equal(t, evidence.VerdictUnsure, situation.ProductionVerdict, "of the newest check, whoever asked for it")
	now, _ := b.Production.Layer.Settings()
	b.outside(now.With(settings.Values{"pages.lifetime": 77}))
	drifts, err := b.Store.OpenDrifts(t.Context(), b.ID)
	require.NoError(t, err)
	require.Len(t, drifts, 1)
	_, err = b.Store.AcceptDrift(t.Context(), drifts[0].ID, drifts[0].Found, "vera", "meant")
	require.NoError(t, err)
	before, err := b.Store.Marks(t.Context(), envs.Production.ID, 100)
	require.NoError(t, err)
	require.ErrorAs(t, b.Changes.Accept(t.Context(), b.change.ID, "vera"), new(*changes.Conflict))
	after, err := b.Store.Marks(t.Context(), envs.Production.ID, 100)
	require.NoError(t, err)
	assert.Equal(t, before, after, "no mark of settings that the promotion did not see")
	assert.Equal(t, release.Promoted, b.state(b.change), "and nothing is half done")
}

package run_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
)

// promoteNow takes a change all the way to a mark on production.
func (b *bench) promoteNow(edits settings.Values) int64 {
	b.Helper()
	c := b.promotable(edits)
	require.NoError(b, b.changes.Promote(b.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	b.workOff()
	require.Equal(b, release.Marked, b.change(c.ID).State, b.change(c.ID).Explanation)
	return c.ID
}

func TestARollbackWithOthersOnTopAsksAndGoesWhereItSays(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	before, _ := b.production.Layer.Settings()
	first := b.promoteNow(settings.Values{"markup.compact": true, "pages.lifetime": 7200})
	between := b.env(1).Fingerprint
	second := b.promoteNow(settings.Values{"images.lazy": true})

	p, err := b.changes.PlanRollBack(t.Context(), second)
	require.NoError(t, err)
	assert.Equal(t, between, p.Backs[0].Way.To, "the one on top goes back to what the other left")
	assert.True(t, p.Backs[0].Exact, "there is a mark of exactly that")
	p, err = b.changes.PlanRollBack(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, fingerprint(t, before), p.Backs[0].Way.To, "not to the other's mark")
	require.Len(t, p.OnTop, 1)
	assert.Equal(t, second, p.OnTop[0].ID)
	var no *release.NotAllowed
	require.ErrorAs(t, b.changes.RollBack(t.Context(), first, false, "marin"), &no)
	assert.Contains(t, no.Why, "Another change was promoted on top of it")

	require.NoError(t, b.changes.RollBack(t.Context(), first, true, "marin"))
	b.workOff()
	now, _ := b.production.Layer.Settings()
	assert.Empty(t, settings.Diff(before, now), "neither is in force")
	assert.Equal(t, release.RolledBack, b.change(first).State, b.change(first).Explanation)
	assert.Equal(t, release.RolledBack, b.change(second).State, "it went with it, and says so")
	assert.Contains(t, b.change(second).Explanation, "Production was rolled back to before it")
	require.ErrorAs(t, b.changes.RollBack(t.Context(), second, false, "marin"), new(*release.NoMove), "what is not in force cannot be rolled back")
}

func TestJustOneChangeIsTakenOutFromUnderAnother(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	before, _ := b.production.Layer.Settings()
	first := b.promoteNow(settings.Values{"markup.compact": true, "pages.lifetime": 7200})
	second := b.promoteNow(settings.Values{"images.lazy": true, "pages.lifetime": 1800})

	_, err := b.changes.TakeOut(t.Context(), first, nil, "marin")
	var open *changes.Undecided
	require.ErrorAs(t, err, &open, "both set the lifetime: a person decides")
	require.Len(t, open.Conflicts, 1)
	assert.Equal(t, "pages.lifetime", open.Conflicts[0].Key)
	id, err := b.changes.TakeOut(t.Context(), first, map[string]bool{"pages.lifetime": false}, "marin")
	require.NoError(t, err)
	inverse := b.change(id)
	assert.Equal(t, settings.Values{"markup.compact": false}, inverse.Edits.V)
	assert.Equal(t, release.Drafted, inverse.State, "it takes the ordinary way through staging")
	assert.Equal(t, release.Marked, b.change(first).State, "until then nothing has moved")

	require.NoError(t, b.changes.Try(t.Context(), id, "marin"))
	b.workOff()
	require.NoError(t, b.changes.Promote(t.Context(), id, changes.By{Who: "vera", Decides: true}, ""))
	b.workOff()
	require.Equal(t, release.Marked, b.change(id).State, b.change(id).Explanation)
	assert.Equal(t, release.RolledBack, b.change(first).State)
	assert.Contains(t, b.change(first).Explanation, "taken out again by")
	assert.Equal(t, release.Marked, b.change(second).State)
	now, _ := b.production.Layer.Settings()
	assert.Equal(t, before["markup.compact"], now["markup.compact"])
	assert.Equal(t, true, now["images.lazy"], "what came on top stays")
	assert.EqualValues(t, 1800, now["pages.lifetime"])
}

func TestGoingBackToAMarkMovesTheChangesThatAreGone(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	marks, err := b.store.Marks(t.Context(), b.envs[1].ID, 10)
	require.NoError(t, err)
	c := b.promoteNow(settings.Values{"markup.compact": true})
	r := b.roll(1, marks[0])
	require.Equal(t, evidence.VerdictClear, r.Verdict, r.Problem)
	assert.Equal(t, release.RolledBack, b.change(c).State)
	s, _, err := b.changes.Situation(t.Context(), c)
	require.NoError(t, err)
	assert.False(t, s.ProductionChange)
	assert.True(t, s.StagingHasChange, "staging was not asked to go back")
}

func TestStoppingTheFirstOfTwoRollbacksLeavesTheOther(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	b.mark(1)
	c := b.promoteNow(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.RollBack(t.Context(), c, false, "marin"))
	open, err := b.store.OpenRunsOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	require.Len(t, open, 2)
	waiting, queued := open[0], open[1]
	require.Equal(t, release.Waiting, waiting.State)
	require.Equal(t, b.envs[1].ID, queued.EnvironmentID, "production goes first: visitors are there")
	require.NoError(t, b.runner.Stop(t.Context(), queued.ID))
	assert.Equal(t, release.Stopped, b.run(queued.ID).State)
	assert.Equal(t, release.Stopped, b.run(waiting.ID).State, "it was not begun")
	assert.Equal(t, release.Promoted, b.change(c).State, "production still has it")

	// And the other way round: only production goes back.
	require.NoError(t, b.changes.RollBack(t.Context(), c, false, "marin"))
	open, err = b.store.OpenRunsOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	require.NoError(t, b.runner.Stop(t.Context(), open[0].ID))
	b.workOff()
	assert.Equal(t, release.OnStaging, b.change(c).State)
	now, _ := b.production.Layer.Settings()
	assert.Equal(t, false, now["markup.compact"])
}

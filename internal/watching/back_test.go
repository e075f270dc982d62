package watching_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/watching"
)

// asks says what makes the site's changes go back by themselves.
func (b *bench) asks(g site.GoBack) {
	b.Helper()
	_, err := b.Store.ChangeTestPlan(b.Context(), b.ID, "vera", func(s site.Site) (site.Site, string, error) {
		s.Promotion = &site.Promotion{GoBack: &g}
		return s, "From now on it goes back.", nil
	})
	require.NoError(b, err)
}

func TestAChangeGoesBackByItselfWhereTheSiteSaysSo(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true, Minutes: 15})
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	w := b.watch(b.id)
	require.NotNil(t, w.BackAt)
	assert.Equal(t, b.now.Add(15*time.Minute), w.BackAt.UTC())
	assert.Contains(t, w.BackWhy, "Buying does not work")
	b.told("is rolled back automatically in 15 minutes, as this site's rules say, unless somebody stops it")
	b.now = b.now.Add(14 * time.Minute)
	b.goOn()
	assert.Equal(t, release.Marked, b.state(b.change))
	b.now = b.now.Add(time.Minute)
	b.goOn()
	assert.Equal(t, release.RollingBack, b.state(b.change))
	w = b.watch(b.id)
	require.NotNil(t, w.BackRunID)
	r, err := b.Store.Run(t.Context(), *w.BackRunID)
	require.NoError(t, err)
	assert.Equal(t, release.RollBackRun, r.Kind)
	assert.Equal(t, watching.Us, r.RequestedBy)

	_, err = b.Store.MoveChange(t.Context(), b.change.ID, release.RollingBack, release.RolledBack, "Restored, and the check of it is clear.")
	require.NoError(t, err)
	b.goOn()
	assert.Equal(t, watch.Ended, b.watch(b.id).State)
	assert.Contains(t, b.watch(b.id).Why, "It was rolled back automatically")
	for _, l := range b.looks(b.id)[1:] {
		assert.Equal(t, watch.Skipped, l.State)
	}
}

func TestGoingBackThatDoesNotSucceedIsAPersons(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true})
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	b.now = b.now.Add(10 * time.Minute)
	b.goOn()
	first := b.watch(b.id).BackRunID
	require.NotNil(t, first)
	runs, err := b.Store.ChangeRuns(t.Context(), b.change.ID)
	require.NoError(t, err)
	for _, r := range runs {
		if r.Kind == release.RollBackRun {
			require.NoError(t, b.Runner.Stop(t.Context(), r.ID))
		}
	}
	require.Equal(t, release.Promoted, b.state(b.change), "production still has it")
	for range 3 {
		b.now = b.now.Add(time.Minute)
		b.goOn()
	}
	w := b.watch(b.id)
	assert.Equal(t, first, w.BackRunID, "it is not tried again and again")
	assert.Contains(t, w.BackRefused, "production still has the change")
	b.told("was not rolled back automatically")
	assert.Equal(t, release.Promoted, b.state(b.change))
}

func TestSomebodyMaySayNo(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true})
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	require.NoError(t, b.SayNo(t.Context(), b.id, "vera", "the sale ends tonight"))
	b.day(clear)
	assert.Equal(t, release.Marked, b.state(b.change))
	assert.Equal(t, watch.Waits, b.watch(b.id).State)
	b.told("is not rolled back automatically: vera said no: the sale ends tonight.")
}

func TestNothingGoesBackByItselfFromUnderALaterChange(t *testing.T) {
	b := newBench(t)
	b.asks(site.GoBack{On: true})
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	b.Promoted("Lazy", settings.Values{"images.lazy": true}) // whose watch has not begun yet
	b.now = b.now.Add(time.Hour)
	b.goOn()
	assert.Equal(t, release.Marked, b.state(b.change))
	assert.Contains(t, b.watch(b.id).BackRefused, "Something else was brought to production after it")
}

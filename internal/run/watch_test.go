package run_test

import (
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/store"
	"tidemarker/internal/watching"
)

// A promotion is watched: rechecks come with what a browser kept, and what they find is held against staging.
func TestAPromotionIsWatchedAndWhatIsFoundLateIsHeldAgainstStaging(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	b.mark(1)
	c := b.promotable(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), runs[0].ID))
	require.Equal(t, release.Marked, b.change(c.ID).State, b.run(runs[0].ID).Summary)
	of, err := b.store.WatchesOf(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, of, 1)
	w := of[0]
	assert.Equal(t, watch.Watching, w.State)
	assert.Equal(t, b.change(c.ID).State, release.Marked)
	assert.NotEmpty(t, w.Kept.V, "styles and scripts that browsers keep")
	planned, err := b.store.Rechecks(t.Context(), runs[0].ID)
	require.NoError(t, err)
	assert.Empty(t, planned, "the watch looks at those times")
	looks := func() []store.WatchLook {
		l, err := b.store.WatchLooks(t.Context(), w.ID)
		require.NoError(t, err)
		return l
	}
	require.NotEmpty(t, looks())
	last := looks()[len(looks())-1]
	assert.WithinDuration(t, w.BegunAt.Add(24*time.Hour), last.DueAt, 2*time.Second)

	ahead := time.Duration(0)
	desk := &watching.Desk{Store: b.store, Runner: b.runner, Changes: b.changes, Clock: func() time.Time { return time.Now().Add(ahead) }}
	// turn lets what is due be done, with the runs that it begins on an environment.
	turn := func(env int) {
		require.NoError(t, desk.GoOn(t.Context()))
		if r, err := b.store.OpenRunOn(t.Context(), b.envs[env].ID); err == nil {
			require.NoError(t, b.runner.Run(t.Context(), r.ID))
		}
		require.NoError(t, desk.GoOn(t.Context()))
	}
	ahead = time.Until(looks()[0].DueAt) + time.Minute
	turn(1)
	assert.Equal(t, watch.Clear, looks()[0].State, looks()[0].Why)

	// A style vanishes on both: the settings are the same, and nobody publishes on staging.
	var gone atomic.Bool
	gone.Store(true)
	falter := func(_ settings.Values, r *http.Request) bool {
		return gone.Load() && strings.HasSuffix(r.URL.Path, ".css")
	}
	b.production.Layer.Falter(falter)
	b.staging.Layer.Falter(falter)
	ahead = time.Until(looks()[1].DueAt) + time.Minute
	turn(1)
	turn(0)
	l := looks()[1]
	require.Equal(t, watch.Found, l.State, l.Why)
	require.NotNil(t, l.StagingRunID)
	var of2 []watch.Blame
	for _, h := range l.Held.V {
		of2 = append(of2, h.Blame)
	}
	assert.Contains(t, of2, watch.OfChange, "%+v", l.Held.V)
}

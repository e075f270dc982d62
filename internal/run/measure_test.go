package run_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
)

// TestAChangeIsMeasuredInTurns measures a change that draws pages before their styles and loads pictures late: it
// goes back and forth, counts only what came from the cache, leaves staging with the change, and says what
// became of speed. Cut off, it goes on with the round it was in.
func TestAChangeIsMeasuredInTurns(t *testing.T) {
	b := newBench(t, site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}})
	b.mark(0)
	id, err := b.changes.Begin(t.Context(), b.site.ID, changes.Words{Title: "Scripts later"}, settings.Values{"scripts.defer": true, "scripts.inlineToo": true, "scripts.combine": true}, "marin")
	require.NoError(t, err)
	_, err = b.changes.Measure(t.Context(), id, "marin")
	require.ErrorAs(t, err, new(*changes.Conflict), "staging does not have it")
	require.NoError(t, b.changes.Try(t.Context(), id, "marin"))
	runs, err := b.store.ChangeRuns(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), runs[0].ID))
	before, _ := b.staging.Layer.Settings()

	of, err := b.changes.Measure(t.Context(), id, "marin")
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), of))
	r := b.run(of)
	require.Equal(t, release.Done, r.State, r.Problem)
	assert.Equal(t, evidence.VerdictClear, r.Verdict)
	after, _ := b.staging.Layer.Settings()
	assert.Equal(t, before, after, "staging has the change")
	loads, err := b.store.Loads(t.Context(), of)
	require.NoError(t, err)
	sides := map[measure.Side]int{}
	for _, l := range loads {
		assert.Empty(t, l.Dropped)
		assert.Equal(t, "cached", l.Served)
		assert.Positive(t, l.Values[measure.Largest])
		sides[l.Side]++
	}
	assert.GreaterOrEqual(t, sides[measure.Before], 5)
	assert.Equal(t, sides[measure.Before], sides[measure.After])
	assert.Equal(t, measure.Before, loads[0].Side)
	assert.Equal(t, []measure.Side{measure.After, measure.After}, []measure.Side{loads[1].Side, loads[2].Side}, "which comes first changes")
	rep, err := run.ReportMeasure(t.Context(), b.store, r)
	require.NoError(t, err)
	t.Log(r.Summary, rep.Rounds, rep.Seconds)
	for _, c := range rep.Comparisons {
		if c.Page == "" {
			t.Logf("%-24s %8.1f → %8.1f  %+8.1f %v p %.4f %s %s", c.Metric, c.Before, c.After, c.Shift, c.Interval, c.P, c.Result, c.Rating)
		}
		if c.Metric == measure.Requests && c.Page == "" {
			assert.Equal(t, measure.Better, c.Result, "seven scripts are one")
			assert.Less(t, c.Shift, -5.0)
		}
	}
}

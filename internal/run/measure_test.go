package run_test

import (
	"bytes"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/waterfall"
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
	_, err = b.changes.Measure(t.Context(), id, measure.Scope{Repeat: true, Uncached: true, Film: true, Rounds: 5}, "marin")
	require.ErrorAs(t, err, new(*changes.Conflict), "staging does not have it")
	require.NoError(t, b.changes.Try(t.Context(), id, "marin"))
	runs, err := b.store.ChangeRuns(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), runs[0].ID))
	before, _ := b.staging.Layer.Settings()

	of, err := b.changes.Measure(t.Context(), id, measure.Scope{Repeat: true, Uncached: true, Film: true, Rounds: 3}, "marin")
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
		if l.Usual() {
			sides[l.Side]++
		}
	}
	for _, l := range taken(t, loads) {
		assert.Equal(t, !l.Uncached, l.Served == "cached", "%+v %s", l.Case, l.Served)
		assert.Positive(t, l.Values[measure.Largest])
		assert.Positive(t, l.Values[measure.Complete])
	}
	assert.GreaterOrEqual(t, sides[measure.Before], 3)
	assert.Equal(t, sides[measure.Before], sides[measure.After])
	assert.Equal(t, measure.Before, loads[0].Side)
	assert.Equal(t, []measure.Side{measure.After, measure.After}, []measure.Side{loads[5].Side, loads[6].Side}, "which comes first changes")
	rep, err := run.ReportMeasure(t.Context(), b.store, r)
	require.NoError(t, err)
	t.Log(r.Summary, rep.Rounds, rep.Seconds)
	for _, c := range rep.Comparisons {
		if c.Page == "" {
			t.Logf("%-24s %8.1f → %8.1f  %+8.1f %v p %.4f %s %s", c.Metric, c.Before, c.After, c.Shift, c.Interval, c.P, c.Result, c.Rating)
		}
		if c.Metric == measure.Requests && c.Page == "" && c.Visit == measure.First && c.Cached {
			assert.Less(t, c.Shift, -5.0, "seven scripts are one")
		}
		if c.Metric == measure.Transferred && c.Page == "" && c.Visit == measure.Repeat {
			assert.Less(t, c.After, rep.Comparisons[0].After*1000)
		}
	}
	page, err := run.PageInDepth(t.Context(), b.store, of, "/kits", nil)
	require.NoError(t, err)
	assert.Len(t, page.Cases, 3)
	assert.NotEmpty(t, page.Before.Film, "of one load of each side the pictures are kept")
	gone := 0
	for _, row := range page.Rows {
		if row.Kind == "script" && slices.Contains(row.Became, waterfall.Vanished) {
			gone++
		}
	}
	assert.Equal(t, 8, gone, "scripts that are one file now")
	for _, as := range []run.Format{"csv", "json", "har", "junit", "openmetrics", "html", "pdf"} {
		f, err := b.runner.ExportMeasured(t.Context(), r, as, "")
		require.NoError(t, err, as)
		assert.NotEmpty(t, f.Body, as)
		switch as {
		case "pdf":
			assert.True(t, bytes.HasPrefix(f.Body, []byte("%PDF-")))
		case "html":
			assert.Contains(t, string(f.Body), "data:image/jpeg;base64,")
			assert.NotContains(t, string(f.Body), "http")
		case "har":
			list, err := waterfall.ReadHAR(f.Body)
			require.NoError(t, err)
			assert.Len(t, list, len(loads))
		}
	}
}

// TestBudgetsArePartOfACheck: a change that makes pages heavier than the site allows is broken by a measure, which was held
// with the earlier settings; what was exceeded before is noted, and is nobody's fault. The mark knows how fast pages were.
func TestBudgetsArePartOfACheck(t *testing.T) {
	few, tiny := 16.0, 2000.0
	b := newBench(t, site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}, {Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}},
		Budgets: []site.Budget{{Metric: string(measure.Requests), Class: "listing", Most: &few}, {Metric: string(measure.Transferred), Class: "listing", Most: &tiny}}})
	b.meddle(b.staging, settings.Values{"scripts.combine": true, "scripts.inlineToo": false})
	mark := b.mark(0)
	loads, err := b.store.Loads(t.Context(), mark.ID)
	require.NoError(t, err)
	require.Len(t, loads, 6, "only the page that has a budget")
	r, found := b.try(settings.Values{"scripts.combine": false})
	said := map[string]evidence.Severity{}
	for _, f := range found {
		if f.Kind == evidence.MetricKind {
			said[f.Title] = f.Severity
		}
	}
	assert.Equal(t, map[string]evidence.Severity{"Budget exceeded: requests at most 16, pages of the class listing": evidence.Broken, "Budget exceeded: transferred at most 2.0 kB, pages of the class listing": evidence.Note}, said)
	assert.Equal(t, evidence.VerdictBroken, r.Verdict)
	assert.True(t, r.Restored)
	rep, err := run.ReportLittle(t.Context(), b.store, r)
	require.NoError(t, err)
	assert.False(t, rep.Turns)
	assert.Len(t, rep.Budgets, 2)
	assert.NotEmpty(t, rep.Comparisons)
}

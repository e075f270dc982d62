package run_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/stepup"
	"tidemarker/internal/store"
)

// stepUps lets a step-up go on until it is over, as the queue does: this process carries out the runs
// that it begins.
func (b *bench) stepUps(change int64) store.StepUp {
	b.Helper()
	for range 60 {
		require.NoError(b, b.changes.ContinueStepUps(b.Context()))
		c, err := b.store.StepUpOf(b.Context(), change)
		require.NoError(b, err)
		open, err := b.store.OpenRunsOf(b.Context(), b.site.ID)
		require.NoError(b, err)
		if c.OverAt != nil && len(open) == 0 {
			return c
		}
		require.NotEmpty(b, open, "it waits for nothing: %s", c.Waits)
		require.NoError(b, b.changes.ContinueStepUps(b.Context()), "asked again it begins nothing twice")
		for _, r := range open {
			require.NoError(b, b.runner.Run(b.Context(), r.ID))
		}
	}
	require.Fail(b, "the step-up does not end")
	return store.StepUp{}
}

// TestFaultsAreSteppedAround steps up through all bundles on a site that three of their settings
// break: one may stay with something excluded, the others are left out, and the rest is one change that was
// checked. In short it does so on the one page that all three break; TIDEMARKER_RUNS asks for another page, too.
func TestFaultsAreSteppedAround(t *testing.T) {
	doc := site.Site{Name: "Fernhollow", Pages: []site.Page{page("/contact", "contact", []string{site.Phone})}}
	if os.Getenv("TIDEMARKER_RUNS") != "" {
		doc.Pages = append(doc.Pages, page("/kits/pearl-oyster-box", "product", []string{site.Desktop}))
	}
	b := newBench(t, doc)
	b.mark(0)
	b.mark(1)
	id, err := b.changes.BeginStepUp(t.Context(), b.site.ID, changes.StepUpWish{}, "marin")
	require.NoError(t, err)
	_, err = b.changes.BeginStepUp(t.Context(), b.site.ID, changes.StepUpWish{}, "marin")
	require.ErrorAs(t, err, new(*changes.Conflict), "one at a time")
	c := b.stepUps(id)
	for _, s := range c.StepUp.V.Steps {
		t.Logf("%-14s %-6s run %d %s: %s; left out %v, excluded %v, %d looks", s.Bundle, s.Kind, s.Run, s.Verdict, s.Text, s.Dropped, s.Excluded, s.Looks)
	}
	t.Log(c.StepUp.V.Summary)
	proven := c.StepUp.V.Proven
	assert.Equal(t, true, proven["markup.compact"])
	assert.Equal(t, true, proven["scripts.defer"], "it may stay")
	assert.Equal(t, []string{"/assets/fern.js"}, proven.Strings("scripts.deferNot"), "with what it needs excluded")
	assert.NotContains(t, proven, "frames.onDemand", "what breaks the map is left out")
	assert.NotContains(t, proven, "browser.keep", "what leaves visitors with old styles is left out")
	change, err := b.store.Change(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, release.Checked, change.State)
	assert.True(t, settings.Equal(map[string]any(proven), map[string]any(change.Edits.V)), "the change has what is proven")
	runs, err := b.store.ChangeRuns(t.Context(), id)
	require.NoError(t, err)
	for _, r := range runs {
		if r.Kind == release.TryRun {
			assert.Equal(t, evidence.VerdictClear, r.Verdict, "the last try is of just that")
			env, err := b.store.Environment(t.Context(), b.envs[0].ID)
			require.NoError(t, err)
			assert.Equal(t, env.Fingerprint, r.Target, "and staging has it")
			break
		}
	}
	ledger, err := b.store.Exclusions(t.Context(), id)
	require.NoError(t, err)
	// Styles that come late and lettering that is swapped race on this stand-in, so that now and then one of them is excluded, too.
	require.NotEmpty(t, ledger)
	assert.Contains(t, ledger[0].Reason, "Defer scripts")
	for _, e := range ledger {
		assert.Contains(t, e.Reason, "found while stepping up")
	}
}

// TestAStepUpWaitsForItsWindowAndStopsWhenItIsTold begins nothing outside its window, stays within its looks, and when it
// is stopped leaves the change with what is proven.
func TestAStepUpWaitsForItsWindowAndStopsWhenItIsTold(t *testing.T) {
	b := newBench(t, site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/contact", Class: "contact", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}})
	b.mark(0)
	_, err := b.changes.BeginStepUp(t.Context(), b.site.ID, changes.StepUpWish{Window: stepup.Window{From: "22:00", To: "05:00", Zone: "Moon"}}, "marin")
	require.ErrorAs(t, err, new(*changes.NotRight))
	now := time.Now().UTC()
	id, err := b.changes.BeginStepUp(t.Context(), b.site.ID, changes.StepUpWish{Window: stepup.Window{From: now.Add(2 * time.Hour).Format("15:04"), To: now.Add(3 * time.Hour).Format("15:04")}}, "marin")
	require.NoError(t, err)
	require.NoError(t, b.changes.ContinueStepUps(t.Context()))
	c, err := b.store.StepUpOf(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, c.Waits, "It goes on at ")
	open, err := b.store.OpenRunsOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	assert.Empty(t, open)
	require.NoError(t, b.changes.StopStepUp(t.Context(), id))
	require.NoError(t, b.changes.ContinueStepUps(t.Context()))
	c, err = b.store.StepUpOf(t.Context(), id)
	require.NoError(t, err)
	assert.NotNil(t, c.OverAt)
	assert.Contains(t, c.StepUp.V.Summary, "Somebody stopped it.")
	require.ErrorAs(t, b.changes.StopStepUp(t.Context(), id), new(*changes.Conflict))

	id, err = b.changes.BeginStepUp(t.Context(), b.site.ID, changes.StepUpWish{MostLooks: 8}, "marin")
	require.NoError(t, err)
	c = b.stepUps(id)
	assert.Contains(t, c.StepUp.V.Summary, "The 8 looks that it may make are used up.")
	assert.Equal(t, true, c.StepUp.V.Proven["markup.compact"], "what passed until then stays")
}

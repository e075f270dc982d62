package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// ends waits until a run is over, which takes as long as the machine makes it.
func (d *desk) ends(run int64) {
	d.Helper()
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	for end := time.Now().Add(4 * patience); ; <-tick.C {
		r, err := d.store.Run(d.Context(), run)
		require.NoError(d, err)
		if r.State.Over() {
			return
		}
		require.True(d, time.Now().Before(end), "run %d does not end: %s", run, r.Progress.V.Now)
	}
}

// A change that was tried is measured from its page; what became of speed stands there beside the promotion, and on the
// run with each metric, its interval and what is shown.
func TestWhatAChangeDoesToSpeedIsMeasuredAndShown(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow",
		Pages: []site.Page{{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	d.marked()
	marin := d.api(people.Maintainer)
	var c struct{ ID int64 }
	status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": "One script", "reason": "", "effect": "First draw earlier", "edits": settings.Values{"scripts.combine": true}}, &c)
	require.Equal(t, http.StatusCreated, status, text)
	at := fmt.Sprintf("/changes/%d", c.ID)
	status, text = marin.ask(http.MethodPost, at+"/measure", map[string]any{}, nil)
	require.Equal(t, http.StatusConflict, status, text)
	assert.Contains(t, text, "Try it there first")
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.reaches(c.ID, release.Checked)

	d.signIn("Ada", at)
	d.see("p", "^Not measured yet\\.$")
	d.click("button", "^Expect something in figures$")
	d.click("[role=combobox]", "largest paint")
	d.click("[role=option]", "^requests$")
	d.fill("#expect-amount", "5")
	d.click("button", "^Expect this$")
	d.see("p", "^Expected: requests gets better by 5 at least\\.")
	d.click("button", "^Measure on staging$")
	d.see("[role=status]", "so far\\. It goes on until the main metrics are decided")
	runs, err := d.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	d.ends(runs[0].ID)
	d.see("h1", "^Desktop: ")
	d.see("th", "^requests$")
	d.see("td", "better")
	d.see("p", "from an empty browser and from the page cache")
	d.accessible("a measurement")
	d.open(at)
	d.see("p", "^Desktop: .*requests −\\d+")
	d.see("p", "^Expected: First draw earlier$")
	d.see("p", "requests gets better by 5 at least\\.\\s+met\\s+desktop: −\\d+")
	d.see("button", "^Measure again$")
	d.accessible("a change that was measured")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, true, now["scripts.combine"], "staging has the change, as before")
}

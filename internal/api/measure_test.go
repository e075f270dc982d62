package api_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
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
	d.click("button", "^Set a measurable target$")
	d.choose("[aria-label=Metric]", "requests")
	d.fill("#expect-amount", "lots")
	d.see("p", "^“lots” is no amount\\. Write a number")
	d.see("button[disabled]", "^Save$")
	d.accessible("a target that is no amount")
	d.fill("#expect-amount", "5")
	d.click("button", "^Save$")
	d.see("p", "^Expected: requests gets better by 5 at least\\.")
	d.click("button", "^Choose what$")
	d.click("label", "also a repeat visit")
	d.fill("#measure-rounds", "8")
	d.click("button", "^Measure on staging$")
	d.see("[role=status]", "^It goes on until the main metrics are decided, for 8 rounds at most")
	runs, err := d.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	d.ends(runs[0].ID)
	d.see("h1", "^Desktop: ")
	d.see("th", "^requests$")
	d.see("td", "better")
	d.see("p", "each page with each of the settings in turn")
	d.accessible("a measurement")
	d.inDepth(runs[0].ID)
	d.open(at)
	d.see("p", "^Desktop: .*−\\d+")
	d.see("p", "^Expected: First draw earlier$")
	d.see("p", "requests gets better by 5 at least\\.\\s+met\\s+desktop: −\\d+")
	d.see("button", "^Measure again$")
	d.accessible("a change that was measured")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, true, now["scripts.combine"], "staging has the change, as before")
}

// inDepth looks at a measured page in depth, holds a recording against it, and takes all of it along.
func (d *desk) inDepth(run int64) {
	d.Helper()
	at := fmt.Sprintf("/runs/%d", run)
	d.click("a", "^Pages in depth$")
	d.see("h1", "^/kits$")
	d.see("h2", "^How it appears$")
	d.see("th", "^before$")
	d.see("td", "^/assets/fern\\.js")
	d.see("td", "^gone$")
	d.see("td", "^new$")
	d.see("td", "^script$")
	d.accessible("a measured page in depth")
	marin := d.api(people.Maintainer)
	res := map[string]string{}
	for _, format := range []string{"csv", "json", "har", "junit", "openmetrics", "html"} {
		status, text := marin.ask(http.MethodGet, at+"/measured/export?format="+format, nil, nil)
		require.Equal(d, http.StatusOK, status, text)
		res[format] = text
	}
	assert.Contains(d, res["csv"], "largest-contentful-paint ms")
	assert.Contains(d, res["openmetrics"], "# EOF")
	file := filepath.Join(d.TempDir(), "kits.har")
	require.NoError(d, os.WriteFile(file, []byte(res["har"]), 0o600))
	input, err := d.page.Element("#har-file")
	require.NoError(d, err)
	require.NoError(d, input.SetFiles([]string{file}))
	d.see("span", "^Page loads of the file:$")
	require.NoError(d, os.WriteFile(file, []byte("no HAR"), 0o600))
	require.NoError(d, input.SetFiles([]string{file}))
	d.see("p", "kits\\.har is not a HAR file")
	var problem struct{ Detail string }
	status, text := marin.ask(http.MethodPost, at+"/recordings?page=/kits&device=desktop", map[string]any{"log": map[string]any{"version": "2.0", "entries": []any{map[string]any{}}}}, &problem)
	assert.Equal(d, http.StatusUnprocessableEntity, status)
	assert.Contains(d, text, "HAR 2.0")
	status, text = marin.ask(http.MethodGet, at+"/measured?page=/nowhere", nil, nil)
	assert.Equal(d, http.StatusNotFound, status, text)

	d.open(fmt.Sprintf("/measurements?before=%d&after=%d", run, run))
	d.see("p", "were not loaded in turn")
	d.see("h2", "^On a desktop$")
	d.accessible("two measurements")
	d.open(at)
}

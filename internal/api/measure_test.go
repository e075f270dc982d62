package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

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
	d.click("button", "^Measure on staging$")
	d.see("[role=status]", "so far\\. It goes on until the main metrics are decided")
	d.see("h1", "^Desktop: ")
	d.see("th", "^requests$")
	d.see("td", "better")
	d.see("p", "from an empty browser and from the page cache")
	d.accessible("a measurement")
	d.open(at)
	d.see("p", "^Desktop: .*requests −\\d+")
	d.see("p", "^Expected: First draw earlier$")
	d.see("button", "^Measure again$")
	d.accessible("a change that was measured")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, true, now["scripts.combine"], "staging has the change, as before")
}

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

// A change breaks staging; the site asks for the culprit by itself. It is seen with each try, the
// script that has to be excluded is excluded with one click, and the change tried again is clear.
func TestACulpritIsFoundSeenAndExcluded(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", FindCulprit: true,
		Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	d.marked()
	marin := d.api(people.Maintainer)
	var c struct{ ID int64 }
	status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": "Faster scripts", "reason": "", "effect": ""}, &c)
	require.Equal(t, http.StatusCreated, status, text)
	at := fmt.Sprintf("/changes/%d", c.ID)
	status, text = marin.ask(http.MethodPut, at, map[string]any{"version": 1, "title": "Faster scripts", "reason": "", "effect": "",
		"edits": settings.Values{"scripts.defer": true, "markup.compact": true, "images.keyFirst": true}}, nil)
	require.Equal(t, http.StatusOK, status, text)
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.reaches(c.ID, release.Checked)
	runs, err := d.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	require.Equal(t, release.CulpritRun, runs[0].Kind, "it begins by itself")
	tried := runs[1]

	d.signIn("Ada", fmt.Sprintf("/runs/%d", runs[0].ID))
	d.see("h1", "^Culprit: Defer scripts\\. The other 2 break nothing\\.")
	d.see("tr.culprit th", "^Defer scripts")
	d.see("tr.culprit td", "breaks it")
	d.see("tr.innocent th", "^Compact markup")
	d.see("tfoot a", "known from run")
	d.see("h3", "What has to be excluded so that “Defer scripts” may stay")
	d.see("li code", "^/assets/fern\\.js$")
	d.accessible("a search for the culprit")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, true, now["scripts.defer"], "staging has the change, as it had before the search")

	d.open(fmt.Sprintf("/runs/%d", tried.ID))
	d.see("a", fmt.Sprintf("^run %d$", runs[0].ID))
	d.see("button", "^Find the culprit$")
	d.open(fmt.Sprintf("/runs/%d", runs[0].ID))
	d.see("button", "^Remove “Defer scripts” from the change$")
	d.see(".row span", `^What it costs: (\d+) of \d+ files stay as they are: \d+\.\d of \d+\.\d kB\.$`)
	status, text = marin.ask(http.MethodPost, fmt.Sprintf("/runs/%d/remove-culprit", runs[0].ID), map[string]any{"culprit": 3}, nil)
	require.Equal(t, http.StatusConflict, status, text)
	d.click("button", "^Exclude in the change$")
	d.see("h1", "Faster scripts")
	change, err := d.store.Change(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"/assets/fern.js"}, change.Edits.V.Strings("scripts.deferNot"))
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.see("button", "^Promote")
	status, text = marin.ask(http.MethodPost, fmt.Sprintf("/runs/%d/find-culprit", runs[0].ID), map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status, text)
	assert.Contains(t, text, "tried no change")

	d.reaches(c.ID, release.Checked)
	d.open(fmt.Sprintf("/runs/%d", runs[0].ID))
	d.click("button", "^Remove “Defer scripts” from the change$")
	d.see("h1", "Faster scripts")
	change, err = d.store.Change(t.Context(), c.ID)
	require.NoError(t, err)
	assert.NotContains(t, change.Edits.V, "scripts.defer")
	assert.Equal(t, true, change.Edits.V["markup.compact"], "all the rest stays")
}

package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// What a change will do is said on its page before it is tried, goes with one click, and is held
// against what the run finds.
func TestWhatAChangeWillDoIsPredictedAndHeldAgainstTheRun(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow",
		Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	marin := d.api(people.Maintainer)
	begin := func(edits settings.Values) string {
		var c struct{ ID int64 }
		status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": "Faster scripts", "reason": "", "effect": "", "edits": edits}, &c)
		require.Equal(t, http.StatusCreated, status, text)
		return fmt.Sprintf("/changes/%d", c.ID)
	}
	at := begin(settings.Values{"scripts.defer": true, "frames.onDemand": true})
	d.signIn("Ada", at)
	d.see("p", "There is no mark of staging yet")
	status, text := marin.ask(http.MethodPost, "/environments/1/predictions", map[string]any{"edits": settings.Values{"no.such": true}}, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, text)

	d.marked()
	d.open(at)
	d.see("li", "A script in the page on one page uses “Fern” before it is defined")
	d.see("li", "What stands in frames on one page is not there until somebody asks for it")
	d.accessible("a change with what is predicted")
	d.click("button", "^Exclude /assets/fern\\.js$")
	d.see("li", "/assets/fern\\.js in scripts.deferNot: Predicted with “Defer scripts”")
	d.see("textarea", "/assets/fern\\.js")
	var seen struct{ Predictions []prediction.Prediction }
	status, text = marin.ask(http.MethodGet, at+"/predictions", nil, &seen)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, seen.Predictions, 1, "only the frame is left")
	assert.Equal(t, prediction.OnDemand, seen.Predictions[0].Kind)

	d.click("button", "Try it on staging")
	d.see("h1", "^(Broken|Unsure)")
	d.see("h2", "^What was predicted$")
	d.see("td", "What stands in frames on one page")
	d.see("td", "came")
	d.accessible("a run with what was predicted")
	var record prediction.Record
	var id int64
	_, err := fmt.Sscanf(at, "/changes/%d", &id)
	require.NoError(t, err)
	d.reaches(id, release.Checked)
	runs, err := d.store.ChangeRuns(t.Context(), id)
	require.NoError(t, err)
	status, text = marin.ask(http.MethodGet, fmt.Sprintf("/runs/%d/predictions", runs[0].ID), nil, &record)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, 1, record.Count(prediction.Right))
	assert.Empty(t, record.Missed)
	d.open(at)
	d.see("p", "In one run here 1 of 1 such predictions came true")
	status, text = marin.ask(http.MethodGet, "/runs/1/predictions", nil, nil)
	assert.Equal(t, http.StatusNotFound, status, text)
}

// A step-up is begun from the site's page, is seen on its change, and ends with what is proven when it
// is told to.
func TestAStepUpIsBegunSeenAndStopped(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow",
		Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	d.marked()
	d.signIn("Ada", "/sites/1")
	d.click("button", "^Step up$")
	d.fill("#step-up-from", "25:00")
	d.fill("#step-up-to:not([disabled])", "05:00")
	d.click("button", "^Start$")
	d.see("[role=dialog]", "“25:00” is no time of day")
	d.accessible("beginning a step-up")
	d.fill("#step-up-from", "")
	d.click("button", "^Start$")
	d.see("h1", "^Step up through the bundles$")
	d.see("[role=status]", "Slack tide is being tried")
	d.see("td", "It adds nothing to what is there")
	marin := d.api(people.Maintainer)
	status, text := marin.ask(http.MethodPost, "/sites/1/step-ups", map[string]any{"window": map[string]string{"from": "", "to": "", "zone": ""}, "mostLooks": 0}, nil)
	require.Equal(t, http.StatusConflict, status, text)
	d.click("button", "^Stop and keep what is proven$")
	d.see("[role=status]", "stopped\\. Nothing was proven|Somebody stopped it")
	d.accessible("a step-up")
	require.Eventually(t, func() bool {
		c, err := d.store.StepUpOf(t.Context(), 1)
		return err == nil && c.OverAt != nil && len(c.StepUp.V.Proven) == 0
	}, patience, pollEvery, "it is over; where its try had begun staging goes back")
}

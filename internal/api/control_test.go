package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// A check in the interface: what the control showed stands under the finding with its picture
// beside the two others; what the site itself does is learned, shown, and can be overruled.
func TestAControlIsSeenInTheInterface(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	api := d.api(people.Maintainer)
	var run struct{ ID int64 }
	status, text := api.ask(http.MethodPost, "/environments/1/marks", map[string]any{}, &run)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(run.ID)
	status, text = api.ask(http.MethodPost, "/environments/1/tries", map[string]any{"edits": map[string]any{"scripts.defer": true}}, &run)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(run.ID)

	d.signIn("Ada", fmt.Sprintf("/runs/%d", run.ID))
	d.see("h1", "Gone with the earlier settings, 3 of 3")
	d.see(".control", "^Gone with the earlier settings, 3 of 3\\.$")
	d.see("[aria-label='Findings'] button", "gone with the earlier settings")
	d.see("figcaption", "^the mark$")
	d.see("figcaption", "^with the change$")
	d.see("figcaption", "^earlier settings, in this run$")
	d.accessible("a finding with its control")

	d.open("/sites/1/test-plan")
	d.see("h2", "^What changes by itself$")
	d.see("td", "staging")
	d.click("button", "^Do not mask it$")
	d.see("td", "^compared$")
	d.accessible("what was learned")
	steady := 0
	for _, p := range d.document().Pages {
		steady += len(p.Steady)
	}
	assert.Equal(t, 1, steady)
	d.click("button", "^Mask it$")
	d.see("td", "^masked$")
}

func TestTheHostThatWasNotAskedIsAddedFromTheFinding(t *testing.T) {
	r := newRecord(t)
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{
		{Kind: evidence.NotCheckedKind, Severity: evidence.Broken, Page: "/", Persona: "visitor", Device: "phone", Title: "cdn.test was not asked: the site does not list it", Host: "cdn.test", Cause: "host: cdn.test", Fingerprint: "a"},
		{Kind: evidence.ContentKind, Severity: evidence.Note, Page: "/", Persona: "visitor", Device: "phone", Title: "Text is gone", Cause: "host: cdn.test", Symptom: true, Fingerprint: "b"}}))
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	assert.Equal(t, http.StatusConflict, r.post(fmt.Sprintf("/api/v1/findings/%d/add-host", run.id("content")), map[string]any{}, nil), "it names no host")
	for range 2 { // twice is once
		require.Equal(t, http.StatusOK, r.post(fmt.Sprintf("/api/v1/findings/%d/add-host", run.id("not-checked")), map[string]any{}, nil))
	}
	row, err := r.store.Site(t.Context(), r.site.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"cdn.test"}, row.Document.V.Environments[0].Hosts)
	var lines []struct{ Text, Who string }
	r.get(fmt.Sprintf("/api/v1/sites/%d/history", r.site.ID), &lines)
	assert.Contains(t, lines[0].Text, "cdn.test is one of the hosts of staging now")
}

func TestAWholeCauseIsAcceptedAtOnce(t *testing.T) {
	r := newRecord(t)
	f := func(kind evidence.Kind, page, cause, fingerprint string) evidence.Finding {
		return evidence.Finding{Kind: kind, Severity: evidence.Broken, Page: page, Persona: "visitor", Device: "phone", Title: string(kind), Cause: cause, Fingerprint: fingerprint}
	}
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{f(evidence.MissingKind, "/", "lib", "a"), f(evidence.ContentKind, "/", "lib", "b"),
		f(evidence.PictureKind, "/kits", "lib", "c"), f(evidence.JourneyKind, "/", "menu", "d")}))
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	status := r.post(fmt.Sprintf("/api/v1/findings/%d/accept", run.id("content")), map[string]any{"accepted": true, "reach": "cause", "why": "The new library."}, &run)
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, "broken", run.Verdict, "the journey is of another cause")
	assert.Contains(t, run.Summary, "3 accepted as expected")
	require.Equal(t, http.StatusOK, r.post(fmt.Sprintf("/api/v1/findings/%d/accept", run.id("journey")), map[string]any{"accepted": true, "why": "Gone."}, &run))
	assert.Equal(t, "clear", run.Verdict)
}

package api_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// A mark that another browser drew: its pictures are blamed on nobody, that is said, and a new mark mends it.
func TestAMarkOfAnotherBrowserIsSaidAndReplaced(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	d.marked()
	// As though the mark had been taken on a machine whose letters are red.
	red := image.NewNRGBA(image.Rect(0, 0, 1280, 900))
	for i := range red.Pix {
		red.Pix[i] = color.NRGBA{255, 0, 0, 255}.R
	}
	var raw bytes.Buffer
	require.NoError(t, png.Encode(&raw, red))
	sha, err := d.store.Put(t.Context(), "image/png", raw.Bytes())
	require.NoError(t, err)
	_, err = d.store.Pool.Exec(t.Context(), `UPDATE looks SET document = document || jsonb_build_object('picture', jsonb_build_object('sha256', $1::text, 'width', 1280, 'height', 900),
		'renderer', jsonb_build_object('browser', 'Chromium 99.0.1.2', 'sample', 'another', 'fonts', document->'renderer'->'fonts')) WHERE run_id = 1 AND kind = 'page'`, sha)
	require.NoError(t, err)

	api := d.api(people.Maintainer)
	var started struct{ ID int64 }
	status, text := api.ask(http.MethodPost, "/environments/1/checks", map[string]any{}, &started)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(started.ID)
	var run runBody
	api.ask(http.MethodGet, fmt.Sprintf("/runs/%d", started.ID), nil, &run)
	assert.Equal(t, "not checked", run.Verdict, "nothing is broken, and nobody saw whether pictures are")
	assert.Contains(t, run.Summary, "another browser or other fonts draw them than the mark's")
	for _, f := range run.Findings {
		assert.NotEqual(t, "picture", f.Kind, f.Title)
	}

	d.signIn("Ada", fmt.Sprintf("/runs/%d", started.ID))
	d.see("p", "Since the mark, the browser was Chromium 99.0.1.2 and is ")
	d.accessible("a mark of another browser")
	d.click("a", "^Take a new mark of staging")
	d.see(".mark span", "Chromium 99.0.1.2")
	d.see("p", "Take a new mark, so that pictures can be compared again")
	d.click("button", "^Take another mark$") // staging's is the first
	d.see("h1", "looks, twice")
	d.open("/sites/1")
	d.see(".mark", "Mark 3")
	assert.False(t, d.page.MustHas("p.none"), "the new mark is this browser's")
}

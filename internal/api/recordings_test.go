package api_test

import (
	"encoding/json"
	"net/http"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// A recording from a browser becomes a journey in the interface, with what it lacks told, and
// goes out again without its secret.
func TestARecordingIsReadIntoTheTestPlan(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	d.signIn("Ada", "/sites/1/test-plan")
	d.see("h2", "Personas, journeys")
	file, err := d.page.Timeout(patience).Element("input[type=file]")
	require.NoError(t, err)
	require.NoError(t, file.SetFiles([]string{"../core/journey/testdata/recording.json"}))
	d.see("h3", "^A journey$")
	d.see("li", "Shift is not held down")
	d.accessible("a journey from a recording")
	d.click("button", "^Save$")
	d.see("b", "^Buying a kit$")
	doc := d.document()
	require.Len(t, doc.Journeys, 1)
	assert.Equal(t, "click button “Add to basket”", doc.Journeys[0].Steps[1].String())

	api := d.api(people.Maintainer)
	var raw json.RawMessage
	status, text := api.ask(http.MethodGet, "/sites/1/recording?journey=Buying%20a%20kit", nil, &raw)
	require.Equal(t, http.StatusOK, status, text)
	assert.NotContains(t, string(raw), "harvest moon")
	back, _, err := journey.ReadRecording(raw)
	require.NoError(t, err)
	assert.Equal(t, "Buying a kit", back.Name)
	status, _ = api.ask(http.MethodGet, "/sites/1/recording?journey=None", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)

	status, text = api.ask(http.MethodPost, "/recordings", map[string]any{"title": "x", "steps": []any{map[string]any{"type": "fly"}}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "step 1 (fly): there is no such type of step")
	original, err := os.ReadFile("../core/journey/testdata/recording.json")
	require.NoError(t, err)
	var parsed any
	require.NoError(t, json.Unmarshal(original, &parsed))
	status, _ = d.api(people.Observer).ask(http.MethodPost, "/recordings", parsed, nil)
	assert.Equal(t, http.StatusForbidden, status)
}

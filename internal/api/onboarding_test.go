package api_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
)

// placed fills in where the observatory is, as a person does.
func (d *desk) placed(productionURL string) {
	d.Helper()
	d.fill("#url-0", d.staging.URL)
	d.fill("#token-0", "secret")
	d.fill("#url-1", productionURL)
	d.fill("#token-1", "secret")
}

func TestASiteThatNobodyHasSeenIsAdded(t *testing.T) {
	d := quillet(t)
	d.signIn("Ada", "/")
	d.click("a", "^Add a site$")
	d.see("h1", "^Add a site$")
	d.fill("#site-name", "The hill")
	d.placed(d.staging.URL)
	d.click("button", "^Test it$")
	d.see("li", "staging and production are the same environment")
	d.accessible("adding a site")
	d.fill("#url-1", d.production.URL)
	d.fill("#connector-1", d.production.ConnectorURL())
	d.fill("#token-1", "not the token")
	d.click("button", "^Test again$")
	d.see("li", "does not accept the token")
	d.fill("#token-1", "secret")
	d.click("button", "^Test again$")
	d.see("li", "staging is not production")
	d.see("li", "The host \\(shared\\) cannot support")
	d.see("li", "Both have the same 27 settings")

	// It is kept: somebody leaves, and goes on later.
	d.open("/add-site")
	d.click("a", "^The hill$")
	d.see("h1", "^Adding The hill$")
	d.click("button", "^Find its pages$")
	d.see("td", "/evenings/the-dark-lane|/evenings/the-owl|/evenings/comet-if-it-holds")
	d.see("td", "Its address has “tickets”")
	d.see("td", "It has a form that asks for a password")
	d.see("b", "^into the cart$")
	d.accessible("the pages of a site being added")

	d.click("button", "^Run on phone$") // the first is the menu's or the cart's
	d.see(".ran", "it works")
	d.click("button", "^Edit$") // of the first row, the persona
	d.fill("input[aria-label='Value of step 2']", "hale")
	d.fill("input[aria-label='Value of step 3']", "dark adapted")
	d.fill("#look-marks", "Hale Quillet, hale@example.org")
	d.accessible("editing the steps")
	d.click("button", "^Save$")
	d.gone("#look-name")
	d.click("button", "^Try$")
	d.see(".ran", "it works\\s+member on desktop")

	d.click("button", "^Add a journey$")
	d.fill("#look-name", "the way to us")
	d.fill("input[aria-label='Value of step 1']", "visit")
	d.see("p", "A path begins with /")
	d.fill("input[aria-label='Value of step 1']", "/visit")
	d.click("button", "^Save$")
	d.see("b", "^the way to us$")
	api := d.api(people.Maintainer)
	var onboarding struct {
		Pages    struct{ Watched []string }
		Personas []site.Persona
		Journeys []journey.Journey
	}
	status, text := api.ask(http.MethodGet, "/onboardings/1", nil, &onboarding)
	require.Equal(t, http.StatusOK, status)
	assert.NotContains(t, text, `:"secret"`, "a token is never told")
	assert.NotContains(t, text, "dark adapted", "nor is a password")
	require.Len(t, onboarding.Personas, 1)
	assert.Equal(t, "hale", onboarding.Personas[0].Prepare[1].Fill.Value)
	assert.Equal(t, []string{"Hale Quillet", "hale@example.org"}, onboarding.Personas[0].PrivateTexts)
	names := []string{}
	for _, j := range onboarding.Journeys {
		names = append(names, j.Name)
	}
	assert.Subset(t, names, []string{"into the cart", "up to paying", "signing in", "a message is sent", "the way to us"})
	status, text = api.ask(http.MethodPut, "/onboardings/1/looks", map[string]any{"personas": onboarding.Personas, "journeys": onboarding.Journeys}, nil)
	require.Equal(t, http.StatusOK, status, text)
	moved := map[string]any{"environments": []map[string]any{{"name": "staging", "url": "http://127.0.0.1:9", "kind": "http"}, {"name": "production", "url": d.production.URL, "kind": "http"}}}
	status, text = api.ask(http.MethodPut, "/onboardings/1/environments", moved, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, "a token that is kept is sent nowhere else")
	assert.Contains(t, text, "give its token again")
	status, text = api.ask(http.MethodPut, "/onboardings/1/pages", map[string]any{"paths": []string{"/visit"}, "class": "article", "watch": true}, &onboarding)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, onboarding.Pages.Watched, "/visit")
	var listed struct {
		Rows  []struct{ Path, Class string }
		Total int
	}
	count := func(query string) int {
		t.Helper()
		status, text := api.ask(http.MethodGet, "/onboardings/1/pages?"+query, nil, &listed)
		require.Equal(t, http.StatusOK, status, text)
		return listed.Total
	}
	before, articles := count("limit=2"), count("class=article")
	assert.Len(t, listed.Rows, articles)
	assert.Greater(t, before, 2)
	evenings := count("q=EVENINGS/")
	require.Positive(t, evenings)
	status, text = api.ask(http.MethodPut, "/onboardings/1/pages", map[string]any{"all": map[string]any{"q": "evenings/"}, "class": "listing"}, nil)
	require.Equal(t, http.StatusOK, status, text)
	count("q=evenings/")
	for _, p := range listed.Rows {
		assert.Equal(t, "listing", p.Class, p.Path)
	}
	assert.Equal(t, before, count("limit=1&offset=999"), "behind the end it is still said how many there are")
	assert.Empty(t, listed.Rows)
	for _, body := range []map[string]any{{"class": "article"}, {"paths": []string{"/visit"}, "all": map[string]any{}, "class": "article"}} {
		status, _ = api.ask(http.MethodPut, "/onboardings/1/pages", body, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "which pages are meant has to be said, and once")
	}
	_, text = api.ask(http.MethodGet, "/onboardings/1/pages?q=/visit", nil, nil)
	assert.Contains(t, text, "Said by Ada")

	d.click("button", "^Add the site$")
	d.see("[role=alert]", "Not filled in: the field “Password”, the journey “signing in”")
	d.click("button[aria-label='Remove signing in']", ".")
	d.click("[role=alertdialog] button", "^Remove$")
	d.gone("[role=alertdialog]")
	d.click("button", "^Add the site$")
	d.see("h1", "^The hill$")
	rows, _, err := d.store.Sites(t.Context(), "The hill", 1, 0)
	require.NoError(t, err)
	doc := rows[0].Document.V
	assert.Len(t, doc.Personas, 1)
	assert.Equal(t, "dark adapted", doc.Personas[0].Prepare[2].Fill.Value)
	page, watched := doc.Page("/tickets")
	require.True(t, watched)
	assert.Equal(t, "cart", page.Class)
	assert.Less(t, len(doc.Pages), 18)
	envs, err := d.store.Environments(t.Context(), rows[0].ID)
	require.NoError(t, err)
	assert.NotEmpty(t, envs[1].Fingerprint, "both were read")
	d.see("button", "^Take the first mark$")
	status, _ = api.ask(http.MethodGet, "/onboardings/1", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

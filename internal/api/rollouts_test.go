package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// From a change that settled on one site to another site that has it: chosen, tried, let go, promoted.
func TestAChangeIsRolledOutToAnotherSite(t *testing.T) {
	d := newDesk(t)
	doc := site.Site{Name: "Second shop", Labels: []string{"shops"}, Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}}
	for _, env := range []string{"staging", "production"} {
		inst, err := standin.StartFernhollow(standin.Options{Environment: env, Addr: "127.0.0.1:0", Token: "secret"})
		require.NoError(t, err)
		t.Cleanup(func() { _ = inst.Close() })
		doc.Environments = append(doc.Environments, site.Environment{Name: env, URL: inst.URL, Hosts: []string{inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}})
	}
	second, err := d.store.SaveSite(t.Context(), doc, false, "tester")
	require.NoError(t, err)
	d.marked()
	d.markedOn(second.ID)
	id := d.promoted("Compact markup", settings.Values{"markup.compact": true, "pages.never": []string{"/cart", "/checkout", "/api/", "/wishlist"}})
	at := fmt.Sprintf("/changes/%d", id)
	vera, otto := d.api(people.Approver), d.api(people.Observer)
	terms := map[string]any{"title": "Compact", "pace": "check", "sites": []map[string]any{{"site": second.ID, "wave": 1}}}
	status, text := vera.ask(http.MethodPost, at+"/rollouts", terms, nil)
	assert.Equal(t, http.StatusConflict, status, text)
	for _, what := range []string{"/watches/1/stop", at + "/settle"} {
		status, text := vera.ask(http.MethodPost, what, map[string]any{"reason": "We know enough."}, nil)
		require.Equal(t, http.StatusOK, status, text)
		if what != at+"/settle" {
			require.Eventually(t, func() bool {
				w, err := d.store.Watch(t.Context(), 1)
				return err == nil && w.State == "waits for a person"
			}, patience, pollEvery)
		}
	}
	status, _ = otto.ask(http.MethodPost, at+"/rollouts", terms, nil)
	assert.Equal(t, http.StatusForbidden, status)
	status, text = vera.ask(http.MethodPost, at+"/rollouts", map[string]any{"title": "Compact", "pace": "soon", "sites": []any{}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status, text)

	d.signIn("Ada", at)
	d.click("a", "^Roll it out to other sites$")
	d.see("h1", "^Roll “Compact markup” out to other sites$")
	d.see("li", "\\(right on this site, too")
	d.see("form span", "Choose at least one site")
	d.click("td label", "Second shop")
	d.accessible("choosing the sites of a rollout")
	d.click("label", "Measure each staging") // it takes its time, and is tested elsewhere
	d.click("button", "^Try it on each staging$")
	d.see("h1", "^Compact markup$")
	d.see("td .glyph", "clear on staging")
	d.see("strong", "^1 of 1 site clear on staging. Nothing is promoted")
	d.see("td", "^not measured$")
	d.accessible("a rollout")
	d.click("button", "^End the rollout$")
	d.see("[role=alertdialog]", "No further site gets the change, and it cannot be continued")
	d.press(input.Enter) // what ends it has not the focus
	d.gone("[role=alertdialog]")
	d.see("strong", "^1 of 1 site clear on staging. Nothing is promoted")
	d.open("/")
	d.click("a", "^The rollout of Compact markup to other sites is waiting")
	d.click("button", "^Promote wave 1$")
	d.see("strong", "^1 of 1 site has it")
	d.see("td .glyph", "on production")
	var r api.RolloutView
	status, text = otto.ask(http.MethodGet, "/rollouts/1", nil, &r)
	require.Equal(t, http.StatusOK, status, text)
	require.NotNil(t, r.Members[0].Change)
	assert.Equal(t, release.Marked, r.Members[0].Change.State)
	assert.Equal(t, 1, r.Members[0].Change.Edits, "what nobody said is right there was not copied")
	require.Len(t, r.Members[0].Without, 1)
	d.open(fmt.Sprintf("/changes/%d", r.Members[0].Change.ID))
	d.see("p", "Copied from\\s+Fernhollow, where it settled")
	status, text = vera.ask(http.MethodPost, "/rollouts/1/go", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "The rollout is over")
}

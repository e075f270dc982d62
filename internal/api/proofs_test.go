package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

const article = "/library/reading-the-first-pins"

// peopledShop has a member who says something of her own and signs out, and an editor
// who publishes.
func peopledShop(t *testing.T) *desk {
	t.Helper()
	into := func(label, value string) journey.Step {
		return journey.Step{Fill: &journey.Input{In: journey.Target{Label: label}, Value: value}}
	}
	press := func(name string) journey.Step {
		return journey.Step{Click: &journey.Target{Role: "button", Name: name}}
	}
	says := func(text string) journey.Step {
		return journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: text}}}
	}
	doc := site.Site{Name: "Fernhollow", Personas: []site.Persona{
		{Name: "wren", Kind: "member", PrivateTexts: []string{"Wren Oakham"},
			Prepare: []journey.Step{{Go: "/account"}, into("Name", "wren"), into("Password", "harvest moon"), press("Sign in"), says("Wren Oakham"),
				into("For the carrier", "Leave it at the "+journey.Canary), press("Keep"), says(journey.Canary)},
			SignOut: []journey.Step{{Go: "/account"}, press("Sign out"), {Go: "/account"}, {Expect: &journey.Expect{Visible: &journey.Target{Role: "button", Name: "Sign in"}}}}},
		{Name: "ida", Kind: "editor", Prepare: []journey.Step{{Go: "/account"}, into("Name", "ida"), into("Password", "second edition"), press("Sign in"), says("Ida Mill")}}},
		Publishing: []site.PublishingTest{{Name: "a new lead", Persona: "ida", Shows: []site.Showing{{Page: article}},
			Steps: []journey.Step{{Go: article + "/edit"}, into("Lead", "By the "+journey.Canary), press("Publish"), says("It is published")},
			Undo:  []journey.Step{{Go: article + "/edit"}, press("Take it back"), says("It is published")}}}}
	for _, p := range []site.Page{{Path: article, Class: "article", Personas: []string{site.Visitor}}, {Path: "/account", Class: "account", Personas: []string{site.Visitor, "wren"}}} {
		p.Devices = []string{site.Desktop}
		doc.Pages = append(doc.Pages, p)
	}
	return deskOf(t, standin.Fernhollow(), doc)
}

// TestAProofShowsWhatWasAskedAndWhatWasPublished makes a proof in the interface and reads
// it there; what it saw is what patterns are tried on.
func TestAProofShowsWhatWasAskedAndWhatWasPublished(t *testing.T) {
	d := peopledShop(t)
	api := d.api(people.Maintainer)
	var run struct{ ID int64 }
	status, text := api.ask(http.MethodPost, "/environments/1/marks", map[string]any{}, &run)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(run.ID)

	d.signIn("Ada", "/sites/1/exclusions")
	d.click("button", "^staging$")
	d.see("button[aria-pressed='true']", "^staging$")
	d.click("button", "^Test cache isolation$")
	d.see("h1", "^Clear: in \\d+ tries nobody was served what belongs to somebody else")
	d.see("td", "^wren, signed out$")
	d.see("td", "^wren, twice$")
	d.see("td", "^a visitor, before anything was purged$")
	d.see("td", "^a visitor, after “a new lead”$")
	d.accessible("a proof")

	d.open("/sites/1/exclusions")
	d.click("button", "^staging$")
	d.see("h2", "^Published content shows in time$")
	d.see("td", "It is refreshed whenever something is published, by “/library/”")
	d.see("td", "shown at once|shown within")

	// Words made up for somebody are nowhere told.
	status, text = api.ask(http.MethodGet, fmt.Sprintf("/runs/%d/probes", run.ID+1), nil, nil)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, "the word made up for wren")
	assert.Contains(t, text, "the word made up for a new lead")

	var tried struct {
		Known   int
		Matches []string
		Misses  []exclusion.Miss
	}
	try := func(role, pattern string, texts ...string) {
		t.Helper()
		status, text := api.ask(http.MethodPost, "/environments/1/patterns", map[string]any{"role": role, "pattern": pattern, "texts": texts}, &tried)
		require.Equal(t, http.StatusOK, status, text)
	}
	try("css-keep", ".text")
	assert.Equal(t, []string{".text"}, tried.Matches, "a class of the article")
	try("data-exclude", "basket")
	assert.Zero(t, tried.Known, "nobody outside sees look-ups")
	try("data-exclude", "basket", "basket of this session", "kits of the kind oyster")
	assert.Equal(t, []string{"basket of this session"}, tried.Matches)
	try("path-exclude", "/kits")
	assert.Contains(t, tried.Matches, "/kits", "pages link to it")

	d.fill("input[aria-label='Pattern to try']", "/nowhere")
	d.click("summary", "Try it on something else, too")
	d.fill("textarea[aria-label^='More to try it on']", "/nowhere/at-all")
	d.click("button", "^Try it$")
	d.see("li", "/nowhere/at-all")
}

func TestALeakIsToldFirstAndLeadsBack(t *testing.T) {
	r := newRecord(t)
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{
		{Kind: evidence.JourneyKind, Severity: evidence.Broken, Page: "/", Persona: "visitor", Device: "phone", Journey: "menu", Title: "menu", Cause: "menu", Fingerprint: "a"},
		{Kind: evidence.LeakKind, Severity: evidence.Broken, Page: "/kits", Persona: "visitor", Device: "phone", Title: "A visitor is shown what belongs to wren", Cause: "leak", Fingerprint: "b"}}))
	d := &desk{T: t, url: r.url, store: r.store}
	d.sit()
	d.signIn("ada", fmt.Sprintf("/runs/%d", r.run))
	d.see("[role=alert]", "Private content reached somebody else, on /kits. Roll back first; the evidence stays.")
	d.see("h2,h3", "A visitor is shown what belongs to wren")
	d.accessible("a leak")
	d.click("[role=alert] button", "^Roll back$")
	d.see("h1", "^Late scripts$")
}

package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// memberShop is a site whose member's steps have a password in them.
func memberShop() site.Site {
	fill := func(label, value string) journey.Step {
		return journey.Step{Fill: &journey.Input{In: journey.Target{Label: label}, Value: value, Secret: label == "Password"}}
	}
	return site.Site{Name: "Fernhollow",
		Pages:    []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}},
		Personas: []site.Persona{{Name: "member", Kind: "member", Prepare: []journey.Step{{Go: "/account"}, fill("Name", "wren"), fill("Password", "harvest moon"), {Click: &journey.Target{Role: "button", Name: "Sign in"}}}}},
		Journeys: []journey.Journey{{Name: "the account opens", Persona: "member", Devices: []string{site.Desktop}, Steps: []journey.Step{{Go: "/account"}, {Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "Wren Oakham"}}}}}}}
}

// choose takes an option of a plain list.
func (d *desk) choose(selector, option string) {
	d.Helper()
	el, err := d.page.Timeout(patience).Element(selector)
	require.NoError(d, err)
	require.NoError(d, el.Select([]string{"^" + option + "$"}, true, rod.SelectorTypeRegex))
}

func (d *desk) document() site.Site {
	d.Helper()
	row, err := d.store.Site(d.Context(), 1)
	require.NoError(d, err)
	return row.Document.V
}

func TestTheTestPlanIsChangedWhereItIsSeen(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), memberShop())
	d.signIn("Ada", "/sites/1")
	d.click("a", "^1 page and 1 journey in the test plan$")
	d.see("td", "^/contact")
	d.accessible("what is in the test plan")

	d.click("button", "^Add a page$")
	d.fill("#page-path", "/contact")
	d.see("span", "^This page is in the test plan already")
	d.fill("#page-path", "/library/reading-the-first-pins")
	d.choose("#page-class", "article")
	d.click("button", "^Add one$")
	d.see("span", "^A mask needs a selector")
	d.fill("input[aria-label='Selector of part 1']", ".made")
	d.accessible("a page that is being watched")
	d.click("button", "^Save$")
	d.see("td", "^/library/reading-the-first-pins")
	page, there := d.document().Page("/library/reading-the-first-pins")
	require.True(t, there)
	assert.Equal(t, []site.Mask{{Selector: ".made"}}, page.Masks)

	d.see("p", "^No budgets\\.")
	d.choose("select[aria-label='Device of the budget']", "a phone")
	d.fill("input[aria-label='Amount of the budget']", "2500")
	d.click("button", "^Add the budget$")
	d.see("td", "^2\\.5 s$")
	require.Len(t, d.document().Budgets, 1)
	assert.Equal(t, site.Phone, d.document().Budgets[0].Device)

	// The way out is seen by whoever signed in, and proposed.
	d.click("button[aria-label='Try member']", ".")
	d.see(".ran", "it works\\s+member on desktop")
	d.see(".ran", "fill the field “Password” with “•••”")
	d.click("button", "^Sign out by it$")
	d.see("td", "4 steps, 4 to sign out")
	assert.Equal(t, "click button “Sign out”", d.document().Personas[0].SignOut[1].String())

	d.click("button[aria-label='Edit member']", ".")
	el, err := d.page.Timeout(patience).Element("input[type=password][aria-label='Value of step 3']")
	require.NoError(t, err, "a password is shown as one")
	value, err := el.Property("value")
	require.NoError(t, err)
	assert.Empty(t, value.Str(), "and never sent to anybody")
	d.fill("#look-marks", "Wren Oakham, FH-20417")
	d.click("button", "^Save$")
	d.see("td", "^/contact")
	require.Eventually(t, func() bool { return len(d.document().Personas[0].PrivateTexts) == 2 }, patience, pollEvery)
	assert.Equal(t, "harvest moon", d.document().Personas[0].Prepare[2].Fill.Value, "left empty, it stays")
	d.click("button", "^Run on desktop$")
	d.see(".ran", "it works\\s+the account opens on desktop")

	d.click("button", "^Add a publishing test$")
	d.fill("#look-name", "another lead")
	d.fill("input[aria-label='Value of step 1']", "/library/reading-the-first-pins/edit")
	d.click("button[aria-label='Add a step after step 1']", ".")
	d.choose("select[aria-label='What step 2 does']", "fill")
	d.choose("select[aria-label='How step 2 names it']", "field labelled")
	d.fill("input[aria-label='Element of step 2']", "Lead")
	d.fill("input[aria-label='Value of step 2']", "How to tell pins")
	d.see("span", "^One step has to fill in \\{canary\\}")
	d.fill("input[aria-label='Value of step 2']", "How to tell pins, by the {canary}")
	d.see("span", "^Say which page has to show it")
	d.click("form button", "^Add a page$")
	d.choose("select[aria-label='Page 1 that has to show it']", "/library/reading-the-first-pins")
	d.fill("#within-0", "5")
	d.accessible("something that is published")
	d.click("button", "^Save$")
	d.see("b", "^another lead$")
	edits := d.document().Publishing
	require.Len(t, edits, 1)
	assert.Equal(t, []site.Showing{{Page: "/library/reading-the-first-pins", Within: 5}}, edits[0].Shows)
	assert.Equal(t, "visitor", edits[0].Persona)

	d.click("button[aria-label='Remove /library/reading-the-first-pins']", ".")
	d.see("[role=alert]", "is not one of the pages")
	_, there = d.document().Page("/library/reading-the-first-pins")
	assert.True(t, there, "what something else needs is not left out")
	d.click("button[aria-label='Remove /contact']", ".")
	d.gone("button[aria-label='Remove /contact']")
	d.click("button", "^Undo$")
	d.see("button[aria-label='Remove /contact']", ".")
	_, there = d.document().Page("/contact")
	assert.True(t, there, "what was undone is as it was")
	d.click("button[aria-label='Remove /contact']", ".")
	d.gone("button[aria-label='Remove /contact']")
	doc := d.document()
	doc.Pages = append(doc.Pages, site.Page{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Phone}})
	_, err = d.store.ChangeTestPlan(t.Context(), 1, "Vera", func(site.Site) (site.Site, string, error) { return doc, "A page more.", nil })
	require.NoError(t, err)
	d.click("button", "^Undo$")
	d.see("[role=alert]", "Somebody changed what is in the test plan in the meantime")
	_, there = d.document().Page("/kits")
	assert.True(t, there, "an undo does not take away what somebody else added")

	d.open("/sites/1/history")
	d.see("td", "What is in the test plan: edit “another lead” added")
	d.see("td", "What is in the test plan: persona member changed")
}

func TestTheTestPlanThroughTheAPI(t *testing.T) {
	r := newRecord(t)
	shop := memberShop()
	shop.Environments = []site.Environment{{Name: "staging", URL: "http://127.0.0.1:1", Connector: &site.Connector{Kind: "http", URL: "http://127.0.0.1:1/c", Token: "hush-token"}}, {Name: "production", URL: "http://127.0.0.1:2"}}
	row, err := r.store.SaveSite(t.Context(), shop, false, "tester")
	require.NoError(t, err)
	at := fmt.Sprintf("/sites/%d", row.ID)
	ada := addPerson(t, r.store, "Wanda", people.Administrator)
	observer, maintainer := r.visitor(tokenOf(t, r.store, ada, people.Observer)), r.visitor(tokenOf(t, r.store, ada, people.Maintainer))

	var now api.TestPlanView
	status, text := observer.ask(http.MethodGet, at+"/test-plan", nil, &now)
	require.Equal(t, http.StatusOK, status, text)
	assert.NotContains(t, text, "harvest")
	assert.NotContains(t, text, "hush")
	assert.Equal(t, []string{"staging", "production"}, now.Environments)
	put := func(c *visitor, v api.TestPlanView) (int, string) {
		return c.ask(http.MethodPut, at+"/test-plan", map[string]any{"version": v.Version, "pages": v.Pages, "personas": v.Personas, "journeys": v.Journeys, "publishing": v.Publishing}, nil)
	}
	status, _ = put(observer, now)
	assert.Equal(t, http.StatusForbidden, status)

	mine := now
	mine.Pages = append(mine.Pages, site.Page{Path: "/kits"})
	status, text = put(maintainer, mine)
	require.Equal(t, http.StatusOK, status, text)
	assert.NotContains(t, text, "harvest")
	theirs := now
	theirs.Pages = []site.Page{{Path: "/cart"}}
	status, text = put(maintainer, theirs)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "Nothing of yours was saved")

	_, _ = observer.ask(http.MethodGet, at+"/test-plan", nil, &now)
	require.Len(t, now.Pages, 2)
	assert.Equal(t, []string{"visitor"}, now.Pages[1].Personas, "with its defaults")
	for name, change := range map[string]func(*api.TestPlanView){
		`no persona \"member\"`:   func(v *api.TestPlanView) { v.Personas = []site.Persona{} },
		"getting ready as reader": func(v *api.TestPlanView) { v.Personas[0].Name, v.Journeys[0].Persona = "reader", "reader" },
		"/pages/0/class":          func(v *api.TestPlanView) { v.Pages[0].Class = "shop" },
		"is there twice":          func(v *api.TestPlanView) { v.Pages[1].Path = v.Pages[0].Path },
		"no step fills in": func(v *api.TestPlanView) {
			v.Publishing = []site.PublishingTest{{Name: "e", Steps: []journey.Step{{Go: "/"}}, Shows: []site.Showing{{Page: "/kits"}}}}
		},
		"expected array length >= 1": func(v *api.TestPlanView) { v.Pages = []site.Page{} },
	} {
		_, _ = observer.ask(http.MethodGet, at+"/test-plan", nil, &now)
		wrong := now
		change(&wrong)
		status, text := put(maintainer, wrong)
		assert.Equal(t, http.StatusUnprocessableEntity, status, name)
		assert.Contains(t, text, name)
	}
	row, err = r.store.Site(t.Context(), row.ID)
	require.NoError(t, err)
	assert.Len(t, row.Document.V.Pages, 2, "nothing was half done")
	assert.Equal(t, "harvest moon", row.Document.V.Personas[0].Prepare[2].Fill.Value)

	status, file := observer.ask(http.MethodGet, at+"/file", nil, nil)
	require.Equal(t, http.StatusOK, status)
	assert.NotContains(t, file, "harvest")
	assert.NotContains(t, file, "hush")
	doc, err := site.Parse([]byte(file))
	require.NoError(t, err, "it is a site file")
	assert.Equal(t, row.Document.V.Redacted(), doc)
	status, text = maintainer.ask(http.MethodPost, "/sites", map[string]any{"file": file}, nil)
	require.Equal(t, http.StatusCreated, status, text)
	row, err = r.store.Site(t.Context(), row.ID)
	require.NoError(t, err)
	assert.Equal(t, "harvest moon", row.Document.V.Personas[0].Prepare[2].Fill.Value, "what is not told stays as it is known")
}

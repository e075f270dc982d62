package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
)

// From a promotion to a settled change, and what people are told on the way.
func TestAPromotionIsWatchedAndPeopleAreTold(t *testing.T) {
	d := newDesk(t)
	d.marked()
	id := d.promoted("Compact markup", settings.Values{"markup.compact": true})
	at := fmt.Sprintf("/changes/%d", id)
	addPerson(t, d.store, "Vera", people.Approver)

	d.signIn("Vera", at)
	d.see("h2", "^Watch$")
	d.see("p", "Looks: none made yet; .* to come")
	d.see("p", "The end of the watch")
	d.accessible("a change that is watched")
	d.click("button", "^End the watch$")
	d.fill("#watch-words", "We know enough of it.")
	d.click("form button", "^End the watch$")
	d.see("p", "Not settled: .*could not be made")
	d.click("button", "^Settle now$")
	d.fill("#watch-words", "It is a question of markup only.")
	d.click("form button", "^Settle now$")
	d.see("p", "settled it: It is a question of markup only")
	d.reaches(id, release.Settled)

	d.click("a", "^Notices")
	d.see("h1", "^Notices$")
	d.see("p", "The watch of “Compact markup” is over, and it is not settled")
	d.accessible("notices")
	d.click("button", "^Mark all as read$")
	d.see("a", "^Only unread \\(0\\)$")
	d.click("a", "^How they reach you$")
	d.see("h2", "^Feed$")
	d.accessible("how notices reach somebody")
	d.choose("#how-settled", "by mail, at once")
	d.fill("#reach-mail", "nobody")
	d.fill("#reach-mail", "vera@example.org")
	d.click("button", "^Save$")
	require.Eventually(t, func() bool {
		p, err := d.store.PersonNamed(t.Context(), "Vera")
		if err != nil {
			return false
		}
		c, err := d.store.Choices(t.Context(), p.ID)
		reach, _ := d.store.ReachOf(t.Context(), p.ID)
		return err == nil && len(c) == 1 && c[0].How == "at once" && reach.Mail == "vera@example.org"
	}, patience, pollEvery)

	d.sit()
	d.signIn("Ada", "/notices?tab=webhooks")
	d.click("button", "^Add a webhook$")
	d.fill("#hook-address", "https://127.0.0.1:1/hook")
	d.click("button", "^Save$")
	d.see("p", "What is sent is signed with this secret")
	d.click("button", "^Deliveries$")
	d.see("p", "Nothing was sent to it yet")
	d.accessible("webhooks")
}

func TestWhatHoldsAfterPromotionsIsAnApproversToSay(t *testing.T) {
	d := newDesk(t)
	d.marked()
	addPerson(t, d.store, "Vera", people.Approver)
	d.signIn("Vera", "/sites/1/calendar")
	d.see("h2", "^After a promotion$")
	d.click("label", "A change is rolled back automatically")
	d.see("label", "^How sure$")
	d.accessible("what holds for promotions")
	d.click("button", "^Save$")
	require.Eventually(t, func() bool {
		row, err := d.store.Site(t.Context(), 1)
		return err == nil && row.Document.V.Promotes().GoBack != nil && row.Document.V.Promotes().GoBack.On
	}, patience, pollEvery)
	d.open("/sites/1/history")
	d.see("td", "From now on a change is rolled back automatically when a look finds anything that does not work")

	marin, vera := d.api(people.Maintainer), d.api(people.Approver)
	status, _ := marin.ask(http.MethodPut, "/sites/1/promotions", site.Promotion{Watch: &site.Watch{Hours: 1}}, nil)
	assert.Equal(t, http.StatusForbidden, status)
	status, text := vera.ask(http.MethodPut, "/sites/1/promotions", site.Promotion{Watch: &site.Watch{}, GoBack: &site.GoBack{On: true}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "promotions are not watched")
	status, text = vera.ask(http.MethodPut, "/sites/1/promotions", site.Promotion{GoBack: &site.GoBack{On: true, Kinds: []string{"weather"}}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "missing-resource")

	var open []api.WatchView
	status, text = marin.ask(http.MethodGet, "/sites/1/watches", nil, &open)
	require.Equal(t, http.StatusOK, status, text)
	assert.Empty(t, open)
	status, _ = marin.ask(http.MethodPost, "/watches/1/keep", map[string]any{"reason": "No."}, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

func TestSitesAreLabelledAndListedByThat(t *testing.T) {
	r := newRecord(t)
	by := func(name string, role people.Role) *visitor {
		return r.visitor(tokenOf(t, r.store, addPerson(t, r.store, name, role), people.Administrator))
	}
	marin, otto := by("Marin", people.Maintainer), by("Otto", people.Observer)
	status, _ := otto.ask(http.MethodPut, "/sites/1/labels", map[string]any{"labels": []string{"shop"}}, nil)
	assert.Equal(t, http.StatusForbidden, status)
	for _, wrong := range [][]string{{"<script>"}, {""}, {"shop", "shop"}} {
		status, text := marin.ask(http.MethodPut, "/sites/1/labels", map[string]any{"labels": wrong}, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, text)
	}
	var v api.SiteView
	status, text := marin.ask(http.MethodPut, "/sites/1/labels", map[string]any{"labels": []string{"shop", "Köln"}}, &v)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, []string{"shop", "Köln"}, v.Labels)
	var list api.SiteList
	status, text = otto.ask(http.MethodGet, "/sites?label=shop", nil, &list)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, list.Sites, 1)
	assert.Len(t, list.Labels, 2)
	status, _ = otto.ask(http.MethodGet, "/sites?label=other", nil, &list)
	require.Equal(t, http.StatusOK, status)
	assert.Empty(t, list.Sites)
}

package api_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
)

func TestACalendarIsWrittenByApproversAndReadByWhoeverKnowsItsAddress(t *testing.T) {
	r := newRecord(t)
	by := func(name string, role people.Role) *visitor {
		return r.visitor(tokenOf(t, r.store, addPerson(t, r.store, name, role), people.Administrator))
	}
	vera, marin := by("Vera", people.Approver), by("Marin", people.Maintainer)
	sale := map[string]any{"kind": "freeze", "title": "Sale week", "begins": "2026-11-27T18:00", "ends": "2026-11-30T08:00", "zone": "Europe/Vienna"}
	status, _ := marin.ask(http.MethodPost, "/calendar/entries?site=1", sale, nil)
	assert.Equal(t, http.StatusForbidden, status)
	var e api.CalendarEntryView
	status, text := vera.ask(http.MethodPost, "/calendar/entries?site=1", sale, &e)
	require.Equal(t, http.StatusCreated, status, text)
	wrong := map[string]any{"kind": "freeze", "title": "Sale week", "begins": "2026-11-27T18:00", "ends": "2026-11-30T08:00", "zone": "Europe/Vienna", "rule": "FREQ=HOURLY"}
	status, text = vera.ask(http.MethodPut, fmt.Sprintf("/calendar/entries/%d", e.ID), map[string]any{"version": e.Version, "entry": wrong}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "recurs daily at most")
	sale["title"] = "Sale weekend"
	at := fmt.Sprintf("/calendar/entries/%d", e.ID)
	status, text = vera.ask(http.MethodPut, at, map[string]any{"version": e.Version, "entry": sale}, nil)
	require.Equal(t, http.StatusOK, status, text)
	status, _ = vera.ask(http.MethodPut, at, map[string]any{"version": e.Version, "entry": sale}, nil)
	assert.Equal(t, http.StatusConflict, status, "it was edited since")
	status, _ = vera.ask(http.MethodDelete, at+"?version=1", nil, nil)
	assert.Equal(t, http.StatusConflict, status)

	var v api.CalendarView
	status, text = marin.ask(http.MethodGet, "/calendar?site=1&from=2026-11-27T00:00:00Z&to=2026-12-01T00:00:00Z", nil, &v)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, v.Occurrences, 1)
	assert.True(t, v.Occurrences[0].Begins.Equal(time.Date(2026, 11, 27, 17, 0, 0, 0, time.UTC)))
	status, _ = marin.ask(http.MethodGet, "/calendar?site=1&from=2026-11-27T00:00:00Z&to=2029-12-01T00:00:00Z", nil, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	var first, second api.AddressView
	status, text = marin.ask(http.MethodPost, "/calendar/address?site=1", nil, &first)
	require.Equal(t, http.StatusCreated, status, text)
	fetch := func(address string) (int, string) {
		res, err := http.Get(r.url + address)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		raw, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(raw)
	}
	status, file := fetch(first.Address)
	require.Equal(t, http.StatusOK, status)
	cal, err := ical.NewDecoder(strings.NewReader(file)).Decode()
	require.NoError(t, err)
	summary, err := cal.Events()[0].Props.Text(ical.PropSummary)
	require.NoError(t, err)
	assert.Equal(t, "Sale weekend", summary)
	_, _ = marin.ask(http.MethodPost, "/calendar/address?site=1", nil, &second)
	status, _ = fetch(first.Address)
	assert.Equal(t, http.StatusNotFound, status, "it was replaced")
	status, _ = fetch(second.Address)
	assert.Equal(t, http.StatusOK, status)
	status, text = marin.ask(http.MethodGet, "/calendar?site=1", nil, &v)
	require.Equal(t, http.StatusOK, status)
	assert.NotContains(t, text, strings.TrimSuffix(strings.TrimPrefix(second.Address, "/calendar/"), ".ics"), "the secret is shown once")
	status, _ = marin.ask(http.MethodDelete, "/calendar/address?site=1", nil, nil)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = fetch(second.Address)
	assert.Equal(t, http.StatusNotFound, status)

	var brought api.Imported
	status, text = vera.ask(http.MethodPost, "/calendar/import?site=0", map[string]any{"file": file, "kind": "window", "zone": "UTC"}, &brought)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, api.Imported{Added: 1}, brought)
	status, text = vera.ask(http.MethodPost, "/calendar/import?site=0", map[string]any{"file": "<html>", "kind": "window", "zone": "UTC"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "no iCalendar file")
	status, _ = vera.ask(http.MethodDelete, at+"?version=2", nil, nil)
	assert.Equal(t, http.StatusNoContent, status)
}

// A maintainer may import site files; what holds for promotions is an approver's to say.
func TestASiteFileDoesNotLetAMaintainerChangeWhatHoldsForPromotions(t *testing.T) {
	r := newRecord(t)
	by := func(name string, role people.Role) *visitor {
		return r.visitor(tokenOf(t, r.store, addPerson(t, r.store, name, role), people.Administrator))
	}
	vera, marin := by("Vera", people.Approver), by("Marin", people.Maintainer)
	status, _ := marin.ask(http.MethodPut, "/sites/1/promotions", map[string]any{"byAnother": true}, nil)
	assert.Equal(t, http.StatusForbidden, status)
	status, text := vera.ask(http.MethodPut, "/sites/1/promotions", map[string]any{"byAnother": true}, nil)
	require.Equal(t, http.StatusOK, status, text)
	row, err := r.store.Site(t.Context(), 1)
	require.NoError(t, err)
	doc := row.Document.V
	imported := func(p *site.Promotion) (int, string) {
		doc.Promotion = p
		raw, err := doc.File()
		require.NoError(t, err)
		return marin.ask(http.MethodPost, "/sites", map[string]any{"file": string(raw)}, nil)
	}
	status, text = imported(&site.Promotion{})
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, text, "approvers decide that")
	status, text = imported(nil)
	require.Equal(t, http.StatusCreated, status, text)
	row, err = r.store.Site(t.Context(), 1)
	require.NoError(t, err)
	assert.True(t, row.Document.V.Promotes().ByAnother, "a file that says nothing of it changes nothing")
}

// The way of a change through a team: asked for by one, approved by another in a freeze, and gone out by itself when that was over.
func TestAChangeIsApprovedInTheFreezeAndGoesOutWhenItIsOver(t *testing.T) {
	d := newDesk(t)
	d.marked()
	addPerson(t, d.store, "Vera", people.Approver)
	addPerson(t, d.store, "Marin", people.Maintainer)
	marin := d.api(people.Maintainer)
	c := marin.begun(1, settings.Values{"markup.compact": true})
	status, text := marin.ask(http.MethodPost, fmt.Sprintf("/changes/%d/try", c.ID), nil, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.reaches(c.ID, release.Checked)

	d.signIn("Vera", "/sites/1/calendar")
	d.see("p", "Promotions may start now")
	d.click("button", "^Add$")
	d.fill("#entry-title", "Sale week")
	d.fill("#entry-zone", "UTC")
	now := time.Now().UTC()
	for field, at := range map[string]time.Time{"#entry-begins": now.Add(-time.Hour), "#entry-ends": now.Add(24 * time.Hour)} {
		el, err := d.page.Timeout(patience).Element(field)
		require.NoError(t, err)
		_, err = el.Eval(`(v) => { this.value = v; this.dispatchEvent(new Event("input")); }`, at.Format(calendar.Clock))
		require.NoError(t, err)
	}
	d.accessible("an entry of the calendar")
	d.click("button", "^Save$")
	d.see("p", "^Frozen until .*“Sale week”")
	d.accessible("the calendar")

	d.sit()
	d.signIn("Marin", fmt.Sprintf("/changes/%d", c.ID))
	d.see("p", "^Frozen until .*“Sale week”")
	d.click("button", "^Request approval$")
	d.fill("#approval-words", "A tenth lighter.")
	d.click("form button", "^Request approval$")
	d.see("strong", "Approval requested")
	d.fill("textarea[aria-label='Comment on this change']", "Looked at the cart as well, @Vera.")
	d.click("button", "^Comment$")
	d.see("b", "^@Vera$")

	d.sit()
	d.signIn("Vera", "/")
	d.click("a", "Approval of T was requested")
	d.see("span", "A tenth lighter")
	d.accessible("a change to be approved")
	d.click("button", "^Approve, promote when allowed$")
	d.click("form button", "^Approve and promote when allowed$")
	d.see("strong", "^Approved by Vera")
	d.see("span", "It is promoted automatically")
	before, _ := d.production.Layer.Settings()
	assert.Equal(t, false, before["markup.compact"])
	d.click("a", "^See the calendar$")
	d.see("h2", "Promoted automatically")
	d.click("button", "^Remove$")
	d.see("[role=alertdialog]", "may be promoted at once, as approved: “T”")
	d.click("[role=alertdialog] button", "^Remove it$")
	d.reaches(c.ID, release.Marked)
	after, _ := d.production.Layer.Settings()
	assert.Equal(t, true, after["markup.compact"])
	d.open("/sites/1/history")
	d.see("td", "it is promoted automatically when the calendar allows it")
	d.see("td", "Removed the freeze “Sale week”")
}

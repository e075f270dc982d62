package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// TestTwoPeopleAtOnceLoseNothing has somebody else write first, with Ada's form open: of a change's words, an entry of the calendar, a
// webhook. Hers are not lost, theirs are not overwritten before she has seen them.
func TestTwoPeopleAtOnceLoseNothing(t *testing.T) {
	d := quillet(t)
	d.marked()
	other := d.api(people.Administrator)
	send := func(method, path string, body any, into any) {
		t.Helper()
		status, text := other.ask(method, path, body, into)
		require.Less(t, status, 300, text)
	}
	c := other.begun(1, map[string]any{"markupTight": true})
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.click("button", "^Edit title and reason$")
	d.fill("#title", "Tight pages")
	send(http.MethodPut, fmt.Sprintf("/changes/%d/words", c.ID), map[string]any{"version": c.Version, "title": "Less white space", "reason": "The pages are long.", "effect": ""}, &c)
	d.see("p, h1, span", "Saved") // she goes on writing; what they wrote has reached her page or not
	d.click("button", "^Save$")
	d.see("[role=alert]", "Somebody else set the title to “Less white space” meanwhile|edited this change")
	var now changeBody
	other.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
	assert.Equal(t, "Less white space", now.Title, "nothing is overwritten unseen")
	require.Eventually(t, func() bool {
		if has, save, _ := d.page.HasR("form button", "^Save$"); has {
			_ = save.Click(proto.InputMouseButtonLeft, 1)
		}
		other.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
		return now.Title == "Tight pages"
	}, patience, pollEvery)
	d.see("p", "The pages are long\\.")

	entry := map[string]any{"kind": "freeze", "title": "Sale week", "begins": "2027-11-27T18:00", "ends": "2027-11-30T08:00", "zone": "Europe/Vienna"}
	var e struct{ ID, Version int64 }
	send(http.MethodPost, "/calendar/entries?site=1", entry, &e)
	d.open("/sites/1/calendar")
	d.click("button[aria-label='Edit Sale week']", "Edit")
	d.fill("#entry-title", "Sale week of hers")
	entry["title"] = "Sale fortnight"
	send(http.MethodPut, fmt.Sprintf("/calendar/entries/%d", e.ID), map[string]any{"version": e.Version, "entry": entry}, &e)
	d.see("strong", "^Sale fortnight$") // without a reload: it is told
	d.click("form button", "^Save$")
	d.see("[role=alert]", "Somebody else edited this entry just now")
	title, err := d.page.Eval(`() => document.querySelector("#entry-title").value`)
	require.NoError(t, err)
	assert.Equal(t, "Sale week of hers", title.Value.Str(), "what she typed is still there")

	var w struct{ ID, Version int64 }
	send(http.MethodPost, "/webhooks", map[string]any{"address": "https://example.org/hook", "topics": []string{"broken"}}, &w)
	d.open("/notices?tab=webhooks")
	d.click("button", "^Edit$")
	d.fill("#hook-address", "https://example.org/hers")
	send(http.MethodPut, fmt.Sprintf("/webhooks/%d", w.ID), map[string]any{"version": w.Version, "address": "https://example.org/theirs", "topics": []string{"broken"}}, nil)
	d.click("form button", "^Save$")
	d.see("[role=alert]", "Somebody else edited this webhook just now")
	var hooks []struct{ Address string }
	send(http.MethodGet, "/webhooks", nil, &hooks)
	assert.Equal(t, "https://example.org/theirs", hooks[0].Address)
}

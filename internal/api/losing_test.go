package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/schedule"
)

// loss is something that cannot be taken back: where it is done, what is asked before, and whether it is still there.
type loss struct {
	name, at      string
	button, label string // its selector, and what it says
	asks          string // what is lost, and of what
	verb          string
	there         func() bool
	first         func() // what is done on the page before; nil: nothing
}

// TestWhatCannotBeTakenBackIsAskedFirst does each in the interface: a key pressed once too often does nothing, what is lost is named.
func TestWhatCannotBeTakenBackIsAskedFirst(t *testing.T) {
	d := quillet(t)
	ada := d.api(people.Administrator)
	d.read(ada)
	d.marked()
	bo := addPerson(t, d.store, "Bo", people.Maintainer)
	made := func(path string, body any) {
		t.Helper()
		status, text := ada.ask(http.MethodPost, path, body, nil)
		require.Less(t, status, 300, text)
	}
	change := ada.begun(1, map[string]any{"markupTight": true})
	made("/invitations", map[string]any{"role": "observer", "note": "Kim"})
	made("/webhooks", map[string]any{"address": "https://example.org/hook", "topics": []string{"broken"}})
	made("/sites/1/schedules", schedule.Schedule{What: schedule.Check, Begins: "2026-11-01T04:00", Zone: "Europe/Vienna", Rule: "FREQ=DAILY"})
	made("/calendar/entries?site=1", map[string]any{"kind": "freeze", "title": "Long night", "begins": "2027-12-21T18:00", "ends": "2027-12-22T08:00", "zone": "Europe/Vienna"})
	made("/onboardings", map[string]any{"name": "The hill", "environments": []map[string]any{{"name": "staging", "url": d.staging.URL, "kind": "http"}}})
	d.signIn("Ada", "/")
	d.see("h1", "^Sites$")
	// A token is a person's own: she makes one in front of us.
	d.open("/you")
	d.fill("#token", "night job")
	d.click("button", "^Create a token$")
	d.see("td, span, li", "night job")

	// What she and Bo prove themselves with beside a password.
	_, err := d.store.Pool.Exec(t.Context(), `INSERT INTO factors (person_id, kind, name, secret, confirmed) SELECT id, 'passkey', 'key ring', '{}', true FROM people WHERE id = $1 OR name = 'Ada'`, bo)
	require.NoError(t, err)
	made("/notices/feed", map[string]any{})
	made("/calendar/address?site=1", map[string]any{})
	status, text := ada.ask(http.MethodPut, "/sites/1/beacon", map[string]any{"on": true, "share": 1}, nil)
	require.Equal(t, http.StatusOK, status, text)

	count := func(query string, args ...any) int {
		t.Helper()
		var n int
		require.NoError(t, d.store.Pool.QueryRow(t.Context(), query, args...).Scan(&n))
		return n
	}
	rows := func(query string, args ...any) func() bool {
		return func() bool { t.Helper(); return count(query, args...) > 0 }
	}
	// changed tells whether something is as it is now.
	changed := func(query string) func() bool {
		read := func() (v string) {
			_ = d.store.Pool.QueryRow(t.Context(), query).Scan(&v)
			return v
		}
		was := read()
		require.NotEmpty(t, was, query)
		return func() bool { return read() == was }
	}
	exchange := func() {
		d.see("summary", "^Other calendars$")
		_, err := d.page.Eval(`() => document.querySelectorAll("details").forEach((x) => (x.open = true))`)
		require.NoError(t, err)
		d.see("details button", "address$")
	}
	before, err := d.store.Environment(t.Context(), 1)
	require.NoError(t, err)
	for _, l := range []loss{
		{"an invitation", "/people", "section.sheet li button", "^Withdraw$", "Withdraw the invitation of Kim.*Its link stops working at once", "Withdraw it", rows(`SELECT count(*) FROM invitations WHERE note = 'Kim' AND used_at IS NULL AND expires_at > now()`), nil},
		{"a person", "/people", "button[aria-label='Disable: Bo']", "^Disable$", "Disable Bo.*signed out at once", "Disable them", rows(`SELECT count(*) FROM people WHERE id = $1 AND NOT disabled`, bo), nil},
		{"a token", "/you", "section li button, td button", "^Revoke$", "Revoke the token “night job”.*cannot be restored", "Revoke it", rows(`SELECT count(*) FROM tokens WHERE name = 'night job' AND revoked_at IS NULL`), nil},
		{"a secret", "/notices?tab=webhooks", "button", "^New secret$", "Make a new secret for https://example.org/hook.*The old one is lost", "Make it", changed(`SELECT secret FROM webhooks`), nil},
		{"a webhook", "/notices?tab=webhooks", "button", "^Remove$", "Remove the webhook.*What is lost.*the list of what was sent", "Remove", rows(`SELECT count(*) FROM webhooks`), nil},
		{"a schedule", "/sites/1/calendar", "button[aria-label^='Remove']:not([aria-label$='night'])", ".*", "Remove the schedule.*will no longer run", "Remove it", rows(`SELECT count(*) FROM schedules`), nil},
		{"a freeze", "/sites/1/calendar", "button[aria-label='Remove Long night']", "^Remove$", "Remove the freeze “Long night”.*allowed again", "Remove it", rows(`SELECT count(*) FROM calendar_entries`), nil},
		{"a feed", "/notices?tab=choices", "section button", "^Remove$", "Remove the address of your feed.*get nothing", "Remove it", rows(`SELECT count(*) FROM feeds`), nil},
		{"the key of a beacon", "/sites/1/field", "button", "^Replace the key$", "Replace the beacon’s key.*Page views are lost", "Replace it", changed(`SELECT key FROM field_sources`), nil},
		{"a beacon", "/sites/1/field", "button", "^Stop the beacon$", "Stop the beacon.*No page view is recorded", "Stop it", rows(`SELECT count(*) FROM field_sources`), nil},
		{"a calendar's address, replaced", "/sites/1/calendar", "details button", "^Replace the address$", "Replace the calendar’s address.*stops working", "Replace it", changed(`SELECT secret FROM calendar_addresses`), exchange},
		{"a calendar's address", "/sites/1/calendar", "details button", "^Remove$", "Remove the calendar’s address.*get nothing", "Remove it", rows(`SELECT count(*) FROM calendar_addresses`), exchange},
		{"second factors", "/people", "button[aria-label='Remove all second factors of Bo']", "^Remove$", "Remove all second factors of Bo.*password alone", "Remove them", rows(`SELECT count(*) FROM factors WHERE person_id = $1`, bo), nil},
		{"recovery codes", "/you", "button", "^Make new ones$", "Make new recovery codes.*stop working", "Make new ones", func() bool { return count(`SELECT count(*) FROM recovery_codes`) == 0 }, nil},
		{"a second factor", "/you", "button[aria-label='Remove key ring']", "^Remove$", "Remove key ring.*no longer sign in", "Remove it", rows(`SELECT count(*) FROM factors WHERE person_id <> $1`, bo), nil},
		{"what is kept", "/sites/1/kept", "form button", "^Save$", "Keep less of Quillet.*cannot be restored", "Keep less", func() bool { return count(`SELECT count(*) FROM sites WHERE document->'keep'->>'clear' = '1'`) == 0 }, func() { d.fill("#clear", "1"); d.press(input.Tab) }},
		{"a site being added", "/add-site/1", "button", "^Discard$", "Discard The hill.*The site itself is not touched", "Discard it", rows(`SELECT count(*) FROM onboardings`), nil},
		{"a change", fmt.Sprintf("/changes/%d", change.ID), "button", "^Discard$", "Discard the change", "Discard", rows(`SELECT count(*) FROM changes WHERE state = 'drafted'`), nil},
	} {
		press := func() {
			t.Helper()
			if l.first != nil {
				l.first()
			}
			d.click(l.button, l.label)
			dialog := d.see("[role=alertdialog], [role=dialog]", l.verb)
			said, err := dialog.Text()
			require.NoError(t, err)
			assert.Regexp(t, "(?s)"+l.asks, said, l.name)
			focused, err := d.page.Eval(`() => new Promise((done) => { const at = () => document.activeElement.closest("[role=alertdialog], [role=dialog]") ? done(document.activeElement.textContent.trim()) : requestAnimationFrame(at); at(); })`)
			require.NoError(t, err)
			assert.NotEqual(t, l.verb, focused.Value.Str(), "%s: what loses it has not the focus", l.name)
		}
		d.open(l.at)
		press()
		if l.name == "a person" {
			d.accessible("a question before something is lost")
		}
		require.NoError(t, d.page.Keyboard.Type(input.Enter))
		d.gone("[role=alertdialog], [role=dialog]")
		assert.True(t, l.there(), "%s is lost by a key pressed once too often", l.name)
		press()
		d.click("[role=alertdialog] button, [role=dialog] button", "^"+l.verb+"$")
		require.Eventually(t, func() bool { return !l.there() }, patience, pollEvery, "%s is still there", l.name)
	}

	// Going back to a mark names the environment and what is lost.
	meddle(t, d.staging, map[string]any{"markupTight": true})
	status, text = ada.ask(http.MethodPost, "/environments/1/read", map[string]any{}, nil)
	require.Equal(t, http.StatusOK, status, text)
	d.open("/sites/1")
	d.click("button[aria-label='Roll back staging to mark 1']", "Roll back")
	said, err := d.see("[role=dialog]", "Roll staging back to mark 1").Text()
	require.NoError(t, err)
	assert.Contains(t, said, "staging gets the settings of "+before.Fingerprint[:8])
	assert.Contains(t, said, "What is lost")
	require.NoError(t, d.page.Keyboard.Type(input.Escape))
	d.gone("[role=dialog]")
	d.removesTheSite()
}

// removesTheSite removes a site: only who typed its name can.
func (d *desk) removesTheSite() {
	d.Helper()
	there := func() bool {
		_, err := d.store.Site(d.Context(), 1)
		return err == nil
	}
	d.open("/sites/1/kept")
	d.click("button", "^Remove…$")
	said, err := d.see("[role=dialog]", "Type the site’s name: Quillet").Text()
	require.NoError(d, err)
	assert.Regexp(d, "(?s)[0-9]+ runs, .*looks.*lines of history go, and cannot be restored", said)
	d.see("[role=dialog] button:disabled", "forever$")
	d.fill("#typed", "quillet")
	require.NoError(d, d.page.Keyboard.Type(input.Enter))
	d.see("[role=dialog] button:disabled", "forever$")
	assert.True(d, there())
	name, err := d.store.Site(d.Context(), 1)
	require.NoError(d, err)
	d.fill("#typed", name.Name)
	d.click("[role=dialog] button:enabled", "forever$")
	d.see("h1", "^Sites$")
	assert.False(d, there())
}

// TestWhatCanBeUndoneIs takes back, each with one press: an edit of a change, what a bundle put into it, an entry of the calendar.
func TestWhatCanBeUndoneIs(t *testing.T) {
	d := quillet(t)
	ada := d.api(people.Administrator)
	d.marked()
	c := ada.begun(1, map[string]any{})
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	edits := func() map[string]any {
		var now changeBody
		ada.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
		return now.Edits
	}
	d.click("label", "^Tight markup$")
	require.Eventually(t, func() bool { return edits()["markupTight"] == true }, patience, pollEvery)
	d.see("[aria-label='Risk at a glance'] p", "older|cautious|As much")
	d.click("button", "^Running tide")
	d.click("[role=dialog] button", "^Add it to the change$")
	d.gone("[role=dialog]")
	require.Eventually(t, func() bool { return len(edits()) > 2 }, patience, pollEvery)
	require.NoError(t, d.page.Keyboard.Type(input.KeyU))
	require.Eventually(t, func() bool { return len(edits()) == 1 }, patience, pollEvery, "the bundle is taken back by a key")
	d.click("button", "^Undo$")
	require.Eventually(t, func() bool { return len(edits()) == 0 }, patience, pollEvery)
	d.gone("button[title^='Takes back the last edit']")

	sale := map[string]any{"kind": "window", "title": "Sale week", "begins": "2027-11-27T18:00", "ends": "2027-11-30T08:00", "zone": "Europe/Vienna"}
	status, text := ada.ask(http.MethodPost, "/calendar/entries?site=1", sale, nil)
	require.Equal(t, http.StatusCreated, status, text)
	d.open("/sites/1/calendar")
	d.click("button[aria-label='Remove Sale week']", "Remove")
	d.see("[role=alert]", "“Sale week” was removed from the calendar")
	d.accessible("something told, with its undo")
	d.click("[role=alert] button", "^Undo$")
	d.see("strong", "^Sale week$")
}

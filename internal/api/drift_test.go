package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin"
)

// api is somebody who works on the desk without the interface.
func (d *desk) api(role people.Role) *visitor {
	d.Helper()
	return &visitor{d.T, d.url, tokenOf(d.T, d.store, d.person, role), http.Client{}}
}

// marked takes a mark of every environment.
func (d *desk) marked() {
	d.Helper()
	d.markedOn(1)
}

// markedOn takes a mark of each environment of a site.
func (d *desk) markedOn(site int64) {
	d.Helper()
	api := d.api(people.Maintainer)
	envs, err := d.store.Environments(d.Context(), site)
	require.NoError(d, err)
	for _, e := range envs {
		var run struct{ ID int64 }
		status, text := api.ask(http.MethodPost, fmt.Sprintf("/environments/%d/marks", e.ID), map[string]any{}, &run)
		require.Equal(d, http.StatusAccepted, status, text)
		d.over(run.ID)
	}
}

// over waits until a run is over.
func (d *desk) over(run int64) {
	d.Helper()
	require.Eventually(d, func() bool {
		r, err := d.store.Run(d.Context(), run)
		return err == nil && r.State.Over()
	}, patience, 100*time.Millisecond)
}

func meddle(t *testing.T, inst *standin.Instance, edits settings.Values) {
	t.Helper()
	now, etag := inst.Layer.Settings()
	_, ok := inst.Layer.Replace(now.With(edits), etag)
	require.True(t, ok)
}

func TestWhatIsChangedOutsideIsAcceptedOrReverted(t *testing.T) {
	d := newDesk(t)
	d.marked()
	d.signIn("Ada", "/sites/1")
	d.see("h1", "^Fernhollow$")
	meddle(t, d.staging, settings.Values{"markup.compact": true})
	d.click("button", "Read settings") // staging's is the first
	d.see("h2", "staging was changed outside Tide Marker")
	d.accessible("a site that was changed outside")
	d.click("button", "^Revert$")
	d.see("p", "What is lost")
	d.click("[role=dialog] button", "^Revert$")
	d.see("h1", "^Clear: 1 look,")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, false, now["markup.compact"])

	// The same on production is accepted; a change begun before goes on from there.
	marin := d.api(people.Maintainer)
	var change struct{ ID int64 }
	status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": "Defer", "reason": "", "effect": ""}, &change)
	require.Equal(t, http.StatusCreated, status, text)
	status, text = marin.ask(http.MethodPut, fmt.Sprintf("/changes/%d", change.ID), map[string]any{"version": 1, "title": "Defer", "reason": "", "effect": "", "edits": map[string]any{"pages.lifetime": 60}}, nil)
	require.Equal(t, http.StatusOK, status, text)
	meddle(t, d.production, settings.Values{"markup.compact": true})
	status, text = marin.ask(http.MethodPost, "/environments/2/read", map[string]any{}, nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, "markup.compact")
	status, text = marin.ask(http.MethodPost, "/drifts/2/accept", map[string]any{"found": "x", "reason": "meant"}, nil)
	assert.Equal(t, http.StatusForbidden, status, "what is on production is for an approver: %s", text)
	status, text = d.api(people.Approver).ask(http.MethodPost, "/drifts/2/accept", map[string]any{"found": "x", "reason": "meant"}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "Nothing was accepted")

	d.open(fmt.Sprintf("/changes/%d", change.ID))
	d.see("p", "production was changed outside Tide Marker")
	d.open("/")
	d.click("a", "production was changed outside Tide Marker")
	d.see("h2", "production was changed outside Tide Marker")
	d.click("button", "^Accept$")
	d.fill("#accept-why", "Support compacted the markup by hand")
	d.click("[role=dialog] button", "^Accept$")
	d.see("li", "Defer")
	d.click("a", "History")
	d.see("td", "Accepted what was changed outside on production: Support compacted")

	d.open(fmt.Sprintf("/changes/%d", change.ID))
	d.click("button", "^Rebase on production$")
	d.see("button", "Only changed \\(1\\)")
	c, err := d.store.Change(t.Context(), change.ID)
	require.NoError(t, err)
	e, err := d.store.Environment(t.Context(), 2)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		c, err = d.store.Change(t.Context(), change.ID)
		return err == nil && c.Base == e.Fingerprint
	}, patience, 100*time.Millisecond)
	assert.Len(t, c.Edits.V, 1, "the edits stay")
}

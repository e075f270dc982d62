package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// promoted takes a change all the way to a mark on production, through the API.
func (d *desk) promoted(title string, edits settings.Values) (id int64) {
	d.Helper()
	return d.onProduction(title, edits, "promote")
}

// onProduction takes a change through staging, and on from there by an act.
func (d *desk) onProduction(title string, edits settings.Values, act string) (id int64) {
	d.Helper()
	marin, vera := d.api(people.Maintainer), d.api(people.Approver)
	var c struct {
		ID      int64
		Version int
	}
	status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": title, "reason": "", "effect": ""}, &c)
	require.Equal(d, http.StatusCreated, status, text)
	at := fmt.Sprintf("/changes/%d", c.ID)
	status, text = marin.ask(http.MethodPut, at, map[string]any{"version": c.Version, "title": title, "reason": "", "effect": "", "edits": edits}, nil)
	require.Equal(d, http.StatusOK, status, text)
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	require.Equal(d, http.StatusAccepted, status, text)
	d.reaches(c.ID, release.Checked)
	status, text = vera.ask(http.MethodPost, at+"/"+act, map[string]any{}, nil)
	require.Equal(d, http.StatusAccepted, status, text)
	d.reaches(c.ID, release.Marked)
	return c.ID
}

// reaches waits until a change is in a state.
func (d *desk) reaches(change int64, want release.State) {
	d.Helper()
	var c store.Change
	var err error
	require.Eventually(d, func() bool {
		c, err = d.store.Change(d.Context(), change)
		return err == nil && c.State == want
	}, patience, 100*time.Millisecond, "it is %s", want)
}

func TestRollingBackWithAnotherOnTopIsAPersonsChoice(t *testing.T) {
	d := newDesk(t)
	d.marked()
	first := d.promoted("Compact markup", settings.Values{"markup.compact": true, "pages.lifetime": 7200})
	second := d.promoted("Lazy pictures", settings.Values{"images.lazy": true, "pages.lifetime": 1800})
	marin := d.api(people.Maintainer)
	at := fmt.Sprintf("/changes/%d", first)

	var plan api.RollBackPlan
	status, text := marin.ask(http.MethodGet, at+"/rollback", nil, &plan)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, plan.OnTop, 1)
	assert.Equal(t, second, plan.OnTop[0].ID)
	require.Len(t, plan.Conflicts, 1)
	assert.Equal(t, "pages.lifetime", plan.Conflicts[0].Key)
	assert.Equal(t, "production", plan.Backs[0].Environment, "where visitors are comes first")
	vera := d.api(people.Approver)
	for _, all := range []bool{false, true} {
		status, text = marin.ask(http.MethodPost, at+"/rollback", map[string]any{"all": all}, nil)
		assert.Equal(t, http.StatusForbidden, status)
		assert.Contains(t, text, "only to what it had before the latest promotion")
	}
	status, text = vera.ask(http.MethodPost, at+"/rollback", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "Another change was promoted on top of it")
	status, text = marin.ask(http.MethodPost, at+"/take-out", map[string]any{}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "body.restore.pages.lifetime")
	status, text = d.api(people.Observer).ask(http.MethodPost, at+"/take-out", map[string]any{}, nil)
	assert.Equal(t, http.StatusForbidden, status, text)

	d.signIn("Ada", at)
	d.click("button", "^Roll back$")
	d.see("[role=dialog] legend", "Another change was promoted on top of it: “Lazy pictures”")
	d.see("[role=dialog] legend", "Lifetime of cached pages was set again since")
	d.accessible("the choice of a rollback")
	waits, err := d.see("[role=dialog] button", "^Start that change$").Attribute("disabled")
	require.NoError(t, err)
	assert.NotNil(t, waits, "not before it is said what the lifetime is to be")
	d.click("[role=dialog] label", "Go back to before all of them")
	d.see("[role=dialog] p", "production goes back to")
	d.click("[role=dialog] label", "Take out just this one’s edits")
	d.click("[role=dialog] label", "Leave it as it is: 30 minutes")
	d.click("[role=dialog] button", "^Start that change$")
	d.see("h1", "^Without “Compact markup”")
	d.see("button", "Only changed \\(1\\)")
	drafts, err := d.store.ChangesIn(t.Context(), 1, release.Drafted)
	require.NoError(t, err)
	require.Len(t, drafts, 1)
	assert.Equal(t, settings.Values{"markup.compact": false}, drafts[0].Edits.V)

	// Or back to before all of them.
	status, text = vera.ask(http.MethodPost, at+"/rollback", map[string]any{"all": true}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.reaches(first, release.RolledBack)
	d.reaches(second, release.RolledBack)
	now, _ := d.production.Layer.Settings()
	assert.Equal(t, false, now["markup.compact"])
	assert.Equal(t, false, now["images.lazy"])
}

// connectorAt puts staging's connector at an address.
func (d *desk) connectorAt(url string) {
	d.Helper()
	row, err := d.store.Site(d.Context(), 1)
	require.NoError(d, err)
	doc := row.Document.V
	doc.Environments[0].Connector.URL, doc.Environments[0].Connector.Token = url, "secret"
	_, err = d.store.SaveSite(d.Context(), doc, false, "tester")
	require.NoError(d, err)
}

func TestWhatIsNotKnownIsShownAndBlocksUntilItIsRead(t *testing.T) {
	d := newDesk(t)
	d.marked()
	marin := d.api(people.Maintainer)
	var change struct{ ID int64 }
	status, text := marin.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": "Meanwhile", "reason": "", "effect": ""}, &change)
	require.Equal(t, http.StatusCreated, status, text)
	at := fmt.Sprintf("/changes/%d", change.ID)
	status, text = marin.ask(http.MethodPut, at, map[string]any{"version": 1, "title": "Meanwhile", "reason": "", "effect": "", "edits": map[string]any{"markup.compact": true}}, nil)
	require.Equal(t, http.StatusOK, status, text)
	d.connectorAt("http://127.0.0.1:1/nobody") // it is away
	env, err := d.store.Environment(t.Context(), 1)
	require.NoError(t, err)
	act, err := d.store.Intend(t.Context(), store.Act{EnvironmentID: 1, Kind: release.ActTry, Fingerprint: "0badc0de", Predecessor: env.Fingerprint, Who: "Marin"})
	require.NoError(t, err)
	require.NoError(t, d.store.EndAct(t.Context(), act, release.ActUnknown, "The connection was closed.", ""))
	require.NoError(t, d.store.ReadFailed(t.Context(), act, "connection refused", time.Hour))
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "not known", "nothing acts on top of what is not known")

	d.signIn("Ada", "/sites/1")
	d.see("h2", "It is not known which settings staging has")
	d.see("p", "A try was to put")
	d.see("p", "without an answer so far")
	d.accessible("a site of which something is not known")
	d.connectorAt(d.staging.ConnectorURL())
	d.click("button", "^Read it now$")
	require.Eventually(t, func() bool {
		a, err := d.store.LastAct(d.Context(), 1)
		return err == nil && a.State == release.ActNotApplied
	}, patience, 100*time.Millisecond, "what staging has is what it had before: it was not applied")
	status, text = marin.ask(http.MethodPost, at+"/try", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.reaches(change.ID, release.Checked)
}

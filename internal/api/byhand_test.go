package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// byHand takes the connectors away: what the site has is known only by what somebody
// exports from it.
func (d *desk) byHand() {
	d.Helper()
	row, err := d.store.Site(d.Context(), 1)
	require.NoError(d, err)
	doc := row.Document.V
	for i := range doc.Environments {
		doc.Environments[i].Connector = &site.Connector{Kind: "by-hand"}
	}
	_, err = d.store.SaveSite(d.Context(), doc, false, "tester")
	require.NoError(d, err)
}

// exported is what the site's own administration would write into a file.
func exported(t *testing.T, inst *standin.Instance) string {
	t.Helper()
	now, _ := inst.Layer.Settings()
	doc := map[string]map[string]any{}
	for key, v := range now {
		group, name, _ := strings.Cut(key, ".")
		if doc[group] == nil {
			doc[group] = map[string]any{}
		}
		doc[group][name] = v
	}
	raw, err := json.MarshalIndent(doc, "", "  ")
	require.NoError(t, err)
	return string(raw)
}

func TestAChangeIsCarriedOutByHandAndProvenByWhatIsExported(t *testing.T) {
	d := newDesk(t)
	d.byHand()
	d.signIn("Ada", "/sites/1")
	d.see("p", "Export its settings in its own administration")
	marin := d.api(people.Maintainer)
	status, text := marin.ask(http.MethodPost, "/environments/1/marks", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(1)
	failed, err := d.store.Run(t.Context(), 1)
	require.NoError(t, err)
	assert.Contains(t, failed.Problem, "upload the file")
	d.click("button", "^Upload settings$") // staging's is the first
	d.accessible("an upload")
	d.fill("#export", exported(t, d.staging))
	d.click("[role=dialog] button", "^Upload$")
	status, text = marin.ask(http.MethodPost, "/environments/2/exports", map[string]any{"file": "{ not json"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "line 1 is not JSON")
	status, text = marin.ask(http.MethodPost, "/environments/2/exports", map[string]any{"file": exported(t, d.production)}, nil)
	require.Equal(t, http.StatusCreated, status, text)
	d.marked()

	c := marin.begun(1, map[string]any{"/markup/compact": true})
	d.open(fmt.Sprintf("/changes/%d", c.ID))
	d.click("button", "Try it on staging")
	d.see("h2", "^To be done by hand on staging$")
	d.see("td", "compact")
	d.accessible("a checklist")
	now, _ := d.staging.Layer.Settings()
	assert.Equal(t, false, now["markup.compact"], "nothing reaches the site but by a person")
	d.fill("#exported", exported(t, d.staging))
	d.click("button", "^It is done$")
	d.see("[role=alert]", "The file is not what was to be set; 1 differ: /markup/compact")
	d.see("li", "Is off, was to be on")
	meddle(t, d.staging, settings.Values{"markup.compact": true})
	d.staging.Layer.Purge(nil, true, false)
	d.fill("#exported", exported(t, d.staging))
	d.click("button", "^It is done$")
	d.see("h1", "^Clear: 1 look,")
	d.see("p", "exactly what was meant, and nothing else changed")
	d.see("pre", `"op":"replace","path":"/markup/compact","value":true`)

	// The way back is a checklist, too; where nothing can be exported, ticks have to do.
	d.open(fmt.Sprintf("/changes/%d", c.ID))
	d.click("button", "^Roll back$")
	d.see("[role=dialog] p", "what it had before this change")
	d.click("[role=dialog] button", "^Roll back$")
	d.see("h2", "^To be done by hand on staging$")
	done, err := d.page.Timeout(patience).ElementR("button", "^It is done$")
	require.NoError(t, err)
	disabled, err := done.Property("disabled")
	require.NoError(t, err)
	assert.True(t, disabled.Bool(), "what is not ticked is not done")
	meddle(t, d.staging, settings.Values{"markup.compact": false})
	d.staging.Layer.Purge(nil, true, false)
	boxes, err := d.page.Elements("input[type=checkbox]")
	require.NoError(t, err)
	require.Len(t, boxes, 2)
	for i := range boxes {
		status, text = marin.ask(http.MethodPut, fmt.Sprintf("/runs/%d/task/%d", 5, i), map[string]any{"done": true}, nil)
		require.Equal(t, http.StatusOK, status, text)
	}
	d.click("button", "^It is done$")
	d.see("h1", "^Clear: 1 look,")
	d.see("p", "No exported file proves it")

	// Somebody changes something without telling; the next export shows it.
	meddle(t, d.production, settings.Values{"images.lazy": true})
	status, text = marin.ask(http.MethodPost, "/environments/2/exports", map[string]any{"file": exported(t, d.production)}, nil)
	require.Equal(t, http.StatusCreated, status, text)
	assert.Contains(t, text, `"drift":{`)
	assert.Contains(t, text, "/images/lazy")
}

func TestAChecklistThatIsCancelledLeavesUnknownWhatStagingHas(t *testing.T) {
	d := newDesk(t)
	d.byHand()
	marin := d.api(people.Maintainer)
	for i, inst := range []*standin.Instance{d.staging, d.production} {
		status, text := marin.ask(http.MethodPost, fmt.Sprintf("/environments/%d/exports", i+1), map[string]any{"file": exported(t, inst)}, nil)
		require.Equal(t, http.StatusCreated, status, text)
	}
	d.marked()
	c := marin.begun(1, map[string]any{"/markup/compact": true})
	status, text := marin.ask(http.MethodPost, fmt.Sprintf("/changes/%d/try", c.ID), map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	require.Eventually(t, func() bool {
		var r struct{ State string }
		marin.ask(http.MethodGet, "/runs/3", nil, &r)
		return r.State == "by hand"
	}, patience, pollEvery)
	var list struct {
		Sites []struct{ Waiting string }
	}
	marin.ask(http.MethodGet, "/sites", nil, &list)
	assert.Equal(t, "A checklist is waiting to be done on staging.", list.Sites[0].Waiting)
	status, text = marin.ask(http.MethodPost, "/environments/1/exports", map[string]any{"file": "a = 1"}, nil)
	assert.Equal(t, http.StatusConflict, status, text)
	status, text = marin.ask(http.MethodPost, "/runs/3/stop", map[string]any{}, nil)
	require.Equal(t, http.StatusAccepted, status, text)
	require.Eventually(t, func() bool {
		var r struct{ State string }
		marin.ask(http.MethodGet, "/runs/3", nil, &r)
		return r.State == "unknown"
	}, patience, pollEvery, "nobody knows how much of the list was done")
	status, text = marin.ask(http.MethodPost, "/runs/3/task", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status, text)
	marin.ask(http.MethodGet, "/sites", nil, &list)
	assert.Equal(t, "It is not known which settings staging has; it is read again until it is.", list.Sites[0].Waiting)
	status, text = marin.ask(http.MethodPost, "/environments/1/marks", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status, "nothing acts on top: %s", text)
	d.signIn("Ada", "/sites/1")
	d.see("h2", "^It is not known which settings staging has$")
	d.see("p", "Upload its settings as they are now")
	d.accessible("an environment of which nobody knows what it has")
	status, text = marin.ask(http.MethodPost, "/environments/1/exports", map[string]any{"file": exported(t, d.staging)}, nil)
	require.Equal(t, http.StatusCreated, status, text)
	d.over(3)
	var now changeBody
	marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
	assert.Empty(t, now.why("try"), "it can be tried again")
	status, text = marin.ask(http.MethodPost, "/environments/1/tries", map[string]any{"edits": map[string]any{"/markup/compact": true}}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "are changed by hand")
}

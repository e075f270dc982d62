package api_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/survey"
)

func TestStagingIsComparedWithProduction(t *testing.T) {
	d := newDesk(t)
	marin := d.api(people.Maintainer)
	var p struct {
		Summary string
		Unlike  []survey.Unlike
		Notes   []string
		At      *string
	}
	status, _ := marin.ask(http.MethodGet, "/sites/1/parity", nil, &p)
	require.Equal(t, http.StatusOK, status)
	assert.Nil(t, p.At, "nothing was compared yet")
	status, _ = d.api(people.Observer).ask(http.MethodPost, "/sites/1/parity", nil, nil)
	assert.Equal(t, http.StatusForbidden, status)
	status, _ = marin.ask(http.MethodGet, "/sites/77/parity", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)

	d.signIn("Ada", "/sites/1/settings")
	d.click("button", "^Compare them$")
	d.see("section p", "staging and production are alike")
	d.see("td[data-label=production]", "^on$") // where there is no room for columns each value says whose it is

	v, etag := d.production.Layer.Settings()
	_, ok := d.production.Layer.Replace(v.With(settings.Values{"styles.compact": true}), etag)
	require.True(t, ok)
	status, text := marin.ask(http.MethodPost, "/sites/1/parity", nil, &p)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, p.Notes, "Values differ; scripts and styles may differ because of them.")
	whats := map[string]bool{}
	for _, u := range p.Unlike {
		whats[u.What] = u.Weighs
	}
	assert.Equal(t, map[string]bool{"files": true, "settings": false}, whats, "%v", p.Unlike)
	d.open("/sites/1/settings")
	d.click("summary", "^What differs$")
	d.see("td", "\\.css$")
	d.accessible("the settings with what differs")
}

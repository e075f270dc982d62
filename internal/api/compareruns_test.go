package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

func TestTwoRunsAreCompared(t *testing.T) {
	r := newRecord(t)
	mark := r.run - 1
	var c struct {
		First, Second    struct{ ID int64 }
		Gone, Came, Both []struct{ ID int64 }
		Differences      []struct{ Key, Title, FromText, ToText string }
	}
	require.Equal(t, http.StatusOK, r.get(fmt.Sprintf("/api/v1/runs/%d/compare?with=%d", r.run, mark), &c).StatusCode)
	assert.Equal(t, []int64{mark, r.run}, []int64{c.First.ID, c.Second.ID}, "the earlier one comes first")
	assert.Empty(t, c.Gone)
	assert.Empty(t, c.Both)
	assert.NotEmpty(t, c.Came)
	require.Len(t, c.Differences, 1)
	assert.Equal(t, "Late scripts", c.Differences[0].Title)
	assert.Equal(t, "off", c.Differences[0].FromText)

	require.Equal(t, http.StatusOK, r.get(fmt.Sprintf("/api/v1/runs/%d/compare?with=%d", r.run, r.run), &c).StatusCode)
	assert.Empty(t, c.Came, "with itself nothing is new")
	assert.NotEmpty(t, c.Both)
	assert.Empty(t, c.Differences)

	assert.Equal(t, http.StatusNotFound, r.get(fmt.Sprintf("/api/v1/runs/%d/compare?with=9999", r.run), nil).StatusCode)
	assert.Equal(t, http.StatusUnprocessableEntity, r.get(fmt.Sprintf("/api/v1/runs/%d/compare", r.run), nil).StatusCode)
	other, err := r.store.SaveSite(t.Context(), site.Site{Name: "Other", Environments: []site.Environment{{Name: "staging", URL: "http://127.0.0.1:2"}}, Pages: []site.Page{{Path: "/"}}}, false, "ada")
	require.NoError(t, err)
	envs, err := r.store.Environments(t.Context(), other.ID)
	require.NoError(t, err)
	elsewhere, err := r.store.NewRun(t.Context(), store.Run{SiteID: other.ID, EnvironmentID: envs[0].ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, r.get(fmt.Sprintf("/api/v1/runs/%d/compare?with=%d", r.run, elsewhere), nil).StatusCode, "of two sites nothing can be said")
}

package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestOneSearchFindsWhatHasAText(t *testing.T) {
	t.Parallel()
	st, _ := testdb.New(t)
	ctx := t.Context()
	row, err := st.SaveSite(ctx, site.Site{Name: "Kelp & Kin", Labels: []string{"shops"}, Environments: []site.Environment{{Name: "production", Role: site.Production, URL: "http://127.0.0.1:9"}},
		Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}, {Path: "/seaweed/Dulse_100%", Class: "product", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}, false, "tester")
	require.NoError(t, err)
	envs, err := st.Environments(ctx, row.ID)
	require.NoError(t, err)
	c, err := st.NewChange(ctx, store.Change{SiteID: row.ID, Title: "Defer dulse scripts", Reason: "The first paint is late.", CreatedBy: "marin", Edits: store.JSON[settings.Values]{V: settings.Values{}}})
	require.NoError(t, err)
	_, err = st.AddExclusion(ctx, store.Exclusion{SiteID: row.ID, Key: "scripts.deferNot", Role: "scripts.defer-not", Pattern: "/assets/dulse.js", Reason: "It is called inline.", Who: "marin"})
	require.NoError(t, err)
	run, err := st.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: release.CheckRun, RequestedBy: "marin"})
	require.NoError(t, err)
	require.NoError(t, st.SaveFindings(ctx, run, []evidence.Finding{{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Page: "/seaweed", Title: "Dulse is not defined", Cause: "x"}}))

	find := func(text string) map[string]store.Found {
		t.Helper()
		all, err := st.Find(ctx, text, 8)
		require.NoError(t, err)
		out := map[string]store.Found{}
		for _, f := range all {
			assert.Equal(t, "Kelp & Kin", f.SiteName)
			out[f.Kind] = f
		}
		return out
	}
	got := find("dulse")
	assert.Equal(t, c, got["change"].ID)
	assert.Equal(t, "/assets/dulse.js", got["exclusion"].Title)
	assert.Equal(t, "/seaweed/Dulse_100%", got["page"].Title)
	assert.Equal(t, run, got["finding"].RunID)
	assert.NotContains(t, got, "site")
	assert.Equal(t, "shops", find("shop")["site"].Detail, "by its labels too")
	assert.Contains(t, find("kelp &"), "site")
	assert.Contains(t, find("_100%"), "page", "what is typed is text, not a pattern")
	assert.Empty(t, find("%"+"dulse"))
}

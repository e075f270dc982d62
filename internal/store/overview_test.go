package store_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// fleet is many sites, each with two environments, pages, runs, marks and changes; the
// runs have so many looks, each with a picture, and a fifth as many findings.
func fleet(t testing.TB, n, pages, looks int) *store.Store {
	t.Helper()
	st, _ := testdb.New(t)
	ctx := t.Context()
	doc := site.Site{}
	for p := range pages {
		doc.Pages = append(doc.Pages, site.Page{Path: fmt.Sprintf("/page-%d", p), Class: "article", Personas: []string{site.Visitor}, Devices: []string{site.Desktop, site.Phone}})
	}
	for i := range n {
		doc.Name = fmt.Sprintf("Site %03d", i)
		doc.Environments = []site.Environment{{Name: "staging", URL: "http://s.example", Connector: &site.Connector{Kind: "http"}}, {Name: "production", URL: "http://p.example", Connector: &site.Connector{Kind: "http"}}}
		row, err := st.SaveSite(ctx, doc, false, "tester")
		require.NoError(t, err)
		fp, err := st.SaveRevision(ctx, row.ID, settings.Values{"a": i})
		require.NoError(t, err)
		envs, err := st.Environments(ctx, row.ID)
		require.NoError(t, err)
		for _, e := range envs {
			require.NoError(t, st.SaveFingerprint(ctx, e.ID, fp))
			for range 5 {
				run, err := st.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: e.ID, Kind: release.CheckRun, RequestedBy: "tester"})
				require.NoError(t, err)
				_, err = st.BeginRun(ctx, run)
				require.NoError(t, err)
				findings := make([]evidence.Finding, looks/5)
				for l := range looks {
					sha, err := st.Put(ctx, "image/png", fmt.Appendf(nil, "the picture of look %d of run %d", l, run))
					require.NoError(t, err)
					p := evidence.PageLook{Key: evidence.Key{Page: fmt.Sprintf("/page-%d", l), Persona: site.Visitor, Device: site.Phone}, Picture: &evidence.Picture{SHA256: sha, Width: 390, Height: 844}}
					require.NoError(t, st.SaveLook(ctx, run, 1, "page", p.Key, p))
					findings[l%len(findings)] = evidence.Finding{Fingerprint: fmt.Sprint(l % len(findings)), Kind: evidence.PictureKind, Page: p.Page}
				}
				require.NoError(t, st.SaveFindings(ctx, run, findings))
				require.NoError(t, st.EndRun(ctx, store.Run{ID: run, Verdict: "clear", Summary: "Clear"}, release.RunFinished))
				_, err = st.SaveMark(ctx, store.Mark{EnvironmentID: e.ID, RunID: run, Fingerprint: fp, Who: "tester"})
				require.NoError(t, err)
			}
		}
		if i%10 == 3 {
			_, err := st.NewChange(ctx, store.Change{SiteID: row.ID, Title: "Draft", Base: fp, CreatedBy: "tester"})
			require.NoError(t, err)
		}
	}
	return st
}

func TestWhatWaitsComesFirst(t *testing.T) {
	st := fleet(t, 12, 1, 0)
	ctx := t.Context()
	sites, _, err := st.Sites(ctx, "Site 007", 1, 0)
	require.NoError(t, err)
	envs, err := st.Environments(ctx, sites[0].ID)
	require.NoError(t, err)
	require.NoError(t, st.NoteDrift(ctx, envs[1], "other"))
	list, total, err := st.Overviews(ctx, store.Sought{WaitingFirst: true, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, 12, total)
	require.Len(t, list, 5)
	assert.Equal(t, "Site 007", list[0].Name)
	assert.Equal(t, store.WaitsDrift, list[0].Waits)
	assert.Equal(t, "production", list[0].About)
	assert.Equal(t, "Site 003", list[1].Name)
	assert.Equal(t, store.WaitsDraft, list[1].Waits)
	assert.Equal(t, store.WaitsNothing, list[2].Waits)
	require.Len(t, list[0].Environments, 2)
	assert.Equal(t, list[0].Environments[0].Fingerprint, *list[0].Environments[0].Marked)
	only, total, err := st.Overviews(ctx, store.Sought{WaitingOnly: true, WaitingFirst: true, Limit: 30})
	require.NoError(t, err)
	assert.Len(t, only, 2)
	assert.Equal(t, 2, total)
	byName, _, err := st.Overviews(ctx, store.Sought{Part: "site 00", Limit: 3, Offset: 2})
	require.NoError(t, err)
	assert.Equal(t, "Site 002", byName[0].Name, "by name, the third of them first")
}

// BenchmarkOverviews reads the first view's page of 200 sites with 60 pages and 100 looks each, beside
// the least that a read of the same page can take: 30 rows by their key.
func BenchmarkOverviews(b *testing.B) {
	st := fleet(b, 200, 60, 10)
	var ours, least []time.Duration
	for b.Loop() {
		began := time.Now()
		_, _, err := st.Sites(b.Context(), "", 30, 0)
		require.NoError(b, err)
		least = append(least, time.Since(began))
		began = time.Now()
		list, _, err := st.Overviews(b.Context(), store.Sought{WaitingFirst: true, Limit: 30})
		require.NoError(b, err)
		require.Len(b, list, 30)
		ours = append(ours, time.Since(began))
	}
	slices.Sort(ours)
	slices.Sort(least)
	b.ReportMetric(float64(ours[len(ours)/2].Microseconds())/1000, "median-ms")
	b.ReportMetric(float64(ours[len(ours)/2])/float64(least[len(least)/2]), "×plain-read")
}

func TestSitesAreListedByLabel(t *testing.T) {
	st, _ := testdb.New(t)
	ctx := t.Context()
	for name, labels := range map[string][]string{"Fernhollow": {"shop", "north"}, "Quillet": {"north"}, "Sedge": nil} {
		_, err := st.SaveSite(ctx, site.Site{Name: name, Labels: labels, Environments: []site.Environment{{Name: "production", URL: "http://127.0.0.1:9"}},
			Pages: []site.Page{{Path: "/", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}, false, "tester")
		require.NoError(t, err)
	}
	labels, err := st.Labels(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Labelled{{Label: "north", Sites: 2}, {Label: "shop", Sites: 1}}, labels)
	list, total, err := st.Overviews(ctx, store.Sought{Label: "north", Limit: 30})
	require.NoError(t, err)
	assert.Equal(t, 2, total)
	assert.Equal(t, "Fernhollow", list[0].Name)
	assert.Equal(t, []string{"shop", "north"}, list[0].Labels.V)
	_, total, err = st.Overviews(ctx, store.Sought{Label: "south", Limit: 30})
	require.NoError(t, err)
	assert.Zero(t, total)
}

package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestHowLongARunWillTakeIsReadOffTheLatestLikeIt(t *testing.T) {
	t.Parallel()
	st, _ := testdb.New(t)
	ctx := t.Context()
	row, err := st.SaveSite(ctx, site.Site{Name: "Kelp", Environments: []site.Environment{{Name: "staging", URL: "http://127.0.0.1:9"}}, Pages: []site.Page{{Path: "/", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}, false, "tester")
	require.NoError(t, err)
	envs, err := st.Environments(ctx, row.ID)
	require.NoError(t, err)
	begin := func(kind release.RunKind) store.Run {
		r := store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: kind, RequestedBy: "marin"}
		r.ID, err = st.NewRun(ctx, r)
		require.NoError(t, err)
		return r
	}
	took := func(kind release.RunKind, state string, d time.Duration) {
		r := begin(kind)
		_, err := st.Pool.Exec(ctx, `UPDATE runs SET state = $2, started_at = now() - $3 * interval '1 second', finished_at = now() WHERE id = $1`, r.ID, state, d.Seconds())
		require.NoError(t, err)
	}
	first := begin(release.CheckRun)
	_, of, err := st.TypicalSeconds(ctx, first)
	require.NoError(t, err)
	assert.Zero(t, of, "nothing is claimed without an earlier one")
	_, err = st.Pool.Exec(ctx, `UPDATE runs SET state = 'stopped' WHERE id = $1`, first.ID)
	require.NoError(t, err)
	took(release.CheckRun, "done", time.Hour) // older than the latest five
	for _, s := range []int{100, 20, 40, 60, 80} {
		took(release.CheckRun, "done", time.Duration(s)*time.Second)
	}
	took(release.CheckRun, "failed", 2*time.Second)
	took(release.MarkRun, "done", 7*time.Second)
	seconds, of, err := st.TypicalSeconds(ctx, begin(release.CheckRun))
	require.NoError(t, err)
	assert.Equal(t, 5, of)
	assert.InDelta(t, 60, seconds, 0.01)
}

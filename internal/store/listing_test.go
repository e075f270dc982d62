package store_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

func TestListsAreFilteredSortedAndPaged(t *testing.T) {
	t.Parallel()
	st, row, staging := kept(t)
	ctx := t.Context()
	titles := []string{"Defer scripts", "lazy pictures", "Defer styles", "100% gzip"}
	var changes []int64
	for _, title := range titles {
		c, err := st.NewChange(ctx, store.Change{SiteID: row.ID, Title: title, CreatedBy: "marin", Edits: store.JSON[settings.Values]{V: settings.Values{"a": true, "b": 2}}})
		require.NoError(t, err)
		changes = append(changes, c)
	}
	ok, err := st.MoveChange(ctx, changes[2], release.Drafted, release.Discarded, "")
	require.NoError(t, err)
	require.True(t, ok)
	list := func(ask store.Listing) (out []string, total int) {
		t.Helper()
		if ask.Limit == 0 {
			ask.Limit = 10
		}
		rows, total, err := st.ListChanges(ctx, row.ID, ask)
		require.NoError(t, err)
		for _, c := range rows {
			out = append(out, c.Title)
		}
		return out, total
	}
	all, total := list(store.Listing{Down: true})
	assert.Equal(t, []string{"Defer styles", "100% gzip", "lazy pictures", "Defer scripts"}, all, "what was moved last comes first")
	assert.Equal(t, 4, total)
	got, _ := list(store.Listing{Sort: "title"})
	assert.Equal(t, []string{"100% gzip", "Defer scripts", "Defer styles", "lazy pictures"}, got)
	got, total = list(store.Listing{Sort: "created", Limit: 1, Offset: 2})
	assert.Equal(t, []string{"Defer styles"}, got)
	assert.Equal(t, 4, total, "of all pages")
	got, total = list(store.Listing{Limit: 2, Offset: 50})
	assert.Empty(t, got)
	assert.Equal(t, 4, total, "also behind the end, so that a reader finds back")
	got, total = list(store.Listing{Text: "DEFER", State: "drafted"})
	assert.Equal(t, []string{"Defer scripts"}, got)
	assert.Equal(t, 1, total)
	got, _ = list(store.Listing{Text: "0% g"})
	assert.Equal(t, []string{"100% gzip"}, got, "what is typed is text, not a pattern")

	var runs []int64
	for n := range 3 {
		r, err := st.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: staging.ID, ChangeID: &changes[0], Kind: []release.RunKind{release.MarkRun, release.TryRun, release.CheckRun}[n], Target: fmt.Sprint("f", n), RequestedBy: "marin"})
		require.NoError(t, err)
		runs = append(runs, r)
	}
	_, err = st.BeginRun(ctx, runs[1])
	require.NoError(t, err)
	require.NoError(t, st.EndRun(ctx, store.Run{ID: runs[1], Verdict: evidence.VerdictBroken, Summary: "The menu does not open"}, release.RunFinished))
	found, total, err := st.ListRuns(ctx, row.ID, store.Listing{Text: "menu", Limit: 5})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	assert.Equal(t, runs[1], found[0].ID)
	assert.Equal(t, "Defer scripts", found[0].ChangeTitle)
	require.NotNil(t, found[0].Seconds)
	found, _, err = st.ListRuns(ctx, row.ID, store.Listing{Sort: "seconds", Down: true, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, runs[1], found[0].ID, "what is not over has no length, and comes last")
	assert.Nil(t, found[1].Seconds)
	_, total, err = st.ListRuns(ctx, row.ID, store.Listing{Kind: "check", EnvironmentID: staging.ID, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	_, total, err = st.ListRuns(ctx, row.ID, store.Listing{EnvironmentID: staging.ID + 99, Limit: 5})
	require.NoError(t, err)
	assert.Zero(t, total)

	first, err := st.SaveRevision(ctx, row.ID, settings.Values{"a": true})
	require.NoError(t, err)
	second, err := st.SaveRevision(ctx, row.ID, settings.Values{"a": false})
	require.NoError(t, err)
	require.NoError(t, st.SaveFingerprint(ctx, staging.ID, second))
	_, err = st.SaveMark(ctx, store.Mark{EnvironmentID: staging.ID, RunID: runs[0], Fingerprint: second, Reason: "By hand", Who: "marin"})
	require.NoError(t, err)
	marks, total, err := st.ListMarks(ctx, row.ID, store.Listing{Text: second[:12], Limit: 5})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	assert.True(t, marks[0].InForce)
	assert.False(t, marks[0].EvidenceGone)
	revisions, total, err := st.ListRevisions(ctx, row.ID, store.Listing{Down: true, Limit: 5})
	require.NoError(t, err)
	require.Equal(t, 2, total)
	assert.Equal(t, []string{second, first}, []string{revisions[0].Fingerprint, revisions[1].Fingerprint})
	assert.Equal(t, []string{staging.Name}, revisions[0].InForce.V)
	assert.Equal(t, []int{1, 0}, []int{revisions[0].Marks, revisions[1].Marks})
	assert.Nil(t, revisions[1].Latest, "no act brought it")
	_, total, err = st.ListRevisions(ctx, row.ID, store.Listing{EnvironmentID: staging.ID, Limit: 5})
	require.NoError(t, err)
	assert.Zero(t, total, "recorded, and never applied by an act")
}

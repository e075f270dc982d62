package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

func TestASiteIsRemovedWhenAskedTwice(t *testing.T) {
	r := newRecord(t)
	by := func(role people.Role) *visitor {
		return r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "a "+string(role), role), people.Administrator))
	}
	root, vera := by(people.Administrator), by(people.Approver)
	status, _ := vera.ask(http.MethodGet, "/sites/1/removal", nil, nil)
	assert.Equal(t, http.StatusForbidden, status)

	var look api.RemovalView
	status, text := root.ask(http.MethodGet, "/sites/1/removal", nil, &look)
	require.Equal(t, http.StatusOK, status, text)
	assert.Positive(t, look.Size.Runs)
	assert.Positive(t, look.Size.Bytes)
	remove := func(name, seen string) (int, string) {
		return root.ask(http.MethodPost, "/sites/1/removal", map[string]any{"name": name, "seen": seen}, nil)
	}
	status, text = remove("another", look.Seen)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, look.Name)
	status, text = remove(look.Name, "")
	assert.Equal(t, http.StatusConflict, status, "nobody looked: %s", text)

	envs, err := r.store.Environments(t.Context(), 1)
	require.NoError(t, err)
	id, err := r.store.NewRun(t.Context(), store.Run{SiteID: 1, EnvironmentID: envs[0].ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	status, text = remove(look.Name, look.Seen)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "a run is under way")
	_, err = r.store.MoveRun(t.Context(), id, release.RunStopped)
	require.NoError(t, err)
	status, text = remove(look.Name, look.Seen)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "Look again", "it has gone on since")

	_, _ = root.ask(http.MethodGet, "/sites/1/removal", nil, &look)
	assert.Empty(t, look.Open)
	status, text = remove(look.Name, look.Seen)
	require.Equal(t, http.StatusNoContent, status, text)
	status, _ = root.ask(http.MethodGet, "/sites/1", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	for _, table := range []string{"runs", "looks", "findings", "marks", "acts", "history", "blob_references"} {
		n := 0
		require.NoError(t, r.store.Pool.QueryRow(t.Context(), "SELECT count(*) FROM "+table).Scan(&n))
		assert.Zero(t, n, table)
	}
	_, err = r.store.Pool.Exec(t.Context(), `UPDATE blobs SET kept_at = now() - interval '2 days'`)
	require.NoError(t, err)
	gone, err := r.store.RemoveExpired(t.Context())
	require.NoError(t, err)
	assert.Equal(t, look.Size.Blobs, gone.Blobs, "its pictures and bodies go, too")
	events, err := r.store.TeamHistory(t.Context(), 5)
	require.NoError(t, err)
	assert.Contains(t, events[0].Text, "Removed the site “"+look.Name+"”")
	assert.Contains(t, events[0].Who, "a administrator")
}

func TestForHowLongEvidenceIsKeptIsDecidedAndSaid(t *testing.T) {
	r := newRecord(t)
	vera := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Vera", people.Approver), people.Administrator))
	var kept api.KeptView
	status, text := vera.ask(http.MethodGet, "/sites/1/kept", nil, &kept)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, site.Keeping{Clear: 30, Others: 180, Personal: 14}, kept.Days)
	status, text = vera.ask(http.MethodPut, "/sites/1/kept", map[string]any{"clear": 3, "others": 90, "personal": 7}, &kept)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, site.Keeping{Clear: 3, Others: 90, Personal: 7}, kept.Days)
	status, _ = vera.ask(http.MethodPut, "/sites/1/kept", map[string]any{"clear": -1}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	lines, err := r.store.History(t.Context(), 1, 0, 1)
	require.NoError(t, err)
	assert.Contains(t, lines[0].Text, "of clear runs 3 days, of others 90")

	finding, run := int64(0), int64(0)
	require.NoError(t, r.store.Pool.QueryRow(t.Context(), `SELECT id, run_id FROM findings ORDER BY id LIMIT 1`).Scan(&finding, &run))
	status, _ = vera.ask(http.MethodGet, fmt.Sprintf("/findings/%d/proof", finding), nil, nil)
	require.Equal(t, http.StatusOK, status)
	_, err = r.store.Pool.Exec(t.Context(), `UPDATE runs SET finished_at = now() - interval '400 days' WHERE id = $1`, run)
	require.NoError(t, err)
	_, err = r.store.RemoveExpired(t.Context())
	require.NoError(t, err)
	status, text = vera.ask(http.MethodGet, fmt.Sprintf("/findings/%d/proof", finding), nil, nil)
	assert.Equal(t, http.StatusGone, status)
	assert.Contains(t, text, "were removed on")
	var view struct {
		Gone     *string
		Findings []struct{ ID int64 }
	}
	status, text = vera.ask(http.MethodGet, fmt.Sprintf("/runs/%d", run), nil, &view)
	require.Equal(t, http.StatusOK, status, text)
	assert.NotNil(t, view.Gone)
	assert.NotEmpty(t, view.Findings, "what was found stays")
}

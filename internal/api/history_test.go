package api_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
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

func TestAHistoryIsReadFilteredAndTakenAlong(t *testing.T) {
	r := newRecord(t)
	otto := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Otto", people.Observer), people.Administrator))
	envs, err := r.store.Environments(t.Context(), 1)
	require.NoError(t, err)
	require.NoError(t, r.store.Record(t.Context(), store.Event{SiteID: 1, EnvironmentID: &envs[0].ID, Kind: "change", Who: "Zoe (token nightly)", Text: `=HYPERLINK("http://evil"), said "so"`}))

	var lines []api.HistoryLine
	status, text := otto.ask(http.MethodGet, "/sites/1/history?who=Zoe&kind=change", nil, &lines)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, lines, 1)
	assert.Equal(t, envs[0].ID, *lines[0].Environment)
	status, text = otto.ask(http.MethodGet, "/sites/1/history?from="+url.QueryEscape(time.Now().Add(time.Hour).Format(time.RFC3339)), nil, &lines)
	require.Equal(t, http.StatusOK, status, text)
	assert.Empty(t, lines)
	var known api.HistoryKnownView
	status, text = otto.ask(http.MethodGet, "/sites/1/history/known", nil, &known)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, known.Who, "Zoe")

	status, text = otto.ask(http.MethodGet, "/sites/1/history/export?who=Zoe", nil, nil)
	require.Equal(t, http.StatusOK, status)
	table, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, table, 2)
	assert.Equal(t, []string{"id", "at", "who", "kind", "text", "environment", "change", "run"}, table[0])
	assert.Equal(t, `'=HYPERLINK("http://evil"), said "so"`, table[1][4], "no spreadsheet takes it for a formula")
	status, text = otto.ask(http.MethodGet, "/sites/1/history/export?format=jsonl", nil, nil)
	require.Equal(t, http.StatusOK, status)
	var first api.HistoryLine
	all := strings.Split(strings.TrimSpace(text), "\n")
	require.NoError(t, json.Unmarshal([]byte(all[0]), &first))
	var last api.HistoryLine
	require.NoError(t, json.Unmarshal([]byte(all[len(all)-1]), &last))
	assert.Less(t, first.ID, last.ID, "the oldest first")

	var chain api.ChainView
	status, text = otto.ask(http.MethodGet, "/sites/1/history/chain", nil, &chain)
	require.Equal(t, http.StatusOK, status, text)
	assert.EqualValues(t, len(all), chain.Entries)
	assert.Empty(t, chain.Broken)
	_, err = r.store.Pool.Exec(t.Context(), `ALTER TABLE history DISABLE TRIGGER history_kept; UPDATE history SET who = 'nobody' WHERE id = `+fmt.Sprint(first.ID))
	require.NoError(t, err)
	_, _ = otto.ask(http.MethodGet, "/sites/1/history/chain", nil, &chain)
	assert.Contains(t, chain.Broken, "at place 1")
	status, _ = otto.ask(http.MethodGet, "/sites/77/history/chain", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

func TestWhatWasOnProductionAtAMomentIsTold(t *testing.T) {
	r := newRecord(t)
	otto := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Otto", people.Observer), people.Administrator))
	envs, err := r.store.Environments(t.Context(), 1)
	require.NoError(t, err)
	env := envs[len(envs)-1].ID
	before, err := r.store.SaveRevision(t.Context(), 1, settings.Values{"scripts.defer": false})
	require.NoError(t, err)
	after, err := r.store.SaveRevision(t.Context(), 1, settings.Values{"scripts.defer": true})
	require.NoError(t, err)
	require.NoError(t, r.store.RecordAct(t.Context(), store.Act{EnvironmentID: env, Kind: release.ActFirst, Fingerprint: before, Who: "outside"}))
	require.NoError(t, r.store.RecordAct(t.Context(), store.Act{EnvironmentID: env, Kind: release.ActPromote, Fingerprint: after, Predecessor: before, Who: "Vera"}))
	acts, err := r.store.Acts(t.Context(), env, 2)
	require.NoError(t, err)
	newest, oldest := acts[0], acts[1]
	at := func(when time.Time) (v api.InForceView, status int) {
		status, _ = otto.ask(http.MethodGet, fmt.Sprintf("/environments/%d/at?time=%s", env, url.QueryEscape(when.Format(time.RFC3339Nano))), nil, &v)
		return v, status
	}
	v, status := at(time.Now())
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, []any{true, newest.Fingerprint, newest.Who}, []any{v.Known, v.Fingerprint, v.Who})
	assert.Equal(t, settings.Values{"scripts.defer": true}, v.Values)
	v, _ = at(newest.EndedAt.Add(-time.Microsecond))
	assert.Equal(t, before, v.Fingerprint, "just before it had what it had")
	assert.Equal(t, after, v.Now)
	v, _ = at(oldest.IntendedAt.Add(-time.Hour))
	assert.False(t, v.Known, "nothing is recorded of that time")
	_, status = at(time.Now().Add(time.Hour))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
}

package store_test

import (
	"archive/zip"
	"bytes"
	"database/sql"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// rechecked is a store with a run that looked once more and restored what it found, the act by which it did, and one
// that is planned.
func rechecked(t *testing.T) (s *store.Store, url string, run int64) {
	s, url = testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, document("staging", "production"), false, "ada")
	require.NoError(t, err)
	envs, err := s.Environments(ctx, row.ID)
	require.NoError(t, err)
	run, err = s.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: release.RecheckRun, Restores: true, RequestedBy: "ada"})
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, `INSERT INTO acts (environment_id, run_id, kind, fingerprint, predecessor, state, who) VALUES ($1, $2, 'restore', 'b', 'a', 'applied', 'ada')`, envs[0].ID, run)
	require.NoError(t, err)
	_, err = s.PlanRecheck(ctx, store.Recheck{SiteID: row.ID, EnvironmentID: envs[0].ID, RunID: run, DueAt: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, `INSERT INTO river_job (kind, queue, args, max_attempts) VALUES ('recheck', 'rechecks', '{}', 10)`)
	require.NoError(t, err)
	return s, url, run
}

func TestWhatAnEarlierVersionWroteGoesByTodaysNames(t *testing.T) {
	s, url, run := rechecked(t)
	ctx := t.Context()
	db, err := sql.Open("pgx", url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	stored := func(query string) (v string) {
		require.NoError(t, db.QueryRow(query).Scan(&v), query)
		return v
	}
	require.NoError(t, store.MigrateTo(ctx, db, 24))
	assert.Equal(t, "later look true", stored(`SELECT kind || ' ' || put_back FROM runs`))
	assert.Equal(t, "put back", stored(`SELECT kind FROM acts`))
	assert.Equal(t, "later-look later", stored(`SELECT kind || ' ' || queue FROM river_job`))

	require.NoError(t, store.MigrateTo(ctx, db, 26))
	r, err := s.Run(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, release.RecheckRun, r.Kind)
	assert.True(t, r.Restores)
	assert.Equal(t, string(release.ActRestore), stored(`SELECT kind FROM acts`))
	assert.Equal(t, "recheck rechecks", stored(`SELECT kind || ' ' || queue FROM river_job`), "what waits for its time is not lost")
	planned, err := s.Rechecks(ctx, run)
	require.NoError(t, err)
	assert.Len(t, planned, 1)
}

// TestAnArchiveOfAnEarlierVersionIsReadIn writes an archive as version 24 of the schema had it: with the names of tables,
// columns and values of then.
func TestAnArchiveOfAnEarlierVersionIsReadIn(t *testing.T) {
	from, _, run := rechecked(t)
	ctx := t.Context()
	_, err := from.Pool.Exec(ctx, `UPDATE runs SET kind = 'later look'`)
	require.NoError(t, err)
	_, err = from.Pool.Exec(ctx, `UPDATE acts SET kind = 'put back'`)
	require.NoError(t, err)
	var raw, former bytes.Buffer
	require.NoError(t, from.Export(ctx, &raw))
	z, err := zip.NewReader(bytes.NewReader(raw.Bytes()), int64(raw.Len()))
	require.NoError(t, err)
	w := zip.NewWriter(&former)
	tables := strings.NewReplacer("step_ups.", "climbs.", "predictions.", "foresights.", "rechecks.", "later_looks.")
	columns := strings.NewReplacer(`"step_up"`, `"climb"`, `"recheck_run_id"`, `"later_run_id"`, `"restores"`, `"put_back"`, `"skipped"`, `"left_out"`)
	renamed := 0
	for _, f := range z.File {
		h := f.FileHeader
		h.Name = tables.Replace(h.Name)
		if strings.HasSuffix(h.Name, ".columns.json") {
			in, err := f.Open()
			require.NoError(t, err)
			text, err := io.ReadAll(in)
			require.NoError(t, err)
			out, err := w.Create(h.Name)
			require.NoError(t, err)
			n, err := io.WriteString(out, columns.Replace(string(text)))
			require.NoError(t, err)
			if n != len(text) {
				renamed++
			}
			continue
		}
		in, err := f.OpenRaw()
		require.NoError(t, err)
		out, err := w.CreateRaw(&h)
		require.NoError(t, err)
		_, err = io.Copy(out, in)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.Equal(t, 3, renamed, "columns were renamed in three tables, but for one whose names are as long")

	to, _ := testdb.New(t)
	require.NoError(t, to.Import(ctx, former.Bytes()))
	r, err := to.Run(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, release.RecheckRun, r.Kind)
	assert.True(t, r.Restores)
	planned, err := to.Rechecks(ctx, run)
	require.NoError(t, err)
	assert.Len(t, planned, 1)
	var kind string
	require.NoError(t, to.Pool.QueryRow(ctx, `SELECT kind FROM acts`).Scan(&kind))
	assert.Equal(t, string(release.ActRestore), kind)
}

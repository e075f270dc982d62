package run_test

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/store"
)

// TestARunWhoseLockIsLostIsLeftToAnother ends the connection that holds a run's locks while the run looks. Another process
// takes it up at once; the first stops, writes nothing more, and nothing is done twice.
func TestARunWhoseLockIsLostIsLeftToAnother(t *testing.T) {
	b := newBench(t, tiny())
	b.mark(0)
	before, _ := b.staging.Layer.Settings()
	quiet := slog.New(slog.DiscardHandler)
	other, err := run.New(&act.Acts{Store: b.store, Kinds: kinds.All, Log: quiet}, &inspect.Tools{Blobs: b.store, Browser: chromium}, quiet)
	require.NoError(t, err)
	target, err := b.store.SaveRevision(t.Context(), b.site.ID, before.With(settings.Values{"markup.compact": true}))
	require.NoError(t, err)
	id, err := b.store.NewRun(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.TryRun, Target: target, Restores: true, RequestedBy: "tester"})
	require.NoError(t, err)
	first := make(chan error, 1)
	go func() { first <- b.runner.Run(t.Context(), id) }()
	require.Eventually(t, func() bool { return b.run(id).Phase == "looking" }, patience, 5*time.Millisecond)
	var ended bool
	require.NoError(t, b.store.Pool.QueryRow(t.Context(), `SELECT bool_and(pg_terminate_backend(pid)) FROM pg_locks WHERE locktype = 'advisory' AND classid = 1 AND objid = $1
		AND database = (SELECT oid FROM pg_database WHERE datname = current_database())`, id).Scan(&ended))
	require.True(t, ended)
	require.Eventually(t, func() bool { // the server gives the locks back when the connection's process is gone
		require.NoError(t, other.Run(t.Context(), id))
		return b.run(id).Attempt == 2
	}, patience, 5*time.Millisecond)
	require.ErrorIs(t, <-first, store.ErrTakenOver)
	r := b.run(id)
	assert.True(t, r.State.Over(), r.State)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict, "a try that was cut off claims nothing")
	assert.True(t, r.Restored)
	now, _ := b.staging.Layer.Settings()
	assert.Empty(t, settings.Diff(before, now))
	var acts []string
	rows, err := b.store.Pool.Query(t.Context(), `SELECT kind || ' ' || state FROM acts WHERE run_id = $1 ORDER BY id`, id)
	require.NoError(t, err)
	for rows.Next() {
		var a string
		require.NoError(t, rows.Scan(&a))
		acts = append(acts, a)
	}
	require.NoError(t, rows.Err())
	assert.Len(t, acts, 2, "put in force once, and restored once: %v", acts)
}

// TestAnOlderProcessWorksOnANewerSchema gives every table a column that this program does not know, as a later version does
// while older processes are still there.
func TestAnOlderProcessWorksOnANewerSchema(t *testing.T) {
	b := newBench(t, tiny())
	rows, err := b.store.Pool.Query(t.Context(), `SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p') AND NOT c.relispartition AND c.relname NOT LIKE 'river%' AND c.relname <> 'goose_db_version'`)
	require.NoError(t, err)
	var tables []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		tables = append(tables, name)
	}
	require.NoError(t, rows.Err())
	require.Greater(t, len(tables), 30)
	for _, name := range tables {
		_, err := b.store.Pool.Exec(t.Context(), fmt.Sprintf(`ALTER TABLE %q ADD COLUMN later_added text NOT NULL DEFAULT 'x'`, name))
		require.NoError(t, err)
	}
	b.mark(0)
	b.mark(1)
	c := b.promotable(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	b.workOff()
	assert.Equal(t, release.Marked, b.change(c.ID).State, b.change(c.ID).Explanation)
}

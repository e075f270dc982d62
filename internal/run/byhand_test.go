package run_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// byHand takes the connectors of a bench away and uploads what staging has.
func byHand(t *testing.T) (b *bench, export func(edits settings.Values) []byte) {
	t.Helper()
	b = newBench(t, tiny())
	doc := b.site.Document.V
	for i := range doc.Environments {
		doc.Environments[i].Connector = &site.Connector{Kind: "by-hand"}
	}
	_, err := b.store.SaveSite(t.Context(), doc, false, "tester")
	require.NoError(t, err)
	export = func(edits settings.Values) []byte {
		raw, err := json.Marshal(settings.Values{"cache": true, "life": 60, "not": []string{"/cart"}}.With(edits))
		require.NoError(t, err)
		return raw
	}
	_, err = b.runner.Acts.TakeExport(t.Context(), b.envs[0].ID, export(nil), "ada")
	require.NoError(t, err)
	b.mark(0)
	return b, export
}

// asked begins a run that a person is to carry out.
func (b *bench) asked(edits settings.Values) store.Run {
	b.Helper()
	env, now, err := b.runner.Acts.Read(b.Context(), b.envs[0].ID)
	require.NoError(b, err)
	target, err := b.store.SaveRevision(b.Context(), env.SiteID, now.Values.With(edits))
	require.NoError(b, err)
	r := b.carryOut(store.Run{EnvironmentID: env.ID, Kind: release.TryRun, Target: target})
	require.Equal(b, release.ByHand, r.State, r.Problem)
	return r
}

func TestAClosedChecklistIsGoneOnWithAlthoughTheProcessDied(t *testing.T) {
	b, export := byHand(t)
	r := b.asked(settings.Values{"/life": 90})
	h, err := b.store.ManualTaskOf(t.Context(), r.ID)
	require.NoError(t, err)
	require.Len(t, h.Items.V, 2)
	assert.Equal(t, "/life", h.Items.V[0].Key)
	assert.Contains(t, h.Items.V[1].Title, "clear the page cache")
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, release.ByHand, b.run(r.ID).State, "an open list is left to the person")

	gone, die := context.WithCancel(t.Context())
	die()
	require.Error(t, b.runner.CompleteManualTask(gone, r.ID, export(settings.Values{"life": 90}), "ada"), "the process dies here")
	h, err = b.store.ManualTaskOf(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, "open", h.State, "nothing was half done")
	require.NoError(t, b.runner.CompleteManualTask(t.Context(), r.ID, export(settings.Values{"life": 90}), "ada"))
	assert.Equal(t, release.Queued, b.run(r.ID).State, "it goes on by itself")
	require.NoError(t, b.runner.Run(t.Context(), r.ID))
	r = b.run(r.ID)
	assert.Equal(t, release.Done, r.State, r.Problem)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	env, err := b.store.Environment(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, r.Target, env.Fingerprint)
	applied, err := b.store.Acts(t.Context(), env.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, release.ActApplied, applied[0].State)
	assert.Contains(t, applied[0].Note, "exactly what was meant")
}

func TestAnExportThatHasMoreThanWasMeantIsRefusedAndNothingIsRecorded(t *testing.T) {
	b, export := byHand(t)
	r := b.asked(settings.Values{"/life": 90})
	err := b.runner.CompleteManualTask(t.Context(), r.ID, export(settings.Values{"life": 90, "not": []string{"/cart", "/x"}}), "ada")
	var not *act.NotAsExpected
	require.ErrorAs(t, err, &not)
	require.Len(t, not.Differences, 1)
	assert.Equal(t, "/not", not.Differences[0].Key)
	err = b.runner.CompleteManualTask(t.Context(), r.ID, nil, "ada")
	assert.ErrorContains(t, err, "is not ticked")
	assert.Equal(t, release.ByHand, b.run(r.ID).State)
	env, err := b.store.Environment(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	assert.NotEqual(t, r.Target, env.Fingerprint)
	for n := range 2 {
		require.NoError(t, b.store.TickItem(t.Context(), r.ID, n, true, "ada"))
	}
	assert.ErrorIs(t, b.store.TickItem(t.Context(), r.ID, 2, true, "ada"), store.ErrNotFound)
	require.NoError(t, b.runner.CompleteManualTask(t.Context(), r.ID, nil, "ada"))
	assert.ErrorIs(t, b.runner.CompleteManualTask(t.Context(), r.ID, nil, "ada"), store.ErrSettled, "it is done once")
	assert.ErrorIs(t, b.store.TickItem(t.Context(), r.ID, 0, false, "ada"), store.ErrSettled)
}

func TestProductionIsChangedByHandAfterStagingWas(t *testing.T) {
	b, export := byHand(t)
	_, err := b.runner.Acts.TakeExport(t.Context(), b.envs[1].ID, export(nil), "ada")
	require.NoError(t, err)
	b.mark(1)
	c, fp := b.begin(settings.Values{"/life": 90})
	carriedOut := func(env int, kind release.RunKind) store.Run {
		r := b.carryOut(store.Run{EnvironmentID: b.envs[env].ID, ChangeID: &c.ID, Kind: kind, Target: fp})
		require.Equal(t, release.ByHand, r.State, r.Problem)
		require.NoError(t, b.runner.CompleteManualTask(t.Context(), r.ID, export(settings.Values{"life": 90}), "ada"))
		require.NoError(t, b.runner.Run(t.Context(), r.ID))
		return b.run(r.ID)
	}
	b.move(c, release.Try)
	r := carriedOut(0, release.TryRun)
	require.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	b.move(c, release.Promote)
	r = carriedOut(1, release.PromoteRun)
	require.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Equal(t, release.Marked, b.change(c.ID).State)
	m, err := b.store.LatestMark(t.Context(), b.envs[1].ID)
	require.NoError(t, err)
	assert.Equal(t, fp, m.Fingerprint)
	h, err := b.store.ManualTaskOf(t.Context(), r.ID)
	require.NoError(t, err)
	require.NotNil(t, h.Proof.V)
	assert.JSONEq(t, `[{"op":"replace","path":"/life","value":90}]`, string(h.Proof.V.Patch))
}

// That the run is to stop is noticed before it has come to its checklist again: on a slow machine, whoever watches for it is first.
func TestAChecklistIsNotLeftOpenByARunThatStops(t *testing.T) {
	b, export := byHand(t)
	r := b.asked(settings.Values{"/life": 90})
	require.NoError(t, b.runner.Stop(t.Context(), r.ID))
	slow, err := b.store.Pool.Begin(t.Context())
	require.NoError(t, err)
	_, err = slow.Exec(t.Context(), `LOCK TABLE acts, manual_tasks`)
	require.NoError(t, err)
	waiting := func() (query string) {
		require.NoError(t, b.store.Pool.QueryRow(t.Context(), `SELECT coalesce(min(pid || ' ' || query_start), '') FROM pg_stat_activity
			WHERE datname = current_database() AND wait_event_type = 'Lock' AND query NOT LIKE '%stop_asked%'`).Scan(&query))
		return query
	}
	done := make(chan error, 1)
	go func() { done <- b.runner.Run(context.Background(), r.ID) }()
	first := ""
	require.Eventually(t, func() bool { first = waiting(); return first != "" }, patience, 5*time.Millisecond, "it reads")
	require.Eventually(t, func() bool { return waiting() != first }, patience, 5*time.Millisecond, "it is told to stop while it does")
	require.NoError(t, slow.Rollback(t.Context()))
	require.NoError(t, <-done)
	assert.Equal(t, release.Unsettled, b.run(r.ID).State, "nobody knows how much of the list was done")
	h, err := b.store.ManualTaskOf(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, "cancelled", h.State)
	assert.Equal(t, release.ActUnknown, b.lastAct(0).State)

	_, err = b.runner.Acts.TakeExport(t.Context(), b.envs[0].ID, export(nil), "ada")
	require.NoError(t, err)
	require.NoError(t, b.runner.Recover(t.Context()))
	r = b.takeUp(r.ID)
	assert.Equal(t, release.Stopped, r.State, r.Problem)
}

package run_test

import (
	"fmt"
	"log/slog"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
)

// pagesOf are the pages of the demo's shop, as everybody is to see them.
func pagesOf(t *testing.T) site.Site {
	t.Helper()
	raw, err := os.ReadFile("../../demo/fernhollow.yaml")
	require.NoError(t, err)
	doc, err := site.Parse(raw)
	require.NoError(t, err)
	doc.Publishing, doc.Journeys = nil, nil // there is no desk to pay at here, and no mail
	return doc
}

// more adds sites to a bench, each with stand-ins of its own, and returns their environments.
func (b *bench) more(n int, doc site.Site) (envs []store.Environment) {
	b.Helper()
	for i := range n {
		doc := doc
		doc.Name = fmt.Sprintf("Site %d", i)
		doc.Environments = nil
		for _, name := range []string{"staging", "production"} {
			inst, err := standin.StartFernhollow(standin.Options{Environment: name, Addr: "127.0.0.1:0", Token: "secret"})
			require.NoError(b, err)
			b.Cleanup(func() { require.NoError(b, inst.Close()) })
			doc.Environments = append(doc.Environments, site.Environment{Name: name, URL: inst.URL, Hosts: []string{inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}})
		}
		row, err := b.store.SaveSite(b.Context(), doc, false, "tester")
		require.NoError(b, err)
		list, err := b.store.Environments(b.Context(), row.ID)
		require.NoError(b, err)
		envs = append(envs, list...)
	}
	return envs
}

// workers are so many workers, each with a browser of its own, as processes have.
func (b *bench) workers(n int) (stop func()) {
	b.Helper()
	var stops []func()
	for range n {
		looks, err := browser.Start(browser.Options{})
		require.NoError(b, err)
		quiet := slog.New(slog.DiscardHandler)
		runner, err := run.New(&act.Acts{Store: b.store, Kinds: kinds.All, Log: quiet}, &inspect.Tools{Blobs: b.store, Browser: func() (*browser.Browser, error) { return looks, nil }}, quiet)
		require.NoError(b, err)
		q, err := run.NewQueue(runner, run.Options{Workers: 1})
		require.NoError(b, err)
		require.NoError(b, q.Start(b.Context()))
		stops = append(stops, func() { q.Stop(b.Context()); looks.Close() })
	}
	return func() {
		for _, stop := range stops {
			stop()
		}
	}
}

// all hands a run of each environment in and waits for them; it says how long they took in all, how many looks they made and how
// long each took.
func (b *bench) all(kind release.RunKind, envs []store.Environment, patience time.Duration) (wall time.Duration, looks int, each []time.Duration) {
	b.Helper()
	began := time.Now()
	var ids []int64
	for _, e := range envs {
		r, err := b.runner.Start(b.Context(), store.Run{SiteID: e.SiteID, EnvironmentID: e.ID, Kind: kind, RequestedBy: "tester"})
		require.NoError(b, err)
		ids = append(ids, r.ID)
	}
	for _, id := range ids {
		require.Eventually(b, func() bool { return b.run(id).State.Over() }, patience, 100*time.Millisecond)
	}
	wall = time.Since(began)
	for _, id := range ids {
		r := b.run(id)
		require.Equal(b, release.Done, r.State, r.Problem)
		rows, err := b.store.LookNames(b.Context(), id)
		require.NoError(b, err)
		looks += len(rows)
		each = append(each, r.FinishedAt.Sub(*r.StartedAt))
	}
	slices.Sort(each)
	return wall, looks, each
}

// TestFaultsOfWorkersBesideEachOther lets several workers share the runs of several sites: each run is carried out by one of them, and
// nobody waits for another's site. With TIDEMARKER_SCALE (make scale) it says how many looks a minute 1, 2 and 4 of them make.
func TestFaultsOfWorkersBesideEachOther(t *testing.T) {
	measured := os.Getenv("TIDEMARKER_SCALE") != ""
	doc, counts := tiny(), []int{2}
	if measured {
		doc, counts = pagesOf(t), []int{1, 2, 4}
	}
	b := newBench(t, tiny())
	envs := b.more(2, doc)
	stop := b.workers(2)
	b.all(release.MarkRun, envs, 10*time.Minute)
	stop()
	for _, n := range counts {
		stop := b.workers(n)
		wall, looks, each := b.all(release.CheckRun, envs, 10*time.Minute)
		stop()
		var twice int
		require.NoError(t, b.store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM runs WHERE attempt > 1`).Scan(&twice))
		assert.Zero(t, twice, "each run is carried out by one worker, once")
		t.Logf("%d workers: %d runs, %d looks in %s: %.0f looks a minute; a run takes %s at the median, %s to %s", n, len(each), looks, wall.Round(time.Second), float64(looks)/wall.Minutes(),
			each[len(each)/2].Round(100*time.Millisecond), each[0].Round(100*time.Millisecond), each[len(each)-1].Round(100*time.Millisecond))
	}
}

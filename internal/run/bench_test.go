package run_test

import (
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// BenchmarkCheck does the whole check of Fernhollow's pages (apply nothing, purge,
// warm, look, compare, probe, store) and says how that relates to the floor: a bare
// program that opens the same pages with the same number of tabs and takes pictures.
func BenchmarkCheck(b *testing.B) {
	raw, err := os.ReadFile("../../demo/fernhollow.yaml")
	require.NoError(b, err)
	doc, err := site.Parse(raw)
	require.NoError(b, err)
	doc.Journeys, doc.Publishing = nil, nil // the floor takes and publishes none, and nobody signs in or out
	for i := range doc.Personas {
		doc.Personas[i].Prepare, doc.Personas[i].SignOut = nil, nil
	}
	inst, err := standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "secret"})
	require.NoError(b, err)
	defer func() { _ = inst.Close() }()
	doc.Environments = []site.Environment{{Name: "staging", URL: inst.URL, Hosts: []string{inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}}}
	st, _ := testdb.New(b)
	row, err := st.SaveSite(b.Context(), doc, false, "bench")
	require.NoError(b, err)
	envs, err := st.Environments(b.Context(), row.ID)
	require.NoError(b, err)
	quiet := slog.New(slog.DiscardHandler)
	runner, err := run.New(&act.Acts{Store: st, Kinds: kinds.All, Log: quiet}, &inspect.Tools{Store: st, Blobs: st, Browser: chromium}, quiet)
	require.NoError(b, err)
	run := func(kind release.RunKind, target string) store.Run {
		id, err := st.NewRun(b.Context(), store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: kind, Target: target, PutBack: target != "", RequestedBy: "bench"})
		require.NoError(b, err)
		require.NoError(b, runner.Run(b.Context(), id))
		r, err := st.Run(b.Context(), id)
		require.NoError(b, err)
		require.Equal(b, release.Done, r.State, r.Problem)
		return r
	}
	run(release.MarkRun, "")
	_, now, err := runner.Acts.Read(b.Context(), envs[0].ID)
	require.NoError(b, err)
	broken, err := st.SaveRevision(b.Context(), row.ID, now.Values.With(settings.Values{"scripts.defer": true}))
	require.NoError(b, err)
	looker, err := chromium()
	require.NoError(b, err)
	pages := doc.Plan("staging").Pages
	// One after the other in turn, so that whatever else the machine does slows both.
	var bare, ours, controlled time.Duration
	spent := map[string]int64{}
	for b.Loop() {
		bare += floor(b, doc.Environments[0], pages, looker)
		began := time.Now()
		for phase, ms := range run(release.CheckRun, "").Progress.V.Spent {
			spent[phase] += ms
		}
		ours += time.Since(began)
		began = time.Now()
		run(release.TryRun, broken)
		controlled += time.Since(began)
	}
	for phase, ms := range spent {
		b.Logf("of a check: %-10s %.2f s", phase, float64(ms)/1000/float64(b.N))
	}
	b.ReportMetric(float64(controlled)/float64(bare), "×floor-with-controls")
	b.ReportMetric(float64(ours)/float64(bare), "×floor")
	b.ReportMetric(bare.Seconds()/float64(b.N), "floor-s")
	b.ReportMetric(ours.Seconds()/float64(b.N), "check-s")
}

// floor opens the pages and takes their pictures, and nothing else.
func floor(b *testing.B, env site.Environment, pages []site.PageTask, looker *browser.Browser) time.Duration {
	binary, err := browser.Find()
	require.NoError(b, err)
	l := browser.Launcher(binary)
	control, err := l.Launch()
	require.NoError(b, err)
	defer l.Kill()
	r := rod.New().ControlURL(control)
	require.NoError(b, r.Connect())
	began := time.Now()
	g := errgroup.Group{}
	g.SetLimit(looker.Tabs())
	for _, t := range pages {
		g.Go(func() error {
			private, err := r.Incognito()
			if err != nil {
				return err
			}
			page, err := private.Page(proto.TargetCreateTarget{URL: "about:blank"})
			if err != nil {
				return err
			}
			defer func() { _ = page.Close() }()
			width, height := 1280, 800
			if t.Device == site.Phone {
				width, height = 390, 844
			}
			if err := page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: width, Height: height, DeviceScaleFactor: 1, Mobile: t.Device == site.Phone}); err != nil {
				return err
			}
			if err := page.Navigate(env.Address(t.Page.Path)); err != nil {
				return err
			}
			if err := page.WaitLoad(); err != nil {
				return err
			}
			_, err = page.Screenshot(true, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng, OptimizeForSpeed: true})
			return err
		})
	}
	require.NoError(b, g.Wait())
	return time.Since(began)
}

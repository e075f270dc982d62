package run_test

import (
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// BenchmarkMeasuringRound times the rounds of a measurement, with the putting in force, purging and warming between the
// sides, and says how that relates to a bare program that loads the same pages as often, as slow, in a new context each
// time, and watches them for as long.
func BenchmarkMeasuringRound(bench *testing.B) {
	b := newBenched(bench, func(doc *site.Site) {
		doc.Journeys = nil
		for i := range doc.Personas {
			doc.Personas[i].Prepare, doc.Personas[i].SignOut = nil, nil
		}
	})
	b.timed("the mark", release.MarkRun, "")
	target := b.with(settings.Values{"scripts.combine": true})
	scope := measure.Scope{Rounds: 5, Devices: []string{site.Desktop, site.Phone}}
	tasks := scope.Tasks(b.site.Plan("staging"))
	require.NotEmpty(b, tasks)
	binary, err := browser.Find()
	require.NoError(b, err)
	l := browser.Launcher(binary)
	control, err := l.Launch()
	require.NoError(b, err)
	b.Cleanup(l.Kill)
	whole := rod.New().ControlURL(control)
	require.NoError(b, whole.Connect())
	var bare, ours time.Duration
	loads := 0
	for b.Loop() {
		began := time.Now()
		for range 2 * scope.Rounds {
			for _, t := range tasks {
				bareLoad(bench, whole, b.site.Environments[0], t)
			}
		}
		bare += time.Since(began)
		began = time.Now()
		id, err := b.store.NewRun(b.Context(), store.Run{SiteID: b.row.ID, EnvironmentID: b.env.ID, Kind: release.MeasureRun, Target: target, Restores: true, RequestedBy: "bench", Measures: store.JSON[*measure.Scope]{V: &scope}})
		require.NoError(b, err)
		require.NoError(b, b.runs.Run(b.Context(), id))
		ours += time.Since(began)
		list, err := b.store.Loads(b.Context(), id)
		require.NoError(b, err)
		loads = len(list)
		for _, l := range list {
			require.Empty(b, l.Dropped)
		}
	}
	b.ReportMetric(float64(ours)/float64(bare), "×bare-loads")
	b.ReportMetric(ours.Seconds()/float64(b.N*loads), "s/load")
	b.ReportMetric(bare.Seconds()/float64(b.N*loads), "bare-s/load")
}

// bareLoad loads a page as slow as it is measured, and watches it for a second.
func bareLoad(b *testing.B, whole *rod.Browser, env site.Environment, t site.PageTask) {
	alone, err := whole.Incognito()
	require.NoError(b, err)
	defer func() { _ = proto.TargetDisposeBrowserContext{BrowserContextID: alone.BrowserContextID}.Call(whole) }()
	page, err := alone.Page(proto.TargetCreateTarget{URL: "about:blank"})
	require.NoError(b, err)
	p := browser.ProfileOf(t.Device)
	width, height := 1280, 800
	if t.Device == site.Phone {
		width, height = 390, 844
	}
	require.NoError(b, proto.EmulationSetDeviceMetricsOverride{Width: width, Height: height, DeviceScaleFactor: 1, Mobile: t.Device == site.Phone}.Call(page))
	require.NoError(b, proto.NetworkEnable{}.Call(page))
	require.NoError(b, proto.NetworkEmulateNetworkConditions{Latency: float64(p.Latency.Milliseconds()), DownloadThroughput: p.Down, UploadThroughput: p.Up}.Call(page))
	require.NoError(b, proto.EmulationSetCPUThrottlingRate{Rate: p.CPU}.Call(page))
	require.NoError(b, page.Navigate(env.Address(t.Address())))
	require.NoError(b, page.WaitLoad())
	_, err = page.Evaluate(rod.Eval(`() => new Promise((done) => setTimeout(done, 1000))`).ByPromise())
	require.NoError(b, err)
}

package run_test

import (
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
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

// benched is a stand-in's staging with a test plan, and how runs of it are timed.
type benched struct {
	*testing.B
	store *store.Store
	acts  *act.Acts
	runs  *run.Runner
	site  site.Site
	row   store.Site
	env   store.Environment
	spent map[string]map[string]int64 // in milliseconds, by what was timed and phase
}

func newBenched(b *testing.B, plan func(*site.Site)) *benched {
	raw, err := os.ReadFile("../../demo/fernhollow.yaml")
	require.NoError(b, err)
	doc, err := site.Parse(raw)
	require.NoError(b, err)
	doc.Publishing = nil
	plan(&doc)
	inst, err := standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "secret"})
	require.NoError(b, err)
	b.Cleanup(func() { _ = inst.Close() })
	doc.Environments = []site.Environment{{Name: "staging", URL: inst.URL, Hosts: []string{inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}}}
	st, _ := testdb.New(b)
	out := &benched{B: b, store: st, site: doc, spent: map[string]map[string]int64{}}
	out.row, err = st.SaveSite(b.Context(), doc, false, "bench")
	require.NoError(b, err)
	envs, err := st.Environments(b.Context(), out.row.ID)
	require.NoError(b, err)
	out.env = envs[0]
	quiet := slog.New(slog.DiscardHandler)
	out.acts = &act.Acts{Store: st, Kinds: kinds.All, Log: quiet}
	out.runs, err = run.New(out.acts, &inspect.Tools{Blobs: st, Browser: chromium}, quiet)
	require.NoError(b, err)
	return out
}

// timed carries out a run, and gives how long it took and where the time went.
func (b *benched) timed(what string, kind release.RunKind, target string) time.Duration {
	began := time.Now()
	id, err := b.store.NewRun(b.Context(), store.Run{SiteID: b.row.ID, EnvironmentID: b.env.ID, Kind: kind, Target: target, Restores: target != "", RequestedBy: "bench"})
	require.NoError(b, err)
	require.NoError(b, b.runs.Run(b.Context(), id))
	r, err := b.store.Run(b.Context(), id)
	require.NoError(b, err)
	require.Equal(b, release.Done, r.State, r.Problem)
	if b.spent[what] == nil {
		b.spent[what] = map[string]int64{}
	}
	for phase, ms := range r.Progress.V.Spent {
		b.spent[what][phase] += ms
	}
	return time.Since(began)
}

// with is the revision of what is in force with some settings changed.
func (b *benched) with(edits settings.Values) string {
	_, now, err := b.acts.Read(b.Context(), b.env.ID)
	require.NoError(b, err)
	id, err := b.store.SaveRevision(b.Context(), b.row.ID, now.Values.With(edits))
	require.NoError(b, err)
	return id
}

// whereTimeGoes logs what was timed in one line each.
func (b *benched) whereTimeGoes() {
	for _, what := range slices.Sorted(maps.Keys(b.spent)) {
		line := what + ":"
		for _, phase := range slices.Sorted(maps.Keys(b.spent[what])) {
			line += fmt.Sprintf(" %s %.2f s,", phase, float64(b.spent[what][phase])/1000/float64(b.N))
		}
		b.Log(strings.TrimSuffix(line, ","))
	}
}

// BenchmarkCheck does the whole check of Fernhollow's pages (apply nothing, purge,
// warm, look, compare, probe, store) and says how that relates to the floor: a bare
// program that opens the same pages with the same number of tabs and takes pictures.
func BenchmarkCheck(bench *testing.B) {
	b := newBenched(bench, func(doc *site.Site) { // the floor takes no journeys, and nobody signs in or out
		doc.Journeys = nil
		for i := range doc.Personas {
			doc.Personas[i].Prepare, doc.Personas[i].SignOut = nil, nil
		}
	})
	b.timed("the mark", release.MarkRun, "")
	broken := b.with(settings.Values{"scripts.defer": true})
	looker, err := chromium()
	require.NoError(b, err)
	// One after the other in turn, so that whatever else the machine does slows both.
	var bare, ours, controlled time.Duration
	for b.Loop() {
		bare += floor(bench, b.site.Environments[0], b.site.Plan("staging").Pages, looker)
		ours += b.timed("a check", release.CheckRun, "")
		controlled += b.timed("a try with controls", release.TryRun, broken)
	}
	b.whereTimeGoes()
	b.ReportMetric(float64(controlled)/float64(bare), "×floor-with-controls")
	b.ReportMetric(float64(ours)/float64(bare), "×floor")
	b.ReportMetric(bare.Seconds()/float64(b.N), "floor-s")
	b.ReportMetric(ours.Seconds()/float64(b.N), "check-s")
}

// BenchmarkRun times whole runs of a plan of 47 looks at pages and 9 journeys with 4 people
// who sign in or fill a basket: a check with nothing to find, a change that nobody sees and
// is looked at by who was there before, one that breaks most pages, and the mark.
func BenchmarkRun(bench *testing.B) {
	b := newBenched(bench, func(doc *site.Site) {
		people := []string{site.Visitor, "member", "customer", "basket carrier"}
		for i := range doc.Pages {
			doc.Pages[i].Devices = []string{site.Desktop, site.Phone}
			if p := doc.Pages[i].Path; p == "/" || p == "/kits/pearl-oyster-box" || p == "/account" || p == "/cart" {
				doc.Pages[i].Personas = people
			}
		}
		for i := range doc.Journeys {
			j := &doc.Journeys[i]
			j.Where = nil
			if j.Name != "the phone menu opens" && j.Name != "a message is sent" {
				j.Devices = []string{site.Desktop, site.Phone}
			}
			for n, s := range j.Steps { // there is no desk to pay at here, and no mail
				switch {
				case s.Click != nil && s.Click.Name == "Place the order":
					j.Steps = j.Steps[:n]
				case s.Expect != nil:
					s.Expect.Mail = ""
					continue
				default:
					continue
				}
				break
			}
		}
		searching := doc.Journeys[2]
		searching.Name, searching.Persona, searching.Devices = "a member searches", "member", []string{site.Desktop}
		doc.Journeys = append(doc.Journeys, searching)
	})
	plan := b.site.Plan("staging")
	b.Logf("%d looks at pages, %d journeys", len(plan.Pages), len(plan.Journeys))
	var mark, check, clear, broken time.Duration
	for b.Loop() {
		mark += b.timed("the mark", release.MarkRun, "")
		check += b.timed("a check", release.CheckRun, "")
		clear += b.timed("a harmless change", release.TryRun, b.with(settings.Values{"markup.compact": true}))
		broken += b.timed("a change that breaks", release.TryRun, b.with(settings.Values{"scripts.defer": true}))
	}
	b.whereTimeGoes()
	for unit, took := range map[string]time.Duration{"mark-s": mark, "check-s": check, "harmless-s": clear, "broken-s": broken} {
		b.ReportMetric(took.Seconds()/float64(b.N), unit)
	}
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

package run_test

import (
	"context"
	"log/slog"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/exclusions"
	"tidemarker/internal/inspect"
	"tidemarker/internal/onboard"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// bench is a site under test: Fernhollow's staging and production, a database of its
// own, and a runner.
type bench struct {
	*testing.T
	store      *store.Store
	url        string // of the database
	runner     *run.Runner
	changes    *changes.Desk
	exclusions *exclusions.Desk
	onboard    *onboard.Desk
	staging    *standin.Instance
	production *standin.Instance
	site       store.Site
	envs       []store.Environment
	later      atomic.Int64 // by how much the site's clock is ahead
}

// patience is for how long a test waits for what has to come, on a machine that does many other things and stands still now and then.
const patience = 5 * time.Minute

var chromium = sync.OnceValues(func() (*browser.Browser, error) { return browser.Start(browser.Options{Timeout: patience}) })

func newBench(t *testing.T, doc site.Site, with ...func(*standin.Options)) *bench {
	t.Helper()
	t.Parallel() // most of a run is waiting for a site
	st, url := testdb.New(t)
	b := &bench{T: t, store: st, url: url}
	start := func(env string) *standin.Instance {
		opt := standin.Options{Environment: env, Addr: "127.0.0.1:0", Token: "secret",
			Now: func() time.Time { return time.Now().Add(time.Duration(b.later.Load())) }}
		for _, f := range with {
			f(&opt)
		}
		inst, err := standin.StartFernhollow(opt)
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, inst.Close()) })
		doc.Environments = append(doc.Environments, site.Environment{Name: env, URL: inst.URL, Hosts: []string{inst.OtherHost},
			Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}})
		return inst
	}
	b.staging, b.production = start("staging"), start("production")
	quiet := slog.New(slog.DiscardHandler)
	var err error
	b.runner, err = run.New(&act.Acts{Store: st, Kinds: kinds.All, Log: quiet}, &inspect.Tools{Blobs: st, Browser: chromium}, quiet)
	require.NoError(t, err)
	b.changes = &changes.Desk{Store: st, Acts: b.runner.Acts, Runner: b.runner}
	b.exclusions = &exclusions.Desk{Store: st, Changes: b.changes}
	b.onboard = &onboard.Desk{Store: st, Acts: b.runner.Acts, Blobs: st, Browser: chromium, Log: quiet}
	b.site, err = st.SaveSite(t.Context(), doc, false, "tester")
	require.NoError(t, err)
	b.envs, err = st.Environments(t.Context(), b.site.ID)
	require.NoError(t, err)
	return b
}

// run carries a run out and returns how it ended.
func (b *bench) carryOut(r store.Run) store.Run {
	b.Helper()
	r.SiteID, r.RequestedBy = b.site.ID, "tester"
	id, err := b.store.NewRun(b.Context(), r)
	require.NoError(b, err)
	require.NoError(b, b.runner.Run(b.Context(), id))
	return b.run(id)
}

func (b *bench) run(id int64) store.Run {
	b.Helper()
	r, err := b.store.Run(b.Context(), id)
	require.NoError(b, err)
	return r
}

func (b *bench) mark(env int) store.Run {
	b.Helper()
	r := b.carryOut(store.Run{EnvironmentID: b.envs[env].ID, Kind: release.MarkRun})
	require.Equal(b, release.Done, r.State, r.Problem)
	return r
}

// try tries edits on staging and puts staging back.
func (b *bench) try(edits settings.Values) (store.Run, []evidence.Finding) {
	b.Helper()
	return b.with(release.TryRun, edits)
}

// with carries a run out on staging with edits in force that are restored.
func (b *bench) with(kind release.RunKind, edits settings.Values) (store.Run, []evidence.Finding) {
	b.Helper()
	_, now, err := b.runner.Acts.Read(b.Context(), b.envs[0].ID)
	require.NoError(b, err)
	target, err := b.store.SaveRevision(b.Context(), b.site.ID, now.Values.With(edits))
	require.NoError(b, err)
	r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, Kind: kind, Target: target, Restores: true})
	return r, b.findings(r.ID)
}

func (b *bench) findings(run int64) []evidence.Finding {
	b.Helper()
	rows, err := b.store.Findings(context.Background(), run)
	require.NoError(b, err)
	var out []evidence.Finding
	for _, f := range rows {
		out = append(out, f.Document.V)
	}
	return out
}

func target(role, name string) *journey.Target { return &journey.Target{Role: role, Name: name} }

// page is one that somebody looks at on these devices: a visitor, and whoever else is named.
func page(path, class string, devices []string, personas ...string) site.Page {
	return site.Page{Path: path, Class: class, Personas: append([]string{site.Visitor}, personas...), Devices: devices}
}

// withCart is a home page that is cached and a cart that is not, with somebody who has something in it.
func withCart(devices ...string) site.Site {
	return site.Site{Name: "Fernhollow",
		Personas: []site.Persona{{Name: "carrier", Kind: "visitor-with-cart", PrivateTexts: []string{"Tawny mane block"}, Prepare: []journey.Step{
			{Go: "/kits/tawny-mane-block"}, {Click: target("button", "Add to basket")}, {Expect: &journey.Expect{URL: "/cart"}}}}},
		Pages: []site.Page{page("/", "home", devices), page("/cart", "cart", devices, "carrier")}}
}

// small is a part of Fernhollow that shows every fault: four pages and two journeys, on both devices. In short it is without
// the cart, each page on the device on which it shows what no other test makes; TIDEMARKER_RUNS asks for all.
func small() site.Site {
	menu := journey.Journey{Name: "menu", Persona: site.Visitor, Devices: []string{site.Phone}, Steps: []journey.Step{
		{Go: "/contact"}, {Click: target("button", "Menu")}, {Expect: &journey.Expect{Visible: target("link", "Library")}}}}
	if os.Getenv("TIDEMARKER_RUNS") == "" {
		return site.Site{Name: "Fernhollow", Journeys: []journey.Journey{menu},
			Pages: []site.Page{page("/", "home", []string{site.Phone}), page("/search?q=mane", "search", []string{site.Desktop}), page("/contact", "form", []string{site.Desktop})}}
	}
	doc := withCart(site.Desktop, site.Phone)
	doc.Pages = append(doc.Pages, page("/search?q=mane", "search", doc.Pages[0].Devices), page("/contact", "form", doc.Pages[0].Devices))
	doc.Journeys = []journey.Journey{menu,
		{Name: "tabs", Persona: site.Visitor, Devices: []string{site.Desktop}, Steps: []journey.Step{
			{Go: "/kits/pearl-oyster-box"}, {Click: target("tab", "Growing")}, {Expect: &journey.Expect{Visible: &journey.Target{CSS: "#growing"}, Hidden: &journey.Target{CSS: "#about"}}}}}}
	return doc
}

func has(findings []evidence.Finding, kind evidence.Kind, page, device string) bool {
	return slices.ContainsFunc(findings, func(f evidence.Finding) bool {
		return f.Kind == kind && f.Page == page && f.Device == device && f.Severity == evidence.Broken
	})
}

// roll goes back to a mark on an environment.
func (b *bench) roll(env int, m store.Mark) store.Run {
	b.Helper()
	return b.carryOut(store.Run{EnvironmentID: b.envs[env].ID, Kind: release.RollBackRun, Target: m.Fingerprint, MarkID: &m.ID})
}

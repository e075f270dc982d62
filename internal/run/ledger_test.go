package run_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// saw writes down a run that is over and what it saw.
func (b *bench) saw(kind release.RunKind, looks map[string]any) int64 {
	b.Helper()
	id, err := b.store.NewRun(b.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: kind, RequestedBy: "tester"})
	require.NoError(b, err)
	for what, l := range looks {
		var k evidence.Key
		switch x := l.(type) {
		case evidence.PageLook:
			k = x.Key
		case evidence.JourneyLook:
			k = x.Key
		case evidence.Probe:
			k = x.Key
		}
		require.NoError(b, b.store.SaveLook(b.Context(), id, 1, what, k, l))
	}
	r := b.run(id)
	r.State, r.Verdict = release.Done, evidence.VerdictClear
	_, err = b.store.MoveRun(b.Context(), r.ID, release.RunBegins)
	require.NoError(b, err)
	require.NoError(b, b.store.EndRun(b.Context(), r, release.RunFinished))
	return id
}

func (b *bench) ground() inspect.RuleContext {
	b.Helper()
	g, err := inspect.RuleContextOf(b.Context(), b.store, b.envs[0].ID)
	require.NoError(b, err)
	return g
}

func TestTheRuleContextKnowsWhatWasSeenLast(t *testing.T) {
	doc := tiny()
	doc.Pages = append(doc.Pages, site.Page{Path: "/search?q=mane", Class: "search", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	doc.Personas = []site.Persona{{Name: "member", Kind: "member"}}
	b := newBench(t, doc)
	g := b.ground()
	assert.Equal(t, exclusion.NotSeen, g.Seen("/contact", site.Visitor, site.Desktop))
	assert.Zero(t, g.Run)
	assert.False(t, g.Layer.On, "nothing was read yet")

	_, _, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	contact := evidence.Key{Page: "/contact", Persona: site.Visitor, Device: site.Desktop}
	looked := b.saw(release.CheckRun, map[string]any{
		"page":    evidence.PageLook{Key: contact, Served: httpcache.Origin, Requests: []evidence.Request{{URL: "http://shop/menu.js", Kind: "script"}, {URL: "http://shop/api/cart?x=1", Kind: "fetch"}}},
		"journey": evidence.JourneyLook{Key: evidence.Key{Page: "/account", Journey: "getting ready", Persona: "member", Device: site.Desktop}, Cookies: []string{"fern_member"}},
	})
	g = b.ground()
	assert.Equal(t, exclusion.SeenMade, g.Seen("/contact", site.Visitor, site.Desktop))
	assert.Equal(t, looked, g.Run)
	assert.Equal(t, []string{"http://shop/menu.js"}, g.Known.Resources)
	assert.Equal(t, []string{"/api/cart?x=1"}, g.Known.Asked)
	assert.Equal(t, []string{"fern_member"}, g.Known.People[1].Cookies)
	assert.Equal(t, []exclusion.Parameter{{Name: "q", Page: "/search?q=mane", Matters: true}}, g.Known.Parameters)
	assert.True(t, g.Layer.On)
	assert.Equal(t, "bypass", g.Layer.LoggedIn)

	// A proof since then knows better: it asked twice.
	proof := b.saw(release.IsolationRun, map[string]any{"probe": evidence.Probe{Key: contact, Kind: evidence.StrangerTwice, Second: evidence.Answer{Served: httpcache.Cached}}})
	g = b.ground()
	assert.Equal(t, exclusion.SeenCached, g.Seen("/contact", site.Visitor, site.Desktop))
	assert.Equal(t, proof, g.Run)
	assert.Equal(t, []string{"fern_member"}, g.Known.People[1].Cookies, "what only the look before knew is kept")

	// A look after that is the newest again; a run that could not look says nothing.
	b.saw(release.CheckRun, map[string]any{"page": evidence.PageLook{Key: contact, Served: httpcache.Unknown}})
	assert.Equal(t, exclusion.NotSeen, b.ground().Seen("/contact", site.Visitor, site.Desktop))
}

func TestTheRuleContextKnowsPoliciesAndWhatTheLedgerMeans(t *testing.T) {
	b := newBench(t, tiny())
	_, _, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	require.NoError(t, b.store.DecidePolicy(t.Context(), store.DecidedPolicy{SiteID: b.site.ID, Class: "form", Persona: site.Visitor, Policy: "never", Reason: "r", Who: "w"}))
	_, err = b.store.AddExclusion(t.Context(), store.Exclusion{SiteID: b.site.ID, Role: "path-exclude", Key: "pages.never", Pattern: "/cart", Reason: "r", Who: "w", Classes: store.JSON[[]string]{V: []string{"cart"}}})
	require.NoError(t, err)
	g := b.ground()
	assert.True(t, g.Known.Pages[0].Never)
	for _, r := range g.Layer.Rules {
		if r.Key == "pages.never" && r.Pattern == "/cart" {
			assert.Equal(t, []string{"cart"}, r.For)
			return
		}
	}
	t.Fatal("the rule is not there")
}

func TestAddressesComeFromTheSitemapOfProduction(t *testing.T) {
	b := newBench(t, tiny())
	n, err := b.onboard.FindAddresses(t.Context(), b.site.ID)
	require.NoError(t, err)
	assert.Greater(t, n, 15)
	classes := map[string]string{}
	for _, p := range b.ground().Known.Pages {
		classes[p.Path] = p.Class
	}
	assert.Equal(t, "article", classes["/library/reading-the-first-pins"])
	assert.Equal(t, "form", classes["/contact"], "what is in the test plan keeps the class that a person gave it")

	require.NoError(t, b.production.Close())
	_, err = b.onboard.FindAddresses(t.Context(), b.site.ID)
	require.ErrorContains(t, err, "no sitemap could be used")
	require.ErrorContains(t, err, "does not answer: connection refused")
	assert.Len(t, b.ground().Known.Pages, len(classes), "what was known stays known")
}

func TestPurgingIsRefusedWhereItWouldDoHarmOrNothing(t *testing.T) {
	b := newBench(t, tiny())
	env := b.envs[0].ID
	held, free, err := b.store.TryLockEnvironment(t.Context(), env)
	require.NoError(t, err)
	require.True(t, free)
	_, err = b.purge(env, order{})
	held.Unlock()
	var busy *act.Busy
	require.ErrorAs(t, err, &busy, "what is cached is evidence of the run under way")
	for _, o := range []order{{Page: "cart"}, {Class: "moon"}} {
		_, err = b.purge(env, o)
		var no *act.NotPossible
		require.ErrorAs(t, err, &no)
	}
	done, err := b.purge(env, order{Class: "form", Warm: true})
	require.NoError(t, err)
	assert.Equal(t, 2, done.ToWarm, "for each device")
}

func TestWhatASiteWithoutAConnectorCachesIsPurgedByHand(t *testing.T) {
	b, _ := byHand(t)
	_, err := b.purge(b.envs[0].ID, order{})
	require.ErrorContains(t, err, "by hand")
}

func TestParityNotesWhatCannotBeCompared(t *testing.T) {
	b := newBench(t, tiny())
	require.NoError(t, b.onboard.Parity(t.Context(), b.site.ID, "ada"))
	p, err := b.store.ParityOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	assert.Empty(t, p.Document.V.Notes)
	assert.Empty(t, p.Document.V.Unlike)
	v, etag := b.production.Layer.Settings()
	_, ok := b.production.Layer.Replace(v.With(settings.Values{"pages.lifetime": 120}), etag)
	require.True(t, ok)
	require.NoError(t, b.onboard.Parity(t.Context(), b.site.ID, "ada"))
	p, err = b.store.ParityOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	require.Len(t, p.Document.V.Unlike, 1)
	assert.False(t, p.Document.V.Unlike[0].Weighs, "values may differ")
	assert.Equal(t, "staging and production differ in 1 value.", p.Document.V.Summary)

	require.NoError(t, b.production.Close())
	require.NoError(t, b.onboard.Parity(t.Context(), b.site.ID, "ada"))
	p, err = b.store.ParityOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	assert.NotEmpty(t, p.Document.V.Notes, "a site that is down is not alike")
	assert.NotContains(t, p.Document.V.Summary, "are alike")
}

// order is what a person wants purged.
type order struct {
	Page, Class string
	Stale, Warm bool
}

func (b *bench) purge(env int64, o order) (act.PurgeDone, error) {
	b.Helper()
	paths, what, err := b.exclusions.ToPurge(b.Context(), env, o.Page, o.Class)
	if err != nil {
		return act.PurgeDone{}, err
	}
	return b.runner.Acts.Purge(b.Context(), env, act.PurgeOrder{Paths: paths, What: what, Stale: o.Stale, Warm: o.Warm}, "ada")
}

package run_test

import (
	"fmt"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin/mutation"
	"tidemarker/internal/store"
)

// mutated is what mutations are looked for on: a page of each build, and two journeys.
func mutated() site.Site {
	return site.Site{Name: "Fernhollow",
		Pages: []site.Page{page("/", "home", []string{site.Desktop}), page("/contact", "form", []string{site.Phone}), page("/kits/pearl-oyster-box", "item", []string{site.Desktop})},
		Journeys: []journey.Journey{
			{Name: "menu", Persona: site.Visitor, Devices: []string{site.Phone}, Steps: []journey.Step{
				{Go: "/contact"}, {Click: target("button", "Menu")}, {Expect: &journey.Expect{Visible: target("link", "Library")}}}},
			{Name: "tabs", Persona: site.Visitor, Devices: []string{site.Desktop}, Steps: []journey.Step{
				{Go: "/kits/pearl-oyster-box"}, {Click: target("tab", "Growing")}, {Expect: &journey.Expect{Visible: &journey.Target{CSS: "#growing"}, Hidden: &journey.Target{CSS: "#about"}}}}},
		}}
}

// TestFaultsOfAllKindsAreNoticed changes what a site answers, between the site and whoever
// looks: what harms a visitor has to be noticed, what nobody can see must not be. In short it
// does so in a few ways. TIDEMARKER_MUTATIONS says how many there are in all, TIDEMARKER_MUTATION of which
// class alone; make corpus asks for 500.
func TestFaultsOfAllKindsAreNoticed(t *testing.T) {
	b := newBench(t, mutated())
	proxy, err := mutation.NewProxy(b.staging.URL)
	require.NoError(t, err)
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	// The site is reached through the proxy; its speed layer is told as ever.
	doc := b.site.Document.V
	doc.Environments = slices.Clone(doc.Environments)
	doc.Environments[0].Hosts = append(doc.Environments[0].Hosts, strings.TrimPrefix(b.staging.URL, "http://"))
	doc.Environments[0].URL = front.URL
	doc.Environments[0].Connector.Token = "secret"
	doc.Environments[1].Connector.Token = "secret"
	b.site, err = b.store.SaveSite(t.Context(), doc, true, "tester")
	require.NoError(t, err)
	b.mark(0)

	classes := mutation.Classes()
	if only := os.Getenv("TIDEMARKER_MUTATION"); only != "" {
		classes = slices.DeleteFunc(classes, func(c mutation.Class) bool { return c.Name != only })
	}
	total, step := min(4, len(classes)), 8 // in short, every eighth way
	if n, err := strconv.Atoi(os.Getenv("TIDEMARKER_MUTATIONS")); err == nil {
		total, step = n, 1
	}
	type count struct{ made, noticed int }
	counts := make([]count, len(classes))
	var missed, falsely []string
	for i := range total {
		at := i * step % len(classes)
		class, seed := classes[at], uint64(i*step/len(classes))+1
		proxy.Set(&mutation.Mutation{Class: class, Seed: seed})
		r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, Kind: release.CheckRun})
		require.Equal(t, release.Done, r.State, r.Problem)
		if proxy.Applied() == 0 {
			continue // there was nothing to change
		}
		noticed := r.Verdict != evidence.VerdictClear
		counts[at].made++
		if i%50 == 49 {
			t.Logf("%d of %d so far: %d missed, %d falsely", i+1, total, len(missed), len(falsely))
		}
		if noticed {
			counts[at].noticed++
		}
		switch about := fmt.Sprintf("%s (seed %d): %s", class.Name, seed, r.Summary); {
		case class.Harmful && !noticed:
			missed = append(missed, about)
			t.Log("missed: " + about)
		case !class.Harmful && noticed:
			falsely = append(falsely, about)
			t.Log("falsely: " + about)
		}
	}
	harmful, found, harmless := 0, 0, 0
	for i, c := range counts {
		t.Logf("%-45s %3d of %3d noticed", classes[i].Name, c.noticed, c.made)
		if classes[i].Harmful {
			harmful, found = harmful+c.made, found+c.noticed
		} else {
			harmless += c.made
		}
	}
	t.Logf("harmful %d, noticed %d; harmless %d, called something %d", harmful, found, harmless, len(falsely))
	assert.GreaterOrEqual(t, found*100, harmful*95, "missed: %s", strings.Join(missed, "\n"))
	assert.LessOrEqual(t, len(falsely)*100, harmless, "falsely: %s", strings.Join(falsely, "\n"))
}

package run_test

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// onePage is what is searched on: one page that breaks, looked at with one device.
func onePage() site.Site {
	return site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}}
}

// search lets a search for what a run found go to its end.
func (b *bench) search(of int64) (store.Run, culprit.Step, []store.SearchAnswer) {
	b.Helper()
	r, err := b.runner.StartSearch(b.Context(), of, "tester")
	require.NoError(b, err)
	require.NoError(b, b.runner.Run(b.Context(), r.ID))
	return b.searched(r.ID)
}

func (b *bench) searched(id int64) (store.Run, culprit.Step, []store.SearchAnswer) {
	b.Helper()
	x, err := b.store.Search(b.Context(), id)
	require.NoError(b, err)
	answers, err := b.store.SearchAnswers(b.Context(), id)
	require.NoError(b, err)
	return b.run(id), x.Step.V, answers
}

// culprits names what a search found.
func (b *bench) culprits(id int64, step culprit.Step) [][]string {
	b.Helper()
	x, err := b.store.Search(b.Context(), id)
	require.NoError(b, err)
	var out [][]string
	for _, set := range step.Culprits {
		var names []string
		for _, i := range set {
			names = append(names, x.Problem.V.Parts[i].String())
		}
		out = append(out, names)
	}
	return out
}

// Among a dozen edits one breaks the pages: it is named, the others are shown to break nothing,
// staging has what it had, and a second search asks for nothing that the first one knew.
func TestFaultsHaveTheirCulpritNamed(t *testing.T) {
	b := newBench(t, onePage())
	b.mark(0)
	r, _ := b.try(settings.Values{"scripts.defer": true, "scripts.compact": true, "markup.compact": true, "styles.compact": true, "browser.keepFor": 86400, "images.keyFirst": true,
		"images.lazySkip": 2, "links.aheadNot": []string{"/cart", "/checkout", "/account", "/search"}, "pages.notModified": true, "warm.every": 7200, "background.every": 120, "scripts.compactNot": []string{"/assets/basket.js"}})
	require.Equal(t, evidence.VerdictBroken, r.Verdict)
	before, tag := b.staging.Layer.Settings()

	found, step, answers := b.search(r.ID)
	assert.Equal(t, release.Done, found.State, found.Problem)
	assert.Equal(t, evidence.VerdictBroken, found.Verdict)
	assert.Equal(t, [][]string{{"scripts.defer = on"}}, b.culprits(found.ID, step))
	assert.Contains(t, found.Summary, "Culprit: Defer scripts. The other 11 break nothing.")
	assert.True(t, found.Restored)
	after, _ := b.staging.Layer.Settings()
	assert.Equal(t, before, after)
	assert.NotEmpty(t, tag)
	assert.Equal(t, r.ID, *answers[0].FromRunID, "that the whole breaks is known from the run")
	forCulprit := 0
	for _, a := range answers[1:] {
		assert.Equal(t, 1, a.Rounds, "what breaks each time takes one round")
		if a.Excluding < 0 {
			forCulprit++
		}
	}
	assert.LessOrEqual(t, forCulprit, 3, "an error names what is deferred")

	// With the fewest exclusions all the rest may stay, and that has been tried.
	assert.Contains(t, found.Summary, "With “/assets/fern.js” in “Scripts not deferred” it may stay.")
	mended, _ := b.try(settings.Values{"scripts.defer": true, "scripts.deferNot": []string{"/assets/fern.js"}, "markup.compact": true})
	assert.Equal(t, evidence.VerdictClear, mended.Verdict, mended.Summary)

	again, _, known := b.search(r.ID)
	assert.Equal(t, found.Summary, again.Summary)
	for _, a := range known {
		assert.NotNil(t, a.FromRunID, "nothing is tried twice")
	}
}

// What cannot be searched for is said at once.
func TestFaultsThatCannotBeSearchedForAreSaid(t *testing.T) {
	b := newBench(t, onePage())
	mark := b.mark(0)
	_, err := b.runner.StartSearch(t.Context(), mark.ID, "tester")
	var no *run.NoSearch
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Why, "tried no change")
	r, _ := b.try(settings.Values{"trim.glyphs": true})
	_, err = b.runner.StartSearch(t.Context(), r.ID, "tester")
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Why, "one edit only")
	r, _ = b.try(settings.Values{"markup.compact": true, "scripts.compact": true})
	_, err = b.runner.StartSearch(t.Context(), r.ID, "tester")
	require.ErrorAs(t, err, &no)
	assert.Contains(t, no.Why, "nothing broken")
}

// The only edit of a change is its culprit; what has to be excluded so that it may stay is searched for all the same.
func TestFaultsOfOneEditHaveTheirExclusions(t *testing.T) {
	b := newBench(t, onePage())
	b.mark(0)
	r, _ := b.try(settings.Values{"scripts.defer": true})
	s, step, answers := b.search(r.ID)
	assert.Equal(t, [][]int{{0}}, step.Culprits)
	assert.Contains(t, s.Summary, "With “/assets/fern.js” in “Scripts not deferred” it may stay.")
	for _, a := range answers {
		if a.Excluding < 0 {
			assert.NotNil(t, a.FromRunID, "that it breaks the site is known from the try")
		}
	}
}

// Two edits that break only together are named together; a search whose process died goes on, and
// tries nothing twice.
func TestFaultsOfTwoEditsTogetherAreFoundAfterADeath(t *testing.T) {
	b := newBench(t, onePage())
	b.mark(0)
	// The files are excluded from the delay, so that it breaks nothing by itself; the inline code is
	// delayed only with both.
	r, _ := b.try(settings.Values{"scripts.delay": true, "scripts.delayNot": []string{"/assets/"}, "scripts.inlineToo": true, "markup.compact": true, "images.keyFirst": true, "warm.every": 7200})
	require.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	s, err := b.runner.StartSearch(t.Context(), r.ID, "tester")
	require.NoError(t, err)

	dying, die := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- b.runner.Run(dying, s.ID) }()
	require.Eventually(t, func() bool {
		answers, err := b.store.SearchAnswers(t.Context(), s.ID)
		return err == nil && len(answers) >= 2
	}, patience, 20*time.Millisecond)
	die()
	<-done
	require.Equal(t, release.Running, b.run(s.ID).State, "nobody works on it")

	require.NoError(t, b.runner.Run(t.Context(), s.ID))
	found, step, answers := b.searched(s.ID)
	assert.Equal(t, release.Done, found.State, found.Problem)
	assert.Equal(t, [][]string{{"scripts.delay = on", "scripts.inlineToo = on"}}, b.culprits(s.ID, step))
	assert.Contains(t, found.Summary, "together with")
	assert.True(t, found.Restored)
	seen := map[string]bool{}
	for _, a := range answers {
		assert.False(t, seen[a.Fingerprint], "%v is tried twice", a.Parts.V)
		seen[a.Fingerprint] = true
	}
}

// Two edits break the site each for itself, and what the second does shows where it looks as if the
// first had done it: both are found, since what is left beside a culprit is looked at everywhere. Stepping up through all
// bundles finds two in one search, too, so that this is left to make corpus.
func TestFaultsOfTwoCulpritsAreBothFound(t *testing.T) {
	if os.Getenv("TIDEMARKER_CULPRITS") == "" {
		t.Skip("make corpus asks for it")
	}
	doc := onePage()
	doc.Pages = append(doc.Pages, site.Page{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Phone}},
		site.Page{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Phone}})
	b := newBench(t, doc)
	b.mark(0)
	r, _ := b.try(settings.Values{"styles.later": true, "images.dimensions": false, "markup.compact": true})
	require.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	found, step, _ := b.search(r.ID)
	assert.ElementsMatch(t, [][]string{{"styles.later = on"}, {"images.dimensions = off"}}, b.culprits(found.ID, step), found.Summary)
	assert.Contains(t, found.Summary, "The other breaks nothing.")
}

// Somebody who has seen enough takes what is known.
func TestFaultsAreSearchedForAsLongAsSomebodyWants(t *testing.T) {
	b := newBench(t, onePage())
	b.mark(0)
	r, _ := b.try(settings.Values{"scripts.defer": true, "markup.compact": true, "images.keyFirst": true, "warm.every": 7200})
	s, err := b.runner.StartSearch(t.Context(), r.ID, "tester")
	require.NoError(t, err)
	require.NoError(t, b.store.EndSearch(t.Context(), s.ID))
	require.NoError(t, b.runner.Run(t.Context(), s.ID))
	found := b.run(s.ID)
	assert.Equal(t, evidence.VerdictUnsure, found.Verdict)
	assert.Contains(t, found.Summary, "Not found: it is among 4 of 4 edits.")
}

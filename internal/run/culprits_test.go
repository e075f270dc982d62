package run_test

import (
	"cmp"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/standin/sedge"
	"tidemarker/internal/store"
)

// beside are harmless edits among which a culprit is hidden, by site.
var beside = map[string]settings.Values{
	"fernhollow": {"markup.compact": true, "styles.compact": true, "scripts.compact": true, "pages.lifetime": 86400, "fonts.own": true, "fonts.early": true, "images.keyFirst": true,
		"warm.every": 7200, "background.every": 120, "pages.store": "memory", "delivery.pack": "gzip", "images.lazySkip": 3},
	"quillet": {"markupTight": true, "styleTight": true, "codeTight": true, "storeSpan": 14400, "storePlace": "files", "imageFirst": 3, "tidyKeep": 5},
	"sedge":   {"styles.spare": true, "scripts.spare": true},
}

// together are names of changes of the corpus that are tried together, two or three at a time, after their site: each culprit
// is to be found.
var together = [][]string{
	{"fernhollow", "scripts deferred past the code that needs them", "the map waits to be asked for"},
	{"fernhollow", "pictures without dimensions", "no glyphs"},
	{"fernhollow", "the basket is cached", "one copy for phones and all others"},
	{"fernhollow", "the search ignores what is searched for", "scripts delayed past the code that needs them"},
	{"quillet", "scripts deferred past the code that needs them", "tickets are cached"},
	{"quillet", "pictures without sizes", "the month is ignored"},
	{"fernhollow", "pictures without dimensions", "no glyphs", "the map waits to be asked for"},
	{"quillet", "pictures without sizes", "the month is ignored", "tickets are cached"},
}

// withTogether are cases, and those of them that are tried together.
func withTogether(t *testing.T, cases []corpusCase) []corpusCase {
	t.Helper()
	out := slices.Clone(cases)
	for _, names := range together {
		var whole corpusCase
		for i, name := range names[1:] {
			at := slices.IndexFunc(cases, func(x corpusCase) bool { return x.Site == names[0] && x.Name == name })
			require.GreaterOrEqual(t, at, 0, name)
			x := cases[at]
			if i == 0 {
				whole = x
				whole.Name, whole.Exclude, whole.Culprit = "together: "+x.Name, nil, slices.Clone(x.Culprit)
				continue
			}
			whole.Name, whole.Edits, whole.Culprit = whole.Name+", "+x.Name, whole.Edits.With(x.Edits), append(whole.Culprit, x.Culprit...)
		}
		out = append(out, whole)
	}
	return out
}

// TestFaultsOfTheCorpusHaveTheirCulprit hides each change that breaks something among harmless
// ones, and searches for it. make corpus asks for it by TIDEMARKER_CULPRITS=all, or words of the
// names of some; in short there is TestFaultsHaveTheirCulpritNamed.
func TestFaultsOfTheCorpusHaveTheirCulprit(t *testing.T) {
	which := os.Getenv("TIDEMARKER_CULPRITS")
	if which == "" {
		t.Skip("make corpus searches for each culprit of the corpus; in short others do")
	}
	c := readCases(t)
	at := grounds(t)
	var tried, right, within, excluded, excludable int
	var checks []int
	var wrong []string
	for _, x := range withTogether(t, c.Broken) {
		chosen := which == "all" || slices.ContainsFunc(strings.Split(which, ";"), func(words string) bool { return strings.Contains(x.Site+": "+x.Name, words) })
		if x.Verdict != "" || !chosen || x.Site == "sedge" && !sedge.Installed() {
			continue
		}
		g := at(x.Site)
		r, found := g.try(beside[x.Site].With(x.Edits))
		if _, any := inspect.Seek(found, false); r.Verdict == evidence.VerdictClear || !any {
			t.Logf("%-12s %-60s is not searched for: %s", x.Site, x.Name, r.Summary)
			continue
		}
		tried++
		s, step, answers := g.search(r.ID)
		search, err := g.store.Search(t.Context(), s.ID)
		require.NoError(t, err)
		var keys []string
		for _, set := range step.Culprits {
			for _, i := range set {
				keys = append(keys, search.Problem.V.Parts[i].Key)
			}
		}
		slices.Sort(keys)
		keys = slices.Compact(keys)
		want := slices.Sorted(slices.Values(x.Culprit))
		n := 0
		for _, a := range answers[1:] {
			if a.Excluding < 0 && a.FromRunID == nil {
				n++
			}
		}
		checks = append(checks, n)
		ok := slices.Equal(keys, want)
		if ok {
			right++
		} else {
			wrong = append(wrong, x.Site+": "+x.Name+": "+s.Summary)
			tellAnswers(t, search, answers, found)
		}
		if len(x.Culprit) > 1 || n <= bits.Len(uint(len(search.Problem.V.Parts)-1))+2 {
			within++
		}
		said := ""
		for key, list := range x.Exclude {
			excludable++
			got := settings.Values{}.With(x.Edits).Strings(key)
			for _, set := range step.Culprits { // what a list has lost is to come back
				for _, i := range set {
					if p := search.Problem.V.Parts[i]; p.Key == key && p.Removed {
						got = append(got, p.Entry)
					}
				}
			}
			for _, e := range search.Exclusions.V {
				for _, i := range e.Fewest {
					if e.Key == key {
						got = append(got, e.Candidates[i].Pattern)
					}
				}
			}
			want := settings.Values{key: list}.Strings(key)
			slices.Sort(got)
			slices.Sort(want)
			if got = slices.Compact(got); slices.Equal(want, got) {
				excluded++
			}
			said = strings.Join(got, " ")
		}
		t.Logf("%-12s %-60s right %-5v tries %2d of %2d parts, excluded %s: %s %v", x.Site, x.Name, ok, n, len(search.Problem.V.Parts), said, s.Summary, s.FinishedAt.Sub(*s.StartedAt).Round(1e9))
	}
	slices.Sort(checks)
	t.Logf("tried %d: culprit right %d, within ⌈log2 n⌉ + 2 tries %d; exclusions right %d of %d; tries %v", tried, right, within, excluded, excludable, checks)
	assert.Equal(t, tried, right, strings.Join(wrong, "\n"))
}

// tellAnswers logs what a search asked and heard.
func tellAnswers(t *testing.T, search store.Search, answers []store.SearchAnswer, found []evidence.Finding) {
	t.Helper()
	titles := map[string]string{}
	for _, f := range found {
		titles[f.Fingerprint] = fmt.Sprintf("%s %s%s %s: %s", f.Kind, f.Page, f.Journey, f.Device, f.Title)
	}
	for i, a := range answers {
		var parts, shown []string
		for _, n := range a.Parts.V {
			if a.Excluding < 0 {
				parts = append(parts, search.Problem.V.Parts[n].Key)
			}
		}
		for _, f := range a.Findings.V {
			shown = append(shown, cmp.Or(titles[f], f))
		}
		t.Logf("  %2d %5.1f s excluding %d rest %v earlier %v: %s with %s: %s", i, a.Seconds, a.Excluding, a.Rest, a.FromRunID != nil, a.Outcome, strings.Join(parts, " "), strings.Join(shown, "; "))
	}
}

// flaky are settings with which a file comes only now and then: a culprit that shows in some looks only.
var flaky = []struct {
	site, key, path string
	edits           settings.Values
	share           float64 // of requests that fail
}{
	{"fernhollow", "scripts.combine", "/made/", settings.Values{"scripts.combine": true}, 0.6},
	{"fernhollow", "images.lazy", "/pictures/", settings.Values{"images.lazy": true}, 0.7},
	{"quillet", "codeOne", "/made/", settings.Values{"codeOne": true}, 0.75},
}

// TestFaultsThatComeAndGoHaveTheirCulprit hides settings that break something only now and then among harmless ones. In short
// it is part of make corpus only.
func TestFaultsThatComeAndGoHaveTheirCulprit(t *testing.T) {
	which := os.Getenv("TIDEMARKER_CULPRITS")
	if which == "" {
		t.Skip("make corpus searches for what comes and goes")
	}
	at := grounds(t)
	for _, x := range flaky {
		if which != "all" && !strings.Contains(which, "flaky") {
			t.Skip("others were chosen")
		}
		g := at(x.site)
		r := rand.New(rand.NewPCG(5, 5))
		var mu sync.Mutex
		g.staging.Layer.Falter(func(v settings.Values, req *http.Request) bool {
			mu.Lock()
			defer mu.Unlock()
			on, _ := v[x.key].(bool)
			return on && strings.Contains(req.URL.Path, x.path) && r.Float64() < x.share
		})
		try, found := g.try(beside[x.site].With(x.edits))
		if _, any := inspect.Seek(found, false); !any {
			t.Errorf("%s %s is not searched for: %s", x.site, x.key, try.Summary)
			continue
		}
		s, step, answers := g.search(try.ID)
		search, err := g.store.Search(t.Context(), s.ID)
		require.NoError(t, err)
		var keys []string
		for _, set := range step.Culprits {
			for _, i := range set {
				keys = append(keys, search.Problem.V.Parts[i].Key)
			}
		}
		t.Logf("%-12s %-20s %s: %s (%d answers) %v", x.site, x.key, try.Verdict, s.Summary, len(answers), s.FinishedAt.Sub(*s.StartedAt).Round(1e9))
		assert.Equal(t, []string{x.key}, keys)
		g.staging.Layer.Falter(nil)
	}
}

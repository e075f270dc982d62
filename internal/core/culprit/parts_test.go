package culprit_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
)

// layer is a catalogue with an action, its exclusions, one that collides with it, one that
// requires it, and some beside.
var layer = settings.Catalogue{Settings: []settings.Definition{
	{Key: "scripts.defer", Title: "Defer scripts", Type: settings.Switch, Default: false, Role: "js-defer", Risk: 2, Conflicts: []settings.Condition{{Key: "scripts.delay", Equals: true}}},
	{Key: "scripts.deferNot", Title: "Not deferred", Type: settings.Patterns, Default: []string{}, Role: "js-exclude-defer", Risk: 1},
	{Key: "scripts.delay", Title: "Delay scripts", Type: settings.Switch, Default: false, Role: "js-delay", Risk: 3},
	{Key: "scripts.early", Title: "Fetch early", Type: settings.Switch, Default: false, Role: "js-inline", Risk: 1, Requires: []settings.Condition{{Key: "scripts.defer", Equals: true}}},
	{Key: "pages.cache", Title: "Cache pages", Type: settings.Switch, Default: true, Role: "page-cache", Risk: 2},
	{Key: "pages.never", Title: "Never cached", Type: settings.Patterns, Default: []string{}, Role: "path-exclude", Risk: 2},
	{Key: "styles.compact", Title: "Compact styles", Type: settings.Switch, Default: false, Role: "css-minify", Risk: 1},
}}

func TestAChangeComesApartIntoSettingsAndEntries(t *testing.T) {
	before := settings.Values{"scripts.defer": false, "pages.never": []string{"/cart", "/account"}, "pages.cache": true}
	after := settings.Values{"scripts.defer": true, "pages.never": []string{"/cart", "/search"}, "pages.cache": true}
	parts := culprit.Parts(before, after)
	assert.Equal(t, []culprit.Part{{Key: "pages.never", Entry: "/account", Removed: true}, {Key: "pages.never", Entry: "/search"}, {Key: "scripts.defer", Value: true}}, parts)
	assert.Equal(t, []string{"pages.never without /account", "pages.never with /search", "scripts.defer = on"}, []string{parts[0].String(), parts[1].String(), parts[2].String()})

	one := culprit.Put(before, parts[:1])
	assert.Equal(t, []string{"/cart"}, one.Strings("pages.never"))
	assert.Equal(t, false, one["scripts.defer"], "nothing else is put in")
	assert.Equal(t, []string{"/cart", "/account"}, before.Strings("pages.never"), "what it began from stays")

	other := culprit.Parts(settings.Values{"l": []string{"a", "b"}}, settings.Values{"l": []string{"b", "a"}})
	assert.Equal(t, []culprit.Part{{Key: "l", Value: []any{"b", "a"}}}, []culprit.Part{{Key: other[0].Key, Value: anyOf(other[0].Value)}}, "another order is one part")
}

func anyOf(v any) []any {
	var out []any
	switch list := v.(type) {
	case []string:
		for _, e := range list {
			out = append(out, e)
		}
	case []any:
		out = list
	}
	return out
}

// All parts put in give what the change gives, but for the order of lists; none give what was.
func TestAllPartsTogetherAreTheChange(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) settings.Values {
			list := rapid.SliceOfDistinct(rapid.SampledFrom([]string{"/a", "/b", "/c", "/d"}), func(s string) string { return s }).Draw(t, name)
			return settings.Values{"list": list, "on": rapid.Bool().Draw(t, name+" on"), "n": float64(rapid.IntRange(0, 3).Draw(t, name+" n"))}
		}
		before, after := draw("before"), draw("after")
		parts := culprit.Parts(before, after)
		got := culprit.Put(before, parts)
		require.Equal(t, after["on"], got["on"])
		require.Equal(t, after["n"], got["n"])
		require.ElementsMatch(t, after.Strings("list"), got.Strings("list"))
		require.Empty(t, settings.Diff(before, culprit.Put(before, nil)))
	})
}

func TestWhatCannotStandAloneIsTriedWithWhatItNeeds(t *testing.T) {
	before := layer.Defaults().With(settings.Values{"scripts.delay": true, "pages.never": []string{"/cart"}})
	after := before.With(settings.Values{"scripts.delay": false, "scripts.defer": true, "scripts.deferNot": []string{"/assets/fern.js"}, "scripts.early": true, "pages.never": []string{}, "styles.compact": true})
	parts := culprit.Parts(before, after)
	needs := culprit.NeedsOf(layer, settings.Host{}, before, parts)
	name := map[string][]string{}
	for i, list := range needs {
		for _, n := range list {
			name[parts[i].String()] = append(name[parts[i].String()], parts[n].String())
		}
	}
	slices.Sort(name["scripts.defer = on"])
	assert.Equal(t, map[string][]string{
		"scripts.defer = on": {"scripts.deferNot with /assets/fern.js", "scripts.delay = off"},
		"scripts.early = on": {"scripts.defer = on"},
	}, name, "what collides goes before it comes, its exclusions come with it")
}

func TestTheEvidenceSaysWhatIsLikely(t *testing.T) {
	before := layer.Defaults()
	parts := culprit.Parts(before, before.With(settings.Values{"scripts.defer": true, "scripts.deferNot": []string{"/assets/fern.js"}, "scripts.delay": true, "styles.compact": true, "pages.cache": false}))
	first := func(f evidence.Finding) string {
		likely := culprit.Likely(layer, parts, []evidence.Finding{f}, nil)
		best := 0
		for i := range likely {
			require.Positive(t, likely[i])
			if likely[i] > likely[best] {
				best = i
			}
		}
		return parts[best].Key
	}
	for _, tc := range []struct {
		f    evidence.Finding
		want string
	}{
		{evidence.Finding{Kind: evidence.MissingKind, Severity: evidence.Broken, Title: "Scripts are loaded later than the page"}, "scripts.delay"},
		{evidence.Finding{Kind: evidence.PictureKind, Severity: evidence.Broken, Title: "nav is drawn otherwise"}, "styles.compact"},
		{evidence.Finding{Kind: evidence.LeakKind, Severity: evidence.Broken, Title: "A visitor is shown it"}, "pages.cache"},
		{evidence.Finding{Kind: evidence.PolicyKind, Severity: evidence.Broken, Title: "“Defer scripts” holds for nothing"}, "scripts.defer"},
	} {
		assert.Equal(t, tc.want, first(tc.f), tc.f.Title)
	}
	likely := culprit.Likely(layer, parts, []evidence.Finding{{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Title: "Fern is not defined"}}, nil)
	at := slices.IndexFunc(parts, func(p culprit.Part) bool { return p.Key == "scripts.deferNot" })
	assert.Less(t, likely[at], 0.1, "one exclusion more is hardly to blame")
}

// A culprit that is left out takes with it what cannot be in force without it, and nothing else.
func TestWhatIsLeftOutTakesWithItWhatNeedsIt(t *testing.T) {
	cat := settings.Catalogue{Settings: []settings.Definition{
		{Key: "fonts", Title: "Fonts", Type: settings.Switch, Default: false},
		{Key: "swap", Title: "Swap", Type: settings.Switch, Default: false, Requires: []settings.Condition{{Key: "fonts", Equals: true}}},
		{Key: "markup", Title: "Markup", Type: settings.Switch, Default: false},
		{Key: "never", Title: "Never", Type: settings.Patterns, Default: []any{}, Role: "path-exclude"},
	}}
	before := settings.Values{"fonts": false, "swap": false, "markup": false, "never": []any{"/cart", "/checkout"}}
	after := settings.Values{"fonts": true, "swap": true, "markup": true, "never": []any{"/cart", "/search"}}
	left := culprit.Without(cat, settings.Host{}, before, after, []culprit.Part{{Key: "fonts", Value: true}, {Key: "never", Entry: "/checkout", Removed: true}})
	assert.Equal(t, false, left["fonts"])
	assert.Equal(t, false, left["swap"], "it needs fonts")
	assert.Equal(t, true, left["markup"])
	assert.ElementsMatch(t, []string{"/cart", "/checkout", "/search"}, left.Strings("never"), "what was lost is back, what was gained stays")
}

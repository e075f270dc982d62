package settings

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func switches(defs ...Definition) Catalogue {
	for i := range defs {
		if defs[i].Type == "" {
			defs[i].Type, defs[i].Default = Switch, false
		}
		defs[i].Title = defs[i].Key
	}
	return Catalogue{Settings: defs}
}

func TestAPiledUpChangeIsSplitIntoASeries(t *testing.T) {
	c := switches(
		Definition{Key: "defer", Role: "js-defer", Risk: 2, Conflicts: []Condition{{Key: "delay", Equals: true}}},
		Definition{Key: "delay", Role: "js-delay", Risk: 3},
		Definition{Key: "deferNot", Role: "js-exclude-defer", Risk: 1, Type: Patterns, Default: []any{}},
		Definition{Key: "drop", Role: "css-drop-unused", Risk: 3},
		Definition{Key: "keep", Role: "css-keep", Risk: 1, Type: Patterns, Default: []any{}},
		Definition{Key: "tight", Role: "html-minify", Risk: 1},
		Definition{Key: "lazy", Role: "lazy-images", Risk: 1},
	)
	edits := Values{"drop": true, "keep": []any{".menu"}, "defer": true, "deferNot": []any{"/lib.js"}, "tight": true, "lazy": true}
	assert.True(t, c.Piled(edits))
	assert.False(t, c.Piled(Values{"drop": true, "keep": []any{".menu"}, "lazy": true}), "one risky setting is one thing")
	assert.False(t, c.Piled(Values{"defer": false, "delay": true}), "what collides goes together")
	steps := c.Split(edits)
	require.Len(t, steps, 3)
	assert.Equal(t, Values{"tight": true, "lazy": true}, steps[0].Edits, "what hardly breaks anything comes first")
	assert.Equal(t, Values{"defer": true, "deferNot": []any{"/lib.js"}}, steps[1].Edits, "what is excluded goes with what excludes it")
	assert.Equal(t, Values{"drop": true, "keep": []any{".menu"}}, steps[2].Edits)
	together := Values{}
	for _, s := range steps {
		together = together.With(s.Edits)
	}
	assert.Empty(t, Diff(edits, together), "nothing is lost")
}

func TestBundlesFitAnyCatalogueAndCanBeSteppedDown(t *testing.T) {
	c := switches(
		Definition{Key: "hold", Role: "page-cache"}, Definition{Key: "after", Role: "js-defer", Conflicts: []Condition{{Key: "touch", Equals: true}}},
		Definition{Key: "touch", Role: "js-delay"}, Definition{Key: "tight", Role: "html-minify"}, Definition{Key: "keep", Role: "browser-cache", Needs: []string{"rewriteRules"}},
		Definition{Key: "pack", Role: "compress", Type: Choice, Default: "off", Choices: []Option{{Value: "off"}, {Value: "brotli", Needs: []string{"brotli"}}, {Value: "gzip", Needs: []string{"gzip"}}}},
	)
	host := Host{Facts: Facts{"gzip": true}}
	now := c.Defaults()
	bold, unmet := Bundles[2].Edits(c, now, host)
	assert.Equal(t, Values{"hold": true, "tight": true, "pack": "gzip", "after": true}, bold, "the choice that the host can carry is taken")
	var why []string
	for _, u := range unmet {
		why = append(why, u.Why)
	}
	assert.Contains(t, why, "keep: keep needs rewrite rules, which this host does not have. The host's administrator can set the same in the server's configuration.")
	now = now.With(bold)
	level, stepDown := Level(c, now, host)
	assert.Equal(t, []string{"Running tide", "Slack tide"}, []string{level, stepDown}, "of those that this catalogue cannot tell apart, the cautious one")
	down, _ := Bundles[1].Edits(c, now, host)
	assert.Equal(t, Values{"after": false}, down, "stepping down takes back what only the bolder one wants")
	again, _ := Bundles[2].Edits(c, now, host)
	assert.Empty(t, again, "applied once, it changes nothing more")
	collided, unmet := Bundles[2].Edits(c, c.Defaults().With(Values{"touch": true}), host)
	assert.NotContains(t, collided, "after", "what collides with what is there is left")
	assert.NotEmpty(t, unmet)
}

func TestEveryShippedBundleSaysSomethingOfTheSameRoles(t *testing.T) {
	roles := func(b Bundle) map[Role]bool {
		m := map[Role]bool{}
		for _, w := range b.Wishes {
			m[w.Role] = true
		}
		return m
	}
	for _, b := range Bundles[1:] {
		assert.Equal(t, roles(Bundles[0]), roles(b), b.Name)
	}
}

func TestATeamsBundleHasWhatFitsElsewhere(t *testing.T) {
	c := switches(Definition{Key: "hold", Role: "page-cache"}, Definition{Key: "never", Role: "path-exclude", Type: Patterns, Default: []any{}},
		Definition{Key: "tidy", Role: "tidy", Irreversible: true}, Definition{Key: "a", Role: "trim-feature"}, Definition{Key: "b", Role: "trim-feature"})
	b := BundleOf("Ours", "", c, Values{"hold": true, "never": []any{"/x"}, "tidy": true, "a": true, "b": false})
	assert.Equal(t, []Wish{{"page-cache", true}}, b.Wishes)
}

func TestARevisionIsCarriedToAnotherSiteByWhatItMeans(t *testing.T) {
	here := switches(Definition{Key: "scripts.defer", Role: "js-defer"}, Definition{Key: "scripts.not", Role: "js-exclude-defer", Type: Patterns, Default: []any{}},
		Definition{Key: "life", Role: "page-cache-ttl", Type: Seconds, Default: 60.0}, Definition{Key: "frames", Role: "lazy-frames"}, Definition{Key: "tidy", Role: "tidy", Irreversible: true},
		Definition{Key: "late", Role: "lazy-images", Needs: nil})
	there := switches(Definition{Key: "codeAfter", Role: "js-defer"}, Definition{Key: "codeNot", Role: "js-exclude-defer", Type: Patterns, Default: []any{}},
		Definition{Key: "span", Role: "page-cache-ttl", Type: Seconds, Min: limit(100), Default: 600.0}, Definition{Key: "imageLate", Role: "lazy-images", Needs: []string{"notShared"}}, Definition{Key: "tidyDrafts", Role: "tidy"})
	doc, err := CopyOf("Shop", "Pages 4", here, Values{"scripts.defer": true, "scripts.not": []any{"/lib.js"}, "life": 30.0, "frames": true, "tidy": true, "late": true},
		[]CopiedExclusion{{"js-exclude-defer", "/lib.js", "inline code needs it"}})
	require.NoError(t, err)
	raw, err := json.Marshal(doc)
	require.NoError(t, err)
	back, err := ParseCopied(raw)
	require.NoError(t, err)
	fit := there.Fit(back, there.Defaults(), Host{Facts: Facts{}})
	got := map[string]Mapped{}
	for _, m := range fit.Mapped {
		got[m.Key] = m
	}
	assert.Equal(t, true, got["codeAfter"].Value)
	assert.Equal(t, 100.0, got["span"].Value, "as near as the other site allows")
	assert.True(t, got["codeNot"].Confirm, "addresses of the other site are to be confirmed")
	assert.Len(t, got, 3)
	assert.Len(t, fit.Without, 3, "frames have no counterpart, late pictures no host, a tidy is never carried: %v", fit.Without)
	_, err = ParseCopied([]byte(`{"format":"other"}`))
	assert.ErrorContains(t, err, `its format is "other"`)
}

// What one change did is copied to another site: its edits only, and of lists only what was added and taken away.
func TestTheEditsOfAChangeAreCarriedToAnotherSite(t *testing.T) {
	never := Definition{Key: "never", Role: "path-exclude", Type: Patterns, Default: []any{}}
	here := switches(Definition{Key: "scripts.defer", Role: "js-defer"}, never, Definition{Key: "trim.feed", Role: "trim-feature"}, Definition{Key: "trim.icons", Role: "trim-feature"}, Definition{Key: "late", Role: "lazy-images"})
	twin := here
	other := switches(Definition{Key: "codeAfter", Role: "js-defer"}, Definition{Key: "skip", Role: "path-exclude", Type: Patterns, Default: []any{}}, Definition{Key: "noFeed", Role: "trim-feature"})
	base := here.Defaults().With(Values{"never": []any{"/cart", "/old"}, "late": true})
	edits := Values{"scripts.defer": true, "never": []any{"/cart", "/wishlist"}, "trim.feed": true}
	doc, err := CopyOf("Shop", "Pages 4", here, base.With(edits), nil)
	require.NoError(t, err)
	values := func(f Fit) map[string]any {
		out := map[string]any{}
		for _, m := range f.Mapped {
			out[m.Key] = m.Value
		}
		return out
	}

	fit := twin.FitEdits(doc, base, edits, twin.Defaults().With(Values{"never": []any{"/pay", "/old"}}), Host{Facts: Facts{}})
	assert.Equal(t, map[string]any{"scripts.defer": true, "never": []any{"/pay", "/wishlist"}, "trim.feed": true}, values(fit), "the same key, role and type is the same setting, though two share the role")
	assert.Empty(t, fit.Without)

	fit = other.FitEdits(doc, base, edits, other.Defaults().With(Values{"codeAfter": true}), Host{Facts: Facts{}})
	assert.Equal(t, map[string]any{"skip": []any{"/wishlist"}}, values(fit))
	assert.Equal(t, 1, fit.Same)
	require.Len(t, fit.Without, 1, "which of two the one setting is, nobody guesses")
	assert.Equal(t, Role("trim-feature"), fit.Without[0].Role)
}

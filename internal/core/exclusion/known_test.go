package exclusion_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
)

// What nobody had to see: a form outlives its page, a rule matches everything, a class that
// must never be cached is not covered, a parameter that makes another page is ignored.
func TestContradictionsOfSettingsAreFindings(t *testing.T) {
	known := exclusion.Known{
		Pages:      []exclusion.Page{{Path: "/", Class: "home"}, {Path: "/tickets", Class: "form", FormLives: 90}, {Path: "/cart", Class: "cart", Never: true}, {Path: "/search?q=comet", Class: "search"}},
		Parameters: []exclusion.Parameter{{Name: "q", Page: "/search?q=comet", Matters: true}},
	}
	rule := func(role, pattern string) exclusion.Rule {
		return exclusion.Rule{Role: role, Key: role, Pattern: pattern}
	}
	layer := func(lifetime int, rules ...exclusion.Rule) []exclusion.Remark {
		return exclusion.Coverage(exclusion.Layer{On: true, Lifetime: lifetime, Rules: rules}, known)
	}
	cart := rule("path-exclude", "/cart")
	sound := layer(60, cart)
	for name, tc := range map[string]struct {
		now      []exclusion.Remark
		kind     evidence.Kind
		severity evidence.Severity
		page     string
		title    string
	}{
		"a form outlives its page":             {layer(600, cart), evidence.FormKind, evidence.Broken, "/tickets", "A page is cached for longer than its form can be sent"},
		"a rule matches everything":            {layer(60, cart, rule("path-exclude", "/")), evidence.PolicyKind, evidence.Broken, "/", "“/” matches every page: nothing is cached now"},
		"a page that must never be is cached":  {layer(60), evidence.PolicyKind, evidence.Broken, "/cart", "A page that must never be cached can be"},
		"a parameter that matters is ignored":  {layer(60, cart, rule("query-ignore", "q")), evidence.VariantKind, evidence.Broken, "/search?q=comet", "“q” is ignored although it makes another page"},
		"a rule keeps one page from the cache": {layer(60, cart, rule("path-exclude", "/tickets")), evidence.PolicyKind, evidence.Note, "/tickets", "“/tickets” keeps pages from being cached that should be"},
	} {
		t.Run(name, func(t *testing.T) {
			found := exclusion.NewFindings(exclusion.Layer{}, sound, tc.now)
			var f *evidence.Finding
			for i := range found {
				if found[i].Kind == tc.kind && found[i].Severity == tc.severity {
					f = &found[i]
				}
			}
			require.NotNil(t, f, "%+v", found)
			assert.Equal(t, tc.title, f.Title)
			assert.Equal(t, tc.page, f.Page)
			assert.True(t, f.Known)
			assert.False(t, f.NeedsControl(), "it follows; there is nothing to look at")
			assert.Empty(t, exclusion.NewFindings(exclusion.Layer{}, tc.now, tc.now), "what was so before is not the change's")
		})
	}
	assert.Empty(t, exclusion.NewFindings(exclusion.Layer{}, sound, sound))
}

// A rule that matched and does not any more has lost something; a new one that matches nothing
// that is known may be meant for what nobody has seen yet.
func TestARuleThatMatchesNothingWeighsByWhetherItIsNew(t *testing.T) {
	r := exclusion.Rule{Key: "never", Role: "path-exclude", Pattern: "/old-shop"}
	idle := []exclusion.Remark{{Kind: exclusion.Idle, Rule: &r, Text: "It matches no page."}}
	f := exclusion.NewFindings(exclusion.Layer{Rules: []exclusion.Rule{r}}, nil, idle)
	require.Len(t, f, 1)
	assert.Equal(t, evidence.Unsure, f[0].Severity)
	assert.Equal(t, "“/old-shop” matches nothing now", f[0].Title)
	f = exclusion.NewFindings(exclusion.Layer{}, nil, idle)
	require.Len(t, f, 1)
	assert.Equal(t, evidence.Note, f[0].Severity)
	assert.Equal(t, "“/old-shop” matches nothing that is known of the site", f[0].Title)
}

func TestSwitchingThePageCacheOffIsTold(t *testing.T) {
	assert.Len(t, exclusion.NoLongerAtAll(exclusion.Layer{On: true}, exclusion.Layer{}), 1)
	assert.Empty(t, exclusion.NoLongerAtAll(exclusion.Layer{}, exclusion.Layer{}))
	assert.Empty(t, exclusion.NoLongerAtAll(exclusion.Layer{On: true}, exclusion.Layer{On: true}))
}

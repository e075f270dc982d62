package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func paths(patterns ...string) []Rule {
	var out []Rule
	for _, p := range patterns {
		out = append(out, Rule{Key: "never", Role: "path-exclude", Pattern: p})
	}
	return out
}

func open(path, class string) Page { return Page{Path: path, Class: class} }
func shut(path, class string) Page { return Page{Path: path, Class: class, Never: true} }

// shop is a small site: what must never be cached, and what should be.
var shop = []Page{
	open("/", "home"), open("/kits", "listing"), open("/kits/oyster", "item"), open("/cards", "item"), open("/library/pins", "article"),
	shut("/cart", "cart"), shut("/checkout", "checkout"), shut("/checkout/pay", "checkout"),
	shut("/account", "account"), shut("/library/members/cellar", "membership"), shut("/library/members/mill", "membership"),
}

func remarks(list []Remark, kind RemarkKind) []Remark {
	var out []Remark
	for _, r := range list {
		if r.Kind == kind {
			out = append(out, r)
		}
	}
	return out
}

func TestGoodRulesAreNotRemarkedOn(t *testing.T) {
	l := Layer{On: true, LoggedIn: "bypass", Rules: append(paths("/cart", "/checkout", "/account", "/library/members/"), Rule{Key: "ignored", Role: "query-ignore", Pattern: "utm_*"}, Rule{Key: "own", Role: "query-vary", Pattern: "kind"})}
	k := Known{Pages: shop, People: []Person{{Name: "member", Kind: "member", Cookies: []string{"fern_member"}, SignedIn: true}}, Parameters: []Parameter{{"kind", "/kits", true}, {"utm_source", "/", false}}}
	assert.Empty(t, Coverage(l, k))
}

func TestPagesThatNoRuleCoversAreNamedWithTheSmallestRule(t *testing.T) {
	got := remarks(Coverage(Layer{On: true, Rules: paths("/cart")}, Known{Pages: shop}), Uncovered)
	require.Len(t, got, 3)
	mends := map[string][]string{}
	for _, r := range got {
		mends[r.Pages[0]] = r.Mend.Add
	}
	assert.Equal(t, map[string][]string{"/account": {"/account"}, "/checkout": {"/checkout"}, "/library/members/cellar": {"/library/members"}}, mends)
	got = remarks(Coverage(Layer{On: true}, Known{Pages: shop}), Uncovered)
	require.Len(t, got, 4)
	assert.Equal(t, []string{"/cart"}, got[1].Mend.Add, "nothing that should be cached begins so")
	assert.Empty(t, Coverage(Layer{}, Known{Pages: shop}), "nothing is cached")
}

func TestAMendNeverTouchesAPageThatShouldBeCached(t *testing.T) {
	pages := []Page{shut("/m/a", "membership"), open("/m/ab", "article"), open("/m", "listing"), shut("/x$y", "account"), open("/x$yz", "home")}
	l := Layer{On: true}
	for _, r := range Coverage(l, Known{Pages: pages}) {
		require.Equal(t, Uncovered, r.Kind)
		l.Rules = append(l.Rules, paths(r.Mend.Add...)...)
	}
	assert.Equal(t, "/m/a$", l.Rules[1].Pattern)
	assert.Empty(t, Coverage(l, Known{Pages: pages}), "what was offered mends it, and breaks nothing: %v", l.Rules)
}

func TestARuleThatIsTooWideIsNarrowed(t *testing.T) {
	got := remarks(Coverage(Layer{On: true, Rules: paths("/ca", "/checkout", "/account", "/library/members/")}, Known{Pages: shop}), Wide)
	require.Len(t, got, 1)
	assert.Equal(t, []string{"/cards"}, got[0].Pages)
	assert.InDelta(t, 0.2, got[0].Share, 1e-9, "one of five")
	assert.Equal(t, &Mend{Role: "path-exclude", Key: "never", Remove: []string{"/ca"}, Add: []string{"/cart"}}, got[0].Mend)
	meant := paths("/ca")
	meant[0].For = []string{"item"}
	assert.Empty(t, remarks(Coverage(Layer{On: true, Rules: meant}, Known{Pages: shop}), Wide), "the ledger says that it is for such pages")
	got = remarks(Coverage(Layer{On: true, Rules: paths("/")}, Known{Pages: shop}), Wide)
	require.Len(t, got, 1)
	assert.Equal(t, 5, got[0].Count)
	assert.Contains(t, got[0].Text, "100 %")
	assert.Equal(t, []string{"/account", "/cart", "/checkout", "/library/members"}, got[0].Mend.Add)
}

func TestUselessImpossibleAndContradictingRules(t *testing.T) {
	l := Layer{On: true, Rules: append(paths("/cart/items", "/cart", "/cart*", "cart", "/x*y", "*"), Rule{Key: "ignored", Role: "query-ignore", Pattern: "utm_*"}, Rule{Key: "own", Role: "query-vary", Pattern: "utm_id"})}
	got := Coverage(l, Known{})
	useless := map[string]string{}
	for _, r := range remarks(got, Useless) {
		useless[r.Rule.Pattern] = r.By[0]
	}
	assert.Equal(t, map[string]string{"/cart/items": "/cart", "/cart": "*", "/cart*": "*", "/x*y": "*"}, map[string]string{"/cart/items": useless["/cart/items"], "/cart": useless["/cart"], "/cart*": useless["/cart*"], "/x*y": useless["/x*y"]})
	impossible := remarks(got, Impossible)
	require.Len(t, impossible, 1)
	assert.Contains(t, impossible[0].Text, "an address begins with “/”")
	both := remarks(got, Both)
	require.Len(t, both, 1)
	assert.Contains(t, both[0].Text, "“utm_id” is in both lists")

	twins := remarks(Coverage(Layer{On: true, Rules: paths("/a", "/a*")}, Known{}), Useless)
	require.Len(t, twins, 1, "of two that do the same, one stays")
	assert.Equal(t, "/a*", twins[0].Rule.Pattern)
}

func TestIdleRulesAreOnlyNamedWhereSomethingIsKnown(t *testing.T) {
	rules := append(paths("/old-shop"), Rule{Key: "left", Role: "js-exclude-defer", Pattern: "menu.js"}, Rule{Key: "left", Role: "js-exclude-defer", Pattern: "gone.js"})
	got := remarks(Coverage(Layer{On: true, Rules: rules}, Known{Pages: shop[:2]}), Idle)
	require.Len(t, got, 1)
	assert.Equal(t, "/old-shop", got[0].Rule.Pattern)
	got = remarks(Coverage(Layer{On: true, Rules: rules}, Known{Resources: []string{"http://s/assets/menu.js?v=2"}}), Idle)
	require.Len(t, got, 1)
	assert.Equal(t, "gone.js", got[0].Rule.Pattern)
}

func TestPeopleAndParametersThatAreMistaken(t *testing.T) {
	member := Person{Name: "member", Kind: "member", Cookies: []string{"wp_0123456789abcdef", "lang"}, SignedIn: true}
	basket := Person{Name: "basket", Kind: "visitor-with-cart", Cookies: []string{"cart"}}
	l := Layer{On: true, LoggedIn: "naive", Rules: []Rule{{Key: "ignored", Role: "query-ignore", Pattern: "kind"}, {Key: "ignored", Role: "query-ignore", Pattern: "q*"}}}
	k := Known{People: []Person{member, basket}, Parameters: []Parameter{{"kind", "/kits?kind=a", true}, {"q", "/search?q=a", true}, {"q", "/search?q=b", true}, {"ref", "/", false}}}
	got := Coverage(l, k)
	personal := remarks(got, Personal)
	require.Len(t, personal, 1, "a basket may be filled in by a script")
	assert.Equal(t, []string{"wp_*", "lang"}, personal[0].Mend.Add, "what is made up for each person is left out of a name")
	dependent := remarks(got, Dependent)
	require.Len(t, dependent, 2)
	assert.Equal(t, []string{"kind"}, dependent[0].Mend.Remove)
	assert.Nil(t, dependent[1].Mend, "the pattern stands for other parameters, too")

	l.Rules = []Rule{{Key: "c", Role: "cookie-exclude", Pattern: "wp_*"}}
	assert.Empty(t, remarks(Coverage(l, k), Personal))
	l = Layer{On: true, LoggedIn: "own"}
	assert.Empty(t, remarks(Coverage(l, k), Personal), "each has a copy of their own")
}

func TestWhatTheSettingsSayOfACell(t *testing.T) {
	member := Person{Name: "m", Kind: "member", Cookies: []string{"sid"}, SignedIn: true}
	stranger := Person{Name: "visitor", Kind: "visitor"}
	l := Layer{On: true, LoggedIn: "bypass", Rules: append(paths("/library", "/library/members/", "/cart"),
		Rule{Key: "a", Role: "agent-exclude", Pattern: "probe"}, Rule{Key: "r", Role: "role-exclude", Pattern: "editor"})}
	for name, tc := range map[string]struct {
		layer func(*Layer)
		page  string
		who   Person
		agent string
		want  Policy
		why   string
	}{
		"a visitor on an open page": {nil, "/kits", stranger, "", Shared, "Nothing excludes it"},
		"the rule with most octets": {nil, "/library/members/x", stranger, "", Never, "/library/members/"},
		"somebody who is signed in": {nil, "/kits", member, "", Never, "never served"},
		"with a copy of their own":  {func(l *Layer) { l.LoggedIn = "own" }, "/kits", member, "", Own, "copies of their own"},
		"as everybody":              {func(l *Layer) { l.LoggedIn = "naive" }, "/kits", member, "", Shared, "cached for all"},
		"by a cookie": {func(l *Layer) {
			l.LoggedIn = ""
			l.Rules = append(l.Rules, Rule{Key: "c", Role: "cookie-exclude", Pattern: "s*"})
		}, "/kits", member, "", Never, "cookie sid"},
		"by a role":                       {func(l *Layer) { l.LoggedIn = "own" }, "/kits", Person{Kind: "editor", SignedIn: true}, "", Never, "role"},
		"by a browser, whatever its case": {nil, "/kits", stranger, "A ProbeBot", Never, "browser"},
		"nothing is cached":               {func(l *Layer) { l.On = false }, "/kits", stranger, "", Never, "not cached at all"},
	} {
		t.Run(name, func(t *testing.T) {
			l := l
			if tc.layer != nil {
				tc.layer(&l)
			}
			got := l.Says(tc.page, tc.who, tc.agent)
			assert.Equal(t, tc.want, got.Policy)
			assert.Contains(t, got.Why, tc.why)
		})
	}
}

// The defaults are common practice.
func TestPoliciesByDefault(t *testing.T) {
	for _, class := range []string{"cart", "checkout", "account", "membership"} {
		assert.Equal(t, Never, DefaultPolicy(class, "visitor"), class)
	}
	for _, kind := range []string{"customer", "member", "editor"} {
		assert.Equal(t, Never, DefaultPolicy("home", kind), kind)
	}
	assert.Equal(t, Shared, DefaultPolicy("article", "visitor"))
	assert.Equal(t, Shared, DefaultPolicy("form", "visitor-with-cart"))
	assert.Equal(t, []string{"kind", "q"}, Parameters("/kits?q=a&kind=b&q=c"))
}

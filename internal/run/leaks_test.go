package run_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
)

// peopled is the shop with everybody who could be mistaken for somebody else.
func peopled() site.Site {
	page := func(path, class string, personas ...string) site.Page {
		return page(path, class, []string{site.Desktop}, personas...)
	}
	signIn := func(name, password string) []journey.Step {
		return []journey.Step{{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: name}},
			{Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: password}}, {Click: target("button", "Sign in")}, {Expect: &journey.Expect{URL: "/account"}}}
	}
	// The members say something of their own, and sign out in the end.
	tell := []journey.Step{{Fill: &journey.Input{In: journey.Target{Label: "For the carrier"}, Value: "Leave it at the " + journey.Canary}}, {Click: target("button", "Keep")},
		{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "Leave it at the " + journey.Canary}}}}
	leave := []journey.Step{{Go: "/account"}, {Click: target("button", "Sign out")}, {Go: "/account"}, {Expect: &journey.Expect{Visible: target("button", "Sign in")}}}
	home := page("/", "home")
	home.Devices = []string{site.Desktop, site.Phone}
	return site.Site{Name: "Fernhollow",
		Personas: []site.Persona{
			{Name: "carrier", Kind: "visitor-with-cart", PrivateTexts: []string{"Tawny mane block"}, Prepare: []journey.Step{
				{Go: "/kits/tawny-mane-block"}, {Click: target("button", "Add to basket")}, {Expect: &journey.Expect{URL: "/cart"}}}},
			{Name: "wren", Kind: "member", PrivateTexts: []string{"Wren Oakham", "FH-20417"}, Prepare: append(signIn("wren", "harvest moon"), tell...), SignOut: leave},
			{Name: "tom", Kind: "customer", PrivateTexts: []string{"Tom Harrow", "FH-21102"}, Prepare: signIn("tom", "pruning day")},
		},
		Pages: []site.Page{home, page("/kits?kind=oyster", "listing", "wren"), page("/search?q=mane", "search"), page("/cart", "cart", "carrier"), page("/checkout", "checkout"),
			page("/account", "account", "wren", "tom"), page("/library/members/the-long-cellar", "membership", "wren")}}
}

// naive serves people who are signed in what is cached for all, with these settings.
func naive(v settings.Values) settings.Values {
	return settings.Values{"pages.signedIn": "naive", "pages.neverWithCookies": []string{}, "pages.neverForRoles": []string{}}.With(v)
}

// mistake is one way in which somebody is served what is not theirs.
type mistake struct {
	what string
	kind evidence.Kind
	page string
}

// Twenty mistakes that people make with exclusions; several that do not disturb each
// other are made at once.
func TestFaultsOfCachingAreAllFound(t *testing.T) {
	b := newBench(t, peopled())
	b.runner.Tools.ReadyFor = time.Hour
	marked := b.mark(0)
	assert.Equal(t, evidence.VerdictClear, marked.Verdict, marked.Summary)
	const cart, checkout, account, membership, listing, home, search = "/cart", "/checkout", "/account", "/library/members/the-long-cellar", "/kits?kind=oyster", "/", "/search?q=mane"
	never := func(patterns ...string) settings.Values {
		return settings.Values{"pages.never": append(patterns, "/api/")}
	}
	// Correct settings, five times, in short twice: nothing is found.
	correct := []settings.Values{
		{"pages.signedIn": "own"},
		{"pages.signedIn": "own", "pages.neverWithCookies": []string{}},
		{"data.cache": true},
		{"pages.never": []string{"/cart", "/checkout", "/account", "/library/members/", "/api/", "/contact"}},
		{"pages.neverWithCookies": []string{"fern_*"}, "pages.ignoredParameters": []string{"utm_*", "ref"}},
	}
	short := os.Getenv("TIDEMARKER_CORPUS") == ""
	if short {
		correct = correct[4:]
	}
	for _, edits := range correct {
		r, f := b.with(release.IsolationRun, edits)
		assert.Equal(t, evidence.VerdictClear, r.Verdict, "%v: %s", edits, r.Summary)
		assert.Empty(t, f)
	}
	var every []string
	type caching struct {
		short int // those with one number are made together in short, those with none in make corpus only: they show like another one
		edits settings.Values
		want  []mistake
	}
	cases := []caching{
		{1, never("/cart/", "/checkout/", "/de/account", "/library/members$"), []mistake{
			{"the basket's rule has a slash too many", evidence.LeakKind, cart},
			{"the checkout's rule is for what is below", evidence.PolicyKind, checkout},
			{"the checkout's token is cached", evidence.FormKind, checkout},
			{"the account's rule is for one language", evidence.PolicyKind, account},
			{"the account's token is cached", evidence.FormKind, account},
			{"the members' rule ends too early", evidence.PolicyKind, membership}}},
		{0, never("/Cart", "checkout", "/account/", "/library/member/"), []mistake{
			{"the basket's rule is in another case", evidence.LeakKind, cart},
			{"the checkout's rule has no slash", evidence.PolicyKind, checkout},
			{"the account's rule has a slash too many", evidence.FormKind, account},
			{"the members' rule is for something else", evidence.PolicyKind, membership}}},
		{2, naive(nil), []mistake{
			{"people are greeted by another's name", evidence.LeakKind, listing},
			{"a member gets the page made for a visitor", evidence.VariantKind, listing}}},
		{3, naive(never("/cart", "/checkout")), []mistake{
			{"an account is shown to a visitor", evidence.LeakKind, account},
			{"a members' page is shown to a visitor", evidence.LeakKind, membership}}},
		{0, naive(settings.Values{"pages.neverWithCookies": []string{"Fern_member"}}), []mistake{{"the cookie's name is in another case", evidence.LeakKind, listing}}},
		{0, naive(settings.Values{"pages.neverWithCookies": []string{"fern_"}}), []mistake{{"the cookie's name is cut short", evidence.LeakKind, listing}}},
		{0, naive(settings.Values{"pages.neverForRoles": []string{"editor"}}), []mistake{{"only editors are kept apart", evidence.LeakKind, listing}}},
		{4, settings.Values{"pages.ignoredParameters": []string{"utm_*", "q", "kind"}}, []mistake{
			{"two searches give one result", evidence.VariantKind, search},
			{"two listings give one", evidence.VariantKind, listing}}},
		{4, settings.Values{"pages.perDevice": false}, []mistake{{"one device's page is served to another", evidence.VariantKind, home}}},
		{4, settings.Values{"data.cache": true, "data.not": []string{}}, []mistake{{"baskets come from one cached look-up", "", cart}}},
	}
	if short {
		together := make([]caching, 4)
		for _, c := range cases {
			if c.short > 0 {
				one := &together[c.short-1]
				one.edits, one.want = one.edits.With(c.edits), append(one.want, c.want...)
			}
		}
		cases = together
	}
	for _, tc := range cases {
		r, f := b.with(release.IsolationRun, tc.edits)
		assert.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
		var all []string
		for _, x := range f {
			all = append(all, string(x.Kind)+" "+x.Page+" "+x.Persona+": "+x.Title)
		}
		every = append(every, all...)
		for _, m := range tc.want {
			found := has(f, m.kind, m.page, site.Desktop) || has(f, m.kind, m.page, site.Phone)
			if m.kind == "" { // whose basket is shown to whom goes by who asks first
				found = has(f, evidence.LeakKind, m.page, site.Desktop) || has(f, evidence.VariantKind, m.page, site.Desktop) || has(f, evidence.ContentKind, m.page, site.Desktop)
			}
			assert.True(t, found, "%s: %s on %s is not among %q", m.what, m.kind, m.page, all)
		}
	}
	assert.Contains(t, every, "cache-leak "+listing+" wren: What belongs to wren is shown after signing out")
}

package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
)

func TestHowSoonAPageShowsWhatIsPublished(t *testing.T) {
	l := Layer{On: true, Lifetime: 36000, Rules: []Rule{{Key: "never", Role: "path-exclude", Pattern: "/cart"}, {Key: "fresh", Role: "always-refresh", Pattern: "/library/"}}}
	for _, tc := range []struct {
		layer  Layer
		page   string
		asked  int
		once   bool
		within int
		says   string
	}{
		{l, "/cart", 0, true, 0, "It is never cached. Its address is excluded by “/cart”."},
		{l, "/library/pins", 0, true, 0, "refreshed whenever something is published, by “/library/”"},
		{l, "/kits", 0, false, 36000, "What is cached lives for 10 hours."},
		{l, "/kits", 90, false, 90, "The team wants it within 90 seconds. What is cached lives for 10 hours."},
		{l, "/kits", 72000, false, 36000, "10 hours"},
		{l, "/library/pins", 60, true, 0, "refreshed"},
		{Layer{On: true}, "/kits", 0, false, 0, "No setting says"},
		{Layer{On: true}, "/kits", 60, false, 60, "The team wants it within 1 minute."},
		{Layer{Lifetime: 60}, "/kits", 0, true, 0, "Pages are not cached at all."},
	} {
		f := tc.layer.ShowsWithin(tc.page, tc.asked, "X11")
		assert.Equal(t, tc.once, f.AtOnce, tc.page)
		assert.Equal(t, tc.within, f.Seconds, tc.page)
		assert.Contains(t, f.Rule, tc.says)
	}
}

func TestWhatIsCachedLongerThanItIsGoodForIsRemarked(t *testing.T) {
	k := Known{Pages: []Page{{Path: "/contact", Class: "form", FormLives: 3600}, {Path: "/", Class: "home", Shows: 60}, {Path: "/kits", Class: "listing"}, {Path: "/library", Class: "article", Shows: 60}, {Path: "/ask", Class: "form", FormLives: 90000}}}
	l := Layer{On: true, Lifetime: 36000, Rules: []Rule{{Key: "fresh", Role: "always-refresh", Pattern: "/library"}}}
	form := remarks(Coverage(l, k), Expires)
	require.Len(t, form, 1)
	assert.Equal(t, "The form on /contact can be sent for 1 hour, but the page is cached for 10 hours. Anybody who opens it later than that is refused.", form[0].Text)
	late := remarks(Coverage(l, k), Late)
	require.Len(t, late, 1)
	assert.Equal(t, []string{"/$"}, late[0].Mend.Add)
	// Each mend mends it.
	for _, m := range []*Mend{form[0].Mend, late[0].Mend} {
		for _, p := range m.Add {
			l.Rules = append(l.Rules, Rule{Role: m.Role, Pattern: p})
		}
	}
	after := Coverage(l, k)
	assert.Empty(t, remarks(after, Expires))
	assert.Empty(t, remarks(after, Late))
	assert.Empty(t, remarks(Coverage(Layer{Lifetime: 36000}, k), Late), "nothing is cached")
}

func TestALifetimeIsReadByItsRole(t *testing.T) {
	cat := settings.Catalogue{Settings: []settings.Definition{{Key: "hold", Type: settings.Switch, Role: "page-cache"}, {Key: "keep.for", Type: settings.Seconds, Role: "page-cache-ttl"}}}
	for _, n := range []any{float64(90), 90, int64(90)} {
		l := LayerOf(cat, settings.Values{"hold": true, "keep.for": n})
		assert.Equal(t, Layer{On: true, Lifetime: 90}, l)
	}
	assert.Zero(t, LayerOf(cat, settings.Values{"hold": true}).Lifetime)
}

func TestACopyOfOnesOwnIsToldApart(t *testing.T) {
	pages := []Page{shut("/account", "account"), open("/kits", "listing")}
	who := []Person{{Name: "member", Kind: "member", SignedIn: true}}
	at := func(s Sighting) func(_, _, _ string) Sighting { return func(_, _, _ string) Sighting { return s } }
	l := Layer{On: true, LoggedIn: "own"}
	cells := Matrix(l, pages, who, []Device{{"desktop", "X11"}}, nil, at(SeenOwn))
	assert.Equal(t, SeenOwn, cells[0].Seen)
	assert.Equal(t, Opens, cells[0].Trouble)
	assert.Contains(t, cells[0].Text, "came from a copy of their own")
	// Who decided on copies of their own is content with them, and not with one for all.
	decided := []Decided{{Class: "account", Persona: "member", Policy: Own}, {Class: "listing", Persona: "member", Policy: Own}}
	for _, c := range Matrix(l, pages, who, []Device{{"desktop", "X11"}}, decided, at(SeenOwn)) {
		assert.Equal(t, None, c.Trouble, c.Text)
	}
	for _, c := range Matrix(l, pages, who, []Device{{"desktop", "X11"}}, decided, at(SeenCached)) {
		assert.Equal(t, Leaks, c.Trouble, c.Text)
	}
}

package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
)

func TestCellsSayWherePolicySettingsAndSightingsDisagree(t *testing.T) {
	pages := []Page{open("/", "home"), shut("/cart", "cart"), shut("/checkout", "checkout"), shut("/checkout/pay", "checkout")}
	people := []Person{{Name: "visitor", Kind: "visitor"}, {Name: "member", Kind: "member", SignedIn: true}}
	devices := []Device{{"desktop", "X11"}, {"phone", "Mobile"}}
	l := Layer{On: true, LoggedIn: "bypass", Rules: append(paths("/checkout"), Rule{Key: "a", Role: "agent-exclude", Pattern: "mobile"})}
	seen := func(path, persona, device string) Sighting {
		switch {
		case path == "/cart" && persona == "visitor" && device == "desktop":
			return SeenCached
		case path == "/checkout":
			return SeenMade
		}
		return NotSeen
	}
	cells := map[[3]string]Cell{}
	list := Matrix(l, pages, people, devices, []Decided{{"home", "member", Own, "It greets by name.", "Vera"}, {"checkout", "visitor", Shared, "r", "w"}}, seen)
	require.Len(t, list, 3*2*2)
	assert.Equal(t, "home", list[0].Class, "in the order of the pages")
	for _, c := range list {
		cells[[3]string{c.Class, c.Persona, c.Device}] = c
	}
	at := func(class, persona, device string) Cell { return cells[[3]string{class, persona, device}] }

	assert.Equal(t, None, at("home", "visitor", "desktop").Trouble)
	assert.Equal(t, "Cached for all.", at("home", "visitor", "desktop").Text)
	leak := at("cart", "visitor", "desktop")
	assert.Equal(t, Leaks, leak.Trouble)
	assert.Contains(t, leak.Text, "/cart was")
	assert.Equal(t, SeenCached, leak.Seen)
	assert.Equal(t, None, at("cart", "member", "desktop").Trouble, "signed in, never cached")
	assert.Equal(t, Wasted, at("home", "visitor", "phone").Trouble, "the browser is excluded")
	assert.Equal(t, Wasted, at("checkout", "visitor", "desktop").Trouble, "somebody decided that it may be cached")
	assert.Equal(t, SeenMade, at("checkout", "visitor", "desktop").Seen)
	own := at("home", "member", "desktop")
	assert.Equal(t, Own, own.Policy)
	assert.Equal(t, "It greets by name.", own.Decided.Reason)
	assert.Equal(t, None, own.Trouble, "generated fresh each time is as good")

	l.LoggedIn = "naive"
	for _, c := range Matrix(l, pages, people[1:], devices[:1], []Decided{{"home", "member", Own, "", ""}}, seen) {
		if c.Class == "checkout" {
			assert.Equal(t, None, c.Trouble)
			continue
		}
		assert.Equal(t, Opens, c.Trouble, c.Class)
	}
}

func TestEveryKindOfPersonHasAPolicyAlsoWhenNobodyLooksAsOne(t *testing.T) {
	people := AllKinds([]Person{{Name: "visitor", Kind: "visitor"}, {Name: "wren", Kind: "member", SignedIn: true}, {Name: "tom", Kind: "member", SignedIn: true}})
	var names []string
	for _, p := range people {
		names = append(names, p.Name)
	}
	assert.Equal(t, []string{"visitor", "wren", "tom", "visitor-with-cart", "customer", "editor"}, names)
	assert.False(t, people[3].SignedIn)
	assert.True(t, people[5].SignedIn)
	l := Layer{On: true, LoggedIn: "naive"}
	for _, c := range Matrix(l, []Page{open("/", "home"), open("/cart", "cart")}, people, []Device{{"desktop", "X11"}}, nil, func(string, string, string) Sighting { return NotSeen }) {
		switch c.Persona {
		case "customer", "editor":
			assert.Equal(t, Never, c.Policy)
			assert.Equal(t, None, c.Trouble, "its cookies, which could decide, are not known")
			assert.True(t, c.Nobody)
			assert.Contains(t, c.Text, "nobody looks as one. Never served from the cache by policy")
		case "visitor-with-cart":
			assert.Equal(t, c.Class == "cart", c.Policy == Never, c.Class)
			assert.Contains(t, c.Text, "of the kind “visitor with cart”")
		case "wren":
			assert.Equal(t, Opens, c.Trouble, "a persona's is called wrong")
			assert.False(t, c.Nobody)
		}
	}
}

func TestALayerIsReadByRolesWhateverItsKeysAre(t *testing.T) {
	cat := settings.Catalogue{Settings: []settings.Definition{
		{Key: "hold", Type: settings.Switch, Default: false, Role: "page-cache"}, {Key: "who", Type: settings.Choice, Default: "bypass", Role: "page-cache-logged-in"},
		{Key: "not", Type: settings.Patterns, Default: []any{}, Role: "path-exclude"},
		{Key: "titles", Type: settings.Patterns, Default: []any{}, Role: "other"},
	}}
	l := LayerOf(cat, settings.Values{"hold": true, "who": "own", "not": []any{"/cart"}, "titles": []any{"x"}})
	assert.Equal(t, Layer{On: true, LoggedIn: "own", Rules: []Rule{{Key: "not", Role: "path-exclude", Pattern: "/cart"}}}, l)
	assert.Equal(t, Layer{}, LayerOf(settings.Catalogue{}, settings.Values{}))
}

package standin

import (
	"encoding/json"

	"tidemarker/internal/core/settings"
)

// The keys of Fernhollow's speed layer. They are known in this package alone.
const (
	keyHold       = "pages.hold"
	keyLifetime   = "pages.lifetime"
	keyNever      = "pages.never"
	keyCookies    = "pages.neverWithCookies"
	keyIgnore     = "pages.ignoredParameters"
	keyCompact    = "markup.compact"
	keyDefer      = "scripts.defer"
	keyDeferNot   = "scripts.deferNot"
	keyDelay      = "scripts.delay"
	keyDelayNot   = "scripts.delayNot"
	keyDropStyles = "styles.dropUnused"
	keyKeepStyles = "styles.keep"
	keyLazy       = "images.lazy"
	keyLazySkip   = "images.lazySkip"
	keyDimensions = "images.dimensions"
)

// FernhollowCatalogue is the speed layer's settings, described as data.
func FernhollowCatalogue() settings.Catalogue {
	limit := func(n int64) *int64 { return &n }
	c := settings.Catalogue{Settings: []settings.Definition{
		{Key: keyHold, Title: "Hold pages", Summary: "Keep finished pages and answer later visitors from the held copy.",
			Group: "Page cache", Type: settings.Switch, Default: true, Role: "page-cache", Risk: 2},
		{Key: keyLifetime, Title: "Lifetime of held pages", Summary: "How long a held page may be served before it is made again.",
			Group: "Page cache", Type: settings.Seconds, Min: limit(1), Max: limit(604800), Default: 36000, Role: "page-cache-ttl", Risk: 1},
		{Key: keyNever, Title: "Pages never held", Summary: "Addresses that are always made for the visitor who asks.",
			Group: "Page cache", Type: settings.Patterns, Default: []string{"/cart", "/checkout", "/api/"}, Role: "path-exclude", Risk: 2},
		{Key: keyCookies, Title: "Never held with these cookies", Summary: "A visitor who has one of these cookies is never served a held page.",
			Group: "Page cache", Type: settings.Patterns, Default: []string{"fern_member"}, Role: "cookie-exclude", Risk: 2},
		{Key: keyIgnore, Title: "Ignored parameters", Summary: "Query parameters that make no other page. All others get a copy of their own.",
			Group: "Page cache", Type: settings.Patterns, Default: []string{"utm_*"}, Role: "query-ignore", Risk: 1},
		{Key: keyCompact, Title: "Compact markup", Summary: "Leave out comments and white space that nothing needs.",
			Group: "Markup", Type: settings.Switch, Default: false, Role: "html-minify", Risk: 1},
		{Key: keyDefer, Title: "Defer scripts", Summary: "Run scripts only when the page has been read.",
			Group: "Scripts", Type: settings.Switch, Default: false, Role: "js-defer", Risk: 2,
			Conflicts: []settings.Condition{{Key: keyDelay, Equals: true, Why: "a delayed script has no place in the order of the deferred ones"}}},
		{Key: keyDeferNot, Title: "Scripts not deferred", Summary: "Parts of script addresses that stay as they are.",
			Group: "Scripts", Type: settings.Patterns, Default: []string{}, Role: "js-exclude-defer", Risk: 1},
		{Key: keyDelay, Title: "Delay scripts", Summary: "Load scripts only when the visitor first touches, scrolls or types.",
			Group: "Scripts", Type: settings.Switch, Default: false, Role: "js-delay", Risk: 3},
		{Key: keyDelayNot, Title: "Scripts not delayed", Summary: "Parts of script addresses, or of inline code, that load at once.",
			Group: "Scripts", Type: settings.Patterns, Default: []string{}, Role: "js-exclude-delay", Risk: 1},
		{Key: keyDropStyles, Title: "Drop unused styles", Summary: "Deliver only the rules whose selectors match something in the page.",
			Group: "Styles", Type: settings.Switch, Default: false, Role: "css-drop-unused", Risk: 3},
		{Key: keyKeepStyles, Title: "Styles always kept", Summary: "Selectors that stay although nothing in the page matches them yet.",
			Group: "Styles", Type: settings.Patterns, Default: []string{}, Role: "css-keep", Risk: 1},
		{Key: keyLazy, Title: "Lazy pictures", Summary: "Load a picture when it comes near the visible part of the page.",
			Group: "Pictures", Type: settings.Switch, Default: false, Role: "lazy-images", Risk: 1},
		{Key: keyLazySkip, Title: "Pictures loaded at once", Summary: "So many pictures from the top of the page are not lazy.",
			Group: "Pictures", Type: settings.Whole, Min: limit(0), Max: limit(50), Default: 1, Role: "lazy-skip-first", Risk: 0},
		{Key: keyDimensions, Title: "Add dimensions", Summary: "Write each picture's width and height into the page, so that its place is kept.",
			Group: "Pictures", Type: settings.Switch, Default: true, Role: "add-dimensions", Risk: 1},
	}}
	return asServed(c)
}

// asServed gives the catalogue the form it has after a trip over the wire, so that
// defaults compare equal to values that were read.
func asServed(c settings.Catalogue) settings.Catalogue {
	raw, err := json.Marshal(c)
	if err != nil {
		panic("the stand-in's own catalogue has no JSON form: " + err.Error())
	}
	served, err := settings.ParseCatalogue(raw)
	if err != nil {
		panic("the stand-in's own catalogue is not usable: " + err.Error())
	}
	return served
}

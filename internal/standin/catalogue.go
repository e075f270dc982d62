package standin

import (
	"embed"
	"fmt"

	"github.com/goccy/go-yaml"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/fernhollow"
	"tidemarker/internal/standin/origin"
	"tidemarker/internal/standin/quillet"
	"tidemarker/internal/standin/sedge"
)

//go:embed catalogues/*.yaml
var catalogues embed.FS

func catalogue(name string) settings.Catalogue {
	raw, err := catalogues.ReadFile("catalogues/" + name + ".yaml")
	if err == nil {
		raw, err = yaml.YAMLToJSON(raw)
	}
	if err != nil {
		panic("the stand-in's own catalogue cannot be read: " + err.Error())
	}
	c, err := settings.ParseCatalogue(raw)
	if err != nil {
		panic("the stand-in's own catalogue is not usable: " + err.Error())
	}
	return c
}

// catalogue is the site's, with what a tidy would delete now: that is to be known
// before it is switched on.
func (i *Instance) catalogue() settings.Catalogue {
	c := settings.Catalogue{}
	newest := i.Layer.policy().featureNumber("tidy keep")
	kinds := map[string]string{}
	for _, kind := range tidies {
		kinds[i.site.Features["tidy "+kind]] = kind
	}
	for _, d := range i.site.Catalogue.Settings {
		if kind, is := kinds[d.Key]; is && d.Key != "" {
			there := i.origin.Count(kind)
			d.Summary += fmt.Sprintf(" There are %d now.", there)
			d.Records = new(max(0, there-newest))
		}
		c.Settings = append(c.Settings, d)
	}
	return c
}

// Gather lets records of a kind gather on the site, as they do with time.
func (i *Instance) Gather(kind string, n int) { i.origin.Gather(kind, n) }

// Fernhollow is the shop: a dedicated host that can do most things.
func Fernhollow() Site {
	return Site{
		Name: "Fernhollow", Software: "Fernhollow pages 4", CacheName: "fernhollow-pages", Catalogue: catalogue("fernhollow"),
		Features: map[string]string{"shop script": "trim.basketScript", "icons": "trim.glyphs", "feed": "trim.feed", "signature": "markup.signature", "keep pages": "browser.keepPages", "offline": "browser.offline", "tidy keep": "tidy.keep",
			"tidy " + origin.Revisions: "tidy.revisions", "tidy " + origin.Drafts: "tidy.drafts", "tidy " + origin.Spam: "tidy.spam", "tidy " + origin.Expired: "tidy.expired"},
		MemberCookie: fernhollow.MemberCookie,
		Facts:        map[string]any{"hosting": "dedicated", "httpVersion": "1.1", "memoryStore": true, "rewriteRules": true, "gzip": true, "brotli": false, "otherOptimisers": []any{}},
		AssetPaths:   []string{"/assets/", "/pictures/", "/type/"}, FramePath: "/frames/",
		ShopScript: "basket.js", ShopPaths: []string{"/kits", "/cart", "/checkout"}, IconSheet: "icons.css",
		Open: func(base string, now clock, desk origin.Desk) (Origin, error) { return fernhollow.New(base, now, desk) },
	}
}

// Quillet is the observatory: small shared hosting, and a theme that makes pictures
// late by itself.
func Quillet() Site {
	return Site{
		Name: "Quillet Observatory", Software: "Nightstore 2", CacheName: "nightstore", Catalogue: catalogue("quillet"),
		Features:     map[string]string{"tidy keep": "tidyKeep", "tidy " + origin.Drafts: "tidyDrafts"},
		MemberCookie: quillet.MemberCookie,
		Facts: map[string]any{"hosting": "shared", "httpVersion": "1.1", "memoryStore": false, "rewriteRules": false, "gzip": true, "brotli": false,
			"otherOptimisers": []any{map[string]any{"name": "The theme's late pictures", "does": []string{"lazy-images"}}}},
		AssetPaths: []string{"/files/", "/sky/"}, FramePath: "/frames/",
		Open: func(base string, now clock, desk origin.Desk) (Origin, error) { return quillet.New(base, now, desk) },
	}
}

// Sedge is the archive: a real framework's administration behind a layer that knows nothing of
// it. It needs Debian's python3-django ([sedge.Installed]) and belongs to the corpus.
func Sedge() Site {
	return Site{
		Name: "Sedge Archive", Software: "Fenpages 1", CacheName: "fenpages", Catalogue: catalogue("sedge"), MemberCookie: sedge.MemberCookie,
		Facts:      map[string]any{"hosting": "dedicated", "httpVersion": "1.1", "memoryStore": true, "rewriteRules": true, "gzip": true, "brotli": false, "otherOptimisers": []any{}},
		AssetPaths: []string{"/static/"}, FramePath: "/frames/",
		Open: func(base string, now clock, desk origin.Desk) (Origin, error) { return sedge.New(base, now, desk) },
	}
}

package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLinksThatLeadNowhereAreFound(t *testing.T) {
	links := func(leads map[string]Lead) Probe {
		return Probe{Key: Key{"/", "", "visitor", "desktop"}, Kind: Links, Leads: leads}
	}
	ok := Lead{From: "/", Status: 200}
	base := NewBaseline(Look{Probes: []Probe{links(map[string]Lead{"/feed.xml": ok, "/old": {From: "/", Status: 404}, "/account": ok})}}, nil)
	f := CompareProbe(base, links(map[string]Lead{"/feed.xml": {From: "/", Status: 410}, "/old": {From: "/", Status: 404}, "/account": {From: "/", Status: 403}, "/news": {From: "/kits", Status: 404}}))
	require.Len(t, f, 2, "what was dead before, and what asks for signing in, is none")
	assert.Equal(t, "A link leads nowhere: /feed.xml", f[0].Title)
	assert.Equal(t, "/kits", f[1].Page)
	f = CompareProbe(base, links(map[string]Lead{"/feed.xml": {From: "/", Status: 404, Past: true}}))
	require.Len(t, f, 1)
	assert.Equal(t, "An address is gone: /feed.xml", f[0].Title)
	assert.Equal(t, map[string]string{"/feed.xml": "/", "/account": "/"}, base.Led())
	assert.Empty(t, CompareProbe(Baseline{}, links(map[string]Lead{"/x": {Status: 404}})), "nothing is known of before")
}

func TestWhatAPictureDoesNotShow(t *testing.T) {
	look := func() PageLook {
		return PageLook{Key: Key{"/", "", "visitor", "phone"}, Status: 200, Address: "https://s.example/",
			Outline: []Box{{Path: "body", Name: "body", Parent: -1}, {Path: "#menu", Name: "button#menu"}, {Path: "#pay", Name: "button#pay"}},
			Listens: []string{"#menu click", "document click"},
			Focus:   []string{"#menu", "#pay"},
			Facts:   map[string]string{"title": "Kits", "description": "Grow", "canonical": "/", "structured data": "Product"},
			Requests: []Request{{URL: "https://s.example/", Kind: "document", Status: 200}, {URL: "https://s.example/site.css", Kind: "stylesheet", Status: 200},
				{URL: "https://s.example/app.3f9ac21b.js", Kind: "script", Status: 200}, {URL: "https://s.example/a.png", Kind: "image", Status: 200}},
			Links: []string{"https://s.example/kits"}}
	}
	for name, tc := range map[string]struct {
		change   func(p *PageLook)
		kind     Kind
		severity Severity
		title    string // "" for nothing
	}{
		"nothing changed":                     {func(*PageLook) {}, "", "", ""},
		"a button no longer reacts":           {func(p *PageLook) { p.Listens = []string{"document click"} }, ScriptErrorKind, Unsure, "button#menu no longer reacts"},
		"the button is not there any more":    {func(p *PageLook) { p.Listens, p.Outline, p.Focus = []string{"document click"}, p.Outline[:1], nil }, "", "", ""},
		"the keyboard no longer gets to it":   {func(p *PageLook) { p.Focus = []string{"#menu"} }, ScriptErrorKind, Broken, "The keyboard no longer reaches button#pay"},
		"another order of the keyboard":       {func(p *PageLook) { p.Focus = []string{"#pay", "#menu"} }, ScriptErrorKind, Unsure, "The keyboard reaches parts in another order"},
		"what is new may be anywhere":         {func(p *PageLook) { p.Focus = []string{"#new", "#menu", "#pay"} }, "", "", ""},
		"search engines are sent away":        {func(p *PageLook) { p.Facts["robots"] = "noindex, follow" }, ContentKind, Broken, "The page asks search engines to leave it out"},
		"the description is gone":             {func(p *PageLook) { delete(p.Facts, "description") }, ContentKind, Broken, "The page's description is gone"},
		"the title is another":                {func(p *PageLook) { p.Facts["title"] = "Kits and more" }, ContentKind, Unsure, "The page's title is another"},
		"structured data lost":                {func(p *PageLook) { delete(p.Facts, "structured data") }, ContentKind, Broken, "The page's structured data is gone"},
		"a picture without pixels":            {func(p *PageLook) { p.Empty = []string{"https://s.example/a.png"} }, MissingKind, Broken, "The picture /a.png is empty"},
		"a font falls back":                   {func(p *PageLook) { p.Fonts = []string{"Literata"} }, MissingKind, Unsure, "Another font stands in for Literata"},
		"something comes unencrypted":         {func(p *PageLook) { p.Requests[3].URL = "http://s.example/a.png" }, RequestKind, Broken, "Is asked for without encryption: /a.png"},
		"styles stay in browsers for a month": {func(p *PageLook) { p.Requests[1].Keeps = 30 * 86400 }, StaleKind, Unsure, "Browsers keep styles and scripts under an address that stays the same"},
		"a script with a digest may stay":     {func(p *PageLook) { p.Requests[2].Keeps = 365 * 86400 }, "", "", ""},
		"browsers keep the page":              {func(p *PageLook) { p.Requests[0].Keeps = 600 }, StaleKind, Unsure, "Browsers keep the page itself"},
	} {
		t.Run(name, func(t *testing.T) {
			now := look()
			tc.change(&now)
			f := surfaceFindings(look(), Volatile{}, now)
			if tc.title == "" {
				assert.Empty(t, f)
				return
			}
			require.Len(t, f, 1)
			assert.Equal(t, tc.kind, f[0].Kind)
			assert.Equal(t, tc.severity, f[0].Severity)
			assert.Equal(t, tc.title, f[0].Title)
		})
	}
	turning := look()
	turning.Facts["title"] = "(3) Kits"
	assert.Empty(t, surfaceFindings(look(), Volatile{Facts: []string{"title"}}, turning), "a title that counts by itself is no finding")
	assert.Empty(t, surfaceFindings(PageLook{Key: look().Key, Address: "https://s.example/", Requests: look().Requests}, Volatile{}, look()), "a mark from before this was looked at is no proof")
}

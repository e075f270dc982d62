package survey

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The samples of https://www.sitemaps.org/protocol.html: "Sample XML Sitemap" with
// several addresses and entity escaping, and the "Sample XML Sitemap Index" (from memory).
const sampleSitemap = `<?xml version="1.0" encoding="UTF-8"?>
<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
   <url>
      <loc>http://www.example.com/</loc>
      <lastmod>2005-01-01</lastmod>
      <changefreq>monthly</changefreq>
      <priority>0.8</priority>
   </url>
   <url>
      <loc>http://www.example.com/catalog?item=12&amp;desc=vacation_hawaii</loc>
      <changefreq>weekly</changefreq>
   </url>
   <url>
      <loc>http://www.example.com/catalog?item=73&amp;desc=vacation_new_zealand</loc>
   </url>
</urlset>`

const sampleIndex = `<?xml version="1.0" encoding="UTF-8"?>
<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
   <sitemap>
      <loc>http://www.example.com/sitemap1.xml.gz</loc>
      <lastmod>2004-10-01T18:23:17+00:00</lastmod>
   </sitemap>
   <sitemap>
      <loc>http://www.example.com/sitemap2.xml.gz</loc>
   </sitemap>
</sitemapindex>`

func packed(t *testing.T, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestSitemapsOfTheProtocolAreRead(t *testing.T) {
	for _, raw := range [][]byte{[]byte(sampleSitemap), packed(t, sampleSitemap)} {
		got, err := ParseSitemap(raw)
		require.NoError(t, err)
		assert.Equal(t, []string{"http://www.example.com/", "http://www.example.com/catalog?item=12&desc=vacation_hawaii", "http://www.example.com/catalog?item=73&desc=vacation_new_zealand"}, got.Pages)
	}
	got, err := ParseSitemap([]byte(sampleIndex))
	require.NoError(t, err)
	assert.Equal(t, []string{"http://www.example.com/sitemap1.xml.gz", "http://www.example.com/sitemap2.xml.gz"}, got.Files)
}

func TestTheLimitsOfTheProtocolHold(t *testing.T) {
	many := func(n int) []byte {
		var b strings.Builder
		b.WriteString("<urlset>\n")
		for i := range n {
			fmt.Fprintf(&b, "<url><loc>http://e.example/%d</loc></url>\n", i)
		}
		b.WriteString("</urlset>")
		return []byte(b.String())
	}
	got, err := ParseSitemap(many(MostAddresses))
	require.NoError(t, err)
	assert.Len(t, got.Pages, 50000)
	_, err = ParseSitemap(many(MostAddresses + 1))
	assert.ErrorContains(t, err, "line 50002: the sitemap has more than 50,000 addresses")
	_, err = ParseSitemap(bytes.Repeat([]byte(" "), mostBytes+1))
	assert.ErrorContains(t, err, "more than 50 MB")
	_, err = ParseSitemap([]byte("<urlset><url><loc>http://e.example/" + strings.Repeat("a", 2048) + "</loc></url></urlset>"))
	assert.ErrorContains(t, err, "2,048 characters")
}

func TestABrokenSitemapNamesTheLineAndKeepsWhatStoodBefore(t *testing.T) {
	got, err := ParseSitemap([]byte("<urlset>\n<url><loc>http://e.example/a</loc></url>\n<url><loc>http://e.example/b</url>\n</urlset>"))
	require.ErrorContains(t, err, "line 3 of the sitemap is not XML")
	assert.Equal(t, []string{"http://e.example/a", "http://e.example/b"}, got.Pages)
	_, err = ParseSitemap([]byte("<!doctype html>\n<html></html>"))
	assert.ErrorContains(t, err, "line 2: a sitemap begins with <urlset>")
	_, err = ParseSitemap([]byte("<urlset></urlset>"))
	assert.ErrorContains(t, err, "names no page")
	_, err = ParseSitemap([]byte{0x1f, 0x8b, 0})
	assert.ErrorContains(t, err, "cannot be unpacked")
}

func FuzzParseSitemap(f *testing.F) {
	f.Add([]byte(sampleSitemap))
	f.Add([]byte(sampleIndex))
	f.Add([]byte("<urlset><url><loc>x"))
	f.Add([]byte{0x1f, 0x8b, 8, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		got, err := ParseSitemap(raw)
		if err == nil && len(got.Pages)+len(got.Files) == 0 {
			t.Fatal("nothing was read and nothing was said")
		}
		for _, p := range got.Pages {
			if len(p) > 2048 {
				t.Fatal("an address is too long")
			}
		}
	})
}

func observed(t *testing.T, path, body string) Observation {
	t.Helper()
	base, err := url.Parse("http://e.example")
	require.NoError(t, err)
	return Observe(base, path, 200, "", []byte(body))
}

func TestAPageIsGivenAClassWithTheReason(t *testing.T) {
	for _, tc := range []struct{ path, body, class, why string }{
		{"/", "", "home", "start page"},
		{"/shop/checkout", "", "checkout", "“checkout”"},
		{"/basket", "", "cart", "“basket”"},
		{"/hello", `<form method="post"><input type="password"></form>`, "account", "asks for a password"},
		{"/members/log", "", "membership", "“members”"},
		{"/find?q=x", "", "search", "“q=”"},
		{"/library/first", "", "article", "“library/first”"},
		{"/p/12", `<meta property="og:type" content="product">`, "item", "it is a product"},
		{"/p/13", `<script type="application/ld+json">{"@type": "Product"}</script>`, "item", "it is a Product"},
		{"/evening/1", `<form action="/tickets" method="post"><input type="hidden" name="e"><button>Take a ticket</button></form>`, "item", "“Take a ticket”"},
		{"/hi", `<form method="post"><label>You <input name="y" type="email"></label><textarea name="m"></textarea><button>Send</button></form>`, "form", "a form for a message"},
		{"/kits", `<a href="/kits/a">a</a><a href="/kits/b">b</a><a href="/kits/c">c</a><a href="http://other.example/kits/d">d</a>`, "listing", "below its own address"},
		{"/spring", `<main><article><h1>Spring</h1><p>It is wet.</p></article></main>`, "article", "one article with a heading"},
		{"/all", `<article><h2>A</h2></article><article><h2>B</h2></article>`, "other", "Nothing about it"},
		{"/cartography", "", "other", "Nothing about it"},
	} {
		got := Classify(observed(t, tc.path, tc.body))
		assert.Equal(t, tc.class, got.Class, tc.path)
		assert.Contains(t, got.Why, tc.why, tc.path)
	}
	private := observed(t, "/x", "")
	private.Private = true
	assert.Equal(t, "account", Classify(private).Class)
}

func TestAWatchListCoversEveryClassAndIsShort(t *testing.T) {
	var pages []Found
	for i := range 5000 {
		pages = append(pages, Found{Observation: Observation{Path: fmt.Sprintf("/kits/%d", i), Status: 200}, Suggestion: Suggestion{Class: "item"}})
	}
	for _, p := range []struct{ path, class string }{{"/", "home"}, {"/kits", "listing"}, {"/kits?kind=a", "listing"}, {"/kits?kind=b", "listing"}, {"/cart", "cart"}, {"/checkout", "checkout"}, {"/account", "account"}, {"/gone", "article"}} {
		status := 200
		if p.path == "/gone" {
			status = 404
		}
		pages = append(pages, Found{Observation: Observation{Path: p.path, Status: status}, Suggestion: Suggestion{Class: p.class}})
	}
	var watched []string
	classes := map[string]bool{}
	for _, p := range WatchList(pages) {
		if p.Watch {
			watched = append(watched, p.Path)
			classes[p.Class] = true
		}
	}
	assert.Equal(t, []string{"/kits/0", "/kits/1", "/", "/kits", "/kits?kind=a", "/cart", "/checkout", "/account"}, watched)
	assert.Len(t, classes, 6, "what did not answer is not watched")
}

func TestJourneysAreProposedForWhatWasFound(t *testing.T) {
	pages := []Found{
		{Observation: observed(t, "/visit", `<button aria-controls="n" aria-expanded="false">Menu</button><nav id="n"><a href="/evenings">Evenings</a></nav>`)},
		{Observation: observed(t, "/evening/1", `<form action="/tickets" method="post"><button>Take a ticket</button></form>`)},
		{Observation: observed(t, "/find", `<form><label>What for? <input name="q"></label></form>`)},
		{Observation: observed(t, "/write", `<form method="post"><label>Your mail address <input name="email" type="email"></label><label>Message <textarea name="m"></textarea></label><button>Send</button></form>`)},
		{Observation: observed(t, "/members", `<form method="post"><label>Name <input name="n"></label><label for="p">Password</label><input id="p" type="password"><button>Sign in</button></form>`)},
		{Observation: observed(t, "/pay", `<form action="/pay" method="post"><label>Name <input name="n"></label><input name="street"><button>Pay at the door</button></form>`), Suggestion: Suggestion{Class: "checkout"}},
	}
	names := map[string][]string{}
	steps := map[string]string{}
	for _, j := range Journeys(pages) {
		names[j.Name] = j.Where
		for _, s := range j.Steps {
			steps[j.Name] += s.String() + "; "
		}
	}
	assert.Equal(t, map[string][]string{"the phone menu opens": nil, "into the cart": {"staging"}, "up to paying": {"staging"}, "signing in": {"staging"}, "search answers": nil, "a message is sent": {"staging"}}, names, "what orders or writes stays on staging")
	assert.Contains(t, steps["a message is sent"], "tide@example.org")
	assert.Contains(t, steps["up to paying"], "go to /pay; ")
	assert.Contains(t, steps["up to paying"], `fill [name="street"] with “Tide street”`, "a field without a label is named by its name")
	assert.True(t, strings.HasSuffix(steps["up to paying"], "expect button “Pay at the door” to be visible; "), "it stops before paying: %s", steps["up to paying"])
	assert.Contains(t, steps["signing in"], "click button “Sign in”; expect input[type=password] to be hidden")
	who := Personas(pages)
	require.Len(t, who, 1)
	require.Len(t, who[0].Prepare, 4)
	assert.Equal(t, "Password", who[0].Prepare[2].Fill.In.Label)
	assert.True(t, who[0].Prepare[2].Fill.Secret)
	assert.False(t, who[0].Prepare[1].Fill.Secret)
	doc := Document("E", nil, []Found{{Observation: Observation{Path: "/members"}, Suggestion: Suggestion{Class: "account"}, Watch: true}, {Observation: Observation{Path: "/visit"}, Suggestion: Suggestion{Class: "article"}, Watch: true}, {Observation: Observation{Path: "/not"}}}, who, nil, nil)
	require.Len(t, doc.Pages, 2)
	assert.Equal(t, []string{"visitor", "member"}, doc.Pages[0].Personas)
	assert.Equal(t, []string{"visitor"}, doc.Pages[1].Personas)
}

func TestTheWayOutIsSeenOnThePageOfSomebodyWhoSignedIn(t *testing.T) {
	for page, want := range map[string]string{
		`<a href="/">Home</a><form method=post action=/out><button>Sign out</button></form>`: "click button “Sign out”",
		`<nav><a href=/logout> Log  out </a></nav>`:                                          "click link “Log out”",
		`<input type=submit value=Abmelden>`:                                                 "click button “Abmelden”",
		`<a href=/x aria-label="Se déconnecter"><svg></svg></a>`:                             "click link “Se déconnecter”",
		`<a href=/out>Find out</a><button>Logout timer</button>`:                             "",
		``: "",
	} {
		out, found := WayOut([]byte(page))
		require.Equal(t, want != "", found, page)
		if !found {
			continue
		}
		steps := Leaving("/account", out)
		require.Len(t, steps, 4)
		assert.Equal(t, "go to /account", steps[0].String())
		assert.Equal(t, want, steps[1].String())
		assert.Contains(t, steps[3].String(), "to be hidden", "that nobody is signed in any more is looked for")
	}
}

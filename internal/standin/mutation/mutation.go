// Package mutation harms what a site answers, in general ways and from a seed, between its
// speed layer and whoever looks; and changes it in ways that nobody can see. What a check
// makes of such answers says how much of what can go wrong it notices.
//
// A [Proxy] passes a site on and applies one [Mutation] at a time. What a mutation picks is
// picked from what is there: a style rule that matches something, a script that is loaded.
package mutation

import (
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"
)

// Class is one way to change an answer.
type Class struct {
	Name    string
	Harmful bool // a visitor is worse off
	// page changes a document; ok is false when there is nothing to change in it.
	page func(r *rand.Rand, doc *goquery.Document) (ok bool)
	// other says what becomes of an answer that is no document; picks tells which are meant.
	picks func(path, mediaType string) bool
	other func(r *rand.Rand, a *Answer, pages []*goquery.Document) (ok bool)
}

// Answer is what is passed on.
type Answer struct {
	Path      string
	Status    int
	MediaType string
	Body      []byte
	Header    map[string]string // to be set besides
}

// Classes are all ways, the harmful first.
func Classes() []Class { return slices.Concat(harmful, harmless) }

func pick(r *rand.Rand, s *goquery.Selection) *goquery.Selection {
	if s.Length() == 0 {
		return s
	}
	return s.Eq(r.IntN(s.Length()))
}

// one changes one element of those that a selector finds.
func one(selector string, change func(r *rand.Rand, s *goquery.Selection) bool) func(*rand.Rand, *goquery.Document) bool {
	return func(r *rand.Rand, doc *goquery.Document) bool {
		s := pick(r, doc.Find(selector))
		return s.Length() > 0 && change(r, s)
	}
}

func remove(_ *rand.Rand, s *goquery.Selection) bool {
	s.Remove()
	return true
}

func isStyle(_, mediaType string) bool { return strings.HasPrefix(mediaType, "text/css") }
func isImage(_, mediaType string) bool { return strings.HasPrefix(mediaType, "image/") }

var harmful = []Class{
	{Name: "a script is dropped", Harmful: true, page: one("script[src]", remove)},
	{Name: "a script comes before its library", Harmful: true, page: func(r *rand.Rand, doc *goquery.Document) bool {
		s := doc.Find("script[src]")
		if s.Length() < 2 {
			return false
		}
		i := 1 + r.IntN(s.Length()-1) // the first is what the others build on
		a, b := s.Eq(0).AttrOr("src", ""), s.Eq(i).AttrOr("src", "")
		s.Eq(0).SetAttr("src", b)
		s.Eq(i).SetAttr("src", a)
		return true
	}},
	{Name: "a style rule is dropped", Harmful: true, picks: isStyle, other: styleRule(func(string) string { return "" })},
	{Name: "a colour is another", Harmful: true, picks: isStyle, other: styleRule(otherColour)},
	{Name: "all styles are lost", Harmful: true, page: one(`link[rel="stylesheet"]`, remove)},
	{Name: "an image is lost", Harmful: true, picks: isImage, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Status, a.MediaType, a.Body = 404, "text/plain", []byte("gone")
		return true
	}},
	{Name: "an image is cut off", Harmful: true, picks: isImage, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Body = a.Body[:min(len(a.Body), 24)]
		return true
	}},
	{Name: "styles come with the wrong type", Harmful: true, picks: isStyle, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.MediaType, a.Header["X-Content-Type-Options"] = "text/plain", "nosniff"
		return true
	}},
	{Name: "the page is cut off", Harmful: true, page: func(r *rand.Rand, doc *goquery.Document) bool {
		all := doc.Find("main *, footer, footer *")
		if all.Length() < 4 {
			return false
		}
		from := all.Length()/4 + r.IntN(all.Length()/4)
		for i := all.Length() - 1; i >= from; i-- {
			all.Eq(i).Remove()
		}
		return true
	}},
	{Name: "a text is another", Harmful: true, page: func(r *rand.Rand, doc *goquery.Document) bool {
		return eachText(r, doc, func(n *html.Node) { n.Data = "Words that nobody wrote here" })
	}},
	{Name: "a text is gone", Harmful: true, page: func(r *rand.Rand, doc *goquery.Document) bool {
		return eachText(r, doc, func(n *html.Node) { n.Data = "" })
	}},
	{Name: "a link is dead", Harmful: true, page: one(`a[href^="/"]`, func(_ *rand.Rand, s *goquery.Selection) bool {
		s.SetAttr("href", "/nowhere-at-all")
		return true
	})},
	{Name: "a class is lost", Harmful: true, page: one("header [class], main [class], nav[class], header[class]", func(_ *rand.Rand, s *goquery.Selection) bool {
		s.RemoveAttr("class")
		return true
	})},
	{Name: "a heading is gone", Harmful: true, page: one("h1, h2", remove)},
	{Name: "a button is gone", Harmful: true, page: one("button, a.button, input[type=submit]", remove)},
	{Name: "search engines are sent away", Harmful: true, page: func(_ *rand.Rand, doc *goquery.Document) bool {
		doc.Find("head").AppendHtml(`<meta name="robots" content="noindex">`)
		return true
	}},
	{Name: "another page comes", Harmful: true, page: func(_ *rand.Rand, doc *goquery.Document) bool {
		main := doc.Find("main")
		main.SetHtml("<h1>Something else</h1><p>This is what another address shows.</p>")
		return main.Length() > 0
	}},
	{Name: "the page answers with an error", Harmful: true, picks: func(path, mediaType string) bool { return strings.HasPrefix(mediaType, "text/html") }, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Status = 500
		return true
	}},
	{Name: "a script stops with an error", Harmful: true, page: func(_ *rand.Rand, doc *goquery.Document) bool {
		doc.Find("body").AppendHtml(`<script>nobodyDefined.this()</script>`)
		return true
	}},
	{Name: "two blocks change places", Harmful: true, page: func(r *rand.Rand, doc *goquery.Document) bool {
		s := doc.Find("main > section, main > div, main > p")
		if s.Length() < 2 {
			return false
		}
		i := r.IntN(s.Length() - 1)
		s.Eq(i).BeforeSelection(s.Eq(i + 1))
		return true
	}},
}

var harmless = []Class{
	{Name: "white space is folded", page: func(_ *rand.Rand, doc *goquery.Document) bool {
		texts(doc, func(n *html.Node) { n.Data = folded(n.Data) })
		return true
	}},
	{Name: "a comment comes in", page: func(_ *rand.Rand, doc *goquery.Document) bool {
		doc.Find("body").PrependHtml("<!-- made in 12 ms -->")
		return true
	}},
	{Name: "an attribute for data comes in", page: one("main *", func(_ *rand.Rand, s *goquery.Selection) bool {
		s.SetAttr("data-made", "1")
		return true
	})},
	{Name: "attributes are in another order", page: func(_ *rand.Rand, doc *goquery.Document) bool {
		doc.Find("*").Each(func(_ int, s *goquery.Selection) { slices.Reverse(s.Nodes[0].Attr) })
		return true
	}},
	{Name: "a script has a version in its address", page: one("script[src]", func(r *rand.Rand, s *goquery.Selection) bool {
		s.SetAttr("src", s.AttrOr("src", "")+"?v=3")
		return true
	})},
	{Name: "a style rule that matches nothing comes in", picks: isStyle, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Body = append(a.Body, []byte("\n.nobody-has-this{color:red}\n")...)
		return true
	}},
	{Name: "styles have comments", picks: isStyle, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Body = append([]byte("/* made */\n"), a.Body...)
		return true
	}},
	{Name: "a header comes in", picks: func(string, string) bool { return true }, other: func(_ *rand.Rand, a *Answer, _ []*goquery.Document) bool {
		a.Header["X-Made"] = "12 ms"
		return true
	}},
	{Name: "a file is fetched early", page: func(r *rand.Rand, doc *goquery.Document) bool {
		s := pick(r, doc.Find("script[src]"))
		if s.Length() == 0 {
			return false
		}
		doc.Find("head").AppendHtml(`<link rel="preload" as="script" href="` + s.AttrOr("src", "") + `">`)
		return true
	}},
	{Name: "a picture below is fetched when it is needed", page: func(_ *rand.Rand, doc *goquery.Document) bool {
		s := doc.Find("main img[width][height]").Last()
		s.SetAttr("loading", "lazy")
		return s.Length() > 0
	}},
}

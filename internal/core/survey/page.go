package survey

import (
	"bytes"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"tidemarker/internal/core/journey"
)

// Observation is what one page shows of itself.
type Observation struct {
	Path     string   `json:"path"` // with its query
	Status   int      `json:"status"`
	Title    string   `json:"title"`
	Forms    []Form   `json:"forms"`
	Kinds    []string `json:"kinds"`    // types that the page states: Open Graph, schema.org
	Links    []string `json:"links"`    // paths of the site's own that it links to
	Menu     string   `json:"menu"`     // name of the button that opens a menu; "" when there is none
	MenuLink string   `json:"menuLink"` // name of a link that such a menu has
	Frames   int      `json:"frames"`
	Article  bool     `json:"article"` // it is one article with a heading
	Private  bool     `json:"private"` // its answer says that nobody may share it
}

// Form is one form of a page.
type Form struct {
	Action string  `json:"action"`
	Post   bool    `json:"post"`
	Button string  `json:"button"`
	Fields []Field `json:"fields"`
}

// Field is one thing to be filled in.
type Field struct {
	Label string `json:"label"`
	Name  string `json:"name"`
	Type  string `json:"type"`
}

const (
	mostLinks = 400
	mostForms = 12
)

// Observe reads a page. What a site sends is bounded here: links, forms and texts.
func Observe(base *url.URL, path string, status int, cacheControl string, body []byte) Observation {
	o := Observation{Path: path, Status: status, Private: strings.Contains(cacheControl, "private") || strings.Contains(cacheControl, "no-store")}
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return o
	}
	o.Title = short(doc.Find("title").First().Text())
	at, err := base.Parse(path)
	if err != nil {
		return o
	}
	doc.Find("a[href]").Each(func(_ int, s *goquery.Selection) {
		u, err := at.Parse(s.AttrOr("href", ""))
		if err != nil || u.Host != base.Host || len(o.Links) >= mostLinks || s.AttrOr("rel", "") == "nofollow" {
			return
		}
		if p := u.RequestURI(); !slices.Contains(o.Links, p) {
			o.Links = append(o.Links, p)
		}
	})
	if kind := doc.Find(`meta[property="og:type"]`).AttrOr("content", ""); kind != "" {
		o.Kinds = append(o.Kinds, short(kind))
	}
	doc.Find("[itemtype]").Each(func(_ int, s *goquery.Selection) { o.Kinds = append(o.Kinds, short(s.AttrOr("itemtype", ""))) })
	doc.Find(`script[type="application/ld+json"]`).Each(func(_ int, s *goquery.Selection) {
		for _, m := range stated.FindAllStringSubmatch(s.Text(), 5) {
			o.Kinds = append(o.Kinds, short(m[1]))
		}
	})
	o.Frames = doc.Find("iframe").Length()
	article := doc.Find("article")
	o.Article = article.Length() == 1 && article.Find("h1, h2").Length() > 0
	doc.Find("form").Each(func(_ int, s *goquery.Selection) {
		if len(o.Forms) < mostForms {
			o.Forms = append(o.Forms, form(doc, s))
		}
	})
	menu := doc.Find("button[aria-controls], button[aria-expanded]").First()
	if menu.Length() > 0 && doc.Find("nav a").Length() > 0 {
		o.Menu = short(menu.AttrOr("aria-label", menu.Text()))
		o.MenuLink = short(doc.Find("nav a").First().Text())
	}
	return o
}

var stated = regexp.MustCompile(`"@type"\s*:\s*"([A-Za-z]+)"`)

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 160 {
		s = strings.ToValidUTF8(s[:160], "") + "…"
	}
	return s
}

func form(doc *goquery.Document, s *goquery.Selection) Form {
	f := Form{Action: short(s.AttrOr("action", "")), Post: strings.EqualFold(s.AttrOr("method", ""), "post")}
	b := s.Find(`button[type=submit], button:not([type]), input[type=submit]`).First()
	f.Button = short(b.AttrOr("value", b.Text()))
	s.Find("input, textarea, select").Each(func(_ int, in *goquery.Selection) {
		kind := strings.ToLower(in.AttrOr("type", goquery.NodeName(in)))
		if kind == "hidden" || kind == "submit" || kind == "button" || len(f.Fields) >= 20 {
			return
		}
		label := in.Closest("label").Text()
		if id := in.AttrOr("id", ""); label == "" && id != "" {
			doc.Find("label[for]").Each(func(_ int, l *goquery.Selection) {
				if l.AttrOr("for", "") == id {
					label = l.Text()
				}
			})
		}
		if label == "" {
			label = in.AttrOr("aria-label", in.AttrOr("placeholder", ""))
		}
		f.Fields = append(f.Fields, Field{short(label), short(in.AttrOr("name", "")), kind})
	})
	return f
}

func (f Form) has(kind string) bool {
	return slices.ContainsFunc(f.Fields, func(x Field) bool { return x.Type == kind })
}

// SignsIn tells whether a form asks for a password.
func (f Form) SignsIn() bool { return f.has("password") }

// Searches tells whether a form looks for something: it gets, with one text.
func (f Form) Searches() bool {
	return !f.Post && slices.ContainsFunc(f.Fields, func(x Field) bool { return x.Type == "search" || x.Type == "text" || x.Type == "input" })
}

// Writes tells whether a form sends a message.
func (f Form) Writes() bool { return f.Post && f.has("textarea") }

// Buys tells whether a form puts something into a cart: it posts, asks for nothing but
// a number, and leads to or says so.
func (f Form) Buys() bool {
	if !f.Post || slices.ContainsFunc(f.Fields, func(x Field) bool { return x.Type != "number" && x.Type != "select" }) {
		return false
	}
	return cartWords.MatchString(strings.ToLower(f.Action + " " + f.Button))
}

var cartWords = regexp.MustCompile(`cart|basket|bag|ticket|buy|order|add to`)

// Suggestion is a class for a page, and why.
type Suggestion struct {
	Class string `json:"class" enum:"home,listing,item,cart,checkout,account,membership,article,search,form,other"`
	Why   string `json:"why"`
}

// byPath are the words in an address that trade and common practice use for a class,
// the stricter first.
var byPath = []struct {
	class string
	words *regexp.Regexp
}{
	{"checkout", regexp.MustCompile(`(?i)(^|/)(checkout|pay|payment|order-confirm\w*)(/|$|\?)`)},
	{"cart", regexp.MustCompile(`(?i)(^|/)(cart|basket|bag|tickets)(/|$|\?)`)},
	{"account", regexp.MustCompile(`(?i)(^|/)(account|my-account|profile|login|sign-?in)(/|$|\?)`)},
	{"membership", regexp.MustCompile(`(?i)(^|/)(members?|membership)(/|$|\?)`)},
	{"search", regexp.MustCompile(`(?i)(^|/)search(/|$|\?)|[?&](q|query|s)=`)},
	{"form", regexp.MustCompile(`(?i)(^|/)(contact|write|enquiry|apply)(/|$|\?)`)},
	{"article", regexp.MustCompile(`(?i)(^|/)(blog|news|article|articles|library|journal|guide|magazine)/[^/]+`)},
}

// Classify says what kind of page something is, with the reason for a person to
// confirm. What is for one person only is never taken for a page that can be shared.
func Classify(o Observation) Suggestion {
	path, _, _ := strings.Cut(o.Path, "?")
	if path == "/" || path == "" {
		return Suggestion{"home", "It is the start page."}
	}
	for _, f := range o.Forms {
		if f.SignsIn() {
			return Suggestion{"account", "It has a form that asks for a password."}
		}
	}
	for _, p := range byPath {
		if m := p.words.FindString(o.Path); m != "" {
			return Suggestion{p.class, "Its address has “" + strings.Trim(m, "/?&") + "”."}
		}
	}
	for _, k := range o.Kinds {
		switch low := strings.ToLower(k); {
		case strings.HasSuffix(low, "product") || strings.HasSuffix(low, "event"):
			return Suggestion{"item", "Its markup says it is a " + k + "."}
		case strings.HasSuffix(low, "article") || strings.HasSuffix(low, "blogposting"):
			return Suggestion{"article", "Its markup says it is a " + k + "."}
		}
	}
	for _, f := range o.Forms {
		switch {
		case f.Buys():
			return Suggestion{"item", "It has a form “" + f.Button + "”."}
		case f.Writes():
			return Suggestion{"form", "It has a form for a message."}
		}
	}
	if o.Private {
		return Suggestion{"account", "Its answer says that nobody may share it."}
	}
	below := 0
	for _, l := range o.Links {
		if strings.HasPrefix(l, strings.TrimSuffix(path, "/")+"/") {
			below++
		}
	}
	if below >= 3 {
		return Suggestion{"listing", "It links to several pages below its own address."}
	}
	if o.Article {
		return Suggestion{"article", "It is one article with a heading."}
	}
	return Suggestion{"other", "Nothing about it says what it is."}
}

// leaveWords are what signing out is called (common practice).
var leaveWords = regexp.MustCompile(`(?i)^(sign|log) ?(out|off)$|^abmelden$|^ausloggen$|^(se )?d[ée]connexion$|^se d[ée]connecter$|^cerrar sesi[óo]n$|^esci$|^uitloggen$|^logga ut$`)

// WayOut finds what signs somebody out on a page that they see: a button or a link.
func WayOut(body []byte) (target journey.Target, found bool) {
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return target, false
	}
	doc.Find("button, a[href], input[type=submit]").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		name := short(s.AttrOr("aria-label", s.AttrOr("value", s.Text())))
		if !leaveWords.MatchString(name) {
			return true
		}
		target, found = journey.Target{Role: "button", Name: name}, true
		if goquery.NodeName(s) == "a" {
			target.Role = "link"
		}
		return false
	})
	return target, found
}

// Leaving are the steps that sign somebody out with what [WayOut] found on a page.
func Leaving(path string, out journey.Target) []journey.Step {
	return []journey.Step{{Go: path}, {Click: &out}, {Go: path}, {Expect: &journey.Expect{Hidden: &out}}}
}

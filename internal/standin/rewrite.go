package standin

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/tdewolff/minify/v2"
	mincss "github.com/tdewolff/minify/v2/css"
	minhtml "github.com/tdewolff/minify/v2/html"
	minjs "github.com/tdewolff/minify/v2/js"
	"golang.org/x/net/html"

	"tidemarker/internal/core/exclusion"
)

// rewrite changes a page as the settings say.
func (l *Layer) rewrite(p policy, r *http.Request, body []byte) ([]byte, error) {
	doc, err := html.Parse(bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("the page cannot be read: %w", err)
	}
	page := goquery.NewDocumentFromNode(doc)
	l.trim(p, r.URL.Path, page)
	l.fonts(p, page)
	l.styles(p, page)
	l.pictures(p, page)
	if p.on("lazy-frames") {
		lazyFrames(page)
	}
	l.links(p, page)
	l.scripts(p, page)
	l.addresses(p, page)
	if p.feature("offline") {
		withWorker(page)
	}
	if p.has("background-interval") {
		page.Find("html[data-pulse]").SetAttr("data-pulse", strconv.Itoa(p.number("background-interval")))
	}
	var out bytes.Buffer
	if err := html.Render(&out, doc); err != nil {
		return nil, fmt.Errorf("the page cannot be written: %w", err)
	}
	if p.on("html-minify") {
		return minified("text/html", out.Bytes()), nil
	}
	return out.Bytes(), nil
}

var minifier = func() *minify.M {
	m := minify.New()
	m.Add("text/html", &minhtml.Minifier{KeepDocumentTags: true, KeepEndTags: true, KeepQuotes: true})
	m.AddFunc("text/css", mincss.Minify)
	m.Add("text/javascript", &minjs.Minifier{})
	return m
}()

// minified is a text without what nothing needs; a text that cannot be read stays.
func minified(mediaType string, text []byte) []byte {
	out, err := minifier.Bytes(mediaType, text)
	if err != nil {
		return text
	}
	return out
}

// isExcluded tells whether an element is named by one of the patterns, by its address
// or by its text.
func isExcluded(s *goquery.Selection, patterns []string) bool {
	text := s.AttrOr("src", s.AttrOr("href", s.Text()))
	return matches(patterns, func(p string) bool { return exclusion.MatchPart(p, text) })
}

func element(name, text string, attributes ...string) *html.Node {
	n := &html.Node{Type: html.ElementNode, Data: name}
	for i := 0; i+1 < len(attributes); i += 2 {
		n.Attr = append(n.Attr, html.Attribute{Key: attributes[i], Val: attributes[i+1]})
	}
	if text != "" {
		n.AppendChild(&html.Node{Type: html.TextNode, Data: text})
	}
	return n
}

// trim takes features out of pages that do without.
func (l *Layer) trim(p policy, path string, page *goquery.Document) {
	if p.feature("shop script") && !l.site.isShop(path) {
		page.Find("script[src*='" + l.site.ShopScript + "']").Remove()
	}
	if p.feature("icons") {
		page.Find("link[href*='" + l.site.IconSheet + "']").Remove()
	}
	if p.feature("feed") {
		page.Find("link[rel=alternate][type='application/rss+xml']").Remove()
	}
}

// frameLoader puts a frame in place of its placeholder when somebody asks for it.
const frameLoader = `document.addEventListener("click", function (e) {
  var el = e.target.closest && e.target.closest("[data-frame]");
  if (!el) return;
  var f = document.createElement("iframe");
  f.src = el.dataset.frame; f.title = el.dataset.title; f.width = el.dataset.width; f.height = el.dataset.height; f.className = el.dataset.was;
  el.replaceWith(f);
});`

func lazyFrames(page *goquery.Document) {
	found := false
	page.Find("iframe[src]").Each(func(_ int, s *goquery.Selection) {
		found = true
		width, height := s.AttrOr("width", "600"), s.AttrOr("height", "300")
		box := element("div", "", "data-frame", s.AttrOr("src", ""), "data-title", s.AttrOr("title", ""), "data-width", width, "data-height", height, "data-was", s.AttrOr("class", ""),
			"style", fmt.Sprintf("display:flex;align-items:center;justify-content:center;background:#e4e4dc;max-width:100%%;width:%spx;height:%spx", width, height))
		box.AppendChild(element("button", "Show "+s.AttrOr("title", "it"), "type", "button"))
		s.ReplaceWithNodes(box)
	})
	if found {
		page.Find("body").AppendNodes(element("script", frameLoader))
	}
}

// prefetcher fetches a page that a pointer rests on before it is asked for.
const prefetcher = `(function () {
  var not = %s, done = {};
  document.addEventListener("pointerover", function (e) {
    var a = e.target.closest && e.target.closest("a[href^='/']");
    var at = a && a.getAttribute("href");
    if (!at || done[at] || not.some(function (p) { return new RegExp(p).test(at); })) return;
    done[at] = true;
    var link = document.createElement("link");
    link.rel = "prefetch"; link.href = at;
    document.head.appendChild(link);
  });
})();`

func (l *Layer) links(p policy, page *goquery.Document) {
	head := page.Find("head")
	for _, host := range p.list("prefetch-hosts") {
		head.AppendNodes(element("link", "", "rel", "preconnect", "href", host))
	}
	if p.on("prefetch-links") {
		head.AppendNodes(element("script", fmt.Sprintf(prefetcher, expressions(p.list("prefetch-exclude")))))
	}
}

// expressions writes patterns as a JavaScript array of regular expressions.
func expressions(patterns []string) string {
	quoted := make([]string, len(patterns))
	for i, x := range patterns {
		parts := strings.Split(x, "*")
		for k, part := range parts {
			parts[k] = strings.NewReplacer(`\`, `\\`, `.`, `\.`, `?`, `\?`, `+`, `\+`, `(`, `\(`, `)`, `\)`, `[`, `\[`, `]`, `\]`, `$`, `\$`, `^`, `\^`, `|`, `\|`, `{`, `\{`, `}`, `\}`).Replace(part)
		}
		quoted[i] = strconv.QuoteToASCII(strings.Join(parts, ".*"))
	}
	return "[" + strings.Join(quoted, ",") + "]"
}

// addresses strips query strings from the addresses of files, and names another host
// for them.
func (l *Layer) addresses(p policy, page *goquery.Document) {
	strip, host, not := p.on("query-strip"), p.text("asset-host"), p.list("asset-host-exclude")
	if !strip && host == "" {
		return
	}
	page.Find("link[href], script[src], img[src]").Each(func(_ int, s *goquery.Selection) {
		name := "src"
		if goquery.NodeName(s) == "link" {
			name = "href"
		}
		at := s.AttrOr(name, "")
		u, err := url.Parse(at)
		if err != nil || u.Host != "" || !l.site.isAsset(u.Path) {
			return
		}
		if strip {
			u.RawQuery = ""
			at = u.String()
		}
		if host != "" && !isExcluded(s, not) {
			at = strings.TrimSuffix(host, "/") + at
		}
		s.SetAttr(name, at)
	})
}

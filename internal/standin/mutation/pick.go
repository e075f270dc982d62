package mutation

import (
	"math/rand/v2"
	"regexp"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"
)

// texts does something to every text that a reader sees.
func texts(doc *goquery.Document, do func(*html.Node)) {
	for _, body := range doc.Find("body").Nodes {
		for n := range body.Descendants() {
			if n.Type != html.TextNode || strings.TrimSpace(n.Data) == "" {
				continue
			}
			if p := n.Parent; p == nil || p.Data == "script" || p.Data == "style" || p.Data == "noscript" || p.Data == "template" {
				continue
			}
			do(n)
		}
	}
}

// eachText does something to one text of some length in the main part, which does not change
// by itself.
func eachText(r *rand.Rand, doc *goquery.Document, do func(*html.Node)) bool {
	var all []*html.Node
	texts(doc, func(n *html.Node) {
		s := goquery.NewDocumentFromNode(n.Parent).Selection
		if len(strings.TrimSpace(n.Data)) >= 6 && s.Closest("main").Length() > 0 && s.Closest(restless+", [data-carousel], [data-tab]").Length() == 0 {
			all = append(all, n)
		}
	})
	if len(all) == 0 {
		return false
	}
	do(all[r.IntN(len(all))])
	return true
}

// restless finds what changes by itself on the stand-ins, which checks leave out.
const restless = ".row, .quote, .made"

func folded(s string) string {
	out := strings.Join(strings.Fields(s), " ")
	if s != strings.TrimLeft(s, " \t\n") {
		out = " " + out
	}
	if s != strings.TrimRight(s, " \t\n") {
		out += " "
	}
	return out
}

var (
	rule   = regexp.MustCompile(`(?s)([^{}@]+)\{([^{}]*)\}`)
	colour = regexp.MustCompile(`(?i)(background(?:-color)?|color)\s*:\s*(#[0-9a-f]{3,8})`)
	states = regexp.MustCompile(`:(hover|focus|active|visited|before|after|placeholder|disabled|checked|focus-visible)|::`)
)

// styleRule changes one rule that matches something on a page and that is not for a state or
// a width alone.
func styleRule(change func(rule string) string) func(*rand.Rand, *Answer, []*goquery.Document) bool {
	return func(r *rand.Rand, a *Answer, pages []*goquery.Document) bool {
		css := string(a.Body)
		plain := css
		if at := strings.Index(css, "@media"); at >= 0 {
			plain = css[:at]
		}
		var all [][]int
		for _, m := range rule.FindAllStringSubmatchIndex(plain, -1) {
			selector, body := strings.TrimSpace(plain[m[2]:m[3]]), plain[m[4]:m[5]]
			if change(plain[m[0]:m[1]]) == plain[m[0]:m[1]] || states.MatchString(selector) || !seen(selector, pages) || strings.TrimSpace(body) == "" || strings.Contains(body, "transition") {
				continue
			}
			all = append(all, m)
		}
		if len(all) == 0 {
			return false
		}
		m := all[r.IntN(len(all))]
		a.Body = []byte(css[:m[0]] + change(css[m[0]:m[1]]) + css[m[1]:])
		return true
	}
}

// seen tells whether a selector finds something on one of the pages that has a text or a
// picture.
func seen(selector string, pages []*goquery.Document) bool {
	m, err := cascadia.Compile(selector)
	if err != nil {
		return false
	}
	for _, p := range pages {
		found := p.FindMatcher(m).FilterFunction(func(_ int, s *goquery.Selection) bool {
			shows := strings.TrimSpace(s.Text()) != "" || s.Is("img") || s.Find("img").Length() > 0
			return shows && s.Closest(restless).Length() == 0 && s.Closest("[data-tab], [data-carousel], [hidden]").Length() == 0
		})
		if found.Length() > 0 {
			return true
		}
	}
	return false
}

// otherColour gives a rule's first colour another hue and lightness.
func otherColour(rule string) string {
	done := false
	return colour.ReplaceAllStringFunc(rule, func(s string) string {
		if done {
			return s
		}
		done = true
		name, _, _ := strings.Cut(s, ":")
		return name + ":#d0148c"
	})
}

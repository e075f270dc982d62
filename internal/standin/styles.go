package standin

import (
	"bytes"
	"io"
	"regexp"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"tidemarker/internal/core/exclusion"
)

// styles rewrites how style sheets are delivered. Those that are excluded, and those
// of other hosts, stay as they are.
func (l *Layer) styles(p policy, page *goquery.Document) {
	not := p.list("css-exclude")
	own := page.Find(`link[rel="stylesheet"]`).FilterFunction(func(_ int, s *goquery.Selection) bool { return !isExcluded(s, not) })
	if p.on("css-drop-unused") {
		l.dropUnusedStyles(page, own, p.list("css-keep"))
		return
	}
	if p.on("css-combine") {
		own = l.combineStyles(page, own)
	}
	if p.on("css-async") {
		own.Each(func(_ int, s *goquery.Selection) {
			s.SetAttr("rel", "preload").SetAttr("as", "style").SetAttr("onload", "this.onload=null;this.rel='stylesheet'")
		})
	}
}

// combineStyles puts the sheets into one file where the first of them was.
func (l *Layer) combineStyles(page *goquery.Document, own *goquery.Selection) *goquery.Selection {
	var all bytes.Buffer
	var gone []*goquery.Selection
	own.Each(func(_ int, s *goquery.Selection) {
		if body, ok := l.fetchAsset(s.AttrOr("href", "")); ok {
			all.Write(body)
			all.WriteByte('\n')
			gone = append(gone, s)
		}
	})
	if len(gone) < 2 {
		return own
	}
	for _, s := range gone[1:] {
		s.Remove()
	}
	at := l.keepMade(".css", "text/css; charset=utf-8", all.Bytes())
	gone[0].ReplaceWithNodes(element("link", "", "rel", "stylesheet", "href", at))
	return page.Find(`link[href="` + at + `"]`)
}

// dropUnusedStyles replaces each own style sheet by an inline one that has only the
// rules whose selectors match something in the page as it is delivered, and those
// that are to be kept.
func (l *Layer) dropUnusedStyles(page *goquery.Document, own *goquery.Selection, keep []string) {
	own.Each(func(_ int, s *goquery.Selection) {
		if sheet, ok := l.fetchAsset(s.AttrOr("href", "")); ok {
			s.ReplaceWithNodes(element("style", string(usedStyles(sheet, page, keep))))
		}
	})
}

// usedStyles copies a style sheet without the rules that match nothing.
func usedStyles(sheet []byte, page *goquery.Document, keep []string) []byte {
	var out bytes.Buffer
	p := css.NewParser(parse.NewInputBytes(sheet), false)
	skipping := false
	for {
		kind, _, data := p.Next()
		switch kind {
		case css.ErrorGrammar:
			if p.Err() == io.EOF {
				return out.Bytes()
			}
		case css.BeginRulesetGrammar:
			var selectors []string
			for _, sel := range listed(p.Values()) {
				if used(sel, page, keep) {
					selectors = append(selectors, sel)
				}
			}
			if skipping = len(selectors) == 0; !skipping {
				out.WriteString(strings.Join(selectors, ",") + "{")
			}
		case css.EndRulesetGrammar:
			if !skipping {
				out.WriteString("}\n")
			}
			skipping = false
		case css.DeclarationGrammar, css.CustomPropertyGrammar:
			if !skipping {
				out.WriteString(string(data) + ":" + joined(p.Values()) + ";")
			}
		case css.BeginAtRuleGrammar:
			out.WriteString(string(data) + " " + joined(p.Values()) + "{")
		case css.EndAtRuleGrammar:
			out.WriteString("}\n")
		case css.AtRuleGrammar:
			out.WriteString(string(data) + " " + joined(p.Values()) + ";")
		}
	}
}

// listed are the selectors of a list, parted at the commas that lie in no brackets.
func listed(tokens []css.Token) []string {
	var out []string
	depth, from := 0, 0
	for i, t := range tokens {
		switch t.TokenType {
		case css.FunctionToken, css.LeftParenthesisToken, css.LeftBracketToken:
			depth++
		case css.RightParenthesisToken, css.RightBracketToken:
			depth--
		case css.CommaToken:
			if depth == 0 {
				out = append(out, strings.TrimSpace(joined(tokens[from:i])))
				from = i + 1
			}
		}
	}
	return append(out, strings.TrimSpace(joined(tokens[from:])))
}

func joined(tokens []css.Token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.Write(t.Data)
	}
	return b.String()
}

// dynamic are the parts of a selector that the delivered markup cannot answer.
var dynamic = regexp.MustCompile(`::?(?:hover|focus(?:-\w+)?|active|visited|link|before|after|placeholder|selection|checked|disabled|target)\b`)

func used(selector string, page *goquery.Document, keep []string) bool {
	for _, k := range keep {
		if exclusion.MatchName(k, strings.TrimSpace(selector)) {
			return true
		}
	}
	plain := strings.TrimSpace(dynamic.ReplaceAllString(selector, ""))
	if plain == "" {
		return true
	}
	sel, err := cascadia.Parse(plain)
	if err != nil {
		return true // what cannot be understood is not dropped
	}
	return cascadia.Query(page.Nodes[0], sel) != nil
}

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
	"golang.org/x/net/html"

	"tidemarker/internal/core/exclusion"
)

// dropUnusedStyles replaces each own style sheet by an inline one that has only the
// rules whose selectors match something in the page as it is delivered, and those
// that are to be kept.
func (l *Layer) dropUnusedStyles(page *goquery.Document, keep []string) {
	page.Find(`link[rel="stylesheet"]`).Each(func(_ int, s *goquery.Selection) {
		sheet, ok := l.fetchAsset(s.AttrOr("href", ""))
		if !ok {
			return
		}
		style := &html.Node{Type: html.ElementNode, Data: "style"}
		style.AppendChild(&html.Node{Type: html.TextNode, Data: string(usedStyles(sheet, page, keep))})
		s.ReplaceWithNodes(style)
	})
}

// usedStyles copies a style sheet without the rules that match nothing.
func usedStyles(sheet []byte, page *goquery.Document, keep []string) []byte {
	var out bytes.Buffer
	p := css.NewParser(parse.NewInputBytes(sheet), false)
	var selectors []string // those of the rule being read that are used
	skipping := false
	for {
		kind, _, data := p.Next()
		switch kind {
		case css.ErrorGrammar:
			if p.Err() == io.EOF {
				return out.Bytes()
			}
		case css.QualifiedRuleGrammar, css.BeginRulesetGrammar:
			if sel := strings.Trim(joined(p.Values()), ", \t\r\n"); used(sel, page, keep) {
				selectors = append(selectors, sel)
			}
			if kind == css.BeginRulesetGrammar {
				skipping = len(selectors) == 0
				if !skipping {
					out.WriteString(strings.Join(selectors, ",") + "{")
				}
				selectors = nil
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

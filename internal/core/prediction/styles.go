package prediction

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/andybalholm/cascadia"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// sheet is what can be read off a style sheet.
type sheet struct {
	selectors []string // each of its rules'
	imports   []string
	shapes    []string // selectors of rules that give a height or an aspect ratio
	fonts     bool     // it loads fonts
}

// readSheet reads a style sheet by CSS Syntax 3; what cannot be read is passed over, as browsers do.
func readSheet(src []byte) sheet {
	var out sheet
	var now []string
	p := css.NewParser(parse.NewInputBytes(slices.Clone(src)), false)
	for {
		kind, _, data := p.Next()
		switch kind {
		case css.ErrorGrammar:
			if errors.Is(p.Err(), io.EOF) {
				return out
			}
		case css.QualifiedRuleGrammar, css.BeginRulesetGrammar:
			now = append(now, listed(p.Values())...)
			if kind == css.BeginRulesetGrammar {
				out.selectors = append(out.selectors, now...)
			}
		case css.EndRulesetGrammar:
			now = nil
		case css.DeclarationGrammar:
			if name := strings.ToLower(string(data)); name == "aspect-ratio" || name == "height" && !strings.Contains(joined(p.Values()), "auto") {
				out.shapes = append(out.shapes, now...)
			}
		case css.AtRuleGrammar:
			if strings.EqualFold(string(data), "@import") {
				out.imports = append(out.imports, strings.Trim(joined(p.Values()), ` "'`))
			}
		case css.BeginAtRuleGrammar:
			out.fonts = out.fonts || strings.EqualFold(string(data), "@font-face")
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
	if last := strings.TrimSpace(joined(tokens[from:])); last != "" {
		out = append(out, last)
	}
	return out
}

func joined(tokens []css.Token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.Write(t.Data)
	}
	return b.String()
}

// styles predicts what becomes of a page's style sheets.
func (s *sight) styles(p Page) {
	if key := s.begins("css-drop-unused"); key != "" {
		s.unstyled(p, key)
	}
	own := slices.DeleteFunc(slices.Clone(p.Sheets), func(e Element) bool { return !e.Own || s.spared(s.after, "css-exclude", e.Text) })
	if key := s.begins("css-async"); key != "" && p.Own < fewRules {
		rules := 0
		for _, e := range own {
			rules += len(e.sheet.selectors)
		}
		if rules >= fewRules {
			s.sees(p.at(), Prediction{Key: key, Kind: DrawnBare, About: "styles", Sure: true, Title: "{pages} would be drawn before their styles have come",
				Why: fmt.Sprintf("%s has %d style rules in files and %d in the page itself, so that it is drawn without them first and jumps when they come.", p.Look.Page, rules, p.Own)})
		}
	}
	if key := s.begins("css-combine"); key != "" && len(own) > 1 {
		for i, e := range own {
			in := e.sheet
			if i > 0 && len(in.imports) > 0 {
				s.sees(p.at(), Prediction{Key: key, Kind: Imports, About: nameOf(e), Sure: true, Title: fmt.Sprintf("%s on {pages} brings in %s, which is lost", e.Path, in.imports[0]),
					Why: "In one file it would stand behind other rules, where browsers ignore @import (CSS Cascade 5, 2).", Exclude: s.without("css-exclude", patternOf(e))})
			}
			if e.Media != "" && e.Media != "all" && e.Media != own[0].Media {
				s.sees(p.at(), Prediction{Key: key, Kind: Media, About: nameOf(e), Title: fmt.Sprintf("%s on {pages} is for “%s” only, and would hold for all", e.Path, e.Media),
					Why: "What the link says of its medium is not in the file.", Exclude: s.without("css-exclude", patternOf(e))})
			}
		}
	}
}

// fewRules is how many style rules in the page itself do not draw it (common practice: what is
// visible first takes some dozens).
const fewRules = 20

// unstyled predicts that rules go which match nothing in the page as it comes, and which scripts
// need for what they open or mark.
func (s *sight) unstyled(p Page, key string) {
	if len(p.adds.whole)+len(p.adds.beginnings) == 0 {
		return
	}
	var needed, patterns []string
	for _, e := range p.Sheets {
		if !e.Own || s.spared(s.after, "css-exclude", e.Text) {
			continue
		}
		for _, sel := range e.sheet.selectors {
			if p.matches(sel) || s.keeps(sel) || !p.mayCome(sel) || slices.Contains(needed, sel) {
				continue
			}
			needed = append(needed, sel)
			if pattern := keeping(sel); !slices.Contains(patterns, pattern) {
				patterns = append(patterns, pattern)
			}
		}
	}
	if len(needed) == 0 {
		return
	}
	var mend []Exclude
	for _, pattern := range patterns {
		mend = append(mend, s.without("css-keep", pattern)...)
	}
	some := strings.Join(needed[:min(3, len(needed))], "”, “")
	s.sees(p.at(), Prediction{Key: key, Kind: Unstyled, About: "what scripts open or mark", Sure: true, Exclude: mend,
		Title: "What scripts open or mark on {pages} loses its styles",
		Why:   fmt.Sprintf("On %s %d rules match nothing in the page as it comes, and scripts add what they are for: “%s”.", p.Look.Page, len(needed), some)})
}

// keeps tells whether a selector is one of those that always stay.
func (s *sight) keeps(selector string) bool {
	return slices.ContainsFunc(s.cat.Patterns(s.after, "css-keep"), func(pattern string) bool { return matchesName(pattern, selector) })
}

// additions are what the scripts of a page may give to it, and the words in their texts.
type additions struct {
	whole      map[Added]bool
	beginnings []Added
	words      map[string]bool
}

func additionsOf(scripts []Element) *additions {
	out := &additions{whole: map[Added]bool{}, words: map[string]bool{}}
	for _, e := range scripts {
		if e.script == nil {
			continue
		}
		for _, a := range e.script.Adds {
			if a.Begins {
				out.beginnings = append(out.beginnings, a)
			} else {
				out.whole[a] = true
			}
		}
		for _, w := range e.script.Words {
			out.words[w] = true
		}
	}
	return out
}

// has tells whether scripts may give a page something.
func (a *additions) has(kind AddedKind, name string) bool {
	return a.whole[Added{kind, name, false}] || slices.ContainsFunc(a.beginnings, func(b Added) bool { return b.Kind == kind && strings.HasPrefix(name, b.Name) })
}

// dynamic are the parts of a selector that no markup answers.
var dynamic = regexp.MustCompile(`::?(?:hover|focus(?:-\w+)?|active|visited|link|any-link|before|after|placeholder|selection|checked|disabled|enabled|target|marker|invalid|valid|-[\w-]+)\b`)

// matches tells whether a selector matches something in the page as it comes. One that cannot be
// understood counts as one that does.
func (p Page) matches(selector string) bool {
	plain := strings.TrimSpace(dynamic.ReplaceAllString(selector, ""))
	if plain == "" || strings.HasSuffix(plain, "%") || plain == "from" || plain == "to" {
		return true
	}
	sel, err := cascadia.Parse(plain)
	return err != nil || cascadia.Query(p.markup.Nodes[0], sel) != nil
}

// simple are the parts of which a selector is made: classes, ids, attributes, elements.
var simple = regexp.MustCompile(`\.[\w-]+|#[\w-]+|\[[\w-]+|\b[a-zA-Z][\w-]*`)

// mayCome tells whether scripts may make what a selector is for: each of its parts is in the page
// or is added, and at least one is added. For an element alone a script has to name the rest, too.
func (p Page) mayCome(selector string) bool {
	found, byName := false, false
	namesRest := true
	for _, part := range simple.FindAllString(dynamic.ReplaceAllString(selector, ""), -1) {
		kind, name := Tag, part
		switch part[0] {
		case '.':
			kind, name = Class, part[1:]
		case '[':
			kind, name = Attribute, part[1:]
		}
		added := p.adds.has(kind, name)
		if !added && !p.matches(closed(part)) {
			return false
		}
		if kind == Class && !p.adds.words[name] && !added {
			namesRest = false
		}
		found = found || added
		byName = byName || added && kind != Tag
	}
	return found && (byName || namesRest)
}

func closed(part string) string {
	if strings.HasPrefix(part, "[") {
		return part + "]"
	}
	return part
}

// keeping is a pattern that keeps a selector and those that begin as it does.
func keeping(selector string) string {
	first := simple.FindString(selector)
	if strings.HasPrefix(selector, ".") && strings.HasPrefix(first, ".") {
		return first + "*"
	}
	if class := regexp.MustCompile(`\.[\w-]+`).FindString(selector); class != "" {
		return "*" + class + "*"
	}
	return selector
}

package exclusion

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Miss is a text that a pattern narrowly misses.
type Miss struct {
	Text string `json:"text"`
	Why  string `json:"why" enum:"trailing slash,letter case,index,language prefix,query string,encoded letters,sub-page,part of the name"`
}

// Tried is what a pattern does among texts that are known.
type Tried struct {
	Matches []string `json:"matches"`
	Misses  []Miss   `json:"misses"`
}

// Try holds a pattern against texts: what it matches, and what it narrowly misses and
// by what. Texts are told in their order, each once.
func Try(k Kind, pattern string, texts []string) Tried {
	out := Tried{Matches: []string{}, Misses: []Miss{}}
	seen := map[string]bool{}
	for _, t := range texts {
		if seen[t] {
			continue
		}
		seen[t] = true
		if Matches(k, pattern, t) {
			out.Matches = append(out.Matches, t)
		} else if why := nearly(k, pattern, t); why != "" {
			out.Misses = append(out.Misses, Miss{t, why})
		}
	}
	return out
}

// near are the ways in which an address is written that people take for the same, each
// with the other writings of an address.
var near = []struct {
	why    string
	kinds  []Kind
	others func(text string) []string
}{
	{"trailing slash", []Kind{Path}, func(s string) []string {
		path, query, has := strings.Cut(s, "?")
		if strings.HasSuffix(path, "/") {
			path = strings.TrimRight(path, "/")
		} else {
			path += "/"
		}
		if has {
			path += "?" + query
		}
		return []string{path}
	}},
	{"index", []Kind{Path}, func(s string) []string {
		path, _, _ := strings.Cut(s, "?")
		if m := indexFile.FindStringIndex(path); m != nil {
			return []string{path[:m[0]+1], path[:m[0]]}
		}
		path = strings.TrimSuffix(path, "/")
		return []string{path + "/index.html", path + "/index.php"}
	}},
	{"language prefix", []Kind{Path}, func(s string) []string {
		if m := language.FindString(s); m != "" {
			return []string{s[len(m)-1:]}
		}
		return nil
	}},
	{"query string", []Kind{Path}, func(s string) []string {
		path, _, has := strings.Cut(s, "?")
		if !has {
			return nil
		}
		return []string{path}
	}},
	{"encoded letters", []Kind{Path, Part}, func(s string) []string {
		if plain, err := url.PathUnescape(s); err == nil && plain != s {
			return []string{plain}
		}
		return nil
	}},
}

var (
	indexFile = regexp.MustCompile(`/index\.[a-z]{3,5}$`)
	language  = regexp.MustCompile(`^/[a-z]{2}([-_][A-Za-z]{2})?/`)
)

// nearly says by what a pattern misses a text, "" when it is not close.
func nearly(k Kind, pattern, text string) string {
	if pattern == "" {
		return ""
	}
	for _, n := range near {
		if !slices.Contains(n.kinds, k) {
			continue
		}
		for _, other := range n.others(text) {
			if Matches(k, pattern, other) {
				return n.why
			}
		}
	}
	switch {
	case Matches(k, strings.ToLower(pattern), strings.ToLower(text)):
		return "letter case"
	case k == Path && strings.HasSuffix(pattern, "$") && below(strings.TrimSuffix(pattern, "$"), text):
		return "sub-page"
	case k == Path && pattern != "/" && !strings.HasSuffix(pattern, "$") && MatchPath(strings.TrimSuffix(pattern, "/")+"$", text):
		return "trailing slash"
	case (k == Name || k == Exact || k == Select) && len(pattern) > 1 && strings.Contains(text, strings.Trim(pattern, "*")) && strings.Trim(pattern, "*") != "":
		return "part of the name"
	}
	return ""
}

// below tells whether an address lies below what an anchored pattern matches.
func below(pattern, text string) bool {
	return MatchPath(strings.TrimSuffix(pattern, "/")+"/", text)
}

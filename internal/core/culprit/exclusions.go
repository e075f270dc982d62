package culprit

import (
	"cmp"
	"net/url"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
)

// Candidate is something that could be excluded from an action.
type Candidate struct {
	Pattern string  `json:"pattern"`
	Why     string  `json:"why,omitempty"` // why it is likely
	Likely  float64 `json:"likely"`
}

// mostCandidates is how much could be excluded at most: what is least likely is left out.
const mostCandidates = 64

// resources are the kinds of files that each exclusion list is about.
var resources = map[settings.Role]string{"js-exclude-defer": "script", "js-exclude-delay": "script", "js-exclude-combine": "script", "js-exclude-minify": "script",
	"css-exclude": "stylesheet", "lazy-exclude": "image", "dimensions-exclude": "image", "asset-host-exclude": "script stylesheet image"}

// ExclusionList is the setting that excludes something from an action of a role; ok is false when
// there is none.
func ExclusionList(c settings.Catalogue, action settings.Role) (list settings.Definition, ok bool) {
	for _, d := range c.Settings {
		if d.Type == settings.Patterns && d.Role.Protects() && d.Role.Lead() == action && d.Role != "query-vary" && d.Role != "always-refresh" {
			return d, true
		}
	}
	return settings.Definition{}, false
}

// Candidates are what could be excluded by a list so that an action may stay, the likely ones
// first: files that the pages of the mark load, or pages themselves. What a finding names is
// likely, then what it was loaded with, then the rest. excluded is what the list has already.
func Candidates(list settings.Definition, marked evidence.Look, found []evidence.Finding, excluded []string) []Candidate {
	var out []Candidate
	add := func(pattern, why string, likely float64) {
		if pattern == "" || pattern == "/" || slices.Contains(excluded, pattern) {
			return
		}
		if i := slices.IndexFunc(out, func(c Candidate) bool { return c.Pattern == pattern }); i >= 0 {
			if likely > out[i].Likely {
				out[i].Why, out[i].Likely = why, likely
			}
			return
		}
		out = append(out, Candidate{pattern, why, likely})
	}
	if list.Role == "path-exclude" {
		for _, p := range marked.Pages {
			why, likely := weighPage(p, found)
			add(p.Page, why, likely)
		}
	}
	kinds := strings.Fields(resources[list.Role])
	for _, p := range marked.Pages {
		for _, r := range p.Requests {
			if slices.Contains(kinds, r.Kind) {
				path := pathOnly(r.URL)
				why, likely := weighFile(path, p, found)
				add(path, why, likely)
			}
		}
	}
	if list.Role == "css-keep" {
		for _, p := range marked.Pages {
			for _, class := range classesOf(p) {
				why, likely := weighClass(class, found)
				add(class, why, likely)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Likely, a.Likely), strings.Compare(a.Pattern, b.Pattern))
	})
	return out[:min(len(out), mostCandidates)]
}

// pathOnly is the path of an address, without host and query.
func pathOnly(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Path
}

// weighPage says how likely it is that a page has to be excluded.
func weighPage(p evidence.PageLook, found []evidence.Finding) (why string, likely float64) {
	likely = 0.1
	for _, f := range found {
		if f.Severity != evidence.Note && f.Page == p.Page {
			return f.Title, 10
		}
	}
	return "", likely
}

// weighFile says how likely it is that a file has to be excluded: a finding names it; it was the
// one that a name comes from which is missing now, which nothing but its place before the error
// tells; or it is on a page where something shows.
func weighFile(path string, p evidence.PageLook, found []evidence.Finding) (why string, likely float64) {
	likely = 0.1
	name := path[strings.LastIndex(path, "/")+1:]
	stem, _, _ := strings.Cut(name, ".")
	for _, f := range found {
		if f.Severity == evidence.Note {
			continue
		}
		said := f.Title + " " + f.Detail + " " + f.Part
		weight, because := 0.0, ""
		switch {
		case strings.Contains(said, path):
			weight, because = 10, "It is named: "+f.Title
		case missingName(f.Title) != "" && strings.EqualFold(missingName(f.Title), stem):
			weight, because = 8, "It is called as what is not defined"
		case f.Page == p.Page && f.Device == p.Device && !f.Symptom:
			weight, because = 1, "It is on "+p.Page+", where it shows"
		}
		if weight > likely {
			why, likely = because, weight
		}
	}
	return why, likely
}

// missingName is the name in an error that says that something is not defined.
func missingName(title string) string {
	before, _, is := strings.Cut(title, " is not defined")
	if !is {
		return ""
	}
	return before[strings.LastIndexAny(before, " :")+1:]
}

// classesOf are patterns for the classes of a page's elements, as a list of selectors that stay
// names them: what begins with the class.
func classesOf(p evidence.PageLook) []string {
	var out []string
	for _, b := range p.Outline {
		_, class, is := strings.Cut(b.Name, ".")
		class, _, _ = strings.Cut(class, " ")
		if is && class != "" && !slices.Contains(out, "."+class+"*") {
			out = append(out, "."+class+"*")
		}
	}
	return out
}

func weighClass(pattern string, found []evidence.Finding) (why string, likely float64) {
	class := strings.TrimSuffix(pattern, "*")
	for _, f := range found {
		if f.Severity != evidence.Note && strings.Contains(f.Title+" "+f.Part, class) {
			return f.Title, 10
		}
	}
	return "", 0.1
}

// Excluding is how a search for the fewest exclusions stands.
type Excluding struct {
	Culprit    int         `json:"culprit"` // index of the culprit that is to stay
	Key        string      `json:"key"`     // setting with the list
	Candidates []Candidate `json:"candidates"`
	Ask        []int       `json:"ask,omitempty"`  // candidates to exclude next
	Fewest     []int       `json:"fewest"`         // the fewest that have to be excluded; empty until they are found
	Over       bool        `json:"over"`           // nothing is to be asked any more
	Left       int         `json:"left,omitempty"` // about how many answers it still takes
}

// NextExclusions says what to try next to find the fewest exclusions with which nothing breaks.
// An answer passes when nothing shows with these candidates excluded. To find what mends is to find
// what breaks, the other way round.
func NextExclusions(x Excluding, answers []Answer) Excluding {
	likely := make([]float64, len(x.Candidates))
	for i, c := range x.Candidates {
		likely[i] = c.Likely
	}
	turned := make([]Answer, len(answers))
	for i, a := range answers {
		turned[i] = a
		switch a.Outcome {
		case Passes:
			turned[i].Outcome = Fails
		case Fails:
			turned[i].Outcome = Passes
		}
	}
	step := Next(Problem{N: len(x.Candidates), Likely: likely}, turned)
	x.Ask, x.Left, x.Fewest, x.Over = step.Ask, step.Left, []int{}, step.Ask == nil
	if len(step.Culprits) > 0 {
		x.Ask, x.Left, x.Fewest, x.Over = nil, 0, step.Culprits[0], true
	}
	return x
}

// Excluded adds candidates to a list, in their order.
func Excluded(v settings.Values, x Excluding, which []int) settings.Values {
	list := v.Strings(x.Key)
	for _, i := range which {
		p := x.Candidates[i].Pattern
		if !slices.Contains(list, p) {
			list = append(list, p)
		}
	}
	return v.With(settings.Values{x.Key: list})
}

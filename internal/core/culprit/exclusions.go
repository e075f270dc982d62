package culprit

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/prediction"
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

// ExclusionLists are the settings that exclude something from an action of a role, in the order in
// which they are tried; none when nothing can be excluded.
func ExclusionLists(c settings.Catalogue, action settings.Role) []settings.Definition {
	var out []settings.Definition
	for _, role := range action.ExcludedBy() {
		for _, d := range c.WithRole(role) {
			if d.Type == settings.Patterns {
				out = append(out, d)
			}
		}
	}
	return out
}

// Candidates are what could be excluded by a list so that an action may stay, the likely ones
// first: files that the pages of the mark load, or pages themselves. What a finding names is
// likely, and what was predicted most of all, then what it was loaded with, then the rest. excluded is
// what the list has already.
func Candidates(list settings.Definition, marked evidence.Look, found []evidence.Finding, excluded []string, predicted []prediction.Held) []Candidate {
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
	for _, h := range predicted {
		for _, e := range h.Exclude {
			if e.Key == list.Key && h.Outcome == prediction.Right {
				add(e.Pattern, "It was predicted: "+h.Title, 20)
			}
		}
	}
	if list.Role == "path-exclude" || list.Role == "prefetch-exclude" {
		for _, p := range marked.Pages {
			why, likely := weighPage(p, found)
			add(p.Page, why, likely)
		}
	}
	for _, entry := range (settings.Values{"": list.Default}).Strings("") {
		add(entry, "It is excluded unless somebody takes it out", 5)
	}
	for _, name := range namesFor(list.Role, marked) {
		add(name, "", 0.5)
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

// namesFor are the names that a list of a role can have, of those that were seen when the mark was
// taken: of cookies that people were given, of parameters by which pages are watched.
func namesFor(role settings.Role, marked evidence.Look) []string {
	var out []string
	switch role {
	case "cookie-exclude":
		for _, j := range marked.Journeys {
			out = append(out, j.Cookies...)
		}
	case "query-vary":
		for _, p := range marked.Pages {
			out = append(out, exclusion.Parameters(p.Page)...)
		}
	}
	return out
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
	// Rough tells that fewer may do: it was tried often enough.
	Rough bool `json:"rough,omitempty"`
	// Needless tells that it was not searched, since another list has what helps.
	Needless bool `json:"needless,omitempty"`
}

// mostExcluding is how often exclusions of one list are tried: with more than a handful that are all
// needed, to prove that of each costs more than it is worth.
const mostExcluding = 12

// predictedFrom is from which likelihood on a candidate is one that predictions proposed.
const predictedFrom = 20

// NextExclusions says what to try next to find the fewest exclusions with which nothing breaks: first
// what was predicted, all of it together.
// An answer passes when nothing shows with these candidates excluded. To find what mends is to find
// what breaks, the other way round.
func NextExclusions(x Excluding, answers []Answer) Excluding {
	likely := make([]float64, len(x.Candidates))
	var predicted, smallest []int
	for i, c := range x.Candidates {
		likely[i] = c.Likely
		if c.Likely >= predictedFrom {
			predicted = append(predicted, i)
		}
	}
	if len(answers) == 0 && len(predicted) > 0 {
		x.Ask, x.Left, x.Fewest = predicted, len(predicted), []int{}
		return x
	}
	for _, a := range answers {
		if a.Outcome == Passes && (smallest == nil || len(a.Parts) < len(smallest)) {
			smallest = a.Parts
		}
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
	switch {
	case len(step.Culprits) > 0:
		x.Ask, x.Left, x.Fewest, x.Over = nil, 0, step.Culprits[0], true
	case len(answers) >= mostExcluding && smallest != nil:
		x.Ask, x.Left, x.Fewest, x.Over, x.Rough = nil, 0, smallest, true, true
	case len(answers) >= mostExcluding:
		x.Ask, x.Left, x.Over = nil, 0, true
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

// Cost says what an action leaves out when something is excluded from it: how many of the files or
// pages that were seen when the mark was taken, and how much of their weight. "" when that cannot be told.
func Cost(list settings.Definition, marked evidence.Look, patterns []string) string {
	kind, known := exclusion.KindOf(string(list.Role))
	return cost(list, marked, known, func(page string) bool {
		return slices.ContainsFunc(patterns, func(p string) bool { return exclusion.Matches(kind, p, page) })
	}, func(file string) bool {
		return slices.ContainsFunc(patterns, func(p string) bool { return exclusion.MatchPart(p, file) })
	})
}

// CostOfLeavingOut says what a change does without when these edits are left out of it: all the files or pages that
// the actions which they turn on would have reached. "" when that cannot be told.
func CostOfLeavingOut(c settings.Catalogue, parts []Part, marked evidence.Look) string {
	var out []string
	all := func(string) bool { return true }
	for _, p := range parts {
		d, known := c.Find(p.Key)
		if on, is := p.Value.(bool); !known || p.Entry != "" || is && !on {
			continue
		}
		for _, list := range ExclusionLists(c, d.Role) {
			if text := cost(list, marked, true, all, all); text != "" {
				if !slices.Contains(out, text) {
					out = append(out, text)
				}
				break
			}
		}
	}
	return strings.Join(out, " ")
}

func cost(list settings.Definition, marked evidence.Look, pages bool, page, file func(string) bool) string {
	if list.Role == "path-exclude" && pages {
		all, out := map[string]bool{}, map[string]bool{}
		for _, p := range marked.Pages {
			all[p.Page] = true
			if page(p.Page) {
				out[p.Page] = true
			}
		}
		return fmt.Sprintf("%d of %d watched pages are made for each who asks.", len(out), len(all))
	}
	kinds := strings.Fields(resources[list.Role])
	weight, left := map[string]int{}, map[string]int{}
	for _, p := range marked.Pages {
		for _, r := range p.Requests {
			if slices.Contains(kinds, r.Kind) {
				weight[r.URL] = max(weight[r.URL], r.Bytes)
				if file(r.URL) {
					left[r.URL] = weight[r.URL]
				}
			}
		}
	}
	sum := func(of map[string]int) (n int) {
		for _, bytes := range of {
			n += bytes
		}
		return n
	}
	if len(weight) == 0 {
		return ""
	}
	return fmt.Sprintf("%d of %d files stay as they are: %.1f of %.1f kB.", len(left), len(weight), float64(sum(left))/1000, float64(sum(weight))/1000)
}

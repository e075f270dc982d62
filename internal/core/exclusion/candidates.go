package exclusion

import (
	"image"
	"net/url"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
)

// Candidate is something that could be excluded because of a finding.
type Candidate struct {
	Key     string `json:"key" doc:"Setting whose list it would be added to."`
	Title   string `json:"title"`
	Pattern string `json:"pattern"`
	Why     string `json:"why"`
}

// Observed is what was seen of the page or the journey that a finding is about: when the
// mark was taken, and now. Each may be nil.
type Observed struct {
	Page, PageWas       *evidence.PageLook
	Journey, JourneyWas *evidence.JourneyLook
}

// Candidates proposes what to exclude because of a finding: for each setting that was
// changed and can exclude something, the scripts of the page, those first that a script
// error names or that were not fetched this time. The likeliest come first.
func Candidates(cat settings.Catalogue, changed []settings.Difference, f evidence.Finding, seen Observed) []Candidate {
	list := []Candidate{}
	scripts := scriptsOf(seen)
	for _, d := range changed {
		def, _ := cat.Find(d.Key)
		lists := def.Role.ExcludedBy()
		if len(lists) == 0 {
			continue
		}
		for _, target := range cat.WithRole(lists[0]) {
			switch {
			case strings.HasPrefix(string(target.Role), "js-"):
				for _, c := range scripts {
					list = append(list, Candidate{target.Key, target.Title, c.pattern, c.why})
				}
			case target.Role == "css-keep" && seen.Page != nil && f.Region != nil:
				if class := classAt(*seen.Page, f.Region.Rect()); class != "" {
					list = append(list, Candidate{target.Key, target.Title, "." + class + "*", "the class of what looks different"})
				}
			case target.Role == "path-exclude":
				list = append(list, Candidate{target.Key, target.Title, f.Page, "the page of this finding"})
			}
			list = append(list, Candidate{target.Key, target.Title, "", "a pattern of your own"})
		}
	}
	return list
}

// classAt is the first class of the smallest element that has a region in it.
func classAt(p evidence.PageLook, r image.Rectangle) string {
	best, class := -1, ""
	for _, b := range p.Outline {
		area := b.Width * b.Height
		if _, c, ok := strings.Cut(b.Name, "."); ok && r.In(b.Rect()) && (best < 0 || area <= best) {
			best, class = area, c
		}
	}
	return class
}

type script struct{ pattern, why string }

func scriptsOf(seen Observed) []script {
	was, is, errors := seen.requests()
	var first, rest []script
	known := map[string]bool{}
	for _, r := range was {
		u, err := url.Parse(r.URL)
		if err != nil || r.Kind != "script" || known[u.Path] {
			continue
		}
		known[u.Path] = true
		switch {
		case slices.ContainsFunc(errors, func(x evidence.ScriptError) bool { return names(x, u.Path) }):
			first = append([]script{{u.Path, "an error of this run names it"}}, first...)
		case !slices.ContainsFunc(is, func(q evidence.Request) bool { return q.URL == r.URL && q.Status == 200 }):
			first = append(first, script{u.Path, "it was fetched when the mark was taken, and not this time"})
		default:
			rest = append(rest, script{u.Path, "a script of this page"})
		}
	}
	return append(first, rest...)
}

// names tells whether an error comes from a script, or from its lacking: “ReferenceError:
// fern is not defined” names fern.js (common practice, from how libraries are called).
func names(x evidence.ScriptError, path string) bool {
	stem, _, _ := strings.Cut(path[strings.LastIndex(path, "/")+1:], ".")
	return strings.HasSuffix(x.Source, path) || strings.HasPrefix(strings.ToLower(x.Message), "referenceerror: "+strings.ToLower(stem)+" ")
}

func (o Observed) requests() (was, is []evidence.Request, errors []evidence.ScriptError) {
	if o.Journey != nil || o.JourneyWas != nil {
		if o.JourneyWas != nil {
			was = o.JourneyWas.Requests
		}
		if o.Journey != nil {
			is, errors = o.Journey.Requests, o.Journey.Errors
		}
		return was, is, errors
	}
	if o.Page != nil && o.PageWas != nil {
		return o.PageWas.Requests, o.Page.Requests, o.Page.Errors
	}
	return nil, nil, nil
}

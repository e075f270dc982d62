package prediction

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
)

// Kind says what is predicted.
type Kind string

// What can be predicted.
const (
	NotDefined Kind = "not defined"   // a script needs a name before the script that defines it has run
	NotWritten Kind = "not written"   // what a script writes into the page as it is read is lost
	NeverRuns  Kind = "never runs"    // a script waits for an event that is over by then
	RunsLater  Kind = "runs later"    // what scripts do by themselves is not there until somebody touches the page
	Strict     Kind = "strict"        // code becomes strict that is not written so
	Unreadable Kind = "unreadable"    // a script cannot be read by who has to rewrite it
	Unstyled   Kind = "unstyled"      // rules go that scripts need
	DrawnBare  Kind = "drawn bare"    // the page is drawn before its styles
	Imports    Kind = "imports"       // a style sheet brings in another, which is ignored where it will stand
	Media      Kind = "media"         // a sheet for one medium becomes one for all
	Jumps      Kind = "jumps"         // pictures without dimensions move the page
	Small      Kind = "small"         // pictures are drawn wider than they are sent
	OnDemand   Kind = "on demand"     // a frame is not there until somebody asks
	Host       Kind = "host"          // files come from a host that does not answer as is needed
	KeptOld    Kind = "cached old"    // browsers keep files under addresses that do not change with them
	SameFile   Kind = "same file"     // two files become one address
	Contradict Kind = "contradiction" // what the settings and what is known say
)

// Place is where something is predicted.
type Place struct {
	Page    string `json:"page"`
	Persona string `json:"persona"`
	Device  string `json:"device"`
}

// Exclude is an entry of a list with which something predicted does not come.
type Exclude struct {
	Key     string `json:"key"`
	Title   string `json:"title" doc:"Of the setting with the list."`
	Pattern string `json:"pattern"`
}

// Prediction is one thing that a change will do to a site.
type Prediction struct {
	Key     string    `json:"key" doc:"The setting that does it."`
	Setting string    `json:"setting" doc:"Its title."`
	Kind    Kind      `json:"kind"`
	About   string    `json:"about" doc:"The name, file, selector or host that it is about."`
	Title   string    `json:"title"`
	Why     string    `json:"why" doc:"What it was read off."`
	Sure    bool      `json:"sure" doc:"It follows; otherwise it is likely."`
	Places  []Place   `json:"places"`
	Exclude []Exclude `json:"exclude" doc:"What to exclude so that it does not come; empty when nothing can be."`
}

// Pages are the pages on which it is predicted, each once.
func (p Prediction) Pages() []string {
	var out []string
	for _, at := range p.Places {
		if !slices.Contains(out, at.Page) {
			out = append(out, at.Page)
		}
	}
	return out
}

// on says on how many pages it is, in words.
func on(n int) string {
	if n == 1 {
		return "one page"
	}
	return fmt.Sprintf("%d pages", n)
}

// sight is one change of settings held against the ground.
type sight struct {
	cat           settings.Catalogue
	before, after settings.Values
	found         []Prediction
}

// Predict says what a change will do to the pages of a mark. before are the settings with which the mark
// was taken, after those that are to be tried; both complete. The surest come first, then those on
// the most pages.
func Predict(cat settings.Catalogue, before, after settings.Values, g Ground) []Prediction {
	s := &sight{cat: cat, before: before, after: after}
	for _, p := range g.Pages {
		s.scripts(p)
		s.styles(p)
		s.pictures(p)
		s.frames(p)
		s.hosts(p, g.Hosts)
		s.kept(p)
	}
	s.sameFiles(g)
	for i, p := range s.found {
		s.found[i].Title = strings.ReplaceAll(p.Title, "{pages}", on(len(p.Pages())))
	}
	slices.SortStableFunc(s.found, func(a, b Prediction) int {
		sure := func(p Prediction) int {
			if p.Sure {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(sure(a), sure(b)), cmp.Compare(len(b.Pages()), len(a.Pages())))
	})
	return s.found
}

// sees adds something predicted on one page to what is known of the same on others.
func (s *sight) sees(at Place, x Prediction) {
	d, _ := s.cat.Find(x.Key)
	x.Setting = d.Title
	i := slices.IndexFunc(s.found, func(p Prediction) bool { return p.Key == x.Key && p.Kind == x.Kind && p.About == x.About })
	if i < 0 {
		x.Places = []Place{at}
		if x.Exclude == nil {
			x.Exclude = []Exclude{}
		}
		s.found = append(s.found, x)
		return
	}
	if !slices.Contains(s.found[i].Places, at) {
		s.found[i].Places = append(s.found[i].Places, at)
	}
	for _, e := range x.Exclude {
		if !slices.Contains(s.found[i].Exclude, e) {
			s.found[i].Exclude = append(s.found[i].Exclude, e)
		}
	}
}

// key is the setting of a role that is on, or is not its default, with the values; "" when there
// is none.
func (s *sight) key(v settings.Values, role settings.Role) string {
	for _, d := range s.cat.WithRole(role) {
		if d.Active(v[d.Key]) {
			return d.Key
		}
	}
	return ""
}

// begins is the setting of a role that the change switches on.
func (s *sight) begins(role settings.Role) string {
	if s.key(s.before, role) != "" {
		return ""
	}
	return s.key(s.after, role)
}

// spared tells whether a list of a role excludes an element by a part of its address or code.
func (s *sight) spared(v settings.Values, role settings.Role, text string) bool {
	return slices.ContainsFunc(s.cat.Patterns(v, role), func(p string) bool { return exclusion.MatchPart(p, text) })
}

// without is the entry that excludes an element, in the first list of a role.
func (s *sight) without(role settings.Role, pattern string) []Exclude {
	for _, d := range s.cat.WithRole(role) {
		return []Exclude{{d.Key, d.Title, pattern}}
	}
	return nil
}

package prediction

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/settings"
)

// phase is when in the life of a page a script runs.
type phase int

const (
	reading  phase = iota // in its place, while the page is read
	whenRead              // after that (HTML, 4.12.1: defer, and modules)
	touched               // when somebody first does something
	loose                 // whenever it has come (async)
)

// turn is when a script runs among the others of its page.
type turn struct {
	phase phase
	place int // of the document, or of the file that it was put into
	at    int // within that file
	by    string
}

// before tells whether one runs before another for certain.
func (t turn) before(o turn) bool {
	if t.phase == loose || o.phase == loose {
		return false
	}
	return cmp.Or(cmp.Compare(t.phase, o.phase), cmp.Compare(t.place, o.place), cmp.Compare(t.at, o.at)) < 0
}

// turns says when each script of a page runs with the settings. How a page came says it for the
// settings of the mark; what those had moved is restored first.
func (s *sight) turns(p Page, v settings.Values) []turn {
	out := make([]turn, len(p.Scripts))
	inline := s.key(v, "js-inline") != ""
	takes := func(e Element, not settings.Role) bool {
		return (inline || !e.Inline()) && !s.spared(v, not, e.Text)
	}
	combine, deferring, delay := s.key(v, "js-combine"), s.key(v, "js-defer"), s.key(v, "js-delay")
	deferred := s.key(s.before, "js-defer") != ""
	first := -1
	for i, e := range p.Scripts {
		t := turn{place: i}
		switch {
		case e.Async && !e.Module:
			t.phase = loose
		case e.Module, e.Defer && !(deferred && !s.spared(s.before, "js-exclude-defer", e.Text)):
			t.phase = whenRead
		}
		combined := combine != "" && e.Own && !e.Module && takes(e, "js-exclude-combine")
		if combined {
			if first < 0 {
				first = i
			}
			t = turn{phase: reading, place: first, at: i - first, by: combine}
		}
		switch {
		case delay != "" && (combined || takes(e, "js-exclude-delay")):
			t = turn{touched, t.place, t.at, delay}
		case deferring != "" && t.phase != loose && (combined || takes(e, "js-exclude-defer")):
			t = turn{whenRead, t.place, t.at, deferring}
		}
		out[i] = t
	}
	return out
}

// mover is the setting that a change moves a script with, "" when the mark had it so.
func (s *sight) mover(now turn) (key string, list settings.Role) {
	d, known := s.cat.Find(now.by)
	if !known || s.key(s.before, d.Role) == now.by {
		return "", ""
	}
	return d.Key, d.Role.ExcludedBy()[0] // only scripts are moved, and each such action has a list
}

// scripts predicts what becomes of a page's scripts.
func (s *sight) scripts(p Page) {
	was, is := s.turns(p, s.before), s.turns(p, s.after)
	for i, e := range p.Scripts {
		if e.script == nil {
			continue
		}
		for _, use := range e.script.Uses {
			s.needs(p, i, use, was, is)
		}
		s.moved(p, i, was[i], is[i])
		if key := s.begins("js-minify"); key != "" && e.script.Fault != "" && !s.spared(s.after, "js-exclude-minify", e.Text) && (!e.Inline() || s.key(s.after, "js-inline") != "") {
			s.sees(p.at(), Prediction{Key: key, Kind: Unreadable, About: nameOf(e), Title: fmt.Sprintf("%s on {pages} cannot be read as JavaScript: what is made of it is not known", sentence(nameOf(e))),
				Why: "Reading it ended with: " + e.script.Fault + ".", Exclude: s.without("js-exclude-minify", patternOf(e))})
		}
	}
	s.delayed(p, was, is)
	s.strict(p)
}

// needs predicts that a script needs a name before the script that defines it has run.
func (s *sight) needs(p Page, i int, use Use, was, is []turn) {
	if use.When == Later {
		return
	}
	definers := []int{}
	for j, d := range p.Scripts {
		if j != i && d.script != nil && slices.Contains(d.script.Defines, use.Name) {
			definers = append(definers, j)
		}
	}
	if len(definers) == 0 || slices.Contains(p.Scripts[i].script.Defines, use.Name) {
		return
	}
	at := func(turns []turn) turn { // when the name is needed
		t := turns[i]
		if use.When == Read && t.phase <= whenRead {
			t = turn{phase: whenRead, place: len(p.Scripts)}
		}
		return t
	}
	there := func(turns []turn) bool {
		return slices.ContainsFunc(definers, func(j int) bool { return turns[j].before(at(turns)) })
	}
	if !there(was) || there(is) {
		return
	}
	d := definers[0]
	key, list := s.mover(is[d])
	mend := s.closure(p, d, list, is)
	if key == "" || is[i].by != "" && is[i].phase == reading { // the one that needs it was moved to the front
		if key, list = s.mover(is[i]); key == "" {
			return
		}
		mend = s.without(list, patternOf(p.Scripts[i]))
	}
	defined := p.Scripts[d]
	s.sees(p.at(), Prediction{Key: key, Kind: NotDefined, About: use.Name, Sure: use.When == AtOnce,
		Title: fmt.Sprintf("%s on {pages} uses “%s” before it is defined", sentence(nameOf(p.Scripts[i])), use.Name),
		Why:   fmt.Sprintf("“%s” is defined by %s. %s", use.Name, nameOf(defined), order(is[d], is[i])), Exclude: mend})
}

// order says which of two scripts runs when.
func order(definer, user turn) string {
	says := map[phase]string{reading: "while the page is read", whenRead: "when the page has been read", touched: "when somebody first touches the page", loose: "whenever it has come"}
	if definer.phase == user.phase {
		return "It would run after what needs it."
	}
	return fmt.Sprintf("That would run %s; what needs it runs %s.", says[definer.phase], says[user.phase])
}

// closure are the entries that exclude a script, and those that it needs itself while it runs.
func (s *sight) closure(p Page, first int, list settings.Role, is []turn) []Exclude {
	var out []Exclude
	seen := map[int]bool{}
	todo := []int{first}
	for len(todo) > 0 {
		i := todo[0]
		todo = todo[1:]
		e := p.Scripts[i]
		if seen[i] || e.script == nil || is[i].by == "" {
			continue
		}
		seen[i] = true
		for _, x := range s.without(list, patternOf(e)) {
			if !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
		for _, use := range e.script.Uses {
			for j, d := range p.Scripts {
				if j != i && use.When == AtOnce && d.script != nil && slices.Contains(d.script.Defines, use.Name) {
					todo = append(todo, j)
				}
			}
		}
	}
	return out
}

// moved predicts what a script itself can no longer do at its new time.
func (s *sight) moved(p Page, i int, was, is turn) {
	e := p.Scripts[i]
	key, list := s.mover(is)
	if key == "" || is.phase == was.phase {
		return
	}
	if e.script.Writes && was.phase == reading && is.phase != reading {
		s.sees(p.at(), Prediction{Key: key, Kind: NotWritten, About: nameOf(e), Sure: true,
			Title: fmt.Sprintf("What %s writes into {pages} is lost", nameOf(e)),
			Why:   "It writes into the document as it is read, which browsers ignore once that is over (HTML, 8.4.3).", Exclude: s.without(list, patternOf(e))})
	}
	if len(e.script.Waits) > 0 && is.phase == touched {
		s.sees(p.at(), Prediction{Key: key, Kind: NeverRuns, About: nameOf(e), Sure: true,
			Title: fmt.Sprintf("What %s does on {pages} never happens", nameOf(e)),
			Why:   fmt.Sprintf("It waits for %s, which is over when somebody first touches the page, and does not ask whether it is.", strings.Join(e.script.Waits, " and ")), Exclude: s.without(list, patternOf(e))})
	}
}

// delayed predicts what is not there until somebody touches the page.
func (s *sight) delayed(p Page, was, is []turn) {
	var names []string
	var mend []Exclude
	by := ""
	for i, e := range p.Scripts {
		key, list := s.mover(is[i])
		if key == "" || is[i].phase != touched || was[i].phase == touched || e.script == nil || !s.acts(p, e) {
			continue
		}
		by, names = key, append(names, nameOf(e))
		for _, x := range s.closure(p, i, list, is) {
			if !slices.Contains(mend, x) {
				mend = append(mend, x)
			}
		}
	}
	if len(names) == 0 {
		return
	}
	said := strings.Join(names, ", ")
	if len(names) > 4 {
		said = fmt.Sprintf("%s and %d more", strings.Join(names[:4], ", "), len(names)-4)
	}
	s.sees(p.at(), Prediction{Key: by, Kind: RunsLater, About: "what scripts do by themselves", Sure: true,
		Title: "What scripts do by themselves is not there on {pages} until somebody touches the page",
		Why:   fmt.Sprintf("On %s %s would run only then.", p.Look.Page, said), Exclude: mend})
}

// acts tells whether a script does something to the page by itself: it reaches into the document,
// or calls one that does.
func (s *sight) acts(p Page, e Element) bool {
	if e.script.Reaches {
		return true
	}
	return slices.ContainsFunc(e.script.Uses, func(u Use) bool {
		return slices.ContainsFunc(p.Scripts, func(d Element) bool { return d.script != nil && slices.Contains(d.script.Defines, u.Name) })
	})
}

// strict predicts that one file of all scripts begins with “use strict”, so that those after it
// are read strictly, too (ECMA-262, 11.2.1).
func (s *sight) strict(p Page) {
	key := s.begins("js-combine")
	if key == "" {
		return
	}
	var first *Element
	inline := s.key(s.after, "js-inline") != ""
	for i, e := range p.Scripts {
		if e.script == nil || e.Module || !e.Own || e.Inline() && !inline || s.spared(s.after, "js-exclude-combine", e.Text) {
			continue
		}
		if first == nil {
			first = &p.Scripts[i]
			continue
		}
		if first.script.Strict && !e.script.Strict && len(e.script.Implicit) > 0 {
			s.sees(p.at(), Prediction{Key: key, Kind: Strict, About: nameOf(e), Sure: true,
				Title: fmt.Sprintf("%s on {pages} sets “%s” without declaring it, in a file that would be strict", sentence(nameOf(e)), e.script.Implicit[0]),
				Why:   fmt.Sprintf("%s comes first and begins with “use strict”; in one file that holds for all.", sentence(nameOf(*first))), Exclude: s.without("js-exclude-combine", patternOf(*first))})
		}
	}
}

// nameOf is what a person calls a script or a style sheet.
func nameOf(e Element) string {
	if !e.Inline() {
		return e.Path
	}
	return "a script in the page"
}

// patternOf is a part of an element's address, or of its code, that tells it from others.
func patternOf(e Element) string {
	if !e.Inline() {
		return e.Path
	}
	best := ""
	for line := range strings.Lines(string(e.Code)) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.HasPrefix(line, "//") && !strings.HasPrefix(line, "/*") && !strings.Contains(line, "*") {
			best = line
			break
		}
	}
	if len(best) > 60 {
		best = strings.ToValidUTF8(best[:60], "")
	}
	return best
}

// sentence begins a sentence.
func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

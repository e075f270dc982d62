package evidence

import (
	"slices"
	"strings"
)

// served ties what the page cache did wrong into one cause: that somebody got what is not theirs,
// or not what they asked for, and the steps that stop on such a page. What follows from the
// settings explains more than what was seen of it.
func (t *tying) served() {
	var of []int
	pages, sections := map[string]bool{}, map[string]bool{}
	for i, f := range t.findings {
		caching := slices.Contains([]Kind{LeakKind, VariantKind, PolicyKind, FormKind}, f.Kind) || f.Kind == StaleKind && !f.Known
		if caching && f.Severity != Note && !showsLate(f) {
			of = append(of, i)
			pages[pathAlone(f.Page)] = true
			if f.Known && f.Kind == PolicyKind { // a rule that is missing is missing for the whole section
				sections[section(f.Page)] = true
			}
		}
	}
	delete(sections, "")
	t.late()
	if len(of) == 0 {
		return
	}
	cause := t.under(of)
	for i, f := range t.findings {
		at := t.stops[Key{Journey: f.Journey, Persona: f.Persona, Device: f.Device}]
		if f.Kind == JourneyKind && (pages[pathAlone(f.Page)] || pages[at] || sections[section(at)]) && !f.Symptom {
			if f.Cause == notReady(f.Persona) {
				t.cause[f.Cause] = cause
			}
			t.comes(i, cause)
		}
		// What a cached copy shows on a page that is served to the wrong people is theirs.
		if slices.Contains(appearance, f.Kind) && pages[pathAlone(f.Page)] && t.fromCache[f.Key()] && !f.Symptom {
			was := f.Cause
			if t.comes(i, cause); t.findings[i].Symptom && was != cause {
				t.cause[was] = cause
			}
		}
	}
}

// under puts findings of the page cache under the one that explains the most, and gives its cause.
func (t *tying) under(of []int) string {
	root := of[0]
	for _, i := range of[1:] {
		if explains(t.findings[i], t.findings[root]) {
			root = i
		}
	}
	for _, i := range of {
		if i != root {
			t.comes(i, t.findings[root].Cause)
		}
	}
	return t.findings[root].Cause
}

// late ties what shows an edit too late on one page: what follows from the settings, and what was
// seen of it.
func (t *tying) late() {
	byPage := map[string][]int{}
	for i, f := range t.findings {
		if f.Kind == StaleKind && f.Severity != Note && (f.Known || showsLate(f)) {
			byPage[f.Page] = append(byPage[f.Page], i)
		}
	}
	for _, of := range byPage {
		t.under(of)
	}
}

// showsLate tells whether a finding stands for itself: an edit that shows late has to do with what
// is refreshed, not with who is served what.
func showsLate(f Finding) bool { return f.Kind == StaleKind && f.Journey == "" && f.Pass == 0 }

// explains tells whether one finding of the page cache explains more than another: broken before
// unsure, what follows from the settings before what was seen, then by kind.
func explains(f, g Finding) bool {
	weigh := func(x Finding) int {
		n := slices.Index(order, x.Kind)
		if !x.Known {
			n += 100
		}
		if x.Severity != Broken {
			n += 1000
		}
		return n
	}
	return weigh(f) < weigh(g)
}

// pathAlone is a page without its query.
func pathAlone(page string) string {
	path, _, _ := strings.Cut(page, "?")
	return path
}

// section is the first part of a page's path, "" for those at the top.
func section(page string) string {
	first, _, below := strings.Cut(strings.TrimPrefix(pathAlone(page), "/"), "/")
	if !below {
		return ""
	}
	return first
}

// kept ties what somebody is shown who was here before under what their browser may keep: that
// it may show the page again without asking explains what it shows then.
func (t *tying) kept() {
	root := slices.IndexFunc(t.findings, func(f Finding) bool {
		return f.Part == string(StaleKind)+": page in the browser cache" && f.Severity != Note
	})
	if root < 0 {
		return
	}
	for i, f := range t.findings {
		if _, about, _ := strings.Cut(f.Part, ": "); strings.HasPrefix(about, "here before: ") {
			t.comes(i, t.findings[root].Cause)
		}
	}
}

// stopping ties journeys that stop on one page, and people who cannot be made ready there: what
// stops one there stops the other.
func (t *tying) stopping() {
	at := map[string][]int{}
	for i, f := range t.findings {
		page := t.stops[Key{Journey: f.Journey, Persona: f.Persona, Device: f.Device}]
		if f.Kind == JourneyKind && f.Severity != Note && !f.Symptom && page != "" {
			at[page] = append(at[page], i)
		}
	}
	for _, of := range at {
		root := of[0]
		first := func(f Finding) string { // who cannot be made ready explains the most
			if f.Cause == notReady(f.Persona) {
				return "0 " + f.Persona + f.Device
			}
			return "1 " + f.Journey + f.Persona + f.Device
		}
		for _, i := range of[1:] {
			if first(t.findings[i]) < first(t.findings[root]) {
				root = i
			}
		}
		cause := t.findings[root].Cause
		for _, i := range of {
			was := t.findings[i].Cause
			if i == root || was == cause {
				continue
			}
			if t.comes(i, cause); t.findings[i].Symptom {
				t.cause[was] = cause
			}
		}
	}
}

// moved ties files that are missing at another address than at the mark: one setting has moved
// them all.
func (t *tying) moved() {
	paths := map[string]bool{}
	for _, p := range t.base.Look.Pages {
		for _, r := range p.Requests {
			if path := pathAlone(pathOf(r.URL)); strings.Count(path, "/") > 1 {
				paths[path] = true
			}
		}
	}
	elsewhere := func(cause string) bool {
		name, is := strings.CutPrefix(cause, string(MissingKind)+": ")
		name = pathAlone(name)
		for path := range paths {
			if is && name != path && strings.HasSuffix(name, path) {
				return true
			}
		}
		return false
	}
	root := -1
	for i, f := range t.findings {
		chance := f.Control != nil && (f.Control.Outcome == Remains || f.Control.Outcome == Random)
		if f.Kind != MissingKind || f.Severity == Note || f.Symptom || chance || !elsewhere(f.Part) {
			continue
		}
		if root < 0 || f.Page+f.Part < t.findings[root].Page+t.findings[root].Part {
			root = i
		}
	}
	if root < 0 {
		return
	}
	cause := t.findings[root].Cause
	for i, f := range t.findings {
		if f.Cause == cause || !elsewhere(f.Cause) { // also what came of one of them elsewhere
			continue
		}
		t.cause[f.Cause] = cause
		t.findings[i].Cause = cause
	}
}

// looks ties what only looks or reads different, page by page, into one cause when it does so on
// several: a change of settings that shows here and there is one.
func (t *tying) looks() {
	roots := map[string][]int{}
	pages := map[string]bool{}
	for i, f := range t.findings {
		if slices.Contains(appearance, f.Kind) && f.Severity != Note && !f.Symptom && f.Pass == 0 {
			roots[f.Cause] = append(roots[f.Cause], i)
			pages[f.Page+f.Device+f.Persona] = true
		}
	}
	if len(roots) < 2 || len(pages) < 2 {
		return
	}
	best := -1
	for _, list := range roots {
		for _, i := range list {
			if best < 0 || tells(t.findings[i], t.findings[best]) {
				best = i
			}
		}
	}
	cause := t.findings[best].Cause
	for _, list := range roots {
		for _, i := range list {
			was := t.findings[i].Cause
			t.comes(i, cause)
			if t.findings[i].Cause == cause && was != cause {
				t.cause[was] = cause // and what came of it
			}
		}
	}
}

// tells tells whether a finding says more of what happened than another: by severity, by kind,
// by whether it names an element, by what that weighs; else the first by page, which is the same
// each time.
func tells(f, g Finding) bool {
	rank := func(x Finding) int {
		n := slices.Index(appearance, x.Kind)
		if x.Kind == PictureKind && strings.HasPrefix(x.Title, "Looks different") {
			n += 10
		}
		if x.Severity != Broken {
			n += 100
		}
		return n*10 - int(x.Weight)
	}
	if a, b := rank(f), rank(g); a != b {
		return a < b
	}
	return f.Page+f.Persona+f.Device+f.Cause < g.Page+g.Persona+g.Device+g.Cause
}

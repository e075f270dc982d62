package evidence

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Tie ties findings into causes by what else the same look or journey had: a request that
// failed explains the error that followed, an error the step that did not work, a step what
// looks different there. What Tide Marker itself did not fetch explains more than anything
// the site did; what comes of that is not checked. look is the first look of the run.
//
// A finding keeps its kind; one that comes of another gets its cause and is a symptom.
func Tie(base Baseline, look Look, findings []Finding) []Finding {
	t := tying{base: base, findings: slices.Clone(findings), cause: map[string]string{}, stops: map[Key]string{}, fromCache: map[Key]bool{}}
	for _, j := range look.Journeys {
		if failed := j.Outcome.Failed(); failed >= 0 {
			t.stops[Key{Journey: j.Journey, Persona: j.Persona, Device: j.Device}] = pathAlone(j.Outcome.Steps[failed].At)
		}
		t.journey(j)
	}
	for _, p := range look.Pages {
		t.page(p)
		if p.Served.FromCache() {
			t.fromCache[p.Key] = true
		}
	}
	t.moved()
	t.kept()
	t.served()
	t.stopping()
	t.looks()
	return t.tied()
}

type tying struct {
	base     Baseline
	findings []Finding
	cause    map[string]string // what a cause comes of, by itself
	added    []Finding
	stops    map[Key]string // where each journey that stopped was then, without its query
	// fromCache are the looks at pages that were served from the page cache.
	fromCache map[Key]bool
}

// of are the indexes of the findings about one page or journey, as somebody on a device.
func (t *tying) of(k Key, kinds ...Kind) []int {
	var out []int
	for i, f := range t.findings {
		same := f.Persona == k.Persona && f.Device == k.Device && f.Journey == k.Journey && (k.Journey != "" || f.Page == k.Page)
		if same && slices.Contains(kinds, f.Kind) {
			out = append(out, i)
		}
	}
	return out
}

// comes says that one finding comes of a cause. What is there with the earlier settings, too,
// does not come of what is not.
func (t *tying) comes(i int, of string) {
	f := &t.findings[i]
	if f.Symptom || f.Cause == of || f.Severity == Note || f.Control != nil && (f.Control.Outcome == Remains || f.Control.Outcome == Random) {
		return
	}
	f.Cause, f.Symptom = of, true
}

// appearance are the kinds by which one sees that something is wrong, what explains most first.
var appearance = []Kind{ShiftKind, ContentKind, PictureKind}

func (t *tying) page(p PageLook) {
	m, _ := t.base.Look.Page(p.Key)
	root := root(newHosts(m.Requests, p.Requests))
	if root == "" {
		root = t.unreachable(p.Key)
	}
	if root == "" {
		root = t.failed(p)
	}
	if root != "" {
		kinds := append([]Kind{ScriptErrorKind, MissingKind, RequestKind}, appearance...)
		if strings.HasPrefix(root, string(ScriptErrorKind)) {
			// An error is no reason for a page to jump while it loads.
			kinds = slices.DeleteFunc(kinds, func(k Kind) bool { return k == ShiftKind })
		}
		for _, i := range t.of(p.Key, kinds...) {
			t.comes(i, root)
		}
		return
	}
	// What looks different is one cause on one page; a journey that stops on it explains it.
	var seen []int
	for _, kind := range appearance {
		seen = append(seen, t.of(p.Key, kind)...)
	}
	if len(seen) == 0 {
		return
	}
	root = t.findings[seen[0]].Cause
	for _, f := range t.findings {
		if f.Kind == JourneyKind && f.Severity != Note && f.Page == p.Page && f.Device == p.Device {
			root = f.Cause
			break
		}
	}
	for _, i := range seen {
		t.comes(i, root)
	}
}

// unreachable is the cause of a host of the page's that nobody can reach, "" without one.
func (t *tying) unreachable(k Key) string {
	for _, i := range t.of(k, MissingKind) {
		if f := t.findings[i]; f.Severity != Note && strings.HasPrefix(f.Part, unreachableHost) {
			return f.Cause
		}
	}
	return ""
}

// failed is what explains the most of what else is wrong on a page: a script or style that is
// missing, what is no longer loaded where an error or a loss came of it, an error. Errors are
// tied to what they came of, each to its own.
func (t *tying) failed(p PageLook) string {
	// A picture that is missing is missed where it was; scripts and styles may be missed
	// anywhere.
	var missing []int
	for _, kind := range []string{"script", "stylesheet", "fetch", "font"} {
		for _, i := range t.of(p.Key, MissingKind, RequestKind) {
			if strings.HasPrefix(t.findings[i].Title, "The "+kind+" ") && t.findings[i].Severity != Note {
				missing = append(missing, i)
			}
		}
	}
	errors := t.of(p.Key, ScriptErrorKind)
	if len(missing) == 0 && (len(errors) > 0 || len(t.of(p.Key, appearance...)) > 0) {
		for _, i := range t.of(p.Key, MissingKind) {
			if strings.Contains(t.findings[i].Part, notAsked) {
				missing = append(missing, i)
			}
		}
	}
	for _, i := range errors {
		if root := t.origin(p, t.findings[i], missing); root != "" {
			was := t.findings[i].Cause
			if t.comes(i, root); t.findings[i].Symptom && was != root {
				t.cause[was] = root // and with it the journeys that the same error stops
			}
		}
	}
	switch {
	case len(missing) > 0:
		return t.findings[missing[0]].Cause
	case len(errors) > 0:
		return t.findings[errors[0]].Cause
	}
	return ""
}

// origin is the cause of the missing script that an error came of: the one that the error
// names; else one on its stack or that those on it were loaded by; else the last before the
// script in which it was raised, since what is needed comes first; else the first.
func (t *tying) origin(p PageLook, f Finding, missing []int) string {
	if len(missing) == 0 {
		return ""
	}
	if len(missing) == 1 {
		return t.findings[missing[0]].Cause
	}
	var raised ScriptError
	for _, e := range p.Errors {
		if strings.HasSuffix(f.Title, firstLine(e.Message)) {
			raised = e
			break
		}
	}
	at := map[string]int{} // place of each address in the order of requests
	from := map[string]string{}
	for i, r := range p.Requests {
		if _, seen := at[pathOf(r.URL)]; !seen {
			at[pathOf(r.URL)], from[pathOf(r.URL)] = i, r.From
		}
	}
	chain := map[string]bool{}
	for _, s := range append(slices.Clone(raised.By), raised.Source) {
		for n := 0; s != "" && n < 8; n++ {
			chain[pathOf(s)] = true
			s = from[pathOf(s)]
		}
	}
	best, rank := missing[0], 0
	for n, i := range missing {
		path := strings.TrimPrefix(strings.TrimPrefix(t.findings[i].Part, string(t.findings[i].Kind)+": "), notAsked)
		is := 0
		switch place, known := at[path]; {
		case named(raised.Message, path):
			is = 3_000_000
		case chain[path]:
			is = 2_000_000
		case known && raised.Source != "" && place < at[pathOf(raised.Source)]:
			is = 1_000_000 + place
		default:
			is = -n
		}
		if n == 0 || is > rank {
			best, rank = i, is
		}
	}
	return t.findings[best].Cause
}

// named tells whether a message names a file: “Fern is not defined” names /assets/fern.js.
func named(message, path string) bool {
	name := path[strings.LastIndex(path, "/")+1:]
	name, _, _ = strings.Cut(name, ".")
	return len(name) > 2 && slices.ContainsFunc(strings.FieldsFunc(message, func(r rune) bool {
		return !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || r == '_' || r == '$')
	}), func(word string) bool { return strings.EqualFold(word, name) })
}

func (t *tying) journey(j JourneyLook) {
	var failed []int
	for i, f := range t.findings {
		if f.Kind == JourneyKind && f.Journey == j.Journey && f.Persona == j.Persona && f.Device == j.Device {
			failed = append(failed, i)
		}
	}
	if len(failed) == 0 {
		return
	}
	m, known := t.base.Look.journey(j.Key)
	if !known {
		return
	}
	root := root(newHosts(m.Requests, j.Requests))
	if root == "" {
		root = t.broke(m, j)
	}
	if root == "" {
		return
	}
	for _, i := range failed {
		ready := t.findings[i].Cause == notReady(j.Persona)
		t.comes(i, root)
		if ready { // and all that could not be looked at for it
			t.cause[notReady(j.Persona)] = root
		}
	}
}

// broke is what failed while a journey was taken and did not when the mark was: a request,
// else an error. It becomes a finding when no page had it.
func (t *tying) broke(m, j JourneyLook) string {
	was := PageLook{Requests: m.Requests}
	now := PageLook{Key: j.Key, Requests: j.Requests, Errors: j.Errors}
	found := append(requestFindings(was, Volatile{}, now), unaskedFindings(was, now)...)
	for _, f := range append(found, errorFindings(j.Key, m.Errors, Volatile{}, now)...) {
		if strings.HasPrefix(f.Title, "The image ") {
			continue
		}
		if strings.Contains(f.Part, notAsked) && !slices.ContainsFunc(t.findings, func(g Finding) bool { return g.Cause == f.Cause }) {
			continue // only what the pages show, too: a journey that stops does not come to load the rest
		}
		if !slices.ContainsFunc(t.findings, func(g Finding) bool { return g.Cause == f.Cause }) {
			f.Control = t.controlOf(j.Key)
			t.added = append(t.added, f)
		}
		return f.Cause
	}
	return ""
}

// controlOf is what the control said of a journey.
func (t *tying) controlOf(k Key) *Control {
	for _, f := range t.findings {
		if f.Journey == k.Journey && f.Persona == k.Persona && f.Device == k.Device && f.Control != nil {
			return f.Control
		}
	}
	return nil
}

// root is the cause of all that may come of hosts that were not asked, "" without any.
func root(hosts []string) string {
	if len(hosts) == 0 {
		return ""
	}
	return hostCause(hosts[0])
}

func hostCause(host string) string { return "host: " + host }

// newHosts are the hosts that were not asked now and were not asked for before.
func newHosts(before, now []Request) []string {
	hosts := func(list []Request) (out []string) {
		for _, r := range list {
			if u, err := url.Parse(r.URL); err == nil && r.Blocked && u.Host != "" {
				out = append(out, u.Host)
			}
		}
		return unique(out)
	}
	had := hosts(before)
	return slices.DeleteFunc(hosts(now), func(h string) bool { return slices.Contains(had, h) })
}

// hostFindings tell of hosts that the page asks for now and the site does not list. They
// weigh something once something comes of them ([Tie]).
func hostFindings(k Key, before, now []Request) []Finding {
	var out []Finding
	for _, host := range newHosts(before, now) {
		n, why := 0, ""
		for _, r := range now {
			if u, err := url.Parse(r.URL); err == nil && r.Blocked && u.Host == host {
				n++
				why = r.Unreachable
			}
		}
		count := map[bool]string{true: "1 request was", false: fmt.Sprintf("%d requests were", n)}[n == 1]
		f := k.about(NotCheckedKind, Note, host+" was not asked: the site does not list it").
			with("%s not sent to it, since only a site's own hosts are ever reached. What is missing here may come from that alone. Add the host to the site and look again.", count)
		if why != "" {
			f = k.about(NotCheckedKind, Note, host+" could not be reached from here").
				with("%s not sent to it: %s. A visitor may well reach it. What is missing here may come from that alone.", count, why)
		}
		if f = f.dueTo(hostCause(host)); why == "" {
			f.Host = host
		}
		out = append(out, f)
	}
	return out
}

// tied is what became of all: causes that come of others are followed to the end, and what
// comes of a host that was not asked is not the site's fault.
func (t *tying) tied() []Finding {
	out := append(t.findings, t.added...)
	lacking := map[string]bool{} // causes that something comes of
	for _, f := range out {
		lacking[f.Cause] = lacking[f.Cause] || f.Symptom
	}
	for i, f := range out {
		for range len(t.cause) + 1 {
			if next, more := t.cause[f.Cause]; more && next != f.Cause {
				f.Cause, f.Symptom = next, true
			}
		}
		if strings.HasPrefix(f.Cause, hostCause("")) && f.Symptom && f.Severity == Broken && f.Kind != NotCheckedKind {
			f.Severity = Note
			f.Detail = strings.TrimSpace(f.Detail + " It may come of the host that was not asked.")
		}
		if f.notAskedHost() && lacking[f.Cause] {
			f.Severity = Broken
		}
		if strings.Contains(f.Part, notAsked) && !f.Symptom && f.Severity == Note && lacking[f.Cause] {
			f = weighed(f, out)
		}
		out[i] = f
	}
	return out
}

// weighed gives what is no longer loaded the weight of what comes of it on the page, and its
// control.
func weighed(f Finding, all []Finding) Finding {
	for _, s := range all {
		if !s.Symptom || s.Cause != f.Cause || s.Key() != f.Key() || s.Severity == Note || f.Severity == Broken {
			continue
		}
		f.Severity, f.Control = s.Severity, s.Control
	}
	return f
}

// Appearance tells whether findings of a kind are of what pages look like or say, which a site changes by itself, too.
func (k Kind) Appearance() bool { return slices.Contains(appearance, k) }

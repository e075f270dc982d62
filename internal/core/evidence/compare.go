package evidence

import (
	"fmt"
	"image"
	"net/url"
	"slices"
	"strings"

	"tidemarker/internal/core/vitals"
	"tidemarker/internal/core/words"
)

// What counts as a difference. The numbers are common practice where no source is
// named: a speed setting should change nothing that a visitor sees, so little is let
// pass.
const (
	shiftRise   = 0.02 // rise of the layout shift that counts once it is no longer good
	shiftUnsure = 0.05 // rise within good that a person should look at
)

// Compare holds a look against a baseline. It fails when a picture cannot be had.
// Findings come worst first.
func Compare(base Baseline, look Look, pictures Pictures) ([]Finding, error) {
	var out []Finding
	for _, p := range look.Pages {
		f, err := ComparePage(base, p, pictures)
		if err != nil {
			return nil, err
		}
		out = append(out, f...)
	}
	for _, j := range look.Journeys {
		out = append(out, CompareJourney(base, j)...)
	}
	for _, p := range look.Probes {
		out = append(out, CompareProbe(base, p)...)
	}
	Sort(out)
	return out, nil
}

// ComparePage holds one page against the baseline.
func ComparePage(base Baseline, p PageLook, pictures Pictures) ([]Finding, error) {
	if p.Missing != "" {
		f := p.about(NotCheckedKind, Broken, "Could not be looked at").with("%s", p.Missing).caused(p.Missing)
		if p.NotReady {
			f = f.dueTo(notReady(p.Persona))
		}
		return []Finding{f}, nil
	}
	m, known := base.Look.Page(p.Key)
	if !known || m.Missing != "" {
		return []Finding{p.about(NotCheckedKind, Unsure, "The mark has no evidence of this page").
			with("Take a new mark, so that there is something to compare with.").caused("no evidence in the mark")}, nil
	}
	rest := base.Volatile[p.Key]
	out := documentFindings(m, p)
	if len(out) > 0 {
		return out, nil // another document altogether; its looks say nothing more
	}
	out = append(out, hostFindings(p.Key, m.Requests, p.Requests)...)
	out = append(out, notedFindings(p)...)
	out = append(out, errorFindings(p.Key, m.Errors, rest, p)...)
	out = append(out, requestFindings(m, rest, p)...)
	out = append(out, unaskedFindings(m, p)...)
	out = append(out, shiftFindings(m, rest, p)...)
	out = append(out, contentFindings(m, rest, p)...)
	out = append(out, policyFindings(m, p)...)
	out = append(out, surfaceFindings(m, rest, p)...)
	out = append(out, ownerFindings(base, m, p)...)
	out = append(out, rendererFindings(m, p)...)
	pics, err := pictureFindings(m, rest, p, pictures)
	return append(out, pics...), err
}

func documentFindings(m, p PageLook) []Finding {
	if p.Status != m.Status {
		return []Finding{p.about(RequestKind, Broken, fmt.Sprintf("Answers %d instead of %d", p.Status, m.Status)).
			with("The document itself was answered with status %d.", p.Status).caused(fmt.Sprintf("status %d", p.Status))}
	}
	if pathOf(p.Address) != pathOf(m.Address) {
		return []Finding{p.about(RequestKind, Broken, "Ends up at "+pathOf(p.Address)).
			with("It ended up at %s when the mark was taken.", pathOf(m.Address)).caused("ends up at " + pathOf(p.Address))}
	}
	return nil
}

func pathOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.RequestURI()
}

func errorFindings(k Key, before []ScriptError, rest Volatile, p PageLook) []Finding {
	var out []Finding
	seen := map[string]bool{}
	for _, e := range before {
		seen[e.Message] = true
	}
	for _, e := range rest.Errors {
		seen[e] = true
	}
	for _, e := range p.Errors {
		if seen[e.Message] {
			continue
		}
		seen[e.Message] = true
		f := k.about(ScriptErrorKind, Broken, "Script error: "+firstLine(e.Message)).caused(firstLine(e.Message))
		if e.Source != "" {
			f = f.with("In %s, line %d.%s", pathOf(e.Source), e.Line, wayOf(e))
		}
		out = append(out, f)
	}
	return out
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	if r := []rune(s); len(r) > 160 {
		s = string(r[:159]) + "…"
	}
	return s
}

func requestFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	was := map[string]bool{}
	for _, r := range m.Requests {
		if r.Broken() {
			was[pathOf(r.URL)] = true
		}
	}
	for _, u := range rest.Broken {
		was[pathOf(u)] = true
	}
	out := unreachableFindings(p.Key, m.Requests, p.Requests)
	for _, r := range p.Requests {
		at := pathOf(r.URL)
		if !r.Broken() || r.Unreachable != "" || was[at] || r.Kind == "document" {
			continue
		}
		was[at] = true
		reason := r.Failed
		if reason == "" {
			reason = fmt.Sprintf("status %d", r.Status)
		}
		kind := RequestKind
		switch r.Kind {
		case "script", "stylesheet", "image", "font":
			kind = MissingKind
		}
		out = append(out, p.about(kind, Broken, fmt.Sprintf("The %s %s is missing", r.Kind, at)).with("%s.%s", reason, byWhom(r)).caused(at))
	}
	return out
}

// byWhom says which script or style asked for something.
func byWhom(r Request) string {
	if r.From == "" {
		return ""
	}
	return " " + pathOf(r.From) + " asked for it."
}

// wayOf names the scripts by whose way an error came to where it was raised.
func wayOf(e ScriptError) string {
	var way []string
	for _, s := range e.By {
		if s != e.Source {
			way = append(way, pathOf(s))
		}
	}
	if len(way) == 0 {
		return ""
	}
	return " Called from " + strings.Join(way[:min(3, len(way))], ", ") + "."
}

// notAsked starts the cause of what is no longer asked for.
const notAsked = "not asked: "

// unaskedFindings tell of scripts and styles that the page asked for as it was read and does not
// any more, at all or only once a script asks for them, or has in itself now. That weighs something
// only when something comes of it ([Tie]): where others are asked for in their place, these may
// hold the same.
func unaskedFindings(m, p PageLook) []Finding {
	var out []Finding
	for _, kind := range []string{"script", "stylesheet"} {
		ever := func(r Request) bool { return r.Kind == kind }
		was, now, all := addresses(m, asRead(kind)), addresses(p, asRead(kind)), addresses(p, ever)
		inside := kind == "script" && p.Code-m.Code > max(200, weight(m, newIn(now, was))/2) || kind == "stylesheet" && p.Rules > m.Rules
		var later, within, gone []string
		for _, at := range newIn(now, was) {
			switch {
			case slices.Contains(all, at) || p.waitsFor(at):
				later = append(later, at)
			case inside:
				within = append(within, at)
			case len(newIn(addresses(m, ever), all)) == 0:
				gone = append(gone, at)
			}
		}
		out = append(out, p.unasked(kind, later, "loaded later than the page", "They were asked for as the page was read when the mark was taken; now a script asks for them, once something has happened.")...)
		out = append(out, p.unasked(kind, within, "in the page now, not in files", "They were files when the mark was taken. What stands in the page itself may be less than was in them.")...)
		out = append(out, p.unasked(kind, gone, "no longer loaded", "They were asked for when the mark was taken, and not now.")...)
	}
	return out
}

// waitsFor tells whether an address stands in the page for a script to ask for.
func (p PageLook) waitsFor(at string) bool {
	return slices.ContainsFunc(p.Waits, func(address string) bool { return pathOf(address) == at })
}

// weight is how many bytes came for some addresses.
func weight(p PageLook, list []string) int {
	n := 0
	for _, r := range p.Requests {
		if slices.Contains(list, pathOf(r.URL)) {
			n += r.Bytes
		}
	}
	return n
}

// unasked is the finding on what is asked for otherwise; several are one, since one setting does
// it to all.
func (p PageLook) unasked(kind string, list []string, what, detail string) []Finding {
	if len(list) == 0 {
		return nil
	}
	title, cause := fmt.Sprintf("%ss are %s", strings.ToUpper(kind[:1])+kind[1:], what), kind+"s"
	if len(list) == 1 {
		title, cause = fmt.Sprintf("The %s %s is %s", kind, list[0], strings.ReplaceAll(what, "files", "a file")), list[0]
	}
	return []Finding{p.about(MissingKind, Note, title).with("%s%s", detail, listed(" ", list)).caused(notAsked + cause)}
}

// asRead tells requests of a kind that the page made as it was read.
func asRead(kind string) func(Request) bool {
	return func(r Request) bool { return r.Kind == kind && !r.Later }
}

func addresses(p PageLook, of func(Request) bool) []string {
	var out []string
	for _, r := range p.Requests {
		if of(r) {
			out = append(out, pathOf(r.URL))
		}
	}
	return unique(out)
}

func shiftFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	now, worst := vitals.CumulativeLayoutShift(p.Shifts)
	was, _ := vitals.CumulativeLayoutShift(m.Shifts)
	was = max(was, rest.Shift)
	var severity Severity
	switch rise := now - was; {
	case vitals.RateLayoutShift(now) != vitals.Good && rise >= shiftRise:
		severity = Broken
	case rise >= shiftUnsure:
		severity = Unsure
	default:
		return nil
	}
	var moved []string
	for _, s := range worst {
		moved = append(moved, s.Moved...)
	}
	moved = unique(moved)
	what := "the page"
	if len(moved) > 0 {
		what = strings.Join(moved[:min(3, len(moved))], ", ")
	}
	return []Finding{p.about(ShiftKind, severity, "The layout jumps while the page loads").
		with("Layout shift %.3f (%s), was %.3f. What moved: %s.", now, vitals.RateLayoutShift(now), was, what).caused("layout shift")}
}

func contentFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	volatile := map[string]bool{}
	for _, path := range rest.Paths {
		volatile[path] = true
	}
	masked := rects(append(slices.Clone(m.Masked), p.Masked...))
	lines := func(l PageLook) map[string]int {
		out := map[string]int{}
		for _, line := range l.Lines {
			if l.within(line.Box, volatile) || l.hidden(line.Box, masked) {
				continue
			}
			if t := clean(line.Text); t != "" {
				out[t]++
			}
		}
		return out
	}
	before, after := lines(m), lines(p)
	var gone, come []string
	for t, n := range before {
		if after[t] < n {
			gone = append(gone, t)
		}
	}
	for t, n := range after {
		if before[t] < n {
			come = append(come, t)
		}
	}
	if len(gone) == 0 && len(come) == 0 {
		return nil
	}
	slices.Sort(gone)
	slices.Sort(come)
	severity, title := Broken, "Text is gone: "
	if len(gone) > 0 {
		title += quote(gone)
	} else {
		severity, title = Unsure, "Text came in: "+quote(come)
	}
	return []Finding{p.about(ContentKind, severity, title).
		with("%s gone, %s come in.%s%s", words.Count(len(gone), "line"), words.Count(len(come), "line"), listed(" Gone: ", gone), listed(" Came in: ", come)).
		caused(title)}
}

func quote(lines []string) string {
	s := lines[0]
	for _, l := range lines {
		if len(l) > len(s) {
			s = l
		}
	}
	if r := []rune(s); len(r) > 60 {
		s = string(r[:59]) + "…"
	}
	return "“" + s + "”"
}

func listed(label string, lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	shown := lines[:min(8, len(lines))]
	return label + "“" + strings.Join(shown, "”, “") + "”."
}

// hidden tells whether a box lies in one of the masked rectangles.
func (p PageLook) hidden(box int, masked []image.Rectangle) bool {
	if box < 0 || box >= len(p.Outline) {
		return false
	}
	r := p.Outline[box].Rect()
	return slices.ContainsFunc(masked, func(m image.Rectangle) bool { return r.In(m) })
}

func has(lines []Line, text string) bool {
	return slices.ContainsFunc(lines, func(l Line) bool { return strings.Contains(clean(l.Text), clean(text)) })
}

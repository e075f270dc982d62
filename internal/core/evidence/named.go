package evidence

import (
	"fmt"
	"image"
	"strings"

	"tidemarker/internal/core/visual"
)

// slack is by how many pixels an element may be elsewhere or of another size and still count
// as unchanged: browsers round.
const slack = 2

// whatHappened names a changed part of a page by what is under it in both outlines, and gives
// the path by which it is known again: an element that is missing, new, at another place,
// moved, of another size, without its style, cut off, under another, a picture that did not
// come, or what is drawn otherwise. It says what was computed and no more.
func whatHappened(m, p PageLook, r visual.Region) (what, path string) {
	region := r.Rect()
	gone, came := surplus(m, p, r.Before()), surplus(p, m, region)
	switch {
	case len(gone) > 0 && len(came) > 0:
		return fmt.Sprintf("%s is in the place of %s", called(p, came[0]), called(m, gone[0])), p.Outline[came[0]].Path
	case len(gone) > 0:
		return called(m, gone[0]) + " is missing", m.Outline[gone[0]].Path
	case len(came) > 0:
		return called(p, came[0]) + " is new", p.Outline[came[0]].Path
	}
	if n, first := unstyled(m, p, region); n > 0 {
		what = called(p, first) + " has lost its style"
		if n > 1 {
			what = fmt.Sprintf("%s and %d more have lost their style", called(p, first), n-1)
		}
		return what, p.Outline[first].Path
	}
	if r.Happened == visual.Moved {
		if i := p.largestIn(region); i >= 0 {
			return fmt.Sprintf("%s is %s: it has changed places", called(p, i), moved(0, r.Y-r.Was)), p.Outline[i].Path
		}
	}
	name, path := p.nameAt(region)
	i, there := p.box(path)
	j, was := m.box(path)
	if !there || !was || p.covers(i) {
		return "Looks different at " + name, path
	}
	return elementNow(m, j, p, i, region), path
}

// elementNow says what became of an element that both looks have.
func elementNow(m PageLook, j int, p PageLook, i int, region image.Rectangle) string {
	now, before := p.Outline[i], m.Outline[j]
	name := called(p, i)
	over := overlapping(m, p, region)
	switch {
	case now.Name != before.Name:
		return fmt.Sprintf("%s is in the place of %s", name, called(m, j))
	case strings.HasPrefix(now.Name, "img") && lacksPicture(p):
		return name + " shows no picture"
	case now.Cut && !before.Cut:
		return name + " is cut off"
	case over != "":
		return over
	case apart(now.Width, before.Width) || apart(now.Height, before.Height):
		return fmt.Sprintf("%s is %d × %d px, was %d × %d", name, now.Width, now.Height, before.Width, before.Height)
	case apart(now.X, before.X) || apart(now.Y, before.Y):
		return fmt.Sprintf("%s is %s", name, moved(now.X-before.X, now.Y-before.Y))
	}
	if reads, read := textOf(p, i), textOf(m, j); reads != read && reads != "" && read != "" {
		return fmt.Sprintf("%s reads “%s”, was “%s”", now.Name, reads, read)
	}
	is, styled := p.style(i)
	had, hadStyle := m.style(j)
	switch {
	case !styled || !hadStyle:
	case !sameFont(is.Font, had.Font):
		return fmt.Sprintf("%s is set in %s, was %s", name, is.Font, had.Font)
	case is.Colour != had.Colour:
		return fmt.Sprintf("%s is %s, was %s", name, is.Colour, had.Colour)
	case is.Background != had.Background:
		return fmt.Sprintf("%s is on %s, was on %s", name, is.Background, had.Background)
	}
	return name + " is drawn otherwise"
}

// style is how an element is drawn; ok is false in a look that does not tell.
func (p PageLook) style(i int) (Style, bool) {
	if at := p.Outline[i].Style - 1; at >= 0 && at < len(p.Styles) {
		return p.Styles[at], true
	}
	return Style{}, false
}

// bare tells whether an element is drawn as browsers draw what no style is written for:
// in their standard font, black or as a link, on nothing (HTML Living Standard §15.3; the
// values are Chromium's).
func (s Style) bare() bool {
	font := strings.Contains(s.Font, "Times New Roman") || strings.HasPrefix(s.Font, "13.3333px Arial") || strings.HasPrefix(s.Font, "13.3333px monospace")
	colour := s.Colour == "rgb(0, 0, 0)" || s.Colour == "rgb(0, 0, 238)" || s.Colour == "rgb(85, 26, 139)"
	ground := s.Background == "nothing" || s.Background == "rgb(239, 239, 239)" || s.Background == "rgb(255, 255, 255)"
	return font && colour && ground
}

// unstyled counts the elements in a region that had a style and have none now, and gives the
// first of the weightiest; 0 unless that is so for at least half of what can be told.
func unstyled(m, p PageLook, region image.Rectangle) (n, first int) {
	had, all := make(map[string]int, len(m.Outline)), 0
	for j, b := range m.Outline {
		had[b.Path] = j
	}
	first = -1
	for i, b := range p.Outline {
		j, there := had[b.Path]
		if !there || area(b.Rect()) == 0 || !b.Rect().In(region) {
			continue
		}
		is, ok := p.style(i)
		was, known := m.style(j)
		if !ok || !known || was.bare() {
			continue
		}
		all++
		if is.bare() {
			if n++; first < 0 || p.weightOf(i) > p.weightOf(first) {
				first = i
			}
		}
	}
	if n*2 < all {
		return 0, -1
	}
	return n, first
}

// overlapping names two elements in a region that lie over each other and did not: text or
// what people act with, neither within the other, a quarter of the smaller one covered.
func overlapping(m, p PageLook, region image.Rectangle) string {
	reads := map[int]bool{}
	for _, l := range p.Lines {
		reads[l.Box] = true
	}
	var in []int
	for i, b := range p.Outline {
		if b.Rect().Overlaps(region) && (reads[i] || p.weightOf(i) == Acted) && !p.covers(i) && len(in) < 100 {
			in = append(in, i)
		}
	}
	for n, i := range in {
		for _, j := range in[n+1:] {
			a, b := p.Outline[i], p.Outline[j]
			common := area(a.Rect().Intersect(b.Rect()))
			if common*4 < min(area(a.Rect()), area(b.Rect())) || common == 0 || p.holds(i, j) || p.holds(j, i) {
				continue
			}
			x, was := m.box(a.Path)
			y, were := m.box(b.Path)
			if was && were && !m.Outline[x].Rect().Overlaps(m.Outline[y].Rect()) {
				return fmt.Sprintf("%s lies over %s", called(p, j), called(p, i))
			}
		}
	}
	return ""
}

// holds tells whether one element is an ancestor of another.
func (p PageLook) holds(up, at int) bool {
	for at >= 0 && at < len(p.Outline) {
		if at == up {
			return true
		}
		if next := p.Outline[at].Parent; next < at {
			at = next
		} else {
			return false
		}
	}
	return false
}

// largestIn is the largest element that lies in a region, -1 without any.
func (p PageLook) largestIn(region image.Rectangle) int {
	best := -1
	for i, b := range p.Outline {
		if b.Rect().In(region.Inset(-slack)) && (best < 0 || area(b.Rect()) > area(p.Outline[best].Rect())) {
			best = i
		}
	}
	return best
}

func apart(a, b int) bool { return max(a-b, b-a) > slack }

func moved(dx, dy int) string {
	var out []string
	if apart(dx, 0) {
		out = append(out, fmt.Sprintf("%d px further %s", max(dx, -dx), map[bool]string{true: "right", false: "left"}[dx > 0]))
	}
	if apart(dy, 0) {
		out = append(out, fmt.Sprintf("%d px further %s", max(dy, -dy), map[bool]string{true: "down", false: "up"}[dy > 0]))
	}
	return strings.Join(out, " and ")
}

// lacksPicture tells whether a picture of the page did not come or has no pixels.
func lacksPicture(p PageLook) bool {
	for _, r := range p.Requests {
		if r.Kind == "image" && r.Broken() {
			return true
		}
	}
	return len(p.Empty) > 0
}

// surplus are the outermost elements in a region of which one look has more than the other:
// an element that only moved on the page is in both.
func surplus(a, b PageLook, region image.Rectangle) []int {
	more := map[string]int{}
	for _, x := range a.Outline {
		more[x.Name]++
	}
	for _, x := range b.Outline {
		more[x.Name]--
	}
	has := map[string]bool{}
	for _, x := range b.Outline {
		has[x.Path] = true
	}
	var out []int
	within := map[int]bool{}
	for i, x := range a.Outline {
		extra := more[x.Name] > 0 && !has[x.Path]
		if within[x.Parent] {
			within[i] = true
			continue
		}
		if extra && x.Rect().Overlaps(region) && area(x.Rect()) > 0 {
			within[i] = true
			out = append(out, i)
		}
	}
	return out
}

// called is how a person would call an element: its name, and what it reads.
func called(p PageLook, i int) string {
	if text := textOf(p, i); text != "" {
		return fmt.Sprintf("%s “%s”", p.Outline[i].Name, text)
	}
	return p.Outline[i].Name
}

// textOf is what an element itself reads, cut short.
func textOf(p PageLook, i int) string {
	for _, l := range p.Lines {
		if l.Box == i {
			text := clean(l.Text)
			if r := []rune(text); len(r) > 40 {
				text = string(r[:39]) + "…"
			}
			return text
		}
	}
	return ""
}

// sameFont compares fonts as browsers do: families by name whatever the case, quoted or not
// (CSS Fonts Level 4, section 2.1).
func sameFont(a, b string) bool {
	plain := strings.NewReplacer(`"`, "", "'", "", ", ", ",")
	return strings.EqualFold(plain.Replace(a), plain.Replace(b))
}

package evidence

import (
	"fmt"
	"image"
	"strings"
)

// slack is by how many pixels an element may be elsewhere or of another size and still count
// as unchanged: browsers round.
const slack = 2

// whatHappened names a changed part of a page by what is under it in both outlines: an
// element that is missing, new, moved, of another size, a picture that did not come, or one
// that is drawn otherwise. It says what was computed and no more.
func whatHappened(m, p PageLook, region image.Rectangle) string {
	gone, came := surplus(m, p, region), surplus(p, m, region)
	name, path := p.nameAt(region)
	switch {
	case len(gone) > 0 && len(came) > 0:
		return fmt.Sprintf("%s is in the place of %s", called(p, came[0]), called(m, gone[0]))
	case len(gone) > 0:
		return called(m, gone[0]) + " is missing"
	case len(came) > 0:
		return called(p, came[0]) + " is new"
	}
	i, there := p.box(path)
	j, was := m.box(path)
	if !there || !was || p.covers(i) {
		return "Looks different at " + name
	}
	now, before := p.Outline[i], m.Outline[j]
	name = called(p, i)
	switch {
	case now.Name != before.Name:
		return fmt.Sprintf("%s is in the place of %s", name, called(m, j))
	case strings.HasPrefix(now.Name, "img") && lacksPicture(p):
		return name + " shows no picture"
	case apart(now.Width, before.Width) || apart(now.Height, before.Height):
		return fmt.Sprintf("%s is %d × %d px, was %d × %d", name, now.Width, now.Height, before.Width, before.Height)
	case apart(now.X, before.X) || apart(now.Y, before.Y):
		return fmt.Sprintf("%s is %s", name, moved(now.X-before.X, now.Y-before.Y))
	}
	if reads, read := textOf(p, i), textOf(m, j); reads != read && reads != "" && read != "" {
		return fmt.Sprintf("%s reads “%s”, was “%s”", now.Name, reads, read)
	}
	return name + " is drawn otherwise"
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

package evidence

import (
	"fmt"
	"image"
	"slices"
	"strings"

	"tidemarker/internal/core/visual"
	"tidemarker/internal/core/words"
)

// What counts as a difference in a picture. The numbers are common practice: a speed setting
// should change nothing that a visitor sees, so little is let pass, of what people act with
// less, and of what stands at the side more.
const (
	specks       = 20   // changed pixels on a page that nobody sees
	seenOnButton = 100  // changed pixels that a visitor sees on what they act with
	visible      = 200  // changed pixels that a visitor sees; fewer are for a person to judge
	seenAside    = 2000 // changed pixels that a visitor sees in a footer or beside the content
)

// mostParts is how many parts of one picture are told of one by one; what else there is, is
// counted.
const mostParts = 5

// part is one thing that a picture shows otherwise: regions of which the same can be said.
type part struct {
	what, path string
	region     visual.Region
	changed    int
	weight     Weight
	whole      bool // it is there or it is not
}

func pictureFindings(m PageLook, rest Volatile, p PageLook, pictures Pictures) ([]Finding, error) {
	if !m.Renderer.DrawsLike(p.Renderer) {
		return nil, nil
	}
	a, b, err := pixels(m, p, pictures)
	if err != nil {
		return nil, fmt.Errorf("compare the pictures of %s: %w", p.Page, err)
	}
	if a == nil {
		return nil, nil
	}
	res := visual.Compare(a, b, visual.Options{MaskA: quietRects(m, rest), MaskB: quietRects(p, rest)})
	if res.Changed < specks {
		return nil, nil
	}
	parts := partsOf(m, p, res)
	var out []Finding
	for i, x := range parts[:min(mostParts, len(parts))] {
		if x.changed < specks && i > 0 {
			continue
		}
		f := p.about(PictureKind, x.severity(), x.what).with("%s%s%s", whereIn(x), others(res, parts, i), otherVersion(m, p))
		f.Region, f.Weight = &x.region, x.weight
		out = append(out, f.caused(x.path))
	}
	return out, nil
}

func (x part) severity() Severity {
	enough := visible
	switch {
	case x.weight == Acted:
		enough = seenOnButton
	case x.weight == Aside && !x.whole:
		enough = seenAside
	}
	if x.changed >= enough {
		return Broken
	}
	return Unsure
}

// partsOf are the parts of a picture that differ, what weighs most and is largest first.
// Regions of which the same is said are one part, and so are those in one element. Room that came
// or went beside something else is no part: it follows.
func partsOf(m, p PageLook, res visual.Result) []part {
	var out []part
	regions := slices.DeleteFunc(slices.Clone(res.Regions), func(r visual.Region) bool { return r.Blank })
	if len(regions) == 0 { // room alone came or went
		regions = res.Regions
	}
	for _, r := range regions {
		what, path := whatHappened(m, p, r)
		i := slices.IndexFunc(out, func(x part) bool { return x.what == what || x.path == path })
		if i >= 0 {
			out[i].changed += r.Changed
			continue
		}
		whole := strings.HasSuffix(what, " is missing") || strings.HasSuffix(what, " is new") || strings.Contains(what, " is in the place of ")
		out = append(out, part{what: what, path: path, region: r, changed: r.Changed, weight: weightIn(m, p, r), whole: whole})
	}
	slices.SortStableFunc(out, func(a, b part) int {
		rank := func(x part) int { return map[Severity]int{Broken: 10, Unsure: 0}[x.severity()] + int(x.weight) }
		return rank(b) - rank(a)
	})
	return out
}

// whereIn says where a part lies and how large it is.
func whereIn(x part) string {
	r := x.region
	switch r.Happened {
	case visual.Came:
		return fmt.Sprintf("%s came in, %d px from the top.", words.Count(r.Rows, "row"), r.Y)
	case visual.Went:
		return fmt.Sprintf("%s went out, %d px from the top.", words.Count(r.Rows, "row"), r.Was)
	case visual.Moved:
		return fmt.Sprintf("%s from %d px from the top are %d px from the top now.", words.Count(r.Rows, "row"), r.Was, r.Y)
	}
	return fmt.Sprintf("%s px changed, in an area of %d × %d px, %d px from the top.", thousands(x.changed), r.Width, r.Height, r.Y)
}

// others tells of what is not told of one by one, once for each picture.
func others(res visual.Result, parts []part, i int) string {
	s := ""
	if i == 0 && len(parts) > mostParts {
		s = fmt.Sprintf(" %s elsewhere on the page.", words.Count(len(parts)-mostParts, "more difference"))
	}
	if i == 0 && res.Grown != 0 {
		s += fmt.Sprintf(" The page is %d px %s.", max(res.Grown, -res.Grown), map[bool]string{true: "taller", false: "shorter"}[res.Grown > 0])
	}
	return s
}

// Weight says how much a part of a page weighs by what it is.
type Weight int

// The weights.
const (
	Aside   Weight = 0 // a footer, what stands beside the content
	Content Weight = 1
	Acted   Weight = 2 // what people act with: a button, a field, a link in the navigation
)

// weightOf is the weight of one element. Roles are those of WAI-ARIA 1.2 and, where none is
// written, what HTML says the element has.
func (p PageLook) weightOf(i int) Weight {
	acted, aside := false, false
	for i >= 0 && i < len(p.Outline) {
		switch p.Outline[i].Role {
		case "button", "textbox", "combobox", "checkbox", "radio", "searchbox", "spinbutton", "slider", "switch", "tab", "menuitem":
			acted = true
		case "contentinfo", "complementary":
			aside = true
		}
		if next := p.Outline[i].Parent; next < i {
			i = next
		} else {
			break
		}
	}
	switch {
	case acted:
		return Acted
	case aside:
		return Aside
	}
	return Content
}

// weightIn is the weight of what lies in a region, before or now: that of the weightiest
// element of which at least half is in it, else that of what it lies in.
func weightIn(m, p PageLook, r visual.Region) Weight {
	most := Weight(-1)
	for _, side := range []struct {
		look PageLook
		rect image.Rectangle
	}{{m, r.Before()}, {p, r.Rect()}} {
		for i, b := range side.look.Outline {
			if size := area(b.Rect()); size > 0 && 2*area(b.Rect().Intersect(side.rect)) >= size {
				most = max(most, side.look.weightOf(i))
			}
		}
	}
	if most < 0 {
		return p.weightOf(p.nearest(r.Rect()))
	}
	return most
}

func thousands(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// quietRects are the parts of a page that may differ: its masks, and where the
// volatile elements lie in this very look.
func quietRects(p PageLook, rest Volatile) []image.Rectangle {
	out := slices.Concat(rects(p.Masked), rest.Rects)
	for _, path := range rest.Paths {
		if i, there := p.box(path); there {
			out = append(out, p.Outline[i].Rect().Inset(-2))
		}
	}
	return out
}

// QuietRects is what [Compare] left out of one page's picture, for showing it.
func QuietRects(base Baseline, p PageLook) []image.Rectangle {
	return quietRects(p, base.Volatile[p.Key])
}

func (p PageLook) nameAt(r image.Rectangle) (name, path string) {
	i := p.nearest(r)
	if i < 0 {
		return "the page", ""
	}
	name = p.Outline[i].Name
	if name == "" || name == "body" || name == "html" {
		name = "the page as a whole"
	}
	return name, p.Outline[i].Path
}

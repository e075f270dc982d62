package evidence

import (
	"fmt"
	"image"
	"maps"
	"slices"

	"tidemarker/internal/core/visual"
	"tidemarker/internal/core/vitals"
)

// Baseline is the evidence of a mark: a look, and what a second look at the same
// untouched environment had different.
type Baseline struct {
	Look     Look               `json:"-"`
	Volatile map[Key]Volatile   `json:"-"`
	Probes   map[probeKey]Probe `json:"-"` // of the second look
	// Steady are the elements, by page, that must not differ whatever was learned of them.
	Steady map[string][]string `json:"-"`
	// PrivateTexts are the texts that only one persona may see, by that persona's name.
	PrivateTexts map[string][]string `json:"-"`
}

type probeKey struct {
	Key
	kind      ProbeKind
	parameter string
}

func (p Probe) key() probeKey { return probeKey{p.Key, p.Kind, p.Parameter + p.Before + p.Edit} }

// Volatile is what changes by itself on one page.
type Volatile struct {
	Paths  []string          `json:"paths,omitempty" doc:"Elements that changed between two untouched looks."`
	Rects  []image.Rectangle `json:"rects,omitempty"` // changed places that lie in no element of the outline but the root
	Errors []string          `json:"errors,omitempty"`
	Broken []string          `json:"broken,omitempty" doc:"Requests that failed in either look."`
	Facts  []string          `json:"facts,omitempty" doc:"What the head said otherwise in the two looks."`
	Shift  float64           `json:"shift" doc:"The larger layout shift of the two."`
}

// Learn compares two looks at the same untouched environment. What differs changes
// by itself; rechecks are not blamed for it. It fails when a picture cannot be
// had.
func Learn(first, second Look, pictures Pictures) (Baseline, error) {
	b := NewBaseline(first, second.Probes)
	for _, p := range first.Pages {
		q, there := second.Page(p.Key)
		if !there || p.Missing != "" || q.Missing != "" {
			continue
		}
		r, err := learnPage(p, q, pictures)
		if err != nil {
			return Baseline{}, fmt.Errorf("compare the two looks at %s: %w", p.Page, err)
		}
		b.Volatile[p.Key] = r
	}
	b.spread()
	return b, nil
}

// spread calls an element volatile on every page that has it when it is volatile on
// two pages or more: that a quotation happened to be the same twice on one page does
// not make it part of that page.
func (b Baseline) spread() {
	type element struct{ path, name string }
	pages := map[element]map[string]bool{}
	for _, p := range b.Look.Pages {
		for _, path := range b.Volatile[p.Key].Paths {
			if i, there := p.box(path); there {
				e := element{path, p.Outline[i].Name}
				if pages[e] == nil {
					pages[e] = map[string]bool{}
				}
				pages[e][p.Page] = true
			}
		}
	}
	for _, p := range b.Look.Pages {
		r, learned := b.Volatile[p.Key]
		if !learned {
			continue
		}
		for e, on := range pages {
			if i, there := p.box(e.path); there && len(on) >= 2 && p.Outline[i].Name == e.name {
				r.Paths = append(r.Paths, e.path)
			}
		}
		r.Paths = unique(r.Paths)
		b.Volatile[p.Key] = r
	}
}

// Relearn adds what two looks at the same settings, with nothing cached in between, had
// different on one page: that changes by itself too. It fails when a picture cannot
// be had.
func (b Baseline) Relearn(first, second PageLook, pictures Pictures) (Baseline, error) {
	if first.Missing != "" || second.Missing != "" {
		return b, nil
	}
	more, err := learnPage(first, second, pictures)
	if err != nil {
		return b, err
	}
	r := b.Volatile[first.Key]
	r.Paths = without(unique(slices.Concat(r.Paths, more.Paths)), b.Steady[first.Page])
	r.Rects = slices.Concat(r.Rects, more.Rects)
	b.Volatile = maps.Clone(b.Volatile)
	b.Volatile[first.Key] = r
	return b, nil
}

// WithSteady is the baseline in which these elements, by page, are compared as any other.
func (b Baseline) WithSteady(steady map[string][]string) Baseline {
	b.Steady, b.Volatile = steady, maps.Clone(b.Volatile)
	for k, r := range b.Volatile {
		r.Paths = without(slices.Clone(r.Paths), steady[k.Page])
		b.Volatile[k] = r
	}
	return b
}

func without(list, not []string) []string {
	return slices.DeleteFunc(list, func(x string) bool { return slices.Contains(not, x) })
}

// NewBaseline puts a baseline together from a look and the probes of a second one;
// what is volatile is filled in by the caller.
func NewBaseline(look Look, again []Probe) Baseline {
	b := Baseline{Look: look, Volatile: map[Key]Volatile{}, Probes: map[probeKey]Probe{}}
	for _, p := range again {
		b.Probes[p.key()] = p
	}
	return b
}

func learnPage(p, q PageLook, pictures Pictures) (Volatile, error) {
	var r Volatile
	a, b, err := pixels(p, q, pictures)
	if err != nil {
		return r, err
	}
	r.Paths = lift(differingText(p, q), q)
	if a != nil {
		res := visual.Compare(a, b, visual.Options{MaskA: quietRects(p, r), MaskB: quietRects(q, r)})
		for _, region := range res.Regions {
			box := q.nearest(region.Rect())
			if q.covers(box) {
				r.Rects = append(r.Rects, region.Rect().Inset(-4))
				continue
			}
			r.Paths = append(r.Paths, q.Outline[box].Path)
		}
	}
	r.Paths = lift(r.Paths, q)
	for _, name := range headFacts {
		if p.Facts[name] != q.Facts[name] {
			r.Facts = append(r.Facts, name)
		}
	}
	for _, side := range []PageLook{p, q} {
		for _, e := range side.Errors {
			r.Errors = append(r.Errors, e.Message)
		}
		for _, req := range side.Requests {
			if req.Broken() {
				r.Broken = append(r.Broken, req.URL)
			}
		}
		score, _ := vitals.CumulativeLayoutShift(side.Shifts)
		r.Shift = max(r.Shift, score)
	}
	return r, nil
}

// differingText are the paths of boxes whose own text differs between two looks.
func differingText(p, q PageLook) []string {
	texts := func(l PageLook) map[string]string {
		out := map[string]string{}
		for _, line := range l.Lines {
			if line.Box >= 0 && line.Box < len(l.Outline) {
				out[l.Outline[line.Box].Path] += clean(line.Text) + "\n"
			}
		}
		return out
	}
	a, b := texts(p), texts(q)
	var out []string
	for path, t := range a {
		if b[path] != t {
			out = append(out, path)
		}
	}
	for path := range b {
		if _, there := a[path]; !there {
			out = append(out, path)
		}
	}
	slices.Sort(out)
	return out
}

// lift replaces volatile elements that are cards of one row by the row: in a row that
// is shuffled, a card that happened to stay is volatile too. A row is an element most
// of whose children look alike (same tag and class) and that is no more than half of
// the page, so that two volatile blocks do not silence the page between them.
func lift(paths []string, p PageLook) []string {
	index := map[string]int{}
	children := map[int][]int{}
	for i, b := range p.Outline {
		index[b.Path] = i
		children[b.Parent] = append(children[b.Parent], i)
	}
	chosen := map[string]bool{}
	for _, path := range paths {
		chosen[path] = true
	}
	for lifted := true; lifted; {
		lifted = false
		inside := map[int]map[int]bool{} // for each ancestor, its children in which something changed
		for path := range chosen {
			at, known := index[path]
			for known && at > 0 && p.Outline[at].Parent >= 0 {
				up := p.Outline[at].Parent
				if inside[up] == nil {
					inside[up] = map[int]bool{}
				}
				inside[up][at] = true
				at = up
			}
		}
		for _, up := range slices.Sorted(maps.Keys(inside)) {
			if chosen[p.Outline[up].Path] || !p.isRow(up, children[up], inside[up]) {
				continue
			}
			for path := range chosen {
				if at, known := index[path]; known && p.within(at, map[string]bool{p.Outline[up].Path: true}) {
					delete(chosen, path)
				}
			}
			chosen[p.Outline[up].Path] = true
			lifted = true
			break
		}
	}
	return slices.Sorted(maps.Keys(chosen))
}

func (p PageLook) isRow(at int, children []int, changed map[int]bool) bool {
	if p.covers(at) {
		return false
	}
	names, differing := map[string]int{}, map[string]int{}
	for _, c := range children {
		names[p.Outline[c].Name]++
		if changed[c] {
			differing[p.Outline[c].Name]++
		}
	}
	for name, n := range differing {
		if n >= 2 && names[name]*5 >= len(children)*3 {
			return true
		}
	}
	return false
}

// covers tells whether a box is more than half of the page: too much to be called
// volatile as a whole.
func (p PageLook) covers(at int) bool {
	if at < 0 {
		return true
	}
	page := 1
	if p.Picture != nil {
		page = p.Picture.Width * p.Picture.Height
	}
	return area(p.Outline[at].Rect())*2 > page
}

func rects(boxes []Box) []image.Rectangle {
	out := make([]image.Rectangle, len(boxes))
	for i, b := range boxes {
		out[i] = b.Rect()
	}
	return out
}

// pixels decodes both pictures; nil when they are byte-equal or one is missing.
func pixels(p, q PageLook, pictures Pictures) (a, b *image.NRGBA, err error) {
	if p.Picture == nil || q.Picture == nil || p.Picture.SHA256 == q.Picture.SHA256 {
		return nil, nil, nil
	}
	done := make(chan error, 1)
	go func() {
		var err error
		a, err = pictures(p.Picture.SHA256)
		done <- err
	}()
	b, err = pictures(q.Picture.SHA256)
	if first := <-done; first != nil {
		err = first
	}
	return a, b, err
}

// With is the look with one page looked at anew.
func (l Look) With(p PageLook) Look {
	i := slices.IndexFunc(l.Pages, func(q PageLook) bool { return q.Key == p.Key })
	if i < 0 {
		l.Pages = append(slices.Clone(l.Pages), p)
		return l
	}
	l.Pages = slices.Clone(l.Pages)
	if p.Source == nil {
		p.Source = l.Pages[i].Source
	}
	l.Pages[i] = p
	return l
}

// Page is the look at one page; ok is false when there is none.
func (l Look) Page(k Key) (PageLook, bool) {
	i := slices.IndexFunc(l.Pages, func(p PageLook) bool { return p.Key == k })
	if i < 0 {
		return PageLook{}, false
	}
	return l.Pages[i], true
}

func (l Look) journey(k Key) (JourneyLook, bool) {
	i := slices.IndexFunc(l.Journeys, func(j JourneyLook) bool {
		return j.Journey == k.Journey && j.Persona == k.Persona && j.Device == k.Device
	})
	if i < 0 {
		return JourneyLook{}, false
	}
	return l.Journeys[i], true
}

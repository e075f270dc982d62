package visual

import (
	"bytes"
	"image"
	"image/color"
	"slices"
)

// DefaultThreshold is the distance above which two colours differ. A headless
// browser draws the same page the same way, so it can be far below what would be
// needed between two renderers; 0.04 still tells #ffffff from #f0f0f0.
const DefaultThreshold = 0.04

// Options say how to compare. The zero value compares everything with
// [DefaultThreshold].
type Options struct {
	Threshold float64           // 0 means DefaultThreshold
	MaskA     []image.Rectangle // parts of the first picture that may differ, in its pixels
	MaskB     []image.Rectangle // parts of the second picture that may differ, in its pixels
	NoAlign   bool              // compare straight even when the heights differ
}

// Region is a rectangle, in pixels of the second picture, that holds changed pixels
// lying close together.
type Region struct {
	X       int `json:"x"`
	Y       int `json:"y"`
	Width   int `json:"width"`
	Height  int `json:"height"`
	Changed int `json:"changed" doc:"Changed pixels inside."`
}

// Rect is the region as a rectangle.
func (r Region) Rect() image.Rectangle { return image.Rect(r.X, r.Y, r.X+r.Width, r.Y+r.Height) }

// Result is what a comparison found.
type Result struct {
	Width, Height int      // of the second picture, pixels
	Changed       int      // pixels that look different, masked ones left out
	Smoothed      int      // pixels that differ only as an edge is smoothed
	Grown         int      // rows that the second picture has more than the first; negative when fewer
	GrownAt       int      // row of the second picture at which rows came in or went out
	Regions       []Region // most changed first

	mask []bool // one for each pixel of the second picture
}

// Compare compares two pictures of a page. The pictures start at their left upper
// corners. When heights differ, rows are taken out or put in at the one row that
// makes the rest agree best, so that a banner that came in on top does not make
// everything below it different. Rows or columns that only one picture has count as
// changed.
func Compare(a, b *image.NRGBA, opt Options) Result {
	if opt.Threshold == 0 {
		opt.Threshold = DefaultThreshold
	}
	c := comparison{a: a, b: b, wa: a.Bounds().Dx(), ha: a.Bounds().Dy(), wb: b.Bounds().Dx(), hb: b.Bounds().Dy(), threshold: opt.Threshold, known: distances{}}
	c.res = Result{Width: c.wb, Height: c.hb, Grown: c.hb - c.ha}
	if c.wa == c.wb && c.ha == c.hb && bytes.Equal(a.Pix, b.Pix) {
		return c.res
	}
	c.res.GrownAt = min(c.ha, c.hb)
	if c.res.Grown != 0 && !opt.NoAlign {
		c.res.GrownAt, c.explained = seam(a, b, slices.Concat(opt.MaskA, opt.MaskB))
	}
	c.masked, c.hide = maskOf(opt.MaskB, c.wb, c.hb), maskOf(opt.MaskA, c.wa, c.ha)
	c.res.mask = make([]bool, c.wb*c.hb)
	for y := range c.hb {
		c.row(y)
	}
	if c.res.Grown < 0 && !c.explained {
		// Rows went out: there is no pixel of the second picture to mark but the seam.
		c.wholeRow(min(c.res.GrownAt, c.hb-1))
	}
	c.res.Regions = regions(c.res.mask, c.wb, c.hb)
	return c.res
}

// comparison is one comparison under way.
type comparison struct {
	a, b           *image.NRGBA
	wa, ha, wb, hb int
	threshold      float64
	explained      bool  // rows that came in or went out explain all of the difference
	masked, hide   *bits // of b, and of a
	known          distances
	res            Result
}

// below is the row of a that lies under row y of b, or -1.
func (c *comparison) below(y int) int {
	switch {
	case y < c.res.GrownAt:
		return y
	case c.res.Grown > 0 && y < c.res.GrownAt+c.res.Grown:
		return -1
	}
	return y - c.res.Grown
}

func (c *comparison) mark(x, y int) {
	c.res.mask[y*c.wb+x] = true
	c.res.Changed++
}

func (c *comparison) wholeRow(y int) {
	for x := range c.wb {
		if y >= 0 && !c.res.mask[y*c.wb+x] && !c.masked.at(x, y) {
			c.mark(x, y)
		}
	}
}

// row compares one row of b with the row of a that lies under it.
func (c *comparison) row(y int) {
	ya := c.below(y)
	if ya < 0 && c.explained {
		return
	}
	if ya < 0 || ya >= c.ha {
		c.wholeRow(y)
		return
	}
	rowA, rowB := row(c.a, ya), row(c.b, y)
	if c.wa == c.wb && bytes.Equal(rowA, rowB) {
		return
	}
	for x := range c.wb {
		if c.masked.at(x, y) || c.hide.at(x, ya) {
			continue
		}
		if x >= c.wa {
			c.mark(x, y)
			continue
		}
		p, q := rowA[4*x:4*x+4], rowB[4*x:4*x+4]
		if p[0] == q[0] && p[1] == q[1] && p[2] == q[2] && p[3] == q[3] || c.known.between(p, q) <= c.threshold {
			continue
		}
		if smooths(c.a, c.b, x, ya, y) || smooths(c.b, c.a, x, y, ya) {
			c.res.Smoothed++
			continue
		}
		c.mark(x, y)
	}
}

func row(m *image.NRGBA, y int) []uint8 {
	o := m.PixOffset(m.Rect.Min.X, m.Rect.Min.Y+y)
	return m.Pix[o : o+4*m.Rect.Dx()]
}

// seam finds the row at which rows came in or went out: the one for which the fewest
// rows above it differ straight and the fewest below it differ when moved. Where
// several do equally well, one inside a masked part is taken: a part that may differ
// may also grow, and then the rows are explained.
func seam(a, b *image.NRGBA, masks []image.Rectangle) (at int, explained bool) {
	ha, hb := a.Rect.Dy(), b.Rect.Dy()
	short := min(ha, hb)
	same := func(ya, yb int) bool { return bytes.Equal(row(a, ya), row(b, yb)) }
	below := make([]int, short+1) // rows at and below i that differ when aligned at the bottom
	for i := short - 1; i >= 0; i-- {
		below[i] = below[i+1]
		if !same(ha-short+i, hb-short+i) {
			below[i]++
		}
	}
	inside := func(y int) bool {
		return slices.ContainsFunc(masks, func(m image.Rectangle) bool { return m.Min.Y <= y && y <= m.Max.Y })
	}
	bestCost, above := -1, 0
	for s := 0; s <= short; s++ {
		cost, in := above+below[s], inside(s)
		if bestCost < 0 || cost < bestCost || cost == bestCost && (in || !explained) {
			at, bestCost, explained = s, cost, in
		}
		if s < short && !same(s, s) {
			above++
		}
	}
	return at, explained
}

// bits is a bitmap of masked pixels; nil means that nothing is masked.
type bits struct {
	w, h int
	set  []bool
}

func maskOf(rects []image.Rectangle, w, h int) *bits {
	if len(rects) == 0 {
		return nil
	}
	m := &bits{w, h, make([]bool, w*h)}
	for _, r := range rects {
		r = r.Intersect(image.Rect(0, 0, w, h))
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				m.set[y*w+x] = true
			}
		}
	}
	return m
}

func (m *bits) at(x, y int) bool {
	return m != nil && x < m.w && y < m.h && m.set[y*m.w+x]
}

// smooths tells whether pixel x, y of m only smooths an edge: among its neighbours
// are darker and brighter ones, few equal ones, and the darkest or brightest of them
// lies in a flat area in both pictures. yo is the row of the other picture.
func smooths(m, other *image.NRGBA, x, y, yo int) bool {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	equal := 0
	if x == 0 || y == 0 || x == w-1 || y == h-1 {
		equal = 1
	}
	here := luma(m, x, y)
	var darkest, brightest float64
	var dx, dy, bx, by int
	for nx := max(0, x-1); nx <= min(w-1, x+1); nx++ {
		for ny := max(0, y-1); ny <= min(h-1, y+1); ny++ {
			if nx == x && ny == y {
				continue
			}
			d := luma(m, nx, ny) - here
			switch {
			case d == 0:
				if equal++; equal > 2 {
					return false
				}
			case d < darkest:
				darkest, dx, dy = d, nx, ny
			case d > brightest:
				brightest, bx, by = d, nx, ny
			}
		}
	}
	if darkest == 0 || brightest == 0 {
		return false
	}
	return flat(m, dx, dy) && flat(other, dx, dy-y+yo) || flat(m, bx, by) && flat(other, bx, by-y+yo)
}

func luma(m *image.NRGBA, x, y int) float64 {
	o := m.PixOffset(m.Rect.Min.X+x, m.Rect.Min.Y+y)
	return 0.29889531*float64(m.Pix[o]) + 0.58662247*float64(m.Pix[o+1]) + 0.11448223*float64(m.Pix[o+2])
}

// flat tells whether three or more of a pixel's neighbours have its colour.
func flat(m *image.NRGBA, x, y int) bool {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	if x < 0 || y < 0 || x >= w || y >= h {
		return false
	}
	at := func(x, y int) color.NRGBA { return m.NRGBAAt(m.Rect.Min.X+x, m.Rect.Min.Y+y) }
	c, n := at(x, y), 0
	if x == 0 || y == 0 || x == w-1 || y == h-1 {
		n = 1
	}
	for nx := max(0, x-1); nx <= min(w-1, x+1); nx++ {
		for ny := max(0, y-1); ny <= min(h-1, y+1); ny++ {
			if (nx != x || ny != y) && at(nx, ny) == c {
				if n++; n > 2 {
					return true
				}
			}
		}
	}
	return false
}

// cell is the side, in pixels, of the grid on which changed pixels are gathered.
const cell = 8

// regions gathers changed pixels into rectangles: changed cells of the grid that lie
// within two cells of each other belong together.
func regions(mask []bool, w, h int) []Region {
	cols, rows := (w+cell-1)/cell, (h+cell-1)/cell
	count := make([]int, cols*rows)
	for y := range h {
		line := mask[y*w : (y+1)*w]
		for x, on := range line {
			if on {
				count[y/cell*cols+x/cell]++
			}
		}
	}
	var out []Region
	seen := make([]bool, len(count))
	for start, n := range count {
		if n == 0 || seen[start] {
			continue
		}
		out = append(out, gather(mask, count, seen, start, cols, rows, w, h))
	}
	slices.SortStableFunc(out, func(a, b Region) int { return b.Changed - a.Changed })
	return out
}

func gather(mask []bool, count []int, seen []bool, start, cols, rows, w, h int) Region {
	box := image.Rectangle{}
	changed := 0
	queue := []int{start}
	seen[start] = true
	for len(queue) > 0 {
		at := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		cx, cy := at%cols, at/cols
		changed += count[at]
		box = box.Union(tight(mask, image.Rect(cx*cell, cy*cell, min(w, (cx+1)*cell), min(h, (cy+1)*cell)), w))
		for ny := max(0, cy-2); ny <= min(rows-1, cy+2); ny++ {
			for nx := max(0, cx-2); nx <= min(cols-1, cx+2); nx++ {
				if n := ny*cols + nx; count[n] > 0 && !seen[n] {
					seen[n] = true
					queue = append(queue, n)
				}
			}
		}
	}
	return Region{box.Min.X, box.Min.Y, box.Dx(), box.Dy(), changed}
}

func tight(mask []bool, r image.Rectangle, w int) image.Rectangle {
	box := image.Rectangle{}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			if mask[y*w+x] {
				box = box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	return box
}

// Draw paints the second picture faded, its changed pixels in the accent colour and
// the outline of each region, so that a person sees where to look.
func Draw(b *image.NRGBA, r Result, accent color.NRGBA) *image.NRGBA {
	w, h := b.Rect.Dx(), b.Rect.Dy()
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		in, to := row(b, y), row(out, y)
		for x := range w {
			p := to[4*x : 4*x+4]
			if r.mask != nil && r.mask[y*w+x] {
				p[0], p[1], p[2], p[3] = accent.R, accent.G, accent.B, 255
				continue
			}
			grey := 191 + luma8(in[4*x], in[4*x+1], in[4*x+2])/4
			p[0], p[1], p[2], p[3] = grey, grey, grey, 255
		}
	}
	return out
}

func luma8(r, g, b uint8) uint8 {
	return uint8((299*int(r) + 587*int(g) + 114*int(b)) / 1000)
}

package visual

import (
	"bytes"
	"image"
	"image/color"
	"runtime"
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
// lying close together, or a block that came, went or changed its place.
type Region struct {
	X        int      `json:"x"`
	Y        int      `json:"y"`
	Width    int      `json:"width"`
	Height   int      `json:"height"`
	Changed  int      `json:"changed" doc:"Changed pixels inside."`
	Happened Happened `json:"happened,omitempty" enum:"came,went,moved" doc:"What happened to a block of rows; nothing when the same place is drawn otherwise."`
	Was      int      `json:"was,omitempty" doc:"Row of the first picture at which a block was that went or moved."`
	Rows     int      `json:"rows,omitempty" doc:"How many rows came, went or moved."`
	Blank    bool     `json:"blank,omitempty" doc:"Rows of one colour each: room, and nothing in it."`
}

// Rect is the region as a rectangle.
func (r Region) Rect() image.Rectangle { return image.Rect(r.X, r.Y, r.X+r.Width, r.Y+r.Height) }

// Before is where to look for the region in the first picture.
func (r Region) Before() image.Rectangle {
	if r.Happened == Went || r.Happened == Moved {
		return image.Rect(r.X, r.Was, r.X+r.Width, r.Was+r.Rows)
	}
	return r.Rect().Add(image.Pt(0, r.Was-r.Y))
}

// Result is what a comparison found.
type Result struct {
	Width, Height int      // of the second picture, pixels
	Changed       int      // pixels that look different, masked ones left out
	Smoothed      int      // pixels that differ only as an edge is smoothed
	Grown         int      // rows that the second picture has more than the first; negative when fewer
	Regions       []Region // most changed first

	mask []bool // one for each pixel of the second picture
}

// Compare compares two pictures of a page. The pictures start at their left upper
// corners. Rows that came in, went out or changed places are found and told apart from
// what is drawn otherwise, so that a banner on top and a notice further down do not make
// everything below them different. Rows or columns that only one picture has count as
// changed; of rows that went, the place where they were.
func Compare(a, b *image.NRGBA, opt Options) Result {
	if opt.Threshold == 0 {
		opt.Threshold = DefaultThreshold
	}
	c := comparison{a: a, b: b, wa: a.Bounds().Dx(), ha: a.Bounds().Dy(), wb: b.Bounds().Dx(), hb: b.Bounds().Dy(), threshold: opt.Threshold}
	c.res = Result{Width: c.wb, Height: c.hb, Grown: c.hb - c.ha}
	if c.wa == c.wb && c.ha == c.hb && bytes.Equal(a.Pix, b.Pix) {
		return c.res
	}
	var blocks []block
	if opt.NoAlign || c.wa != c.wb {
		c.under = make([]int, c.hb)
		for y := range c.under {
			c.under[y] = y
		}
		if c.ha > c.hb {
			blocks = []block{{At: c.hb, From: c.hb, Went: c.ha - c.hb}}
		}
	} else {
		c.under, blocks = align(a, b, slices.Concat(opt.MaskA, opt.MaskB))
	}
	c.masked, c.hide = maskOf(opt.MaskB, c.wb, c.hb), maskOf(opt.MaskA, c.wa, c.ha)
	c.res.mask = make([]bool, c.wb*c.hb)
	c.rows()
	regions := regions(c.res.mask, c.wb, c.hb)
	for i := range regions {
		regions[i].Was = c.above(regions[i].Y)
	}
	for _, bl := range blocks {
		if r, shown := c.block(bl); shown {
			regions = append(regions, r)
		}
	}
	slices.SortStableFunc(regions, func(a, b Region) int { return b.Changed - a.Changed })
	c.res.Regions = regions
	return c.res
}

// comparison is one comparison under way.
type comparison struct {
	a, b           *image.NRGBA
	wa, ha, wb, hb int
	threshold      float64
	under          []int // the row of a under each row of b, -1 when rows came in there
	masked, hide   *bits // of b, and of a
	res            Result
}

// above is the row of a under row y of b, or under the next above it that has one.
func (c *comparison) above(y int) int {
	for ; y >= 0; y-- {
		if c.under[y] >= 0 {
			return c.under[y]
		}
	}
	return 0
}

// block marks the rows that came in, or the place of those that went. Nothing is shown of
// those that lie in a part that may differ, nor of the old place of those that moved.
func (c *comparison) block(bl block) (Region, bool) {
	if bl.explained || bl.moved && bl.Came == 0 {
		return Region{}, false
	}
	r := Region{X: 0, Y: bl.At, Width: c.wb, Height: bl.Came, Happened: Came, Was: bl.From, Rows: max(bl.Came, bl.Went), Blank: c.blank(bl)}
	if bl.moved {
		r.Happened = Moved
	}
	from, to := bl.At, bl.At+bl.Came
	if bl.Came == 0 {
		r.Happened, r.Y, r.Height = Went, min(bl.At, c.hb-1), 1
		from, to = r.Y, r.Y+1
	}
	box := image.Rectangle{}
	for y := from; y < to; y++ {
		line := row(c.b, y)
		for x := range c.wb {
			if c.res.mask[y*c.wb+x] || c.masked.at(x, y) {
				continue
			}
			c.res.mask[y*c.wb+x] = true
			r.Changed++
			if bl.Came > 0 && !bytes.Equal(line[4*x:4*x+3], line[:3]) {
				box = box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	c.res.Changed += r.Changed
	if !box.Empty() { // as much of the rows as shows something
		r.X, r.Y, r.Width, r.Height = box.Min.X, box.Min.Y, box.Dx(), box.Dy()
	}
	return r, r.Changed > 0
}

// blank tells whether the rows of a block are room alone: all of one colour, that of a row next
// to them.
func (c *comparison) blank(bl block) bool {
	room := func(m *image.NRGBA, from, n int) bool {
		first := row(m, from)
		if !plain(first) {
			return false
		}
		for y := from + 1; y < from+n; y++ {
			if !bytes.Equal(row(m, y), first) {
				return false
			}
		}
		return from > 0 && bytes.Equal(row(m, from-1), first) || from+n < m.Rect.Dy() && bytes.Equal(row(m, from+n), first)
	}
	if bl.Came > 0 {
		return room(c.b, bl.At, bl.Came)
	}
	return bl.From+bl.Went <= c.ha && room(c.a, bl.From, bl.Went)
}

// rows compares all rows, several parts of the picture at a time.
func (c *comparison) rows() {
	const part = 256
	next := make(chan int)
	type counts struct{ changed, smoothed int }
	done := make(chan counts)
	workers := min(runtime.GOMAXPROCS(0), 1+c.hb/part)
	for range workers {
		go func() {
			w := rowComparer{comparison: c, known: distances{}}
			for from := range next {
				for y := from; y < min(from+part, c.hb); y++ {
					w.row(y)
				}
			}
			done <- counts{w.changed, w.smoothed}
		}()
	}
	for y := 0; y < c.hb; y += part {
		next <- y
	}
	close(next)
	for range workers {
		n := <-done
		c.res.Changed += n.changed
		c.res.Smoothed += n.smoothed
	}
}

// rowComparer compares rows; each worker has its own.
type rowComparer struct {
	*comparison
	known             distances
	changed, smoothed int
}

func (c *rowComparer) mark(x, y int) {
	c.res.mask[y*c.wb+x] = true
	c.changed++
}

// row compares one row of b with the row of a that lies under it.
func (c *rowComparer) row(y int) {
	ya := c.under[y]
	if ya < 0 {
		return // told of as a block
	}
	if ya >= c.ha { // straight, and a is shorter
		for x := range c.wb {
			if !c.masked.at(x, y) {
				c.mark(x, y)
			}
		}
		return
	}
	rowA, rowB := row(c.a, ya), row(c.b, y)
	if c.wa == c.wb && bytes.Equal(rowA, rowB) {
		return
	}
	for x := range c.wb {
		if x >= c.wa {
			if !c.masked.at(x, y) {
				c.mark(x, y)
			}
			continue
		}
		p, q := rowA[4*x:4*x+4], rowB[4*x:4*x+4]
		if p[0] == q[0] && p[1] == q[1] && p[2] == q[2] && p[3] == q[3] || c.masked.at(x, y) || c.hide.at(x, ya) || c.known.between(p, q) <= c.threshold {
			continue
		}
		if smooths(c.a, c.b, x, ya, y) || smooths(c.b, c.a, x, y, ya) {
			c.smoothed++
			continue
		}
		c.mark(x, y)
	}
}

func row(m *image.NRGBA, y int) []uint8 {
	o := m.PixOffset(m.Rect.Min.X, m.Rect.Min.Y+y)
	return m.Pix[o : o+4*m.Rect.Dx()]
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

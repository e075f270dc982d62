package visual

import (
	"bytes"
	"hash/maphash"
	"image"
	"slices"
)

// Happened says what became of the part of a page that a region marks.
type Happened string

// What can become of a part of a page.
const (
	Redrawn Happened = ""      // the same place is drawn otherwise
	Came    Happened = "came"  // rows that the first picture does not have
	Went    Happened = "went"  // rows that the second picture does not have; the region is where they were
	Moved   Happened = "moved" // rows that both have, in another order
)

// block is a run of rows that only one picture has: b rows At to At+Came of the second
// stand where the rows From to From+Went of the first were. One of Came and Went is 0.
type block struct {
	At, Came   int
	From, Went int
	explained  bool // it lies in a masked part, which may grow and shrink
	moved      bool // the rows are elsewhere in the other picture
}

// solid is the least number of rows, common practice, that have to agree before they count as
// the same part of a page at another place: fewer are a rule or a gap that two parts share.
const solid = 6

// aligner finds which row of a lies under which row of b.
type aligner struct {
	a, b   *image.NRGBA
	ha, hb []uint64 // digests of rows
	masks  []image.Rectangle
	under  []int // for each row of b the row of a, or -1
	blocks []block
}

// align lays the rows of two pictures of one width over each other. Rows that are unique in
// both and stand in the same order in both hold them together (Cohen's patience difference,
// 2010, from memory: the longest increasing run of unique matches, then the same between
// them); what lies between two such places in both is compared straight, and where one has
// more rows than the other, rows came in or went out at the place that makes the rest agree
// best. It gives the row of a under each row of b, and the blocks that came or went.
func align(a, b *image.NRGBA, masks []image.Rectangle) ([]int, []block) {
	seed := maphash.MakeSeed()
	digests := func(m *image.NRGBA) []uint64 {
		out := make([]uint64, m.Rect.Dy())
		for y := range out {
			out[y] = maphash.Bytes(seed, row(m, y))
		}
		return out
	}
	first := make(chan []uint64, 1)
	go func() { first <- digests(a) }()
	al := &aligner{a: a, b: b, hb: digests(b), masks: masks, under: make([]int, b.Rect.Dy())}
	al.ha = <-first
	for i := range al.under {
		al.under[i] = -1
	}
	al.between(0, len(al.ha), 0, len(al.hb))
	al.exchange()
	return al.under, al.blocks
}

// between aligns the rows a0 to a1 with the rows b0 to b1.
func (al *aligner) between(a0, a1, b0, b1 int) {
	for a0 < a1 && b0 < b1 && al.ha[a0] == al.hb[b0] {
		al.under[b0] = a0
		a0, b0 = a0+1, b0+1
	}
	for a0 < a1 && b0 < b1 && al.ha[a1-1] == al.hb[b1-1] {
		a1, b1 = a1-1, b1-1
		al.under[b1] = a1
	}
	if a0 == a1 && b0 == b1 {
		return
	}
	runs := al.anchors(a0, a1, b0, b1)
	if len(runs) == 0 {
		al.straight(a0, a1, b0, b1)
		return
	}
	for _, r := range runs {
		al.between(a0, r.a, b0, r.b)
		for i := range r.n {
			al.under[r.b+i] = r.a + i
		}
		a0, b0 = r.a+r.n, r.b+r.n
	}
	al.between(a0, a1, b0, b1)
}

// run is n rows from a and from b on that are equal.
type run struct{ a, b, n int }

// anchors are the runs of equal rows that hold two stretches together, in order.
func (al *aligner) anchors(a0, a1, b0, b1 int) []run {
	if a0 == a1 || b0 == b1 {
		return nil
	}
	type place struct{ a, b, na, nb int }
	seen := map[uint64]place{}
	for i := a0; i < a1; i++ {
		p := seen[al.ha[i]]
		seen[al.ha[i]] = place{i, p.b, p.na + 1, p.nb}
	}
	for i := b0; i < b1; i++ {
		p := seen[al.hb[i]]
		seen[al.hb[i]] = place{p.a, i, p.na, p.nb + 1}
	}
	var unique []run
	for i := b0; i < b1; i++ {
		if p := seen[al.hb[i]]; p.na == 1 && p.nb == 1 {
			unique = append(unique, run{p.a, p.b, 1})
		}
	}
	var out []run
	for _, r := range rising(unique) {
		if n := len(out); n > 0 && r.b < out[n-1].b+out[n-1].n {
			continue // the run before has grown over it
		}
		for r.a > a0 && r.b > b0 && al.ha[r.a-1] == al.hb[r.b-1] && (len(out) == 0 || r.b > out[len(out)-1].b+out[len(out)-1].n && r.a > out[len(out)-1].a+out[len(out)-1].n) {
			r.a, r.b, r.n = r.a-1, r.b-1, r.n+1
		}
		for r.a+r.n < a1 && r.b+r.n < b1 && al.ha[r.a+r.n] == al.hb[r.b+r.n] {
			r.n++
		}
		if n := len(out); n > 0 && r.a < out[n-1].a+out[n-1].n {
			continue
		}
		if r.n >= solid {
			out = append(out, r)
		}
	}
	return out
}

// rising is the longest part of a list, ordered by b, in which a rises, too.
func rising(list []run) []run {
	var tails []int // index of the smallest end of a rising part of each length
	before := make([]int, len(list))
	for i, r := range list {
		at, _ := slices.BinarySearchFunc(tails, r.a, func(t, a int) int { return list[t].a - a })
		before[i] = -1
		if at > 0 {
			before[i] = tails[at-1]
		}
		if at == len(tails) {
			tails = append(tails, i)
		} else {
			tails[at] = i
		}
	}
	if len(tails) == 0 {
		return nil
	}
	var out []run
	for i := tails[len(tails)-1]; i >= 0; i = before[i] {
		out = append(out, list[i])
	}
	slices.Reverse(out)
	return out
}

// straight lays two stretches over each other that nothing holds together. Where one has
// more rows, they came in or went out at one place.
func (al *aligner) straight(a0, a1, b0, b1 int) {
	na, nb := a1-a0, b1-b0
	short, at, explained := min(na, nb), 0, false
	if na != nb {
		at, explained = al.seam(a0, a1, b0, b1)
		al.blocks = append(al.blocks, block{At: b0 + at, Came: max(0, nb-na), From: a0 + at, Went: max(0, na-nb), explained: explained})
	}
	for i := range short {
		if i < at || na == nb {
			al.under[b0+i] = a0 + i
		} else {
			al.under[b1-short+i] = a1 - short + i
		}
	}
}

// seam finds the row at which rows came in or went out: the one for which the fewest
// rows above it differ straight and the fewest below it differ when moved. Where
// several do equally well, one inside a masked part is taken: a part that may differ
// may also grow, and then the rows are explained.
func (al *aligner) seam(a0, a1, b0, b1 int) (at int, explained bool) {
	short := min(a1-a0, b1-b0)
	below := make([]int, short+1) // rows at and below i that differ when aligned at the bottom
	for i := short - 1; i >= 0; i-- {
		below[i] = below[i+1]
		if al.ha[a1-short+i] != al.hb[b1-short+i] {
			below[i]++
		}
	}
	inside := func(y int) bool {
		return slices.ContainsFunc(al.masks, func(m image.Rectangle) bool { return m.Min.Y <= y && y <= m.Max.Y })
	}
	bestCost, above := -1, 0
	for s := 0; s <= short; s++ {
		cost, in := above+below[s], inside(b0+s) || inside(a0+s)
		if bestCost < 0 || cost < bestCost || cost == bestCost && (in || !explained) {
			at, bestCost, explained = s, cost, in
		}
		if s < short && al.ha[a0+s] != al.hb[b0+s] {
			above++
		}
	}
	return at, explained
}

// exchange finds blocks that went in one place and came in another: they changed places with
// what is between them. Rows of one colour say nothing and are not counted.
func (al *aligner) exchange() {
	for i := range al.blocks {
		came := &al.blocks[i]
		if came.Came < solid {
			continue
		}
		for j := range al.blocks {
			went := &al.blocks[j]
			if went.Went < solid || went.moved {
				continue
			}
			rows := map[uint64]bool{}
			for y := went.From; y < went.From+went.Went; y++ {
				if !plain(row(al.a, y)) {
					rows[al.ha[y]] = true
				}
			}
			all, kept := 0, 0
			for y := came.At; y < came.At+came.Came; y++ {
				if plain(row(al.b, y)) {
					continue
				}
				all++
				if rows[al.hb[y]] {
					kept++
				}
			}
			if all >= solid && kept*5 >= all*4 {
				came.moved, went.moved = true, true
				came.From, came.Went = went.From, 0
				break
			}
		}
	}
}

// plain tells whether a row is of one colour.
func plain(row []uint8) bool { return bytes.Equal(row[4:], row[:len(row)-4]) }

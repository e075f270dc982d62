package visual

import (
	"image"
	"image/color"
)

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
	return Region{X: box.Min.X, Y: box.Min.Y, Width: box.Dx(), Height: box.Dy(), Changed: changed}
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

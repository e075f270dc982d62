package visual

import (
	"image"
	"image/color"

	"golang.org/x/image/draw"
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

// Thumbnail is the part of a picture around a region, with the region framed, scaled down to fit into w by h pixels. All of
// the picture's width is shown where the region is wide; what is small is not enlarged.
func Thumbnail(img *image.NRGBA, r image.Rectangle, w, h int, accent color.NRGBA) *image.NRGBA {
	all := img.Bounds()
	r = r.Intersect(all)
	// Half as much again on each side shows where it is, and no less than the thumbnail has room for.
	want := image.Rect(0, 0, max(w, 2*r.Dx()), max(h, 2*r.Dy()))
	if want.Dx()*h > want.Dy()*w {
		want.Max.Y = want.Dx() * h / w
	} else {
		want.Max.X = want.Dy() * w / h
	}
	from := want.Add(image.Pt(r.Min.X+r.Dx()/2-want.Dx()/2, r.Min.Y+r.Dy()/2-want.Dy()/2))
	// It is moved into the picture before what sticks out is cut off.
	from = from.Add(image.Pt(max(0, all.Min.X-from.Min.X), max(0, all.Min.Y-from.Min.Y)))
	from = from.Sub(image.Pt(max(0, from.Max.X-all.Max.X), max(0, from.Max.Y-all.Max.Y)))
	from = from.Intersect(all)
	if from.Empty() {
		return image.NewNRGBA(image.Rect(0, 0, 1, 1))
	}
	scale := min(1, float64(w)/float64(from.Dx()), float64(h)/float64(from.Dy()))
	out := image.NewNRGBA(image.Rect(0, 0, max(1, int(float64(from.Dx())*scale)), max(1, int(float64(from.Dy())*scale))))
	draw.ApproxBiLinear.Scale(out, out.Bounds(), img, from, draw.Src, nil)
	at := func(x, y int) image.Point {
		return image.Pt(int(float64(x-from.Min.X)*scale), int(float64(y-from.Min.Y)*scale))
	}
	frame := image.Rectangle{at(r.Min.X, r.Min.Y), at(r.Max.X, r.Max.Y)}.Inset(-2)
	for _, side := range []image.Rectangle{
		{frame.Min, image.Pt(frame.Max.X, frame.Min.Y+2)}, {image.Pt(frame.Min.X, frame.Max.Y-2), frame.Max},
		{frame.Min, image.Pt(frame.Min.X+2, frame.Max.Y)}, {image.Pt(frame.Max.X-2, frame.Min.Y), frame.Max},
	} {
		draw.Draw(out, side.Intersect(out.Bounds()), image.NewUniform(accent), image.Point{}, draw.Src)
	}
	return out
}

func luma8(r, g, b uint8) uint8 {
	return uint8((299*int(r) + 587*int(g) + 114*int(b)) / 1000)
}

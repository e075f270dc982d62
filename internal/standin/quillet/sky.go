package quillet

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
)

var skies = map[string][2]int{"dome": {1120, 360}, "field": {520, 320}, "lane": {520, 320}, "moon": {520, 320}}

func drawSky(name string) ([]byte, error) {
	size, known := skies[name]
	if !known {
		return nil, fmt.Errorf("there is no picture %q", name)
	}
	h := fnv.New64a()
	_, _ = h.Write([]byte(name))
	r := rand.New(rand.NewPCG(h.Sum64(), 7))
	m := image.NewNRGBA(image.Rect(0, 0, size[0], size[1]))
	for y := range size[1] {
		for x := range size[0] {
			m.SetNRGBA(x, y, color.NRGBA{uint8(14 + y/14), uint8(20 + y/12), uint8(44 + y/7), 255})
		}
	}
	for range size[0] * size[1] / 900 {
		x, y, big, tone := r.IntN(size[0]), r.IntN(size[1]), r.IntN(9) == 0, uint8(150+r.IntN(106))
		m.SetNRGBA(x, y, color.NRGBA{tone, tone, 255, 255})
		if big {
			for _, d := range [][2]int{{1, 0}, {0, 1}, {-1, 0}, {0, -1}} {
				m.SetNRGBA(x+d[0], y+d[1], color.NRGBA{tone, tone, 240, 255})
			}
		}
	}
	var out bytes.Buffer
	err := png.Encode(&out, m)
	return out.Bytes(), err
}

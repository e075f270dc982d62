package fernhollow

import (
	"bytes"
	"hash/fnv"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"
)

var drawn sync.Map // name → []byte

func servePicture(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimSuffix(chi.URLParam(r, "name"), ".png")
	if !knownPicture(name) {
		http.NotFound(w, r)
		return
	}
	raw, ok := drawn.Load(name)
	if !ok {
		var buf bytes.Buffer
		if err := png.Encode(&buf, draw(name)); err != nil {
			http.Error(w, "the picture could not be drawn", http.StatusInternalServerError)
			return
		}
		raw, _ = drawn.LoadOrStore(name, buf.Bytes())
	}
	w.Header().Set("Content-Type", "image/png")
	w.Header().Set("Cache-Control", "public, max-age=86400")
	_, _ = w.Write(raw.([]byte))
}

func knownPicture(name string) bool {
	if name == "hero" {
		return true
	}
	for _, s := range slides {
		if s.Picture == "/pictures/"+name+".png" {
			return true
		}
	}
	for _, a := range articles {
		if "wide-"+a.Slug == name {
			return true
		}
	}
	_, ok := kitBySlug(name)
	return ok
}

// draw makes a scene of caps on a slope. The name is the seed, so that a picture
// never changes.
func draw(name string) image.Image {
	h := fnv.New64a()
	_, _ = h.Write([]byte(name))
	rnd := rand.New(rand.NewPCG(h.Sum64(), 7))
	wide, high := 480, 360
	switch {
	case name == "hero":
		wide, high = 1120, 420
	case strings.HasPrefix(name, "slide-"):
		wide, high = 720, 300
	case strings.HasPrefix(name, "wide-"):
		wide, high = 900, 340
	}
	m := image.NewRGBA(image.Rect(0, 0, wide, high))
	sky := []color.RGBA{{222, 230, 214, 255}, {236, 226, 208, 255}, {214, 224, 228, 255}, {232, 220, 222, 255}}[rnd.IntN(4)]
	soil := []color.RGBA{{92, 78, 62, 255}, {74, 88, 70, 255}, {104, 84, 72, 255}}[rnd.IntN(3)]
	lift := rnd.Float64() * 6
	for y := range high {
		for x := range wide {
			ground := float64(high)*0.72 + 14*math.Sin(float64(x)/60+lift)
			c := sky
			if float64(y) > ground {
				c = soil
			}
			shade := 1 - 0.12*float64(y)/float64(high)
			m.SetRGBA(x, y, color.RGBA{uint8(float64(c.R) * shade), uint8(float64(c.G) * shade), uint8(float64(c.B) * shade), 255})
		}
	}
	caps := []color.RGBA{{188, 108, 62, 255}, {226, 178, 84, 255}, {202, 190, 172, 255}, {150, 92, 84, 255}, {240, 232, 214, 255}}
	for range 4 + wide/160 {
		x, r := rnd.Float64()*float64(wide), 18+rnd.Float64()*float64(high)/6
		cap(m, x, float64(high)*0.74, r, caps[rnd.IntN(len(caps))])
	}
	return m
}

func cap(m *image.RGBA, cx, foot, r float64, c color.RGBA) {
	top := foot - 1.6*r
	for y := int(top - r); y < int(foot+6); y++ {
		for x := int(cx - r - 2); x < int(cx+r+2); x++ {
			dx, dy := float64(x)-cx, float64(y)-top
			switch {
			case dy <= 0 && dx*dx/(r*r)+dy*dy/(r*r*0.7) <= 1:
				light := 0.82 + 0.18*(-dx/r)
				m.SetRGBA(x, y, color.RGBA{uint8(float64(c.R) * light), uint8(float64(c.G) * light), uint8(float64(c.B) * light), 255})
			case dy > 0 && math.Abs(dx) < r*0.22+dy*0.04:
				m.SetRGBA(x, y, color.RGBA{238, 230, 214, 255})
			}
		}
	}
}

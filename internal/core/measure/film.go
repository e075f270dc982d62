package measure

import (
	"image"
	"math"
)

// Frame is one moment of a page that comes into view.
type Frame struct {
	At       float64 `json:"at" doc:"Milliseconds since the navigation began."`
	Complete float64 `json:"complete" doc:"How much of the last frame's picture is there, 0 to 1."`
	Picture  string  `json:"picture,omitempty" doc:"SHA-256 of the picture, of the loads of which they are kept."`
}

// Shot is a picture of the window at a moment.
type Shot struct {
	At      float64 // milliseconds since the navigation began
	Picture image.Image
}

// almost is how much has to be there for a page to count as complete to the eye.
const almost = 0.99

// Develop says of each shot, in the order of time, how much of the last one is there: by the histograms of
// the three colours, how far they have come from the first shot's to the last one's (as published with the
// Speed Index, 2012; from memory).
func Develop(shots []Shot) []Frame {
	if len(shots) == 0 {
		return nil
	}
	last := histogram(shots[len(shots)-1].Picture)
	first := distance(histogram(shots[0].Picture), last)
	out := make([]Frame, len(shots))
	for i, s := range shots {
		out[i] = Frame{At: s.At, Complete: 1}
		if first > 0 && i < len(shots)-1 {
			out[i].Complete = max(0, 1-distance(histogram(s.Picture), last)/first)
		}
	}
	return out
}

// CompleteAt is from when on the window stays as good as it ends, in milliseconds; 0 without frames.
func CompleteAt(frames []Frame) float64 {
	at := 0.0
	for i := len(frames) - 1; i >= 0 && frames[i].Complete >= almost; i-- {
		at = frames[i].At
	}
	return at
}

// SpeedIndex is the area above the curve of completeness, in milliseconds: the lower, the earlier things
// could be seen.
func SpeedIndex(frames []Frame) float64 {
	area, at, complete := 0.0, 0.0, 0.0
	for _, f := range frames {
		area += (f.At - at) * (1 - complete)
		at, complete = f.At, f.Complete
	}
	return area
}

// Telling picks at most n frames: those that bring the most, and always the first and the last.
func Telling(frames []Frame, n int) []int {
	if len(frames) == 0 {
		return nil
	}
	out := []int{0}
	for i := 1; i < len(frames); i++ {
		before := frames[out[len(out)-1]]
		if i == len(frames)-1 || math.Abs(frames[i].Complete-before.Complete) >= 1/float64(n) && len(out) < n-1 {
			out = append(out, i)
		}
	}
	return out
}

type colours [3][256]float64

func histogram(p image.Image) (h colours) {
	b := p.Bounds()
	if b.Empty() {
		return h
	}
	part := 1 / float64(b.Dx()*b.Dy())
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			red, green, blue, _ := p.At(x, y).RGBA()
			h[0][red>>8] += part
			h[1][green>>8] += part
			h[2][blue>>8] += part
		}
	}
	return h
}

func distance(a, b colours) float64 {
	total := 0.0
	for c := range a {
		for v := range a[c] {
			total += math.Abs(a[c][v] - b[c][v])
		}
	}
	return total
}

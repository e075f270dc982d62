// Package traffic makes up page views of the stand-ins: months of them, with quiet Sundays, slow phones, a fortnight in which
// something was heavier, and what promotions did. The same seed makes the same.
package traffic

import (
	"math"
	"math/rand/v2"
	"time"
)

// Visit is one made-up page view.
type Visit struct {
	At      time.Time
	Path    string
	Device  string
	Metrics map[string]float64 // by the short names of the standard, as a beacon has them
}

// Step is something that made pages faster or slower from a moment on.
type Step struct {
	At     time.Time
	Factor float64 // of the paints
	React  float64 // of the delays
}

// Plan is what traffic is made up.
type Plan struct {
	Seed    uint64
	Paths   []string // the first ones are asked for more often
	PerDay  int      // on a weekday
	From    time.Time
	To      time.Time
	Largest float64 // of a desktop, in the middle, in milliseconds
	Steps   []Step
}

// spread is how far page views differ: the standard deviation of the logarithm of their times.
const spread = 0.45

// Visits are the page views of a plan, in the order of their days.
func Visits(p Plan) []Visit {
	var out []Visit
	r := rand.New(rand.NewPCG(p.Seed, 1))
	for day := p.From.UTC().Truncate(24 * time.Hour); day.Before(p.To); day = day.AddDate(0, 0, 1) {
		n := float64(p.PerDay) * (0.92 + 0.16*r.Float64())
		if w := day.Weekday(); w == time.Saturday || w == time.Sunday {
			n *= 0.62
		}
		drift := 1 + 0.03*math.Sin(float64(day.Unix())/86400/9) + 0.015*r.NormFloat64()
		if back := p.To.Sub(day).Hours() / 24; back > 38 && back < 52 {
			drift *= 1.17
		}
		for range int(n) {
			at := day.Add(time.Duration(r.Float64() * 24 * float64(time.Hour)))
			if at.Before(p.To) {
				out = append(out, p.visit(r, at, drift))
			}
		}
	}
	return out
}

func (p Plan) visit(r *rand.Rand, at time.Time, drift float64) Visit {
	paint, react := drift, 1.0
	for _, s := range p.Steps {
		if !at.Before(s.At) {
			paint, react = paint*s.Factor, react*s.React
		}
	}
	which := int(math.Floor(float64(len(p.Paths)) * r.Float64() * r.Float64()))
	v := Visit{At: at, Path: p.Paths[which], Device: "desktop"}
	slow := 1 + 0.09*float64(which)
	if r.Float64() < 0.58 {
		v.Device, slow = "phone", slow*1.75
	}
	draw := func(middle float64) float64 { return middle * math.Exp(spread*r.NormFloat64()) }
	largest := draw(p.Largest * slow * paint)
	v.Metrics = map[string]float64{"LCP": largest, "FCP": largest * (0.45 + 0.4*r.Float64()), "TTFB": draw(190 * math.Sqrt(slow))}
	if r.Float64() < 0.7 { // who touches nothing says nothing of it
		v.Metrics["INP"] = draw(70 * slow * react)
	}
	if r.Float64() < 0.6 {
		v.Metrics["CLS"] = 0
	} else {
		v.Metrics["CLS"] = min(1, draw(0.03*slow))
	}
	return v
}

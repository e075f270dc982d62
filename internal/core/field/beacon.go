// Package field knows what visitors' own browsers say of a site's speed: what a beacon may say, what many of them come to
// in a day, and what a promotion did to them.
package field

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
)

// Beacon is what one page view says of itself, once, when it is left. It holds nothing of the person: no address beyond the
// page's path, no cookie, no identifier.
type Beacon struct {
	Path    string             // without query and fragment
	Device  string             // desktop or phone
	Metrics map[string]float64 // by the short names of the standard, such as LCP: milliseconds, or the score itself
}

// Metrics are what a beacon may say, by their short names, with the greatest value that is believed.
var Metrics = map[string]struct {
	Metric measure.Metric
	Most   float64
}{
	"LCP":  {measure.Largest, 60_000},
	"CLS":  {measure.LayoutShift, 10},
	"INP":  {measure.Interaction, 60_000},
	"FCP":  {measure.FirstPaint, 60_000},
	"TTFB": {measure.FirstByte, 60_000},
}

// Order is the metrics as they are shown.
var Order = []measure.Metric{measure.Largest, measure.Interaction, measure.LayoutShift, measure.FirstPaint, measure.FirstByte}

// MostBeacon is how long a beacon may be, in octets.
const MostBeacon = 1000

// Read reads a beacon: {"p": path, "d": "phone", "m": {"LCP": 1830.5}}. What is not in it is not asked for; what is
// beyond belief is refused as a whole, since half of it would not be more to be trusted.
func Read(raw []byte) (Beacon, error) {
	if len(raw) > MostBeacon {
		return Beacon{}, fmt.Errorf("it is longer than %d octets", MostBeacon)
	}
	var in struct {
		Path    string             `json:"p"`
		Device  string             `json:"d"`
		Metrics map[string]float64 `json:"m"`
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&in); err != nil {
		return Beacon{}, errors.New("it is not the JSON of a beacon")
	}
	b := Beacon{in.Path, in.Device, in.Metrics}
	if i := strings.IndexAny(b.Path, "?#"); i >= 0 {
		b.Path = b.Path[:i]
	}
	switch {
	case !strings.HasPrefix(b.Path, "/") || len(b.Path) > 500:
		return Beacon{}, errors.New("its p is no path")
	case b.Device != site.Desktop && b.Device != site.Phone:
		return Beacon{}, errors.New("its d is neither desktop nor phone")
	case len(b.Metrics) == 0:
		return Beacon{}, errors.New("it measured nothing")
	}
	for name, v := range b.Metrics {
		m, known := Metrics[name]
		if !known {
			return Beacon{}, errors.New("it has a metric that is not known")
		}
		if math.IsNaN(v) || v < 0 || v > m.Most {
			return Beacon{}, fmt.Errorf("its %s is not between 0 and %g", name, m.Most)
		}
	}
	return b, nil
}

// Other is the class of pages that are like none of the test plan.
const Other = "other"

// ClassOf is the class of an address: that of the page of the test plan with this path, else of the one that shares the most
// leading parts of its path with it; [Other] when none shares any (common practice).
func ClassOf(pages []site.Page, path string) string {
	best, shared := Other, 0
	for _, p := range pages {
		of, _, _ := strings.Cut(p.Path, "?")
		if of == path {
			return p.Class
		}
		if n := sharedParts(of, path); n > shared {
			best, shared = p.Class, n
		}
	}
	return best
}

func sharedParts(a, b string) int {
	n := 0
	x, y := strings.Split(strings.Trim(a, "/"), "/"), strings.Split(strings.Trim(b, "/"), "/")
	for n < len(x) && n < len(y) && x[n] != "" && x[n] == y[n] {
		n++
	}
	return n
}

package field_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/stats"
)

// A beacon says a path, a device and what was measured; anything else in it, or anything beyond belief, is refused.
func TestBeacons(t *testing.T) {
	b, err := field.Read([]byte(`{"p":"/kits?who=ada#x","d":"phone","m":{"LCP":1830.5,"CLS":0.02}}`))
	require.NoError(t, err)
	assert.Equal(t, field.Beacon{Path: "/kits", Device: "phone", Metrics: map[string]float64{"LCP": 1830.5, "CLS": 0.02}}, b)
	for raw, says := range map[string]string{
		`<html>`:                                                               "not the JSON",
		`{"p":"kits","d":"phone","m":{"LCP":1}}`:                               "no path",
		`{"p":"/","d":"watch","m":{"LCP":1}}`:                                  "neither desktop nor phone",
		`{"p":"/","d":"phone","m":{}}`:                                         "measured nothing",
		`{"p":"/","d":"phone","m":{"XYZ":1}}`:                                  "not known",
		`{"p":"/","d":"phone","m":{"LCP":-1}}`:                                 "between",
		`{"p":"/","d":"phone","m":{"CLS":11}}`:                                 "between",
		`{"p":"/","d":"phone","m":{"LCP":1},"user":"ada"}`:                     "not the JSON",
		`{"p":"/` + strings.Repeat("a", 1000) + `","d":"phone","m":{"LCP":1}}`: "longer",
	} {
		_, err := field.Read([]byte(raw))
		assert.ErrorContains(t, err, says, raw)
	}
}

func TestClassOfAnAddress(t *testing.T) {
	pages := []site.Page{{Path: "/", Class: "home"}, {Path: "/kits", Class: "listing"}, {Path: "/kits/tawny", Class: "product"}, {Path: "/search?q=oyster", Class: "search"}}
	for path, want := range map[string]string{"/": "home", "/kits": "listing", "/kits/tawny": "product", "/kits/tawny/more": "product", "/kits/pearl": "listing", "/search": "search", "/about": field.Other} {
		assert.Equal(t, want, field.ClassOf(pages, path), path)
	}
}

func histogram(m measure.Metric, values []float64) field.Histogram {
	h := field.Histogram{}
	for _, v := range values {
		h[field.Step(m, v)]++
	}
	return h
}

func drawn(r *rand.Rand, n int, middle float64) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = middle * math.Exp(0.5*r.NormFloat64())
	}
	return out
}

// TestAHistogramKnowsThePercentile: within one part in a hundred of the values themselves, its interval covers the true one
// as often as it says, days add up, and page views are counted by the published thresholds (judged at the 75th percentile).
func TestAHistogramKnowsThePercentile(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	truth := 1800 * math.Exp(0.6744897501960817*0.5)
	covered := 0
	for range 400 {
		values := drawn(r, 300, 1800)
		l := histogram(measure.Largest, values).Level(measure.Largest)
		sorted := slices.Sorted(slices.Values(values))
		assert.InEpsilon(t, sorted[224], l.P75, 0.0101)
		if l.Low*0.99 <= truth && truth <= l.High*1.01 {
			covered++
		}
	}
	assert.GreaterOrEqual(t, covered, 376, "of 400, at 95 %")
	values := []float64{100, 2400, 2600, 3900, 4100, 9000}
	l := histogram(measure.Largest, values).Level(measure.Largest)
	assert.Equal(t, []int{2, 2, 2}, []int{l.Good, l.Middling, l.Poor})
	assert.Equal(t, measure.Poor, l.Rating)
	assert.Nil(t, field.Histogram{}.Level(measure.Largest))
	zero := histogram(measure.LayoutShift, []float64{0, 0, 0, 0.3}).Level(measure.LayoutShift)
	assert.Zero(t, zero.P75)
	assert.Equal(t, measure.Good, zero.Rating)

	a, b := histogram(measure.Largest, values[:3]), histogram(measure.Largest, values[3:])
	a.Add(b)
	assert.Equal(t, histogram(measure.Largest, values), a)
	assert.InEpsilon(t, stats.Quantile(values, 0.75), a.Level(measure.Largest).P75, 0.03)
}

// TestWhatAPromotionDidToVisitors: nothing is called better or worse where nothing is, a tenth is found, and too few page
// views say nothing.
func TestWhatAPromotionDidToVisitors(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 7))
	falsely, found, covered := 0, 0, 0
	for range 300 {
		before, same := histogram(measure.Largest, drawn(r, 2000, 1800)), histogram(measure.Largest, drawn(r, 2000, 1800))
		if e := field.Compare(measure.Largest, before, same); e.Result != field.NoDifference {
			falsely++
		}
		e := field.Compare(measure.Largest, before, histogram(measure.Largest, drawn(r, 2000, 1620)))
		if e.Result == field.Better {
			found++
		}
		if truth := -180 * math.Exp(0.6744897501960817*0.5); e.Low-25 <= truth && truth <= e.High+25 { // a step is 2 % wide
			covered++
		}
	}
	assert.LessOrEqual(t, falsely, 15)
	assert.GreaterOrEqual(t, found, 270)
	assert.GreaterOrEqual(t, covered, 280)
	few := field.Compare(measure.Largest, histogram(measure.Largest, drawn(r, 150, 1800)), histogram(measure.Largest, drawn(r, 2000, 900)))
	assert.Equal(t, field.TooFew, few.Result)
	assert.Equal(t, "150 page views before, 2000 after; 200 of each are needed.", few.Why)
	assert.Equal(t, field.Worse, field.Compare(measure.LayoutShift, histogram(measure.LayoutShift, drawn(r, 900, 0.02)), histogram(measure.LayoutShift, drawn(r, 900, 0.2))).Result)
}

func TestWholeWeeksAreCompared(t *testing.T) {
	for in, want := range map[[2]int]int{{90, 3}: 3, {90, 8}: 7, {90, 16}: 14, {400, 400}: 28, {0, 30}: 0, {10, 300}: 7} {
		assert.Equal(t, want, field.Span(in[0], in[1]), in)
	}
}

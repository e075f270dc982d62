package measure

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"tidemarker/internal/core/stats"
)

// Result is what a comparison came to.
type Result string

// The results. Undecided is only said while more runs may come.
const (
	Undecided    Result = ""
	Better       Result = "better"
	Worse        Result = "worse"
	NoDifference Result = "no difference shown"
	TooNoisy     Result = "too noisy"
)

// Looks are after how many rounds the results are looked at, and the most that can be: all of them are
// planned for from the start, so that somebody who goes on after the usual end errs no more than who does not.
var Looks = []int{5, 8, 11, 15, 22, 30}

// Usual is after how many rounds a measurement ends that nobody asked to go on.
const Usual = 15

// Alpha is the chance of calling anything better or worse when nothing is, over all looks.
const Alpha = 0.05

// levels are the two-sided levels of each look, such that all of them together err with Alpha.
var levels = func() []float64 {
	information := make([]float64, len(Looks))
	for i, n := range Looks {
		information[i] = float64(n) / float64(Looks[len(Looks)-1])
	}
	bounds, err := stats.Bounds(Alpha, stats.PocockSpending, information)
	if err != nil {
		panic(err) // the looks above
	}
	for i, z := range bounds {
		bounds[i] = 2 * (1 - stats.NormalCDF(z))
	}
	return bounds
}()

// level is the level at which results are read after some rounds: that of the last look that was
// reached. last tells that there is none after it.
func level(rounds int) (alpha float64, last bool) {
	at := 0
	for i, n := range Looks {
		if rounds >= n {
			at = i
		}
	}
	return levels[at], rounds >= Looks[len(Looks)-1]
}

// Comparison is one metric on one device, on one page or over all.
type Comparison struct {
	Metric Metric `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,interaction-delay,load,transferred,content,requests"`
	Title  string `json:"title"`
	Unit   string `json:"unit" enum:"ms,bytes,1"`
	Page   string `json:"page,omitempty" doc:"Absent: over all pages that were measured. Of the interaction delay it is the journey."`
	Case
	Before float64 `json:"before" doc:"Median; over pages the median of their medians."`
	After  float64 `json:"after"`
	Shift  float64 `json:"shift" doc:"Hodges-Lehmann, after minus before."`
	Low    float64 `json:"low" doc:"Of its interval."`
	High   float64 `json:"high"`
	P      float64 `json:"p" doc:"Mann-Whitney, corrected for the number of comparisons (Holm)."`
	Result Result  `json:"result" enum:",better,worse,no difference shown,too noisy"`
	Rating Rating  `json:"rating,omitempty" enum:",good,needs improvement,poor" doc:"Of after, by published thresholds."`
	Was    Rating  `json:"was,omitempty" enum:",good,needs improvement,poor"`
	Runs   int     `json:"runs" doc:"Loads that count, of the side that has fewer."`
	Pages  int     `json:"pages,omitempty" doc:"Pages that by themselves differ in the same way, by at least what matters."`
	Of     int     `json:"of,omitempty" doc:"Pages that were measured."`
}

// Busy are the rounds in which the machine was busy with something else: a fixed piece of work took
// half as long again as usual, or more.
func Busy(loads []Load) []int {
	effort := map[int]float64{}
	for _, l := range loads {
		effort[l.Round] = max(effort[l.Round], l.Effort)
	}
	usual := stats.Median(slices.Collect(maps.Values(effort)))
	var out []int
	for _, round := range slices.Sorted(maps.Keys(effort)) {
		if effort[round] > 1.5*usual {
			out = append(out, round)
		}
	}
	return out
}

// sample are the values of both sides.
type sample struct{ before, after []float64 }

// Compare compares the sides of all loads that count, case by case: over all pages first, then page by page.
// What is measured in busy rounds does not count, for neither side. What is said over all pages is corrected
// for all of that, and so is what is said of single pages.
func Compare(loads []Load) []Comparison {
	busy := Busy(loads)
	var use []Load
	seen := map[int]bool{}
	for _, l := range loads {
		if l.Dropped == "" && !slices.Contains(busy, l.Round) {
			use = append(use, l)
			seen[l.Round] = true
		}
	}
	rounds := len(seen)
	var overall, single []Comparison
	for _, of := range Cases(use) {
		byPage := pagesOf(use, of)
		pages := slices.Sorted(maps.Keys(byPage))
		for _, d := range Definitions {
			var each []sample
			for _, page := range pages {
				s := byPage[page][d.Metric]
				if len(s.before) == 0 || len(s.after) == 0 {
					continue
				}
				each = append(each, s)
				c := compare(d, of, []sample{s}, rounds)
				c.Page = page
				single = append(single, c)
			}
			if len(each) > 0 {
				c := compare(d, of, each, rounds)
				c.Of = len(each)
				overall = append(overall, c)
			}
		}
	}
	decide(overall, rounds)
	decide(single, rounds)
	for i, c := range overall {
		for _, s := range single {
			if s.Case == c.Case && s.Metric == c.Metric && (c.Result == Better || c.Result == Worse) && s.Shift*c.Shift > 0 && math.Abs(s.Shift) >= Of(s.Metric).Smallest(s.Before) {
				overall[i].Pages++
			}
		}
	}
	return append(overall, single...)
}

// Cases are the cases of some loads, each once, the usual ones first.
func Cases(loads []Load) []Case {
	var out []Case
	for _, l := range loads {
		if !slices.Contains(out, l.Case) {
			out = append(out, l.Case)
		}
	}
	slices.SortFunc(out, Case.order)
	return out
}

func pagesOf(loads []Load, of Case) map[string]map[Metric]sample {
	out := map[string]map[Metric]sample{}
	for _, l := range loads {
		if l.Case != of {
			continue
		}
		name := l.Name()
		if out[name] == nil {
			out[name] = map[Metric]sample{}
		}
		for m, v := range l.Values {
			s := out[name][m]
			if l.Side == Before {
				s.before = append(s.before, v)
			} else {
				s.after = append(s.after, v)
			}
			out[name][m] = s
		}
	}
	return out
}

// compare compares one metric. Over several pages each value is first taken from the middle of its
// page's, so that slow and fast pages weigh alike (aligned ranks; Hodges and Lehmann 1962).
func compare(d Definition, of Case, each []sample, rounds int) Comparison {
	alpha, _ := level(rounds)
	c := Comparison{Metric: d.Metric, Title: d.Title, Unit: d.Unit, Case: of, Runs: math.MaxInt}
	var all sample
	var before, after []float64
	for _, s := range each {
		middle := stats.Median(slices.Concat(s.before, s.after))
		if len(each) == 1 {
			middle = 0
		}
		for _, v := range s.before {
			all.before = append(all.before, v-middle)
		}
		for _, v := range s.after {
			all.after = append(all.after, v-middle)
		}
		before, after = append(before, stats.Median(s.before)), append(after, stats.Median(s.after))
		c.Runs = min(c.Runs, len(s.before), len(s.after))
	}
	c.Before, c.After = stats.Median(before), stats.Median(after)
	shift := stats.HodgesLehmann(all.before, all.after, 1-alpha)
	c.Shift, c.Low, c.High = shift.Estimate, shift.Low, shift.High
	c.P = stats.MannWhitney(all.before, all.after).P
	c.Rating, c.Was = d.Rate(c.After), d.Rate(c.Before)
	return c
}

// decide corrects for the number of comparisons, and says of each what it came to.
func decide(list []Comparison, rounds int) {
	alpha, last := level(rounds)
	ps := make([]float64, len(list))
	for i, c := range list {
		ps[i] = c.P
	}
	for i, p := range stats.Holm(ps) {
		c := &list[i]
		c.P = p
		matters := Of(c.Metric).Smallest(c.Before)
		switch {
		case rounds < Looks[0]:
			c.Result = Undecided
		case p <= alpha && math.Abs(c.Shift) >= matters && c.Shift < 0:
			c.Result = Better
		case p <= alpha && math.Abs(c.Shift) >= matters:
			c.Result = Worse
		case c.Low > -matters && c.High < matters:
			c.Result = NoDifference
		case last:
			c.Result = TooNoisy
		default:
			c.Result = Undecided
		}
	}
}

// Enough tells whether the main metrics are decided in every case, so that no more rounds are needed. Without
// any named they are those of the definitions.
func Enough(list []Comparison, main ...Metric) bool {
	any := false
	for _, c := range list {
		if c.Page == "" && isMain(c.Metric, main) {
			any = true
			if c.Result == Undecided {
				return false
			}
		}
	}
	return any
}

func isMain(m Metric, main []Metric) bool {
	if len(main) == 0 {
		return Of(m).Main
	}
	return slices.Contains(main, m)
}

// Shown writes a value of a unit as a person reads it.
func Shown(unit string, v float64) string {
	switch unit {
	case "ms":
		if math.Abs(v) >= 1000 {
			return fmt.Sprintf("%.1f s", v/1000)
		}
		return fmt.Sprintf("%.0f ms", v)
	case "bytes":
		if math.Abs(v) >= 1e6 {
			return fmt.Sprintf("%.1f MB", v/1e6)
		}
		return fmt.Sprintf("%.1f kB", v/1e3)
	}
	if v == math.Trunc(v) {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.2f", v)
}

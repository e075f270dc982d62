package measure

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Verdict is what a whole measurement came to.
type Verdict string

// The verdicts, as reports have them.
const (
	Faster      Verdict = "better"
	Slower      Verdict = "worse"
	Mixed       Verdict = "mixed"
	Same        Verdict = "no difference shown"
	Noisy       Verdict = "too noisy"
	NotMeasured Verdict = "not measured"
)

// Judge says what the comparisons over all pages came to.
func Judge(list []Comparison, main ...Metric) Verdict {
	var better, worse, noisy, any bool
	for _, c := range list {
		if c.Page != "" {
			continue
		}
		any = true
		better = better || c.Result == Better
		worse = worse || c.Result == Worse
		noisy = noisy || isMain(c.Metric, main) && (c.Result == TooNoisy || c.Result == Undecided)
	}
	switch {
	case !any:
		return NotMeasured
	case better && worse:
		return Mixed
	case better:
		return Faster
	case worse:
		return Slower
	case noisy:
		return Noisy
	}
	return Same
}

// mostBetter is how many metrics that became better are told of in a sentence; what became worse is always told.
const mostBetter = 2

// Summarise says in a sentence for each case what became better and, after that, what became worse.
func Summarise(list []Comparison, main ...Metric) string {
	var said []string
	var cases []Case
	for _, c := range list {
		if !slices.Contains(cases, c.Case) {
			cases = append(cases, c.Case)
		}
	}
	for _, of := range cases {
		var parts []string
		for _, result := range []Result{Better, Worse} {
			more := 0
			for _, c := range list {
				switch {
				case c.Case != of || c.Page != "" || c.Result != result:
				case result == Better && len(parts) == mostBetter:
					more++
				default:
					parts = append(parts, c.sentence())
				}
			}
			if more > 0 {
				parts[len(parts)-1] += fmt.Sprintf(" and %d more better", more)
			}
		}
		if len(parts) == 0 {
			switch Judge(slices.DeleteFunc(slices.Clone(list), func(c Comparison) bool { return c.Case != of }), main...) {
			case Noisy:
				parts = []string{"too noisy to say"}
			default:
				parts = []string{"no difference shown"}
			}
		}
		name := of.String()
		said = append(said, strings.ToUpper(name[:1])+name[1:]+": "+strings.Join(parts, "; "))
	}
	if len(said) == 0 {
		return "Nothing was measured."
	}
	return strings.Join(said, ". ") + "."
}

// sentence is one metric: by how much, how sure, on how many pages, and what that is worth.
func (c Comparison) sentence() string {
	if c.Metric == LayoutShift {
		text := fmt.Sprintf("%s %s from %s to %s", c.Title, map[bool]string{true: "rose", false: "fell"}[c.Shift > 0], Shown(c.Unit, c.Before), Shown(c.Unit, c.After))
		if c.Rating != c.Was {
			text += ": " + string(c.Rating)
		}
		return text
	}
	text := fmt.Sprintf("%s %s (%s to %s)", c.Title, Signed(c.Unit, c.Shift), Signed(c.Unit, c.Low), Signed(c.Unit, c.High))
	if c.Of > 1 {
		text += fmt.Sprintf(", %d of %d pages", c.Pages, c.Of)
	}
	if c.Rating != c.Was && c.Rating != NoRating {
		text += ", now " + string(c.Rating)
	}
	return text
}

// Signed writes a difference with its sign; one that is nothing as it is shown has none.
func Signed(unit string, v float64) string {
	shown := Shown(unit, math.Abs(v))
	switch {
	case shown == Shown(unit, 0):
		return shown
	case v < 0:
		return "−" + shown
	}
	return "+" + shown
}

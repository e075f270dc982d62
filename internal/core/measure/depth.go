package measure

import (
	"cmp"
	"maps"
	"slices"

	"tidemarker/internal/core/stats"
)

// Middle is which of some loads stands for a page in a case on a side: the one in the middle by its largest paint (the
// earlier of two), else by when it was loaded; -1 when none counts.
func Middle(loads []Load, side Side, of Case, page string) int {
	var list []int
	for i, l := range loads {
		if l.Side == side && l.Case == of && l.Page == page && l.Journey == "" && l.Dropped == "" {
			list = append(list, i)
		}
	}
	if len(list) == 0 {
		return -1
	}
	by := func(i int) float64 {
		if v, measured := loads[i].Values[Largest]; measured {
			return v
		}
		return loads[i].Values[Loaded]
	}
	slices.SortStableFunc(list, func(a, b int) int { return cmp.Compare(by(a), by(b)) })
	return list[(len(list)-1)/2]
}

// Filmed is the load of which there are pictures of how the page came into view; -1 when there is none.
func Filmed(loads []Load, side Side, of Case, page string) int {
	return slices.IndexFunc(loads, func(l Load) bool {
		return l.Side == side && l.Case == of && l.Page == page && l.Dropped == "" && slices.ContainsFunc(l.Film, func(f Frame) bool { return f.Picture != "" })
	})
}

// PageLevel is how fast some pages are, by the loads of one side.
type PageLevel struct {
	Metric Metric  `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,interaction-delay,load,transferred,content,requests"`
	Title  string  `json:"title"`
	Unit   string  `json:"unit" enum:"ms,bytes,1"`
	Page   string  `json:"page"`
	Case   string  `json:"case" doc:"In words."`
	Median float64 `json:"median"`
	Least  float64 `json:"least"`
	Most   float64 `json:"most"`
	Loads  int     `json:"loads"`
	Rating Rating  `json:"rating,omitempty" enum:",good,needs improvement,poor"`
}

// Levels are how fast each page is in each case, by the loads of a side that count.
func Levels(loads []Load, side Side) []PageLevel {
	use := slices.DeleteFunc(slices.Clone(loads), func(l Load) bool { return l.Dropped != "" || l.Side != side })
	var out []PageLevel
	for _, of := range Cases(use) {
		byPage := pagesOf(use, of)
		for _, page := range slices.Sorted(maps.Keys(byPage)) {
			for _, d := range Definitions {
				values := byPage[page][d.Metric].after
				if side == Before {
					values = byPage[page][d.Metric].before
				}
				if len(values) == 0 {
					continue
				}
				m := stats.Median(values)
				out = append(out, PageLevel{d.Metric, d.Title, d.Unit, page, of.String(), m, slices.Min(values), slices.Max(values), len(values), d.Rate(m)})
			}
		}
	}
	return out
}

// Across are the loads of two measurements as the sides of one: those of either that have the change, or all when it was
// not measured in turns. What they are compared by was not loaded in turns, so that a machine, or a line, that
// was slower at one of the two times is taken for a difference.
func Across(before, after []Load) []Load {
	var out []Load
	take := func(list []Load, as Side) {
		turns := slices.ContainsFunc(list, func(l Load) bool { return l.Side == After })
		for _, l := range list {
			if turns && l.Side != After {
				continue
			}
			l.Side = as
			out = append(out, l)
		}
	}
	take(before, Before)
	take(after, After)
	return out
}

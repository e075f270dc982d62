package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/waterfall"
	"tidemarker/internal/store"
)

// PageMeasured is one measured page in depth: one load of each side, which is the one in the middle by its largest
// paint, and how the page came into view.
type PageMeasured struct {
	Page   string          `json:"page"`
	Case   measure.Case    `json:"case"`
	Pages  []string        `json:"pages" doc:"All pages that were measured."`
	Cases  []measure.Case  `json:"cases" doc:"All cases of this page."`
	Before *SideMeasured   `json:"before,omitempty"`
	After  *SideMeasured   `json:"after,omitempty"`
	Rows   []waterfall.Row `json:"rows" doc:"What both sides asked for, in the order in which it began."`

	requests map[measure.Side][]waterfall.Fetch
}

// Requests are what one side's load asked for.
func (p PageMeasured) Requests(side measure.Side) []waterfall.Fetch { return p.requests[side] }

// SideMeasured is one side of it.
type SideMeasured struct {
	Load  measure.Load    `json:"load"`
	Film  []measure.Frame `json:"film" doc:"With pictures; of the first load of that side."`
	Kinds []waterfall.Sum `json:"kinds"`
	Hosts []waterfall.Sum `json:"hosts"`
	Of    int             `json:"of" doc:"How many loads there are of which it is the middle."`
}

// PageInDepth is what a run measured of a page; of the first page and its first case where none are named.
func PageInDepth(ctx context.Context, s *store.Store, run int64, page string, of *measure.Case) (PageMeasured, error) {
	all, err := s.Loads(ctx, run)
	if err != nil {
		return PageMeasured{}, err
	}
	out := PageMeasured{Page: page, Pages: []string{}, Cases: []measure.Case{}, Rows: []waterfall.Row{}}
	for _, l := range all {
		if l.Journey == "" && !slices.Contains(out.Pages, l.Page) {
			out.Pages = append(out.Pages, l.Page)
		}
	}
	if page == "" && len(out.Pages) > 0 {
		out.Page = out.Pages[0]
	}
	if !slices.Contains(out.Pages, out.Page) {
		if page == "" {
			return out, fmt.Errorf("run %d measured no page: %w", run, store.ErrNotFound)
		}
		return out, fmt.Errorf("run %d did not measure %s, but %s: %w", run, page, strings.Join(out.Pages, ", "), store.ErrNotFound)
	}
	rows, err := s.LoadsOfPage(ctx, run, out.Page)
	if err != nil {
		return out, err
	}
	loads := make([]measure.Load, len(rows))
	for i, r := range rows {
		loads[i] = r.Load.V
	}
	out.Cases = measure.Cases(slices.DeleteFunc(slices.Clone(loads), func(l measure.Load) bool { return l.Journey != "" }))
	out.Case = out.Cases[0]
	if of != nil {
		if !slices.Contains(out.Cases, *of) {
			return out, fmt.Errorf("run %d did not measure %s on a %s: %w", run, out.Page, of, store.ErrNotFound)
		}
		out.Case = *of
	}
	var requests [2][]waterfall.Fetch
	for i, side := range []measure.Side{measure.Before, measure.After} {
		at := measure.Middle(loads, side, out.Case, out.Page)
		if at < 0 {
			continue
		}
		requests[i] = rows[at].Requests.V
		one := sideOf(loads, at, side, out.Case, requests[i])
		if i == 0 {
			out.Before = one
		} else {
			out.After = one
		}
	}
	out.Rows = waterfall.Align(requests[0], requests[1])
	out.requests = map[measure.Side][]waterfall.Fetch{measure.Before: requests[0], measure.After: requests[1]}
	return out, nil
}

// sideOf is one side: the load in the middle with what it asked for, and how the page came into view.
func sideOf(loads []measure.Load, at int, side measure.Side, of measure.Case, requests []waterfall.Fetch) *SideMeasured {
	one := &SideMeasured{Load: loads[at], Film: []measure.Frame{}, Kinds: waterfall.Sums(requests, func(r waterfall.Fetch) string { return r.Kind }), Hosts: waterfall.Sums(requests, waterfall.Fetch.Host)}
	for _, l := range loads {
		if l.Side == side && l.Case == of && l.Dropped == "" && l.Journey == "" {
			one.Of++
		}
	}
	if f := measure.Filmed(loads, side, of, loads[at].Page); f >= 0 {
		one.Film = slices.DeleteFunc(slices.Clone(loads[f].Film), func(f measure.Frame) bool { return f.Picture == "" && f.At > 0 })
	}
	return one
}

// Recordings are all loads of a run for a HAR file, or those of one page.
func Recordings(ctx context.Context, s *store.Store, run store.Run, page string) ([]waterfall.Recording, error) {
	rows, err := s.LoadsWithRequests(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	began := run.CreatedAt
	if run.StartedAt != nil {
		began = *run.StartedAt
	}
	var out []waterfall.Recording
	for _, r := range rows {
		l := r.Load.V
		if l.Journey != "" || l.Dropped != "" || page != "" && l.Page != page {
			continue
		}
		at := began // of what was measured before it was kept when each load began
		if l.Began != nil {
			at = *l.Began
		}
		out = append(out, waterfall.Recording{Title: fmt.Sprintf("%s, %s, %s, round %d", l.Page, l.Case, l.Side, l.Round), Began: at, Drawn: l.Read, Loaded: l.Values[measure.Loaded], Requests: r.Requests.V})
	}
	return out, nil
}

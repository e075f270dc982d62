package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/store"
)

// Restless is an element that was learned to change by itself, and on which pages.
type Restless struct {
	Path        string   `json:"path" doc:"A selector that finds it."`
	Name        string   `json:"name"`
	Environment string   `json:"environment"`
	Pages       []string `json:"pages"`
	Text        string   `json:"text,omitempty" doc:"What it read when the mark was taken."`
}

// Doubt is a journey or publishing test that does not hold as it is written.
type Doubt struct {
	Journey     string `json:"journey"`
	Environment string `json:"environment"`
	Device      string `json:"device"`
	Title       string `json:"title"`
	Detail      string `json:"detail"`
	Run         int64  `json:"run"`
}

// Learned is what the newest marks of a site taught about its test plan.
type Learned struct {
	Restless []Restless `json:"restless"`
	Doubts   []Doubt    `json:"doubts"`
}

func (s *Server) learnedOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "get-learned", Method: http.MethodGet, Path: "/sites/{id}/learned", Summary: "What the newest marks taught: parts that change by themselves, and steps that do not hold as they are written", Tags: []string{"sites"}},
		func(ctx context.Context, in *ByID) (*output[Learned], error) { return out(s.learned(ctx, in.ID)) })
}

func (s *Server) learned(ctx context.Context, siteID int64) (Learned, error) {
	l := Learned{Restless: []Restless{}, Doubts: []Doubt{}}
	envs, err := s.Store.Environments(ctx, siteID)
	if err != nil {
		return l, err
	}
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return l, err
	}
	for _, env := range envs {
		m, err := s.Store.LatestMark(ctx, env.ID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return l, err
		}
		base, err := s.Store.Baseline(ctx, m)
		if err != nil {
			return l, err
		}
		l.Restless = append(l.Restless, restless(env.Name, base)...)
		for _, p := range row.Document.V.Personas {
			for _, text := range p.PrivateTexts {
				if base.Public(text) {
					l.Doubts = append(l.Doubts, Doubt{p.Name, env.Name, "every device", fmt.Sprintf("“%s” tells %s from others on some pages only", text, p.Name),
						"Visitors are shown it on a page for everybody; on such pages nothing is concluded from it. Name a text that only they may see.", m.RunID})
				}
			}
		}
		found, err := s.Store.Findings(ctx, m.RunID)
		if err != nil {
			return l, err
		}
		for _, f := range found {
			if d := f.Document.V; d.Kind == evidence.JourneyKind {
				l.Doubts = append(l.Doubts, Doubt{d.Journey, env.Name, d.Device, d.Title, d.Detail, m.RunID})
			}
		}
	}
	return l, nil
}

// restless are the elements that a mark learned to change by themselves, each once with the
// pages that have it; the widest spread first.
func restless(environment string, base evidence.Baseline) []Restless {
	byPath := map[string]*Restless{}
	for _, p := range base.Look.Pages {
		for _, path := range base.Volatile[p.Key].Paths {
			i := slices.IndexFunc(p.Outline, func(b evidence.Box) bool { return b.Path == path })
			if i < 0 {
				continue
			}
			r := byPath[path]
			if r == nil {
				r = &Restless{Path: path, Name: p.Outline[i].Name, Environment: environment}
				byPath[path] = r
			}
			if !slices.Contains(r.Pages, p.Page) {
				r.Pages = append(r.Pages, p.Page)
			}
			for _, line := range p.Lines {
				if line.Box == i && r.Text == "" {
					r.Text = line.Text
				}
			}
		}
	}
	var out []Restless
	for _, r := range byPath {
		slices.Sort(r.Pages)
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b Restless) int {
		return cmp.Or(len(b.Pages)-len(a.Pages), cmp.Compare(a.Path, b.Path))
	})
	return out
}

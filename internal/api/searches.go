package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// SearchView is a search for what in a change breaks a site: what is known of each edit, and
// what was tried for it.
type SearchView struct {
	OfRun      int64                `json:"ofRun" doc:"The run whose findings are searched for."`
	Edits      []SearchedEdit       `json:"edits"`
	Culprits   [][]int              `json:"culprits" doc:"Indexes of edits. Each breaks the site by itself, and no part of it does."`
	Tries      []SearchTry          `json:"tries" doc:"In the order in which they were made."`
	Trying     []int                `json:"trying" doc:"The edits that are in force now; empty when the search is over."`
	Left       int                  `json:"left" doc:"About how many more tries it takes."`
	Seconds    float64              `json:"seconds" doc:"About how long that takes, by the tries so far; 0 when none was made yet."`
	Costs      []string             `json:"costs" doc:"Of each culprit what the change does without when it is left out, by what was seen when the mark was taken; empty when that cannot be told."`
	Exclusions []SearchedExclusions `json:"exclusions" doc:"For each culprit that something can be excluded from, the fewest with which it may stay."`
	Enough     bool                 `json:"enough" doc:"Somebody takes what is known."`
	Report     run.CulpritReport    `json:"report" doc:"The same as the report of the command line; of what is known so far while it goes on."`
}

// SearchedEdit is one edit of a change, or one entry that a list gains or loses by it.
type SearchedEdit struct {
	culprit.Part
	Text  string `json:"text"`
	State string `json:"state" enum:"culprit,together,suspected,innocent,unknown" doc:"together: it breaks the site with others only."`
	Needs []int  `json:"needs" doc:"Edits that are tried with it always."`
}

// SearchedExclusions is the search for the fewest exclusions with which a culprit may stay.
type SearchedExclusions struct {
	Culprit  int      `json:"culprit" doc:"Index of the culprit."`
	Key      string   `json:"key" doc:"Setting with the list."`
	Title    string   `json:"title"`
	Patterns []string `json:"patterns" doc:"The fewest; empty while they are not known, and when none helps."`
	Why      []string `json:"why" doc:"For each pattern what made it likely; empty for those that were found by trying."`
	Among    int      `json:"among" doc:"How many could be excluded."`
	Cost     string   `json:"cost" doc:"What the culprit leaves out with them, by what was seen when the mark was taken; empty when that cannot be told."`
	Tries    int      `json:"tries"`
	Over     bool     `json:"over"`
	Rough    bool     `json:"rough" doc:"Fewer may do: that was not tried to the end."`
	Left     int      `json:"left" doc:"About how many more tries it takes."`
}

// SearchTry is what some edits came to.
type SearchTry struct {
	Edits   []int           `json:"edits"`
	Outcome culprit.Outcome `json:"outcome" enum:"passes,fails,undecided"`
	Shown   int             `json:"shown" doc:"Rounds of looks that showed it."`
	Rounds  int             `json:"rounds"`
	FromRun int64           `json:"fromRun,omitempty" doc:"An earlier run that knew."`
	Why     string          `json:"why,omitempty"`
	Seconds float64         `json:"seconds"`
}

func (s *Server) searchOperations(api huma.API) {
	tags := []string{"runs"}
	huma.Register(api, huma.Operation{OperationID: "find-culprit", Method: http.MethodPost, Path: "/runs/{id}/find-culprit", Summary: "Searches for what in a change brought about what a run found",
		Description: "It tries parts of the change on staging, and brings back what it found there. 409 when that cannot be searched for.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *ByID) (*output[RunView], error) {
			r, err := s.Runner.StartSearch(ctx, in.ID, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, r.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "end-search", Method: http.MethodPost, Path: "/runs/{id}/enough", Summary: "Ends a search with what is known", Description: "The try that is under way is finished first.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunView], error) {
			if _, err := s.Store.Search(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			if err := s.Store.EndSearch(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, in.ID))
		})
}

// removeCulpritOperation registers the other way to go on with a culprit: without it.
func (s *Server) removeCulpritOperation(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "remove-culprit", Method: http.MethodPost, Path: "/runs/{id}/remove-culprit", Summary: "Takes a culprit that a search found out of its change, with what needs it",
		Description: "409 when the change cannot be edited now.", Tags: []string{"runs"}},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Culprit int `json:"culprit" minimum:"0" doc:"Index of the culprit."`
			}
		}) (*output[ChangeView], error) {
			id, err := s.Changes.RemoveCulprit(ctx, in.ID, in.Body.Culprit, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, id))
		})
}

// searchView is the search of a run, nil when it is none.
func (s *Server) searchView(ctx context.Context, r store.Run, env store.Environment) (*SearchView, error) {
	x, err := s.Store.Search(ctx, r.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	answers, err := s.Store.SearchAnswers(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	step := x.Step.V
	v := &SearchView{OfRun: x.OfRunID, Edits: []SearchedEdit{}, Culprits: step.Culprits, Tries: []SearchTry{}, Trying: []int{}, Enough: x.Enough}
	if v.Culprits == nil {
		v.Culprits = [][]int{}
	}
	if !r.State.Over() && step.Ask != nil {
		v.Trying, v.Left = step.Ask, step.Left
	}
	var cat settings.Catalogue
	if env.Catalogue.V != nil {
		cat = *env.Catalogue.V
	}
	for i, p := range x.Problem.V.Parts {
		needs := x.Problem.V.Needs[i]
		if needs == nil {
			needs = []int{}
		}
		v.Edits = append(v.Edits, SearchedEdit{p, run.Named(cat, p), step.StateOf(i), needs})
	}
	v.Exclusions = searchedExclusions(x, answers, cat, r.State.Over())
	if err := s.costs(ctx, r, cat, x.Problem.V.Parts, v); err != nil {
		return nil, err
	}
	for _, e := range v.Exclusions {
		v.Left += e.Left
	}
	took, looked := 0.0, 0
	for _, a := range answers {
		if a.Rounds > 0 && a.FromRunID == nil {
			took, looked = took+a.Seconds, looked+1
		}
		if a.Excluding >= 0 {
			continue
		}
		t := SearchTry{Edits: a.Parts.V, Outcome: a.Outcome, Shown: a.Shown, Rounds: a.Rounds, Why: a.Why, Seconds: a.Seconds}
		if a.FromRunID != nil {
			t.FromRun = *a.FromRunID
		}
		v.Tries = append(v.Tries, t)
	}
	if looked > 0 {
		v.Seconds = took / float64(looked) * float64(v.Left)
	}
	v.Report, err = run.ReportSearch(ctx, s.Store, r)
	return v, err
}

func searchedExclusions(x store.Search, answers []store.SearchAnswer, cat settings.Catalogue, over bool) []SearchedExclusions {
	out := []SearchedExclusions{}
	for i, e := range x.Exclusions.V {
		if e.Needless {
			continue
		}
		d, _ := cat.Find(e.Key)
		v := SearchedExclusions{Culprit: e.Culprit, Key: e.Key, Title: d.Title, Patterns: []string{}, Why: []string{}, Among: len(e.Candidates), Over: e.Over || over, Rough: e.Rough}
		if !v.Over {
			v.Left = max(1, e.Left)
		}
		for _, n := range e.Fewest {
			v.Patterns, v.Why = append(v.Patterns, e.Candidates[n].Pattern), append(v.Why, e.Candidates[n].Why)
		}
		for _, a := range answers {
			if a.Excluding == i {
				v.Tries++
			}
		}
		out = append(out, v)
	}
	return out
}

// costs says what each solution does without: of a culprit that is left out, and of exclusions that were found.
func (s *Server) costs(ctx context.Context, r store.Run, cat settings.Catalogue, parts []culprit.Part, v *SearchView) error {
	v.Costs = make([]string, len(v.Culprits))
	if r.MarkID == nil || len(v.Culprits) == 0 {
		return nil
	}
	m, err := s.Store.Mark(ctx, *r.MarkID)
	if err != nil {
		return err
	}
	base, err := s.Store.BaselineBefore(ctx, m, r.ID)
	if err != nil {
		return err
	}
	for i, set := range v.Culprits {
		var of []culprit.Part
		for _, n := range set {
			of = append(of, parts[n])
		}
		v.Costs[i] = culprit.CostOfLeavingOut(cat, of, base.Look)
	}
	for i, e := range v.Exclusions {
		if d, known := cat.Find(e.Key); known && len(e.Patterns) > 0 {
			v.Exclusions[i].Cost = culprit.Cost(d, base.Look, e.Patterns)
		}
	}
	return nil
}

// searchable says whether what a run found can be searched for, and otherwise why not.
func (s *Server) searchable(ctx context.Context, r store.Run) (why string, searches []int64, err error) {
	searches, err = s.Store.SearchesOf(ctx, r.ID)
	if err != nil {
		return "", nil, err
	}
	if searches == nil {
		searches = []int64{}
	}
	why, err = s.Runner.Searchable(ctx, r.ID)
	return why, searches, err
}

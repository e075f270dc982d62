package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// RunSummary is a run in a list.
type RunSummary struct {
	ID          int64            `json:"id"`
	Kind        string           `json:"kind" enum:"mark,try,promote,roll back,check,isolation test,recheck,culprit search,measure,tidy"`
	State       string           `json:"state" enum:"queued,waiting,running,by hand,unknown,done,stopped,failed"`
	Environment string           `json:"environment"`
	Change      *int64           `json:"change"`
	Verdict     evidence.Verdict `json:"verdict" doc:"clear, broken, unsure, not checked; empty while it runs."`
	Summary     string           `json:"summary"`
	Target      string           `json:"target"`
	CreatedAt   time.Time        `json:"createdAt"`
	StartedAt   *time.Time       `json:"startedAt"`
	FinishedAt  *time.Time       `json:"finishedAt"`
}

func runSummary(r store.Run, env string) RunSummary {
	return RunSummary{r.ID, string(r.Kind), string(r.State), env, r.ChangeID, r.Verdict, r.Summary, r.Target, r.CreatedAt, r.StartedAt, r.FinishedAt}
}

// RunView is a run with what was found.
type RunView struct {
	RunSummary
	Site        int64                 `json:"site"`
	SiteName    string                `json:"siteName"`
	URL         string                `json:"url"`
	ChangeTitle string                `json:"changeTitle,omitempty"`
	ChangeState string                `json:"changeState,omitempty"`
	Phase       string                `json:"phase"`
	Progress    store.RunProgress     `json:"progress"`
	Before      string                `json:"before"`
	Problem     string                `json:"problem"`
	StopAsked   bool                  `json:"stopAsked"`
	Attempt     int                   `json:"attempt"`
	RequestedBy string                `json:"requestedBy"`
	Typical     *Typical              `json:"typical,omitempty" doc:"How long such runs took lately; only while it runs."`
	Restores    bool                  `json:"restores" doc:"What it found is brought back at its end."`
	Restored    bool                  `json:"restored" doc:"What it found was read back."`
	Mark        *MarkView             `json:"mark" doc:"Compared with."`
	Difference  []settings.Difference `json:"difference" doc:"From the mark's settings to those looked at."`
	Findings    []FindingView         `json:"findings"`
	Rechecks    []RecheckView         `json:"rechecks" doc:"Looks that it planned, when what is cached has grown old."`
	Search      *SearchView           `json:"search" doc:"Of a culprit search."`
	Measure     *run.MeasureReport    `json:"measure,omitempty" doc:"Of a measurement: what is known so far."`
	NoSearch    string                `json:"noSearch" doc:"Why what it found cannot be searched for its culprit; empty when it can."`
	Gone        *time.Time            `json:"gone" doc:"When its looks and pictures were removed, as its site says; null while they are there."`
	Searches    []int64               `json:"searches" doc:"Runs that searched for the culprit of what it found, the latest first."`
	Tidy        *schedule.Work        `json:"tidy,omitempty" doc:"Of a tidy that recurs: what it counted."`
	ManualTask  *ManualTaskView       `json:"manualTask" doc:"The checklist that a person carries out; none where a connector does it."`
}

// RecheckView is a look that a run planned for later.
type RecheckView struct {
	DueAt time.Time          `json:"dueAt"`
	About exclusion.Moment   `json:"about"`
	State store.RecheckState `json:"state" enum:"planned,begun,withdrawn"`
	Run   int64              `json:"run,omitempty" doc:"That looks, or has looked."`
	Why   string             `json:"why,omitempty" doc:"It was withdrawn."`
}

// FindingView is one finding of a run.
type FindingView struct {
	ID int64 `json:"id"`
	evidence.Finding
	WantsMark   bool       `json:"wantsMark,omitempty" doc:"A new mark fixes it: the mark was taken with a browser that renders differently."`
	State       string     `json:"state" enum:"open,accepted"`
	AcceptedBy  string     `json:"acceptedBy,omitempty"`
	AcceptedWhy string     `json:"acceptedWhy,omitempty"`
	AcceptedAt  *time.Time `json:"acceptedAt,omitempty"`
}

func findingView(f store.Finding) FindingView {
	return FindingView{f.ID, f.Document.V, f.Document.V.WantsNewMark(), f.State, f.AcceptedBy, f.AcceptedWhy, f.AcceptedAt}
}

// Typical is how long runs like one took.
type Typical struct {
	Seconds float64 `json:"seconds" doc:"The middle of them."`
	Of      int     `json:"of" doc:"How many of the latest, up to 5."`
}

// LookSummary is one look of a run, without its evidence.
type LookSummary struct {
	Kind    string `json:"kind" enum:"page,journey,probe"`
	Page    string `json:"page"`
	Journey string `json:"journey,omitempty"`
	Persona string `json:"persona"`
	Device  string `json:"device"`
	Pass    int    `json:"pass"`
}

func (s *Server) runOperations(api huma.API) {
	tags := []string{"runs"}
	huma.Register(api, huma.Operation{OperationID: "get-run", Method: http.MethodGet, Path: "/runs/{id}", Summary: "A run, how far it is and what it found", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RunView], error) { return out(s.runView(ctx, in.ID)) })
	huma.Register(api, huma.Operation{OperationID: "list-looks", Method: http.MethodGet, Path: "/runs/{id}/looks", Summary: "What a run looked at", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]LookSummary], error) {
			list := []LookSummary{}
			rows, err := s.Store.LookNames(ctx, in.ID)
			for _, r := range rows {
				list = append(list, LookSummary{r.Kind, r.Page, r.Journey, r.Persona, r.Device, r.Pass})
			}
			return out(list, err)
		})
	huma.Register(api, huma.Operation{OperationID: "list-probes", Method: http.MethodGet, Path: "/runs/{id}/probes", Summary: "What a run asked for without looking, and how it was answered", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]evidence.Probe], error) {
			look, err := s.Store.Look(ctx, in.ID, 1)
			list := []evidence.Probe{}
			for _, p := range look.Probes {
				for _, a := range []*evidence.Answer{&p.First, &p.Second, &p.Fresh} {
					a.Lines, a.Tokens, a.Shape = nil, nil, "" // a finding's proof has them
				}
				list = append(list, p)
			}
			return out(list, err)
		})
	huma.Register(api, huma.Operation{OperationID: "get-report", Method: http.MethodGet, Path: "/runs/{id}/report", Summary: "What a run found, as a document of its own", Description: "409 while it is not over.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[evidence.Report], error) {
			r, err := s.Store.Run(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			if !r.State.Over() {
				return nil, huma.Error409Conflict("The run is not over yet.")
			}
			return out(run.Report(ctx, s.Store, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "stop-run", Method: http.MethodPost, Path: "/runs/{id}/stop", Summary: "Stops a run; what it found so far stays", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunView], error) {
			if err := s.Runner.Stop(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "add-host", Method: http.MethodPost, Path: "/findings/{id}/add-host", Summary: "Adds the host that a finding names to the environment it was missed on", Description: "From then on Tide Marker asks it. 409 when the finding names none.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RunView], error) { return out(s.addHost(ctx, in.ID)) })
	huma.Register(api, huma.Operation{OperationID: "get-proof", Method: http.MethodGet, Path: "/findings/{id}/proof", Summary: "The proof of a finding: both looks", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[Proof], error) { return out(s.proof(ctx, in.ID)) })
}

func (s *Server) runView(ctx context.Context, id int64) (RunView, error) {
	r, err := s.Store.Run(ctx, id)
	if err != nil {
		return RunView{}, err
	}
	env, err := s.Store.Environment(ctx, r.EnvironmentID)
	if err != nil {
		return RunView{}, err
	}
	row, err := s.Store.Site(ctx, r.SiteID)
	if err != nil {
		return RunView{}, err
	}
	v := RunView{RunSummary: runSummary(r, env.Name), Site: row.ID, SiteName: row.Name, URL: env.URL, Phase: r.Phase, Progress: r.Progress.V,
		Before: r.Before, Problem: r.Problem, StopAsked: r.StopAsked, Attempt: r.Attempt, RequestedBy: r.RequestedBy, Restores: r.Restores, Restored: r.Restored,
		Difference: []settings.Difference{}, Findings: []FindingView{}}
	if r.ChangeID != nil {
		c, err := s.Store.Change(ctx, *r.ChangeID)
		if err != nil {
			return v, err
		}
		v.ChangeTitle, v.ChangeState = c.Title, string(c.State)
	}
	if r.MarkID != nil {
		m, err := s.Store.Mark(ctx, *r.MarkID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return v, err
		}
		if err == nil {
			v.Mark = &MarkView{ID: m.ID, Fingerprint: m.Fingerprint, Run: m.RunID, Reason: m.Reason, Who: m.Who, TakenAt: m.TakenAt}
			v.Difference = s.between(ctx, r.SiteID, m.Fingerprint, r.Target)
		}
	}
	if r.FinishedAt == nil {
		seconds, of, err := s.Store.TypicalSeconds(ctx, r)
		if err != nil {
			return v, err
		}
		if of > 0 {
			v.Typical = &Typical{seconds, of}
		}
	}
	if v.ManualTask, err = s.manualTaskView(ctx, id); err != nil {
		return v, err
	}
	if v.Rechecks, err = s.recheckViews(ctx, id); err != nil {
		return v, err
	}
	if err := s.ofKind(ctx, &v, r, env); err != nil {
		return v, err
	}
	rows, err := s.Store.Findings(ctx, id)
	if err != nil {
		return v, err
	}
	for _, f := range rows {
		v.Findings = append(v.Findings, findingView(f))
	}
	return v, nil
}

// ofKind adds what only some kinds of runs have.
func (s *Server) ofKind(ctx context.Context, v *RunView, r store.Run, env store.Environment) (err error) {
	if v.Search, err = s.searchView(ctx, r, env); err != nil {
		return err
	}
	if r.Kind == release.MeasureRun {
		rep, err := run.ReportMeasure(ctx, s.Store, r)
		if err != nil {
			return err
		}
		v.Measure = &rep
	} else if r.State.Over() {
		rep, err := run.ReportLittle(ctx, s.Store, r)
		if err != nil {
			return err
		}
		if rep.Rounds > 0 {
			v.Measure = &rep
		}
	}
	v.Gone, v.Tidy = r.EvidenceGone, r.Tidy.V
	v.NoSearch, v.Searches, err = s.searchable(ctx, r)
	return err
}

func (s *Server) recheckViews(ctx context.Context, run int64) ([]RecheckView, error) {
	rows, err := s.Store.Rechecks(ctx, run)
	list := make([]RecheckView, 0, len(rows))
	for _, l := range rows {
		v := RecheckView{DueAt: l.DueAt, About: l.Moment.V, State: l.State, Why: l.Why}
		if l.RecheckRunID != nil {
			v.Run = *l.RecheckRunID
		}
		list = append(list, v)
	}
	return list, err
}

func (s *Server) between(ctx context.Context, siteID int64, from, to string) []settings.Difference {
	a, err := s.Store.Revision(ctx, siteID, from)
	if err != nil {
		return []settings.Difference{}
	}
	b, err := s.Store.Revision(ctx, siteID, to)
	if err != nil {
		return []settings.Difference{}
	}
	if d := settings.Diff(a, b); d != nil {
		return d
	}
	return []settings.Difference{}
}

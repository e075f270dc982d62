package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/act"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Reading is what was just read of an environment.
type Reading struct {
	Fingerprint string                `json:"fingerprint"`
	Drifted     bool                  `json:"drifted" doc:"The settings are not those last read back."`
	Differences []settings.Difference `json:"differences"`
}

func (s *Server) environmentOperations(api huma.API) {
	tags := []string{"environments"}
	huma.Register(api, huma.Operation{OperationID: "read-environment", Method: http.MethodPost, Path: "/environments/{id}/read", Summary: "Reads the settings in force again", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[Reading], error) { return out(s.read(ctx, in.ID)) })
	huma.Register(api, huma.Operation{OperationID: "take-mark", Method: http.MethodPost, Path: "/environments/{id}/marks", Summary: "Takes a mark: looks twice and records that it works", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunSummary], error) {
			return out(s.startRun(ctx, in.ID, release.MarkRun, "", nil))
		})
	huma.Register(api, huma.Operation{OperationID: "check-environment", Method: http.MethodPost, Path: "/environments/{id}/checks", Summary: "Checks an environment as it is against its latest mark", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunSummary], error) {
			return out(s.startRun(ctx, in.ID, release.CheckRun, "", nil))
		})
	s.environmentActs(api, tags)
}

// environmentActs are what can be done to an environment without a change. Long because
// it is a list: one registration after the other.
func (s *Server) environmentActs(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "purge-environment", Method: http.MethodPost, Path: "/environments/{id}/purges", Summary: "Purges what is cached of one page, a class of pages or all, or marks it stale; and warms it again",
		Description: "409 while a run is under way there.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Page  string `json:"page,omitempty" doc:"Path with its query; a page, a class or neither for all."`
				Class string `json:"class,omitempty"`
				Stale bool   `json:"stale,omitempty" doc:"Mark stale in place of dropping."`
				Warm  bool   `json:"warm,omitempty" doc:"Fetch the pages again at once."`
			}
		}) (*output[act.PurgeDone], error) {
			paths, what, err := s.Exclusions.ToPurge(ctx, in.ID, in.Body.Page, in.Body.Class)
			if err != nil {
				return nil, problem(err)
			}
			return out(s.Acts.Purge(ctx, in.ID, act.PurgeOrder{Paths: paths, What: what, Stale: in.Body.Stale, Warm: in.Body.Warm}, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "test-cache-isolation", Method: http.MethodPost, Path: "/environments/{id}/isolation-tests", Summary: "Asks for the pages as everybody, to prove that nobody is served what belongs to somebody else",
		Description: "The settings stay as they are. Cached pages are purged.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunSummary], error) {
			return out(s.startRun(ctx, in.ID, release.IsolationRun, "", nil))
		})
	huma.Register(api, huma.Operation{OperationID: "try-on-environment", Method: http.MethodPost, Path: "/environments/{id}/tries", Summary: "Tries settings on an environment without a change: applies, purges, warms, checks, and puts it back unless it is to keep them",
		Description: "409 when the environment has no mark, or is production: what reaches visitors goes through a change. 422 when the settings cannot be put in force there.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Edits settings.Values `json:"edits"`
				Keep  bool            `json:"keep,omitempty" doc:"Leave the settings in force."`
			}
		}) (*output[RunSummary], error) {
			return out(s.tryOut(ctx, in.ID, in.Body.Edits, in.Body.Keep))
		})
	huma.Register(api, huma.Operation{OperationID: "record-backup", Method: http.MethodPost, Path: "/environments/{id}/backups", Summary: "Says that there is a backup of an environment, and where",
		Description: "It counts for a day. What deletes data is not tried without one.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Place string `json:"place" minLength:"1" maxLength:"500"`
			}
		}) (*struct{}, error) {
			env, err := s.Store.Environment(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			if err := s.Store.RecordBackup(ctx, in.ID, in.Body.Place, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return nil, problem(errors.Join(
				s.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: "backup", Who: who(ctx), Text: fmt.Sprintf("There is a backup of %s: %s", env.Name, in.Body.Place)}),
				s.Store.Tell(ctx, store.Signal{Site: env.SiteID})))
		})
	huma.Register(api, huma.Operation{OperationID: "roll-back-environment", Method: http.MethodPost, Path: "/environments/{id}/rollbacks", Summary: "Rolls back to a mark, and proves it", Description: "A maintainer puts production back to what it had before the latest promotion; anything further takes an approver.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Mark int64 `json:"mark" doc:"The mark to go back to."`
			}
		}) (*output[RunSummary], error) {
			m, err := s.Store.Mark(ctx, in.Body.Mark)
			if err != nil {
				return nil, problem(err)
			}
			if m.EnvironmentID != in.ID {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("Mark %d is not one of this environment's.", m.ID))
			}
			env, err := s.Store.Environment(ctx, in.ID)
			if err == nil {
				err = s.mayRestore(ctx, env, m.Fingerprint)
			}
			if err != nil {
				return nil, problem(err)
			}
			return out(s.startRun(ctx, in.ID, release.RollBackRun, m.Fingerprint, &m.ID))
		})
}

func (s *Server) read(ctx context.Context, envID int64) (Reading, error) {
	before, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return Reading{}, err
	}
	env, now, err := s.Acts.Read(ctx, envID)
	if err != nil {
		return Reading{}, err
	}
	r := Reading{Fingerprint: env.Fingerprint, Drifted: before.Fingerprint != "" && before.Fingerprint != env.Fingerprint, Differences: []settings.Difference{}}
	if r.Drifted {
		was, err := s.Store.Revision(ctx, env.SiteID, before.Fingerprint)
		if err != nil {
			return r, err
		}
		r.Differences = settings.Diff(was, now.Values)
	}
	return r, s.Store.Tell(ctx, store.Signal{Site: env.SiteID})
}

// startRun hands a run in for an environment on which nothing else is under way.
func (s *Server) startRun(ctx context.Context, envID int64, kind release.RunKind, target string, mark *int64) (RunSummary, error) {
	env, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return RunSummary{}, err
	}
	row, err := s.Runner.Start(ctx, store.Run{SiteID: env.SiteID, EnvironmentID: envID, Kind: kind, Target: target, MarkID: mark, RequestedBy: who(ctx)})
	return runSummary(row, env.Name), err
}

// tryOut tries edits on an environment by themselves.
func (s *Server) tryOut(ctx context.Context, envID int64, edits settings.Values, keep bool) (RunSummary, error) {
	env, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return RunSummary{}, err
	}
	if env.Role == site.Production {
		return RunSummary{}, huma.Error409Conflict("Nothing is tried on " + env.Name + ", where visitors are. Try it on staging, or promote a change.")
	}
	if _, err := s.Store.LatestMark(ctx, envID); errors.Is(err, store.ErrNotFound) {
		return RunSummary{}, huma.Error409Conflict(env.Name + " has no mark to compare with. Take one first.")
	} else if err != nil {
		return RunSummary{}, err
	}
	p, err := s.Acts.Propose(ctx, envID, edits)
	if err != nil {
		return RunSummary{}, err
	}
	row, err := s.Runner.Start(ctx, store.Run{SiteID: env.SiteID, EnvironmentID: envID, Kind: release.TryRun, Target: p.Revision, Restores: !keep, RequestedBy: who(ctx)})
	return runSummary(row, env.Name), err
}

// KindView is a kind of speed layer.
type KindView struct {
	Name         string `json:"name"`
	Title        string `json:"title"`
	NeedsAddress bool   `json:"needsAddress" doc:"It is reached under an address, with a token."`
}

func (s *Server) kindOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-speed-layers", Method: http.MethodGet, Path: "/speed-layers", Summary: "The kinds of speed layers that a site can have", Tags: []string{"environments"}},
		func(context.Context, *struct{}) (*output[[]KindView], error) {
			list := []KindView{}
			for _, k := range s.Acts.Kinds {
				list = append(list, KindView{k.Name, k.Title, k.NeedsAddress})
			}
			return out(list, nil)
		})
}

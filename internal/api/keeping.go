package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// KeptView is how much of a site is kept, and for how long.
type KeptView struct {
	Size store.Size   `json:"size"`
	Days site.Keeping `json:"days" doc:"For how many days evidence is kept. Marks in use and what they refer to, and the history, are kept forever."`
}

// RemovalView is what would go with a site.
type RemovalView struct {
	Name string     `json:"name"`
	Size store.Size `json:"size"`
	Seen string     `json:"seen" doc:"To be sent back with the site's name: it says what was seen, and is of no use once the site has gone on."`
	Open string     `json:"open" doc:"Why it cannot be removed now; empty when it can."`
}

func (s *Server) keepingOperations(api huma.API) {
	tags := []string{"Keeping"}
	huma.Register(api, huma.Operation{OperationID: "get-kept", Method: http.MethodGet, Path: "/sites/{id}/kept", Summary: "How much of a site is kept, and for how long", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[KeptView], error) {
			return out(s.keptView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "decide-kept", Method: http.MethodPut, Path: "/sites/{id}/kept", Summary: "Says for how many days a site's evidence is kept", Description: "What is older is removed within the hour, and cannot be restored.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body site.Keeping
		}) (*output[KeptView], error) {
			k := site.Site{Keep: &in.Body}.Kept()
			_, err := s.Store.ChangeTestPlan(ctx, in.ID, who(ctx), func(now site.Site) (site.Site, string, error) {
				if now.Kept() == k {
					return now, "", nil
				}
				now.Keep = &k
				return now, fmt.Sprintf("Evidence is kept: of clear runs %d days, of others %d, bodies of personas' pages %d.", k.Clear, k.Others, k.Personal), nil
			})
			if err != nil {
				return nil, problem(err)
			}
			return out(s.keptView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "look-at-removal", Method: http.MethodGet, Path: "/sites/{id}/removal", Summary: "What would go with a site", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RemovalView], error) {
			return out(s.removalView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-site", Method: http.MethodPost, Path: "/sites/{id}/removal", Summary: "Removes a site with all that is recorded of it",
		Description: "The site itself is not touched: it keeps the settings that it has. 409 when something is under way there, or it has gone on since somebody looked. 422 when the name is not the site's.", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Name string `json:"name" doc:"The site's name, typed once more."`
				Seen string `json:"seen" doc:"As the look at it said."`
			}
		}) (*struct{}, error) {
			return nil, problem(s.removeSite(ctx, in.ID, in.Body.Name, in.Body.Seen))
		})
}

func (s *Server) keptView(ctx context.Context, id int64) (KeptView, error) {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return KeptView{}, err
	}
	size, err := s.Store.SizeOf(ctx, id)
	return KeptView{size, row.Document.V.Kept()}, err
}

func (s *Server) removalView(ctx context.Context, id int64) (RemovalView, error) {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return RemovalView{}, err
	}
	size, err := s.Store.SizeOf(ctx, id)
	if err != nil {
		return RemovalView{}, err
	}
	v := RemovalView{Name: row.Name, Size: size}
	v.Seen, v.Open, err = s.Store.Removable(ctx, id)
	return v, err
}

func (s *Server) removeSite(ctx context.Context, id int64, name, seen string) error {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return err
	}
	if row.Name != name {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("Nothing was removed: the site is called “%s”. Type its name as it is.", row.Name))
	}
	open, err := s.Store.RemoveSite(ctx, id, seen, who(ctx))
	if err != nil {
		return err
	}
	if open != "" {
		return huma.Error409Conflict("Nothing was removed: " + open)
	}
	return s.Store.Tell(ctx, store.Signal{Site: id})
}

// goneSince says that a run's evidence is not there any more; nil while it is.
func goneSince(r store.Run) error {
	if r.EvidenceGone == nil {
		return nil
	}
	return huma.Error410Gone(fmt.Sprintf("The looks and pictures of run %d were removed on %s, as its site says. What was found stays.", r.ID, r.EvidenceGone.UTC().Format(time.DateOnly)))
}

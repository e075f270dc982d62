package api

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/site"
)

// labelOperation registers what sites are listed under, with others.
func (s *Server) labelOperation(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "label-site", Method: http.MethodPut, Path: "/sites/{id}/labels", Summary: "Says what a site is listed under, with others", Tags: []string{"sites"}},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Labels []string `json:"labels" maxItems:"20"`
			}
		}) (*output[SiteView], error) {
			_, err := s.Store.ChangeTestPlan(ctx, in.ID, who(ctx), func(now site.Site) (site.Site, string, error) {
				if slices.Equal(now.Labels, in.Body.Labels) {
					return now, "", nil
				}
				now.Labels = in.Body.Labels
				if err := now.Check(); err != nil {
					return now, "", huma.Error422UnprocessableEntity("Nothing was changed: " + err.Error() + ".")
				}
				if len(now.Labels) == 0 {
					return now, "It has no labels now.", nil
				}
				return now, "Labels: " + strings.Join(now.Labels, ", ") + ".", nil
			})
			if err != nil {
				return nil, problem(err)
			}
			return out(s.siteView(ctx, in.ID))
		})
}

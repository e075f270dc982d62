package api

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/onboard"
	"tidemarker/internal/store"
)

// TestPlan is what is looked at on a site. Secret values are never in it; an empty one that
// comes back leaves what is known.
type TestPlan struct {
	Pages      []site.Page           `json:"pages" minItems:"1" maxItems:"500"`
	Personas   []site.Persona        `json:"personas" maxItems:"50"`
	Journeys   []journey.Journey     `json:"journeys" maxItems:"200"`
	Publishing []site.PublishingTest `json:"publishing" maxItems:"50"`
	Budgets    []site.Budget         `json:"budgets,omitempty" maxItems:"100" doc:"What pages may cost. Absent when it is changed: as they are."`
}

// TestPlanView is what is looked at, as it is now.
type TestPlanView struct {
	TestPlan
	Version      string   `json:"version" doc:"SHA-256 of what is in the test plan. Say it when you change it."`
	Environments []string `json:"environments" doc:"In the order of promotion."`
}

func (s *Server) testPlanOperations(api huma.API) {
	tags := []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "get-test-plan", Method: http.MethodGet, Path: "/sites/{id}/test-plan", Summary: "What is looked at: pages, who looks, what has to work, what is published", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[TestPlanView], error) {
			row, err := s.Store.Site(ctx, in.ID)
			return out(testPlanView(row), err)
		})
	huma.Register(api, huma.Operation{OperationID: "change-test-plan", Method: http.MethodPut, Path: "/sites/{id}/test-plan", Summary: "Replaces the test plan", Description: "409 when somebody changed it since the version was read.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				TestPlan
				Version string `json:"version"`
			}
		}) (*output[TestPlanView], error) {
			return out(s.changeTestPlan(ctx, in.ID, in.Body.Version, in.Body.TestPlan))
		})
	huma.Register(api, huma.Operation{OperationID: "rehearse", Method: http.MethodPost, Path: "/sites/{id}/test-plan/run", Summary: "Makes a persona ready, or takes a journey, on staging and on the spot", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body onboard.Rehearsal
		}) (*output[onboard.Rehearsed], error) {
			return out(s.Onboard.RehearseSite(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "export-site", Method: http.MethodGet, Path: "/sites/{id}/file", Summary: "The site file (YAML), without tokens and secret values", Tags: tags},
		func(ctx context.Context, in *ByID) (*exported, error) {
			row, err := s.Store.Site(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			raw, err := row.Document.V.File()
			return &exported{Type: "application/yaml", Disposition: fmt.Sprintf(`attachment; filename=%q`, fileName(row.Name)+".yaml"), Body: raw}, problem(err)
		})
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// fileName is a name as files have it.
func fileName(name string) string {
	if n := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-"); n != "" {
		return n
	}
	return "site"
}

func testPlanView(row store.Site) TestPlanView {
	shown := row.Document.V.Redacted()
	v := TestPlanView{Version: shown.Version(), Environments: []string{}, TestPlan: TestPlan{orEmpty(shown.Pages), orEmpty(shown.Personas), orEmpty(shown.Journeys), orEmpty(shown.Publishing), orEmpty(shown.Budgets)}}
	for _, e := range shown.Environments {
		v.Environments = append(v.Environments, e.Name)
	}
	return v
}

func (s *Server) changeTestPlan(ctx context.Context, id int64, version string, to TestPlan) (TestPlanView, error) {
	row, err := s.Store.ChangeTestPlan(ctx, id, who(ctx), func(before site.Site) (site.Site, string, error) {
		if before.Version() != version {
			return before, "", huma.Error409Conflict("Somebody changed what is in the test plan in the meantime. Nothing of yours was saved; look at it as it is now, then edit it again.")
		}
		now, told, err := before.TestPlan(site.Site{Pages: to.Pages, Personas: to.Personas, Journeys: to.Journeys, Publishing: to.Publishing, Budgets: to.Budgets})
		if err != nil {
			return before, "", huma.Error422UnprocessableEntity("Nothing was changed: " + err.Error())
		}
		if told != "" {
			told = "What is in the test plan: " + told + "."
		}
		return now, told, nil
	})
	return testPlanView(row), err
}

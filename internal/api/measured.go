package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/waterfall"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// CaseQuery names one measured page and case in a query.
type CaseQuery struct {
	Page     string `query:"page" doc:"Empty: the first."`
	Device   string `query:"device" enum:",desktop,phone" doc:"Empty: the first case, whatever else is named."`
	Persona  string `query:"persona"`
	Visit    string `query:"visit" enum:",first,repeat"`
	Uncached bool   `query:"uncached"`
}

func (c CaseQuery) named() *measure.Case {
	if c.Device == "" {
		return nil
	}
	of := measure.Case{Device: c.Device, Persona: site.Visitor, Visit: measure.First, Uncached: c.Uncached}
	if c.Persona != "" {
		of.Persona = c.Persona
	}
	if c.Visit != "" {
		of.Visit = measure.Visit(c.Visit)
	}
	return &of
}

// ComparedRecording is a recording from any browser beside what was measured.
type ComparedRecording struct {
	Recorded []string        `json:"recorded" doc:"What page loads the file has."`
	Chosen   int             `json:"chosen" doc:"Index of the one that is compared."`
	Kinds    []waterfall.Sum `json:"kinds"`
	Hosts    []waterfall.Sum `json:"hosts"`
	Rows     []waterfall.Row `json:"rows" doc:"Before is what was measured, after the recording."`
}

// mostRecording is how large a HAR file may be, in octets.
const mostRecording = 64 << 20

// MeasuredRun is a run that measured something, to be compared with others.
type MeasuredRun struct {
	RunSummary
	Site     int64  `json:"site"`
	SiteName string `json:"siteName"`
}

// measuredOperations registers how what was measured is read. Long because it is a list: one registration after the other.
func (s *Server) measuredOperations(api huma.API) {
	tags := []string{"runs"}
	huma.Register(api, huma.Operation{OperationID: "get-measured-page", Method: http.MethodGet, Path: "/runs/{id}/measured", Summary: "One measured page in depth: both sides, how they came into view, and what they asked for", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			CaseQuery
		}) (*output[run.PageMeasured], error) {
			return out(run.PageInDepth(ctx, s.Store, in.ID, in.Page, in.named()))
		})
	huma.Register(api, huma.Operation{OperationID: "compare-recording", Method: http.MethodPost, Path: "/runs/{id}/recordings", Summary: "Compares a HAR file from any browser with what was measured; nothing is stored",
		Description: "422 with what is wrong with the file.", Tags: tags, MaxBodyBytes: mostRecording},
		func(ctx context.Context, in *struct {
			ByID
			CaseQuery
			Side   string `query:"side" enum:"before,after" default:"after"`
			Chosen int    `query:"chosen" minimum:"0" doc:"Which of the file's page loads."`
			Body   json.RawMessage
		}) (*output[ComparedRecording], error) {
			list, err := waterfall.ReadHAR(in.Body)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity("Nothing was read: " + err.Error() + ".")
			}
			if in.Chosen >= len(list) {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The file has %d page loads. Choose one of them.", len(list)))
			}
			page, err := run.PageInDepth(ctx, s.Store, in.ID, in.Page, in.named())
			if err != nil {
				return nil, problem(err)
			}
			v := ComparedRecording{Recorded: []string{}, Chosen: in.Chosen, Rows: []waterfall.Row{}}
			for _, l := range list {
				v.Recorded = append(v.Recorded, l.Title)
			}
			requests := list[in.Chosen].Requests
			v.Kinds, v.Hosts = waterfall.Sums(requests, func(r waterfall.Fetch) string { return r.Kind }), waterfall.Sums(requests, waterfall.Fetch.Host)
			v.Rows = append(v.Rows, waterfall.AlignAnyHost(page.Requests(measure.Side(in.Side)), requests)...)
			return out(v, nil)
		})
	huma.Register(api, huma.Operation{OperationID: "export-measured", Method: http.MethodGet, Path: "/runs/{id}/measured/export", Summary: "What was measured, with every load, for other programs and for people",
		Description: "csv, json: every load. har: what each asked for (HAR 1.2). junit, openmetrics: for builds and monitoring. html, pdf: to be printed.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Format string `query:"format" enum:"csv,json,har,junit,openmetrics,html,pdf" required:"true"`
			Page   string `query:"page" doc:"Only of this page; har."`
		}) (*exported, error) {
			r, err := s.Store.Run(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			f, err := s.Runner.ExportMeasured(ctx, r, run.Format(in.Format), in.Page)
			if err != nil {
				return nil, problem(err)
			}
			return &exported{Type: f.Type, Disposition: fmt.Sprintf(`attachment; filename="measured-%d.%s"`, in.ID, f.Extension), Body: f.Body}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "list-measured-runs", Method: http.MethodGet, Path: "/measurements", Summary: "Runs that measured something, the latest first", Tags: tags},
		func(ctx context.Context, in *struct {
			Site int64 `query:"site" doc:"0: of all sites."`
		}) (*output[[]MeasuredRun], error) {
			return out(s.measuredRuns(ctx, in.Site))
		})
	huma.Register(api, huma.Operation{OperationID: "compare-measured-runs", Method: http.MethodGet, Path: "/measurements/comparison", Summary: "What two runs measured, compared: marks, production before and after, two sites",
		Description: "They were not loaded in turns, so that a machine that was slower at one time shows as a difference.", Tags: tags},
		func(ctx context.Context, in *struct {
			Before int64 `query:"before" required:"true"`
			After  int64 `query:"after" required:"true"`
		}) (*output[run.MeasureReport], error) {
			before, err := s.Store.Run(ctx, in.Before)
			if err != nil {
				return nil, problem(err)
			}
			after, err := s.Store.Run(ctx, in.After)
			if err != nil {
				return nil, problem(err)
			}
			return out(run.CompareMeasured(ctx, s.Store, before, after))
		})
}

func (s *Server) measuredRuns(ctx context.Context, of int64) ([]MeasuredRun, error) {
	runs, err := s.Store.MeasuredRuns(ctx, of, 200)
	if err != nil {
		return nil, err
	}
	envs, names := map[int64]store.Environment{}, map[int64]string{}
	list := []MeasuredRun{}
	for _, r := range runs {
		env, known := envs[r.EnvironmentID]
		if !known {
			if env, err = s.Store.Environment(ctx, r.EnvironmentID); err != nil {
				return nil, err
			}
			envs[r.EnvironmentID] = env
		}
		if _, known := names[r.SiteID]; !known {
			row, err := s.Store.Site(ctx, r.SiteID)
			if err != nil {
				return nil, err
			}
			names[r.SiteID] = row.Name
		}
		list = append(list, MeasuredRun{runSummary(r, env.Name), r.SiteID, names[r.SiteID]})
	}
	return list, nil
}

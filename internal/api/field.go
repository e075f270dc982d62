package api

import (
	"bytes"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	corefield "tidemarker/internal/core/field"
	"tidemarker/internal/field"
	"tidemarker/internal/store"
)

// beaconRoutes are the two addresses that visitors' browsers ask for: the script, and what it tells. Nobody signs in there,
// no cookie is read or set, and what is answered says nothing.
func (s *Server) beaconRoutes(r chi.Router, files embed.FS) {
	script, err := files.ReadFile("dist/beacon.js")
	if err != nil {
		script = nil // built without its interface
	}
	r.Get("/field/{key}", func(w http.ResponseWriter, r *http.Request) {
		key, isScript := strings.CutSuffix(chi.URLParam(r, "key"), ".js")
		if !isScript || script == nil {
			http.Error(w, "There is no such beacon.", http.StatusNotFound)
			return
		}
		share, err := s.Field.Share(r.Context(), key)
		if err != nil {
			s.refuseBeacon(w, err)
			return
		}
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Header().Set("Cache-Control", "public, max-age=3600")
		w.Header().Set("Cross-Origin-Resource-Policy", "cross-origin")
		_, _ = w.Write(bytes.ReplaceAll(script, []byte("TIDE_SHARE"), []byte(strconv.FormatFloat(share, 'f', -1, 64))))
	})
	r.Post("/field/{key}", func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, corefield.MostBeacon+1))
		if err != nil {
			http.Error(w, "A beacon is not that long.", http.StatusRequestEntityTooLarge)
			return
		}
		err = s.Field.Take(r.Context(), chi.URLParam(r, "key"), r.Header.Get("Origin"), raw)
		if err != nil {
			s.refuseBeacon(w, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
}

// refuseBeacon says why a beacon, or its script, is not to be had.
func (s *Server) refuseBeacon(w http.ResponseWriter, err error) {
	no, refused := errors.AsType[*field.Refused](err)
	switch {
	case refused && no.Busy:
		w.Header().Set("Retry-After", "1")
		http.Error(w, no.Why, http.StatusTooManyRequests)
	case refused && no.Gone:
		http.Error(w, no.Why, http.StatusNotFound)
	case refused:
		http.Error(w, no.Why, http.StatusBadRequest)
	default:
		s.Log.Error("a beacon could not be served", "error", err)
		http.Error(w, "It could not be stored. Send it again later.", http.StatusServiceUnavailable)
	}
}

// BeaconView is how a site's visitors tell.
type BeaconView struct {
	On     bool       `json:"on"`
	Key    string     `json:"key,omitempty"`
	Script string     `json:"script,omitempty" doc:"Path of the script on this server."`
	Share  float64    `json:"share,omitempty" doc:"Of page views that tell, 0 to 1."`
	MadeBy string     `json:"madeBy,omitempty"`
	MadeAt *time.Time `json:"madeAt,omitempty"`
}

func (s *Server) beaconView(ctx context.Context, site int64) (BeaconView, error) {
	f, err := s.Store.FieldSource(ctx, site)
	if errors.Is(err, store.ErrNotFound) {
		return BeaconView{}, nil
	}
	return BeaconView{On: true, Key: f.Key, Script: "/field/" + f.Key + ".js", Share: f.Share, MadeBy: f.MadeBy, MadeAt: &f.MadeAt}, err
}

// fieldOperations registers how field data is shown and set up.
func (s *Server) fieldOperations(api huma.API) {
	tags := []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "get-field", Method: http.MethodGet, Path: "/sites/{id}/field", Summary: "How fast a site was for its visitors, day by day, with what was promoted", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			field.Asked
		}) (*output[field.View], error) {
			return out(s.Field.View(ctx, in.ID, in.Asked, time.Now()))
		})
	huma.Register(api, huma.Operation{OperationID: "get-beacon", Method: http.MethodGet, Path: "/sites/{id}/beacon", Summary: "How the site's visitors tell", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[BeaconView], error) { return out(s.beaconView(ctx, in.ID)) })
	huma.Register(api, huma.Operation{OperationID: "set-beacon", Method: http.MethodPut, Path: "/sites/{id}/beacon", Summary: "Gives the site a beacon with a new key, or takes it away", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				On    bool    `json:"on"`
				Share float64 `json:"share,omitempty" minimum:"0" maximum:"1" doc:"Of page views that tell; absent: each."`
			}
		}) (*output[BeaconView], error) {
			share := in.Body.Share
			if share == 0 {
				share = 1
			}
			act := func() error { return s.Field.End(ctx, in.ID) }
			if in.Body.On {
				act = func() error { return s.Field.Begin(ctx, in.ID, share, who(ctx)) }
			}
			if err := act(); err != nil {
				return nil, fieldProblem(err)
			}
			return out(s.beaconView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "export-field", Method: http.MethodGet, Path: "/sites/{id}/field/export", Summary: "Field data day by day as CSV, which can be read again", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Days int `query:"days" minimum:"1" maximum:"800" default:"90"`
		}) (*exported, error) {
			raw, err := s.Field.Export(ctx, in.ID, in.Days, time.Now())
			if err != nil {
				return nil, problem(err)
			}
			return &exported{Type: "text/csv; charset=utf-8", Disposition: fmt.Sprintf(`attachment; filename="visitors-%d.csv"`, in.ID), Body: raw}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "import-field", Method: http.MethodPost, Path: "/sites/{id}/field", Summary: "Reads field data of elsewhere from CSV: day, device, metric, p75, and perhaps class or page, and visits",
		Description: "All of it or nothing: 422 with the line that cannot be read. Days that were read before are replaced.", Tags: tags, MaxBodyBytes: 32 << 20},
		func(ctx context.Context, in *struct {
			ByID
			RawBody []byte `contentType:"text/csv"`
		}) (*output[ImportedField], error) {
			n, err := s.Field.Import(ctx, in.ID, in.RawBody)
			if err != nil {
				return nil, fieldProblem(err)
			}
			return out(ImportedField{n}, nil)
		})
}

// ImportedField is how many days a file had.
type ImportedField struct {
	Days int `json:"days" doc:"Of a class, device and metric each."`
}

func fieldProblem(err error) error {
	if no, is := errors.AsType[*field.Refused](err); is {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("Nothing was read: %s.", no.Why))
	}
	return problem(err)
}

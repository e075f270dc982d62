package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/store"
)

// FoundView is something that a search found, and where it is shown.
type FoundView struct {
	Kind     string `json:"kind" enum:"site,page,setting,exclusion,change,run,finding"`
	Title    string `json:"title"`
	Detail   string `json:"detail"`
	SiteName string `json:"siteName"`
	At       string `json:"at" doc:"The view's address."`
}

const foundOfEachKind = 8

// findOperation registers the one search over everything.
func (s *Server) findOperation(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "find-anything", Method: http.MethodGet, Path: "/search", Summary: "Finds sites, changes, settings, exclusions, pages and findings by a part of their text",
		Description: "Up to 8 of each kind, the best first. Of findings the newest 50,000 are searched.", Tags: []string{"sites"}},
		func(ctx context.Context, in *struct {
			Q string `query:"q" required:"true" minLength:"2" maxLength:"200" doc:"A part of a name, title, path, key, pattern or reason, in any case."`
		}) (*output[[]FoundView], error) {
			found, err := s.Store.Find(ctx, strings.ToLower(strings.TrimSpace(in.Q)), foundOfEachKind)
			if err != nil {
				return nil, problem(err)
			}
			all := make([]FoundView, len(found))
			for i, f := range found {
				all[i] = FoundView{f.Kind, f.Title, f.Detail, f.SiteName, viewOf(f)}
			}
			return out(all, nil)
		})
}

// viewOf is the address of the view that shows something.
func viewOf(f store.Found) string {
	at := fmt.Sprintf("/sites/%d", f.SiteID)
	switch f.Kind {
	case "change":
		return fmt.Sprintf("/changes/%d", f.ID)
	case "finding":
		return fmt.Sprintf("/runs/%d?finding=%d", f.RunID, f.ID)
	case "setting":
		return at + "/settings?q=" + url.QueryEscape(f.Detail)
	case "exclusion":
		return at + "/exclusions?q=" + url.QueryEscape(f.Title)
	case "page":
		return at + "/test-plan?q=" + url.QueryEscape(f.Title)
	}
	return at
}

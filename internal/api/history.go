package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// HistoryLine is one line of a site's history.
type HistoryLine struct {
	ID          int64     `json:"id"`
	At          time.Time `json:"at"`
	Who         string    `json:"who"`
	Kind        string    `json:"kind"`
	Text        string    `json:"text"`
	Environment *int64    `json:"environment"`
	Change      *int64    `json:"change"`
	Run         *int64    `json:"run"`
}

// HistoryAsked says which lines of a history are meant.
type HistoryAsked struct {
	Who         string    `query:"who" maxLength:"200" doc:"A person; what they did by a token, too."`
	Kind        string    `query:"kind" maxLength:"50"`
	Environment int64     `query:"environment" minimum:"0"`
	From        time.Time `query:"from"`
	To          time.Time `query:"to" doc:"Up to here, without it."`
}

func (a HistoryAsked) filter() store.HistoryFilter {
	return store.HistoryFilter{Who: a.Who, Kind: a.Kind, EnvironmentID: a.Environment, From: a.From, To: a.To}
}

// HistoryKnownView is what a history can be filtered by.
type HistoryKnownView struct {
	Who          []string          `json:"who"`
	Kinds        []string          `json:"kinds"`
	Environments []EnvironmentName `json:"environments"`
}

// EnvironmentName is an environment by its number.
type EnvironmentName struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
}

// ChainView is what was found when a history was held against its chain.
type ChainView struct {
	Entries int64  `json:"entries"`
	Last    string `json:"last" doc:"Hash of the last entry; of the last that is as it was recorded when the chain is broken."`
	Broken  string `json:"broken" doc:"What is wrong first; empty when all is as it was recorded."`
}

// InForceView is what an environment had at a moment, and since when.
type InForceView struct {
	At          time.Time        `json:"at"`
	Known       bool             `json:"known" doc:"Something is recorded of that time."`
	Unsure      bool             `json:"unsure" doc:"Something was being done at that moment: it had these settings, or those that came next."`
	Fingerprint string           `json:"fingerprint"`
	Since       *time.Time       `json:"since,omitempty"`
	Kind        release.ActKind  `json:"kind" doc:"By which kind of act."`
	Who         string           `json:"who"`
	Change      *int64           `json:"change,omitempty"`
	ChangeTitle string           `json:"changeTitle,omitempty"`
	Run         *int64           `json:"run,omitempty"`
	Now         string           `json:"now" doc:"The fingerprint it has now."`
	Differences []DifferenceView `json:"differences" doc:"From then to now."`
	Values      settings.Values  `json:"values" doc:"All settings it had."`
}

func (s *Server) historyOperations(api huma.API) {
	tags := []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "get-history", Method: http.MethodGet, Path: "/sites/{id}/history", Summary: "What happened, the latest first", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			HistoryAsked
			Before int64 `query:"before" doc:"Only what is older than this number."`
			Limit  int   `query:"limit" minimum:"1" maximum:"200" default:"50"`
		}) (*output[[]HistoryLine], error) {
			rows, err := s.Store.HistoryOf(ctx, in.ID, in.filter(), in.Before, in.Limit)
			return out(historyLines(rows), err)
		})
	huma.Register(api, huma.Operation{OperationID: "get-history-known", Method: http.MethodGet, Path: "/sites/{id}/history/known", Summary: "Who and what a history can be filtered by", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[HistoryKnownView], error) {
			known, err := s.Store.HistoryKnown(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			envs, err := s.Store.Environments(ctx, in.ID)
			v := HistoryKnownView{known.Who, known.Kinds, []EnvironmentName{}}
			for _, e := range envs {
				v.Environments = append(v.Environments, EnvironmentName{e.ID, e.Name})
			}
			return out(v, err)
		})
	huma.Register(api, huma.Operation{OperationID: "export-history", Method: http.MethodGet, Path: "/sites/{id}/history/export", Summary: "The history as CSV (RFC 4180) or JSON lines, the oldest first", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			HistoryAsked
			Format string `query:"format" enum:"csv,jsonl" default:"csv"`
		}) (*exported, error) {
			raw, err := s.exportHistory(ctx, in.ID, in.filter(), in.Format)
			if err != nil {
				return nil, problem(err)
			}
			kind := map[string]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl"}[in.Format]
			return &exported{Type: kind, Disposition: fmt.Sprintf(`attachment; filename="history.%s"`, in.Format), Body: raw}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "verify-history", Method: http.MethodGet, Path: "/sites/{id}/history/chain", Summary: "Holds the history against its chain of hashes", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[ChainView], error) {
			if _, err := s.Store.Site(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			c, err := s.Store.VerifyChain(ctx, in.ID)
			return out(ChainView{c.Entries, c.Last(), c.Broken}, err)
		})
	huma.Register(api, huma.Operation{OperationID: "get-in-force-at", Method: http.MethodGet, Path: "/environments/{id}/at", Summary: "What an environment had at a moment, since when and by whom", Tags: []string{"environments"}},
		func(ctx context.Context, in *struct {
			ByID
			Time time.Time `query:"time" required:"true"`
		}) (*output[InForceView], error) {
			return out(s.inForceAt(ctx, in.ID, in.Time))
		})
}

func historyLines(rows []store.Event) []HistoryLine {
	lines := make([]HistoryLine, len(rows))
	for i, e := range rows {
		lines[i] = HistoryLine{e.ID, e.At, e.Who, e.Kind, e.Text, e.EnvironmentID, e.ChangeID, e.RunID}
	}
	return lines
}

// historyPage is how many lines are read at once.
const historyPage = 5000

// exportHistory writes the lines that a filter means, the oldest first.
func (s *Server) exportHistory(ctx context.Context, site int64, f store.HistoryFilter, format string) ([]byte, error) {
	if _, err := s.Store.Site(ctx, site); err != nil {
		return nil, err
	}
	var all []store.Event
	for before := int64(0); ; {
		rows, err := s.Store.HistoryOf(ctx, site, f, before, historyPage)
		if err != nil {
			return nil, err
		}
		all = append(all, rows...)
		if len(rows) < historyPage {
			break
		}
		before = rows[len(rows)-1].ID
	}
	var out bytes.Buffer
	table := csv.NewWriter(&out)
	lines := json.NewEncoder(&out)
	if format == "csv" {
		_ = table.Write([]string{"id", "at", "who", "kind", "text", "environment", "change", "run"})
	}
	for i := range all {
		line := historyLines(all[len(all)-1-i : len(all)-i])[0]
		if format != "csv" {
			if err := lines.Encode(line); err != nil {
				return nil, err
			}
			continue
		}
		_ = table.Write([]string{strconv.FormatInt(line.ID, 10), line.At.UTC().Format(time.RFC3339Nano), plain(line.Who), line.Kind, plain(line.Text), number(line.Environment), number(line.Change), number(line.Run)})
	}
	table.Flush()
	return out.Bytes(), table.Error()
}

func number(n *int64) string {
	if n == nil {
		return ""
	}
	return strconv.FormatInt(*n, 10)
}

// plain keeps spreadsheets from taking a text for a formula (OWASP, CSV injection).
func plain(text string) string {
	if text != "" && bytes.ContainsAny([]byte{text[0]}, "=+-@\t\r") {
		return "'" + text
	}
	return text
}

func (s *Server) inForceAt(ctx context.Context, id int64, at time.Time) (InForceView, error) {
	v := InForceView{At: at, Differences: []DifferenceView{}, Values: settings.Values{}}
	env, err := s.Store.Environment(ctx, id)
	if err != nil {
		return v, err
	}
	v.Now = env.Fingerprint
	if at.After(time.Now()) {
		return v, huma.Error422UnprocessableEntity("That moment is to come. Give one that was.")
	}
	act, err := s.Store.InForceAt(ctx, id, at)
	if errors.Is(err, store.ErrNotFound) {
		return v, nil
	}
	if err != nil {
		return v, err
	}
	v.Known, v.Fingerprint, v.Since, v.Kind, v.Who, v.Change, v.Run = true, act.Fingerprint, act.EndedAt, act.Kind, act.Who, act.ChangeID, act.RunID
	if v.Unsure, err = s.Store.UnknownAt(ctx, id, at); err != nil {
		return v, err
	}
	if act.ChangeID != nil {
		c, err := s.Store.Change(ctx, *act.ChangeID)
		if err != nil {
			return v, err
		}
		v.ChangeTitle = c.Title
	}
	if v.Values, err = s.Store.Revision(ctx, env.SiteID, act.Fingerprint); err != nil {
		return v, err
	}
	now, err := s.Store.Revision(ctx, env.SiteID, env.Fingerprint)
	if err == nil && env.Catalogue.V != nil {
		v.Differences = differenceViews(*env.Catalogue.V, v.Values, now)
	}
	return v, err
}

package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// ListAsked is what is asked of every list: part of a text, on which environment, and which page of it.
type ListAsked struct {
	ByID
	Q           string `query:"q" maxLength:"200" doc:"Part of what a row says."`
	Environment int64  `query:"environment" minimum:"0"`
	Down        bool   `query:"down" default:"true" doc:"The largest, latest or last first."`
	Limit       int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	Offset      int    `query:"offset" minimum:"0"`
}

func (a ListAsked) listing() store.Listing {
	return store.Listing{Text: a.Q, EnvironmentID: a.Environment, Down: a.Down, Limit: a.Limit, Offset: a.Offset}
}

// ChangesAsked says which changes of a site are meant.
type ChangesAsked struct {
	ListAsked
	State string `query:"state" maxLength:"40" doc:"Only changes in this state."`
	Sort  string `query:"sort" enum:"updated,created,title,state,by" default:"updated"`
}

// RunsAsked says which runs of a site are meant.
type RunsAsked struct {
	ListAsked
	Kind    string           `query:"kind" enum:",mark,try,promote,roll back,check,isolation test,recheck,culprit search,measure,tidy"`
	Verdict evidence.Verdict `query:"verdict" enum:",clear,broken,unsure,not checked"`
	Sort    string           `query:"sort" enum:"created,kind,environment,verdict,seconds,by" default:"created"`
}

// MarksAsked says which marks of a site are meant.
type MarksAsked struct {
	ListAsked
	Verdict evidence.Verdict `query:"verdict" enum:",clear,broken,unsure,not checked"`
	Sort    string           `query:"sort" enum:"taken,environment,verdict,by" default:"taken"`
}

// RevisionsAsked says which revisions of a site are meant.
type RevisionsAsked struct {
	ListAsked
	Sort string `query:"sort" enum:"created,fingerprint" default:"created"`
}

// ListOf is a page of a list.
type ListOf[T any] struct {
	Rows  []T `json:"rows"`
	Total int `json:"total" doc:"How many there are in all, on this page and others."`
}

// ChangeRow is a change in the list of a site's changes.
type ChangeRow struct {
	ID        int64         `json:"id"`
	Title     string        `json:"title"`
	State     release.State `json:"state"`
	Settings  int           `json:"settings" doc:"How many settings it edits."`
	Runs      int           `json:"runs"`
	By        string        `json:"by"`
	CreatedAt time.Time     `json:"createdAt"`
	UpdatedAt time.Time     `json:"updatedAt"`
}

// RunRow is a run in the list of a site's runs.
type RunRow struct {
	ID          int64            `json:"id"`
	Kind        release.RunKind  `json:"kind" enum:"mark,try,promote,roll back,check,isolation test,recheck,culprit search,measure,tidy"`
	State       release.RunState `json:"state" enum:"queued,waiting,running,by hand,unknown,done,stopped,failed"`
	Verdict     evidence.Verdict `json:"verdict" doc:"clear, broken, unsure, not checked; empty while it runs."`
	Summary     string           `json:"summary"`
	Environment string           `json:"environment"`
	Change      *int64           `json:"change"`
	ChangeTitle string           `json:"changeTitle,omitempty"`
	Fingerprint string           `json:"fingerprint" doc:"Of the settings that it saw; empty when that is not recorded."`
	Seconds     *float64         `json:"seconds" doc:"From its start to its end; null while it is not over."`
	By          string           `json:"by"`
	CreatedAt   time.Time        `json:"createdAt"`
}

// MarkRow is a mark in the list of a site's marks.
type MarkRow struct {
	ID           int64            `json:"id"`
	Environment  string           `json:"environment"`
	Fingerprint  string           `json:"fingerprint"`
	InForce      bool             `json:"inForce" doc:"Its environment has these settings now."`
	Run          int64            `json:"run"`
	Verdict      evidence.Verdict `json:"verdict" enum:"clear,broken,unsure,not checked" doc:"Of the run that took it."`
	EvidenceGone bool             `json:"evidenceGone,omitempty" doc:"Its looks and pictures were removed, so nothing can be compared with it."`
	Reason       string           `json:"reason"`
	By           string           `json:"by"`
	TakenAt      time.Time        `json:"takenAt"`
}

// RevisionRow is a revision in the list of a site's revisions.
type RevisionRow struct {
	Fingerprint string     `json:"fingerprint"`
	InForce     []string   `json:"inForce" doc:"Environments that have it now."`
	Marks       int        `json:"marks" doc:"How many marks have it."`
	CreatedAt   time.Time  `json:"createdAt" doc:"When it was first recorded."`
	LatestAt    *time.Time `json:"latestAt" doc:"When it was last put in force anywhere; null when it never was by an act that is recorded."`
}

// RevisionsCompared is what differs between two revisions of a site.
type RevisionsCompared struct {
	From        string           `json:"from"`
	To          string           `json:"to"`
	Differences []DifferenceView `json:"differences"`
}

func (s *Server) changeRows(ctx context.Context, in *ChangesAsked) (ListOf[ChangeRow], error) {
	ask := in.listing()
	ask.State, ask.Sort = in.State, in.Sort
	rows, total, err := s.Store.ListChanges(ctx, in.ID, ask)
	return listOf(rows, total, func(c store.ListedChange) ChangeRow {
		return ChangeRow{c.ID, c.Title, c.State, len(c.Edits.V), c.Runs, c.CreatedBy, c.CreatedAt, c.UpdatedAt}
	}), err
}

func (s *Server) runRows(ctx context.Context, in *RunsAsked) (ListOf[RunRow], error) {
	ask := in.listing()
	ask.Kind, ask.Verdict, ask.Sort = in.Kind, string(in.Verdict), in.Sort
	rows, total, err := s.Store.ListRuns(ctx, in.ID, ask)
	return listOf(rows, total, func(r store.ListedRun) RunRow {
		return RunRow{r.ID, r.Kind, r.State, r.Verdict, r.Summary, r.Environment, r.ChangeID, r.ChangeTitle, r.Fingerprint, r.Seconds, r.RequestedBy, r.CreatedAt}
	}), err
}

func (s *Server) markRows(ctx context.Context, in *MarksAsked) (ListOf[MarkRow], error) {
	ask := in.listing()
	ask.Verdict, ask.Sort = string(in.Verdict), in.Sort
	rows, total, err := s.Store.ListMarks(ctx, in.ID, ask)
	return listOf(rows, total, func(m store.ListedMark) MarkRow {
		return MarkRow{m.ID, m.Environment, m.Fingerprint, m.InForce, m.RunID, m.Verdict, m.EvidenceGone, m.Reason, m.Who, m.TakenAt}
	}), err
}

func (s *Server) revisionRows(ctx context.Context, in *RevisionsAsked) (ListOf[RevisionRow], error) {
	ask := in.listing()
	ask.Sort = in.Sort
	rows, total, err := s.Store.ListRevisions(ctx, in.ID, ask)
	return listOf(rows, total, func(r store.ListedRevision) RevisionRow {
		return RevisionRow{r.Fingerprint, orEmpty(r.InForce.V), r.Marks, r.CreatedAt, r.Latest}
	}), err
}

func listOf[From, To any](rows []From, total int, row func(From) To) ListOf[To] {
	l := ListOf[To]{Rows: make([]To, len(rows)), Total: total}
	for i, r := range rows {
		l.Rows[i] = row(r)
	}
	return l
}

// listOperations registers the lists of what a site has, each as a page of rows and whole as CSV.
func (s *Server) listOperations(api huma.API) {
	listOperation(api, s, "changes", "A site's changes", (*Server).changeRows,
		func(a *ChangesAsked) *ListAsked { return &a.ListAsked }, []string{"id", "title", "state", "settings", "runs", "by", "created", "updated"},
		func(c ChangeRow) []string {
			return []string{count(c.ID), plain(c.Title), string(c.State), strconv.Itoa(c.Settings), strconv.Itoa(c.Runs), plain(c.By), stamp(&c.CreatedAt), stamp(&c.UpdatedAt)}
		})
	listOperation(api, s, "runs", "A site's runs", (*Server).runRows,
		func(a *RunsAsked) *ListAsked { return &a.ListAsked }, []string{"id", "kind", "environment", "state", "verdict", "summary", "change", "fingerprint", "seconds", "by", "created"},
		func(r RunRow) []string {
			seconds := ""
			if r.Seconds != nil {
				seconds = strconv.FormatFloat(*r.Seconds, 'f', 1, 64)
			}
			return []string{count(r.ID), string(r.Kind), plain(r.Environment), string(r.State), string(r.Verdict), plain(r.Summary), number(r.Change), r.Fingerprint, seconds, plain(r.By), stamp(&r.CreatedAt)}
		})
	listOperation(api, s, "marks", "A site's marks", (*Server).markRows,
		func(a *MarksAsked) *ListAsked { return &a.ListAsked }, []string{"id", "environment", "fingerprint", "in force", "run", "verdict", "reason", "by", "taken"},
		func(m MarkRow) []string {
			return []string{count(m.ID), plain(m.Environment), m.Fingerprint, strconv.FormatBool(m.InForce), count(m.Run), string(m.Verdict), plain(m.Reason), plain(m.By), stamp(&m.TakenAt)}
		})
	listOperation(api, s, "revisions", "A site's revisions: every set of values that is recorded", (*Server).revisionRows,
		func(a *RevisionsAsked) *ListAsked { return &a.ListAsked }, []string{"fingerprint", "in force", "marks", "created", "latest"},
		func(r RevisionRow) []string {
			return []string{r.Fingerprint, plain(strings.Join(r.InForce, " ")), strconv.Itoa(r.Marks), stamp(&r.CreatedAt), stamp(r.LatestAt)}
		})
	huma.Register(api, huma.Operation{OperationID: "compare-revisions", Method: http.MethodGet, Path: "/sites/{id}/revisions/compare", Summary: "What differs between any two revisions of a site", Tags: []string{"sites"}},
		func(ctx context.Context, in *struct {
			ByID
			From string `query:"from" required:"true" pattern:"^[0-9a-f]{64}$" doc:"A fingerprint."`
			To   string `query:"to" required:"true" pattern:"^[0-9a-f]{64}$" doc:"A fingerprint."`
		}) (*output[RevisionsCompared], error) {
			return out(s.compareRevisions(ctx, in.ID, in.From, in.To))
		})
}

// listOperation registers one list twice: read by people and programs, and exported whole.
func listOperation[Asked, Row any](api huma.API, s *Server, name, summary string, read func(*Server, context.Context, *Asked) (ListOf[Row], error), page func(*Asked) *ListAsked, head []string, line func(Row) []string) {
	tags := []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "list-" + name, Method: http.MethodGet, Path: "/sites/{id}/" + name, Summary: summary + ", a page of them", Tags: tags},
		func(ctx context.Context, in *Asked) (*output[ListOf[Row]], error) {
			if _, err := s.Store.Site(ctx, page(in).ID); err != nil {
				return nil, problem(err)
			}
			return out(read(s, ctx, in))
		})
	huma.Register(api, huma.Operation{OperationID: "export-" + name, Method: http.MethodGet, Path: "/sites/{id}/" + name + "/export", Summary: summary + ", all that are asked for, as CSV (RFC 4180)", Tags: tags},
		func(ctx context.Context, in *Asked) (*exported, error) {
			if _, err := s.Store.Site(ctx, page(in).ID); err != nil {
				return nil, problem(err)
			}
			var to bytes.Buffer
			table := csv.NewWriter(&to)
			_ = table.Write(head)
			for page(in).Limit, page(in).Offset = historyPage, 0; ; page(in).Offset += historyPage {
				list, err := read(s, ctx, in)
				if err != nil {
					return nil, problem(err)
				}
				for _, row := range list.Rows {
					_ = table.Write(line(row))
				}
				if len(list.Rows) < historyPage {
					break
				}
			}
			table.Flush()
			return &exported{Type: "text/csv; charset=utf-8", Disposition: fmt.Sprintf(`attachment; filename="%s.csv"`, name), Body: to.Bytes()}, problem(table.Error())
		})
}

func count(n int64) string { return strconv.FormatInt(n, 10) }

// stamp is a moment as exports say it (RFC 3339, in UTC); "" when there is none.
func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// compareRevisions says what differs, in the words of production's catalogue.
func (s *Server) compareRevisions(ctx context.Context, site int64, from, to string) (RevisionsCompared, error) {
	v := RevisionsCompared{From: from, To: to}
	was, err := s.Store.Revision(ctx, site, from)
	if err != nil {
		return v, err
	}
	now, err := s.Store.Revision(ctx, site, to)
	if err != nil {
		return v, err
	}
	envs, err := s.Store.EnvironmentsByRole(ctx, site)
	if err != nil {
		return v, err
	}
	cat := settings.Catalogue{}
	for _, e := range []store.Environment{envs.Staging, envs.Production} {
		if e.Catalogue.V != nil {
			cat = *e.Catalogue.V
		}
	}
	v.Differences = differenceViews(cat, was, now)
	return v, nil
}

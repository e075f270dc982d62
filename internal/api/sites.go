package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// marksShown is how many marks of an environment are shown with what drew them.
const marksShown = 3

// MarkView is a place to go back to.
type MarkView struct {
	ID          int64             `json:"id"`
	Fingerprint string            `json:"fingerprint"`
	Run         int64             `json:"run"`
	Reason      string            `json:"reason"`
	Who         string            `json:"who"`
	TakenAt     time.Time         `json:"takenAt"`
	Looks       evidence.Progress `json:"looks"`
	Verdict     evidence.Verdict  `json:"verdict" enum:"clear,broken,unsure,not checked"`
	Browser     string            `json:"browser,omitempty" doc:"What drew its pictures: a browser and its version. Of the three latest, where it is known."`
}

// ActView is one act on an environment's settings.
type ActView struct {
	ID          int64      `json:"id"`
	Kind        string     `json:"kind" enum:"try,promote,roll back,restore,control,outside,first"`
	Fingerprint string     `json:"fingerprint"`
	Predecessor string     `json:"predecessor"`
	State       string     `json:"state" enum:"intended,applied,not applied,unknown"`
	Note        string     `json:"note"`
	Who         string     `json:"who"`
	Run         *int64     `json:"run"`
	Change      *int64     `json:"change"`
	At          time.Time  `json:"at"`
	EndedAt     *time.Time `json:"endedAt"`
}

// EnvironmentView is one environment with what happened on it.
type EnvironmentView struct {
	ID          int64                `json:"id"`
	Name        string               `json:"name"`
	Role        site.Role            `json:"role" enum:"staging,production,other"`
	URL         string               `json:"url"`
	Connector   string               `json:"connector" doc:"Kind of connector; empty when there is none."`
	Able        speedlayer.Abilities `json:"able" doc:"What its speed layer can do."`
	CacheSignal string               `json:"cacheSignal" doc:"How its responses tell that they came from its page cache, in words."`
	Unknown     *UnknownView         `json:"unknown" doc:"The act whose outcome nobody knows, until the environment can be read again; null when there is none."`
	Fingerprint string               `json:"fingerprint" doc:"Last read back; empty before the first reading."`
	ReadAt      *time.Time           `json:"readAt"`
	Software    string               `json:"software,omitempty"`
	Marks       []MarkView           `json:"marks"`
	Redrawn     string               `json:"redrawn,omitempty" doc:"Why pictures can no longer be compared with the latest mark's: another browser or other fonts draw them."`
	Acts        []ActView            `json:"acts"`
	Drift       *DriftView           `json:"drift" doc:"What somebody changed outside, until it is accepted or reverted."`
	Runs        []RunSummary         `json:"runs"`
}

// UnknownView is an act of which nobody knows whether it was applied.
type UnknownView struct {
	ActView
	Reads      int        `json:"reads" doc:"How often reading the environment has failed since."`
	NextReadAt *time.Time `json:"nextReadAt" doc:"When it is read again; null when a person has to upload its settings."`
}

// ChangeSummary is a change in a list.
type ChangeSummary struct {
	ID          int64     `json:"id"`
	Title       string    `json:"title"`
	State       string    `json:"state"`
	Publishing  int       `json:"publishing"`
	Explanation string    `json:"explanation"`
	CreatedBy   string    `json:"createdBy"`
	UpdatedAt   time.Time `json:"updatedAt"`
}

// SiteView is a site with its environments and changes.
type SiteView struct {
	ID           int64             `json:"id"`
	Name         string            `json:"name"`
	Pages        int               `json:"pages"`
	Journeys     int               `json:"journeys"`
	Personas     []string          `json:"personas"`
	Environments []EnvironmentView `json:"environments"`
	Changes      []ChangeSummary   `json:"changes"`
	Waiting      string            `json:"waiting" doc:"The one thing that waits for a person, in words; empty when nothing does."`
	WaitingFor   string            `json:"waitingFor" enum:",change,run,mark,read,drift,unknown,going,rollout" doc:"What kind of thing waits."`
	WaitingID    int64             `json:"waitingId,omitempty"`
	Labels       []string          `json:"labels" doc:"What it is listed under, with others."`
}

// SiteSummary is a site in the list of sites.
type SiteSummary struct {
	ID           int64                `json:"id"`
	Name         string               `json:"name"`
	Environments []EnvironmentSummary `json:"environments"`
	Waiting      string               `json:"waiting"`
	WaitingFor   string               `json:"waitingFor"`
	WaitingID    int64                `json:"waitingId,omitempty"`
	Labels       []string             `json:"labels"`
	UpdatedAt    time.Time            `json:"updatedAt"`
}

// EnvironmentSummary is an environment in the list of sites.
type EnvironmentSummary struct {
	Name        string           `json:"name"`
	Fingerprint string           `json:"fingerprint"`
	ReadAt      *time.Time       `json:"readAt"`
	MarkedAt    *time.Time       `json:"markedAt"`
	AtMark      bool             `json:"atMark" doc:"It has the settings of its latest mark."`
	LastVerdict evidence.Verdict `json:"lastVerdict" doc:"Of its last run; empty when it had none."`
	LastSummary string           `json:"lastSummary"`
}

type output[T any] struct{ Body T }

func out[T any](v T, err error) (*output[T], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &output[T]{v}, nil
}

// ByID is the number in an operation's address.
type ByID struct {
	ID int64 `path:"id"`
}

func (s *Server) siteOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-sites", Method: http.MethodGet, Path: "/sites", Summary: "Sites, a page of them", Tags: []string{"sites"}},
		func(ctx context.Context, in *struct {
			Q      string `query:"q" doc:"A part of the name."`
			Only   bool   `query:"waiting" doc:"Only sites on which something waits for a person."`
			Sort   string `query:"sort" enum:"waiting,name" default:"waiting" doc:"What waits first, the most urgent at the top; or by name."`
			Limit  int    `query:"limit" minimum:"1" maximum:"100" default:"30"`
			Offset int    `query:"offset" minimum:"0"`
			Label  string `query:"label" doc:"Only sites with this label."`
		}) (*output[SiteList], error) {
			return out(s.listSites(ctx, store.Sought{Part: in.Q, Label: in.Label, WaitingOnly: in.Only, WaitingFirst: in.Sort != "name", Limit: in.Limit, Offset: in.Offset}))
		})
	huma.Register(api, huma.Operation{OperationID: "import-site", Method: http.MethodPost, Path: "/sites", Summary: "Registers a site from a site file, or updates it", Description: "409 with what would change when an environment would get another role and nobody said that this is meant.", Tags: []string{"sites"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				File  string `json:"file" doc:"The site file, YAML or JSON."`
				Roles bool   `json:"rolesMayChange,omitempty" doc:"It is meant that environments get other roles."`
			}
		}) (*output[SiteView], error) {
			doc, err := site.Parse([]byte(in.Body.File))
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			if err := s.keepsPromotions(ctx, &doc); err != nil {
				return nil, problem(err)
			}
			row, err := s.Store.SaveSite(ctx, doc, in.Body.Roles, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.siteView(ctx, row.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "get-site", Method: http.MethodGet, Path: "/sites/{id}", Summary: "A site with its environments, marks and changes", Tags: []string{"sites"}},
		func(ctx context.Context, in *ByID) (*output[SiteView], error) { return out(s.siteView(ctx, in.ID)) })
	s.labelOperation(api)
	s.findOperation(api)
	s.compareRunsOperation(api)
	s.historyOperations(api)
	s.listOperations(api)
}

// SiteList is one page of the sites.
type SiteList struct {
	Sites  []SiteSummary    `json:"sites"`
	Total  int              `json:"total"`
	Labels []store.Labelled `json:"labels" doc:"Of all sites, and how many have each."`
}

func (s *Server) listSites(ctx context.Context, q store.Sought) (SiteList, error) {
	rows, total, err := s.Store.Overviews(ctx, q)
	if err != nil {
		return SiteList{}, err
	}
	list := SiteList{Sites: []SiteSummary{}, Total: total}
	if list.Labels, err = s.Store.Labels(ctx); err != nil {
		return list, err
	}
	if list.Labels == nil {
		list.Labels = []store.Labelled{}
	}
	for _, row := range rows {
		sum := SiteSummary{ID: row.ID, Name: row.Name, UpdatedAt: row.UpdatedAt, Environments: []EnvironmentSummary{}, Labels: append([]string{}, row.Labels.V...)}
		sum.Waiting, sum.WaitingFor = said(row)
		if sum.Waiting != "" {
			sum.WaitingID = row.Subject
		}
		for _, e := range row.Environments {
			sum.Environments = append(sum.Environments, EnvironmentSummary{Name: e.Name, Fingerprint: e.Fingerprint, ReadAt: e.ReadAt, MarkedAt: e.MarkedAt,
				AtMark: e.Marked != nil && *e.Marked == e.Fingerprint, LastVerdict: e.Verdict, LastSummary: e.Summary})
		}
		list.Sites = append(list.Sites, sum)
	}
	return list, nil
}

// said says in words what waits on a site, and what kind of thing it is.
func said(o store.Overview) (text, kind string) {
	switch o.Waits {
	case store.WaitsUnknown:
		return "It is not known which settings " + o.About + " has; it is read again until it is.", "unknown"
	case store.WaitsDrift:
		return o.About + " was changed outside Tide Marker.", "drift"
	case store.WaitsManualTask:
		return "A checklist is waiting to be done on " + o.About + ".", "run"
	case store.WaitsBack:
		return o.About + " is rolled back automatically soon, unless somebody stops it.", "change"
	case store.WaitsPromoted:
		return o.About + " is on production, and its check is not clear.", "change"
	case store.WaitsRestored:
		return o.About + " was rolled back, and the check of that is not clear.", "change"
	case store.WaitsWatch:
		return "The watch of " + o.About + " is over, and not everything was clear. Decide what to do.", "change"
	case store.WaitsRollout:
		return "The rollout of " + o.About + " to other sites is waiting: release it, or see where it stopped.", "rollout"
	case store.WaitsApproval:
		return "Approval of " + o.About + " was requested.", "change"
	case store.WaitsChecked:
		return o.About + " was checked on staging and waits for a decision.", "change"
	case store.WaitsStaging:
		return o.About + " is on staging, unchecked.", "change"
	case store.WaitsGoing:
		return o.About + " is approved, and is promoted automatically when the calendar allows it.", "going"
	case store.WaitsMark:
		return o.About + " has no mark to roll back to yet.", "mark"
	case store.WaitsAway:
		return o.About + " does not have the settings of its latest mark.", "read"
	case store.WaitsDraft:
		return o.About + " is drafted.", "change"
	case store.WaitsRun:
		return "Something is under way on " + o.About + ".", "going"
	}
	return "", ""
}

func (s *Server) siteView(ctx context.Context, id int64) (SiteView, error) {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return SiteView{}, err
	}
	doc := row.Document.V
	v := SiteView{ID: row.ID, Name: row.Name, Labels: append([]string{}, doc.Labels...), Pages: len(doc.Pages), Journeys: len(doc.Journeys), Personas: []string{site.Visitor}, Changes: []ChangeSummary{}}
	for _, p := range doc.Personas {
		v.Personas = append(v.Personas, p.Name)
	}
	envs, err := s.Store.Environments(ctx, id)
	if err != nil {
		return v, err
	}
	runs, err := s.Store.Runs(ctx, id, 60)
	if err != nil {
		return v, err
	}
	drifts, err := s.driftViews(ctx, id)
	if err != nil {
		return v, err
	}
	unknown, err := s.unknownViews(ctx, id)
	if err != nil {
		return v, err
	}
	for _, e := range envs {
		ev, err := s.environmentView(ctx, e, runs)
		if err != nil {
			return v, err
		}
		at, _, _ := doc.Environment(e.Name)
		ev.Drift, ev.Unknown, ev.CacheSignal = drifts[e.ID], unknown[e.ID], at.Signal().Text()
		v.Environments = append(v.Environments, ev)
	}
	changes, err := s.Store.Changes(ctx, id, 20, 0)
	if err != nil {
		return v, err
	}
	for _, c := range changes {
		v.Changes = append(v.Changes, changeSummary(c))
	}
	o, err := s.Store.OverviewOf(ctx, id)
	v.Waiting, v.WaitingFor = said(o)
	v.WaitingID = o.Subject
	return v, err
}

func (s *Server) environmentView(ctx context.Context, e store.Environment, runs []store.Run) (EnvironmentView, error) {
	v := EnvironmentView{ID: e.ID, Name: e.Name, Role: e.Role, URL: e.URL, Connector: e.ConnectorKind, Able: s.Acts.Able(e), Fingerprint: e.Fingerprint, ReadAt: e.ReadAt,
		Marks: []MarkView{}, Acts: []ActView{}, Runs: []RunSummary{}}
	if e.About.V != nil {
		v.Software = e.About.V.Software
	}
	marks, err := s.Store.Marks(ctx, e.ID, 12)
	if err != nil {
		return v, err
	}
	for i, m := range marks {
		mv := MarkView{ID: m.ID, Fingerprint: m.Fingerprint, Run: m.RunID, Reason: m.Reason, Who: m.Who, TakenAt: m.TakenAt}
		if r, err := s.Store.Run(ctx, m.RunID); err == nil {
			mv.Looks, mv.Verdict = r.Progress.V.Looks, r.Verdict
		} else if !errors.Is(err, store.ErrNotFound) {
			return v, err
		}
		if i < marksShown {
			if mv.Browser, err = s.Store.RendererOf(ctx, m); err != nil {
				return v, err
			}
		}
		v.Marks = append(v.Marks, mv)
	}
	if len(marks) > 0 {
		if v.Redrawn, err = s.Store.DrawnOtherwise(ctx, marks[0]); err != nil {
			return v, err
		}
	}
	applied, err := s.Store.Acts(ctx, e.ID, 20)
	if err != nil {
		return v, err
	}
	for _, a := range applied {
		v.Acts = append(v.Acts, actView(a))
	}
	for _, r := range runs {
		if r.EnvironmentID == e.ID {
			v.Runs = append(v.Runs, runSummary(r, e.Name))
		}
	}
	return v, nil
}

func actView(a store.Act) ActView {
	return ActView{a.ID, string(a.Kind), a.Fingerprint, a.Predecessor, string(a.State), a.Note, a.Who, a.RunID, a.ChangeID, a.IntendedAt, a.EndedAt}
}

// unknownViews are the acts of a site's environments whose outcome nobody knows.
func (s *Server) unknownViews(ctx context.Context, siteID int64) (map[int64]*UnknownView, error) {
	open, err := s.Store.OpenActs(ctx, siteID)
	views := map[int64]*UnknownView{}
	for _, a := range open {
		if a.State == release.ActUnknown {
			views[a.EnvironmentID] = &UnknownView{actView(a), a.Reads, a.NextReadAt}
		}
	}
	return views, err
}

func changeSummary(c store.Change) ChangeSummary {
	return ChangeSummary{c.ID, c.Title, string(c.State), len(c.Edits.V), c.Explanation, c.CreatedBy, c.UpdatedAt}
}

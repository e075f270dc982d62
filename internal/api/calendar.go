package api

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"tidemarker/internal/core/calendar"
	"tidemarker/internal/store"
)

// CalendarView is when something may go out, and what goes out by itself.
type CalendarView struct {
	Entries     []CalendarEntryView  `json:"entries"`
	Occurrences []CalendarOccurrence `json:"occurrences" doc:"Of the entries, between the moments that were asked for, in order; a thousand at most."`
	Going       []GoingOut           `json:"going" doc:"What went out since the first moment, and what is approved to be promoted automatically."`
	Why         string               `json:"why" doc:"Of a site: why nothing may be promoted now; empty when it may."`
	Opens       *time.Time           `json:"opens,omitempty" doc:"Of a site: when something may be promoted next; none when it may now, or when that is not to come."`
	Address     *AddressView         `json:"address,omitempty" doc:"The address to subscribe to, when there is one; its secret is shown once."`
	Trouble     string               `json:"trouble" doc:"Which entry cannot be read; nothing is promoted meanwhile."`
}

// CalendarEntryView is a freeze or a window.
type CalendarEntryView struct {
	ID       int64          `json:"id"`
	Site     int64          `json:"site,omitempty" doc:"None: it is for all sites."`
	SiteName string         `json:"siteName,omitempty"`
	Version  int            `json:"version" doc:"Give it back when editing."`
	Entry    calendar.Entry `json:"entry"`
	Next     *time.Time     `json:"next,omitempty" doc:"When it begins next, or began when it is going on; none when it is over."`
	Now      bool           `json:"now" doc:"It is going on."`
	MadeBy   string         `json:"madeBy"`
}

// CalendarOccurrence is one time that an entry holds.
type CalendarOccurrence struct {
	Entry  int64     `json:"entry"`
	Begins time.Time `json:"begins"`
	Ends   time.Time `json:"ends"`
}

// AddressView is a secret address to subscribe to.
type AddressView struct {
	MadeBy  string     `json:"madeBy"`
	MadeAt  time.Time  `json:"madeAt"`
	UsedAt  *time.Time `json:"usedAt,omitempty"`
	Address string     `json:"address,omitempty" doc:"Only when it has just been made."`
}

// BySite names a site in a query; 0 is all of them.
type BySite struct {
	Site int64 `query:"site" minimum:"0" doc:"The site; 0 for all sites."`
}

func (b BySite) id() *int64 {
	if b.Site == 0 {
		return nil
	}
	return &b.Site
}

// calendarOperations registers what is done to calendars. Long because it is a list: one registration after the other.
func (s *Server) calendarOperations(api huma.API) {
	tags := []string{"calendar"}
	huma.Register(api, huma.Operation{OperationID: "get-calendar", Method: http.MethodGet, Path: "/calendar", Summary: "Freezes and windows of a site with those for all sites, and what is promoted automatically", Tags: tags},
		func(ctx context.Context, in *struct {
			BySite
			From time.Time `query:"from" doc:"Occurrences from here on; now when absent."`
			To   time.Time `query:"to" doc:"And to here; five weeks later when absent."`
		}) (*output[CalendarView], error) {
			return out(s.calendarView(ctx, in.Site, in.From, in.To))
		})
	huma.Register(api, huma.Operation{OperationID: "add-calendar-entry", Method: http.MethodPost, Path: "/calendar/entries", Summary: "Adds a freeze or a window", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			BySite
			Body calendar.Entry
		}) (*output[CalendarEntryView], error) {
			id, err := s.Changes.AddEntry(ctx, in.id(), in.Body, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.calendarEntryView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-calendar-entry", Method: http.MethodPut, Path: "/calendar/entries/{id}", Summary: "Edits a freeze or a window", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Version int            `json:"version"`
				Entry   calendar.Entry `json:"entry"`
			}
		}) (*output[CalendarEntryView], error) {
			if err := s.Changes.EditEntry(ctx, in.ID, in.Body.Version, in.Body.Entry, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.calendarEntryView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-calendar-entry", Method: http.MethodDelete, Path: "/calendar/entries/{id}", Summary: "Removes a freeze or a window", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			ByID
			Version int `query:"version" required:"true"`
		}) (*struct{}, error) {
			return nil, problem(s.Changes.RemoveEntry(ctx, in.ID, in.Version, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "import-calendar", Method: http.MethodPost, Path: "/calendar/import", Summary: "Reads the events of an iCalendar file as freezes and windows, all or none", Description: "Events that came before are replaced. An event says what it is by its category, FREEZE or WINDOW.", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			BySite
			Body struct {
				File string        `json:"file" maxLength:"1000000" doc:"The iCalendar file."`
				Kind calendar.Kind `json:"kind" enum:"freeze,window" doc:"What those are that do not say it."`
				Zone string        `json:"zone" doc:"Where the times of those are that name no zone, by its name in the IANA database."`
			}
		}) (*output[Imported], error) {
			added, replaced, err := s.Changes.ImportCalendar(ctx, in.id(), []byte(in.Body.File), in.Body.Kind, in.Body.Zone, who(ctx))
			return out(Imported{added, replaced}, err)
		})
	huma.Register(api, huma.Operation{OperationID: "export-calendar", Method: http.MethodGet, Path: "/calendar/export", Summary: "The calendar as an iCalendar file", Tags: tags},
		func(ctx context.Context, in *BySite) (*exported, error) {
			raw, err := s.Changes.WriteCalendar(ctx, in.Site)
			if err != nil {
				return nil, problem(err)
			}
			return &exported{Type: calendarType, Disposition: `attachment; filename="promotions.ics"`, Body: raw}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "make-calendar-address", Method: http.MethodPost, Path: "/calendar/address", Summary: "Creates a secret address to subscribe to; an earlier one no longer works", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *BySite) (*output[AddressView], error) {
			secret, err := s.Store.NewCalendarAddress(ctx, in.id(), who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			a, err := s.Store.CalendarAddressOf(ctx, in.id())
			return out(AddressView{MadeBy: a.MadeBy, MadeAt: a.MadeAt, Address: "/calendar/" + secret + ".ics"}, err)
		})
	huma.Register(api, huma.Operation{OperationID: "remove-calendar-address", Method: http.MethodDelete, Path: "/calendar/address", Summary: "Takes the address to subscribe to away", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *BySite) (*struct{}, error) {
			_, err := s.Store.RemoveCalendarAddress(ctx, in.id())
			return nil, problem(err)
		})
}

// Imported says what came of a file that was read.
type Imported struct {
	Added    int `json:"added"`
	Replaced int `json:"replaced"`
}

const calendarType = "text/calendar; charset=utf-8"

// calendarRoutes is the address to which other programs subscribe. Nobody signs in there: who knows the secret may read that calendar.
func (s *Server) calendarRoutes(r chi.Router) {
	r.Get("/calendar/{secret}.ics", func(w http.ResponseWriter, r *http.Request) {
		a, err := s.Store.UseCalendarAddress(r.Context(), chi.URLParam(r, "secret"))
		if errors.Is(err, store.ErrNotFound) {
			http.Error(w, "There is no such calendar. Its address may have been replaced.", http.StatusNotFound)
			return
		}
		var raw []byte
		if err == nil {
			site := int64(0)
			if a.SiteID != nil {
				site = *a.SiteID
			}
			raw, err = s.Changes.WriteCalendar(r.Context(), site)
		}
		if err != nil {
			s.Log.Error("a calendar could not be served", "why", err)
			http.Error(w, "The calendar cannot be read now. Ask again later.", http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", calendarType)
		w.Header().Set("Cache-Control", "private, no-store")
		_, _ = w.Write(raw)
	})
}

// calendarAhead is how much of a calendar is shown when nobody says.
const calendarAhead = 5 * 7 * 24 * time.Hour

// mostCalendar is how much of a calendar can be asked for.
const mostCalendar = 400 * 24 * time.Hour

func (s *Server) calendarView(ctx context.Context, site int64, from, to time.Time) (CalendarView, error) {
	now := s.Changes.Now()
	if from.IsZero() {
		from = now
	}
	if to.IsZero() {
		to = from.Add(calendarAhead)
	}
	if !to.After(from) || to.Sub(from) > mostCalendar {
		return CalendarView{}, huma.Error422UnprocessableEntity("A calendar is shown for up to 400 days: give an end after its beginning.")
	}
	v := CalendarView{Entries: []CalendarEntryView{}, Occurrences: []CalendarOccurrence{}, Going: []GoingOut{}}
	names := map[int64]string{}
	rows, err := s.Store.CalendarEntries(ctx, site)
	if err != nil {
		return v, err
	}
	var lines []calendar.Line
	for _, r := range rows {
		view, line, err := s.entryView(ctx, r, names, now)
		if unread, is := errors.AsType[*store.UnreadEntry](err); is {
			v.Trouble = unread.Error() + "."
		} else if err != nil {
			return v, err
		} else {
			lines = append(lines, line)
			for _, o := range line.Between(from, to) {
				v.Occurrences = append(v.Occurrences, CalendarOccurrence{r.ID, o.Begins, o.Ends})
			}
		}
		v.Entries = append(v.Entries, view)
	}
	v.Occurrences = inOrder(v.Occurrences)
	if site != 0 && v.Trouble == "" {
		v.Why = calendar.Why(lines, now)
		if at, ok := calendar.Opens(lines, now); ok && v.Why != "" {
			v.Opens = &at
		}
	}
	going, err := s.Store.GoingOut(ctx, from)
	if err != nil {
		return v, err
	}
	for _, r := range going {
		if site == 0 || r.SiteID == site {
			v.Going = append(v.Going, GoingOut{r.SiteID, r.SiteName, r.ChangeID, r.Title, r.Who, r.At, r.Done})
		}
	}
	a, err := s.Store.CalendarAddressOf(ctx, BySite{site}.id())
	if errors.Is(err, store.ErrNotFound) {
		return v, nil
	}
	v.Address = &AddressView{MadeBy: a.MadeBy, MadeAt: a.MadeAt, UsedAt: a.UsedAt}
	return v, err
}

// mostShown is how many occurrences are shown at once.
const mostShown = 1000

func inOrder(all []CalendarOccurrence) []CalendarOccurrence {
	slices.SortStableFunc(all, func(a, b CalendarOccurrence) int { return a.Begins.Compare(b.Begins) })
	return all[:min(len(all), mostShown)]
}

// entryView shows an entry; *store.UnreadEntry beside it when it cannot be read.
func (s *Server) entryView(ctx context.Context, r store.CalendarEntry, names map[int64]string, now time.Time) (CalendarEntryView, calendar.Line, error) {
	v := CalendarEntryView{ID: r.ID, Version: r.Version, Entry: r.Entry(), MadeBy: r.MadeBy}
	if r.SiteID != nil {
		if _, known := names[*r.SiteID]; !known {
			row, err := s.Store.Site(ctx, *r.SiteID)
			if err != nil {
				return v, calendar.Line{}, err
			}
			names[*r.SiteID] = row.Name
		}
		v.Site, v.SiteName = *r.SiteID, names[*r.SiteID]
	}
	line, err := calendar.Read(v.Entry, time.LoadLocation)
	if err != nil {
		return v, line, &store.UnreadEntry{Title: r.Title, Why: err}
	}
	if next := line.Between(now, now.Add(mostCalendar)); len(next) > 0 {
		v.Next, v.Now = &next[0].Begins, !next[0].Begins.After(now)
	}
	return v, line, nil
}

func (s *Server) calendarEntryView(ctx context.Context, id int64) (CalendarEntryView, error) {
	row, err := s.Store.CalendarEntry(ctx, id)
	if err != nil {
		return CalendarEntryView{}, err
	}
	v, _, err := s.entryView(ctx, row, map[int64]string{}, s.Changes.Now())
	return v, err
}

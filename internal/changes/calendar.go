package changes

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/core/calendar"
	"tidemarker/internal/store"
)

// AddEntry adds a freeze or a window to a site's calendar, or to that of all sites (nil).
func (d *Desk) AddEntry(ctx context.Context, siteID *int64, e calendar.Entry, who string) (id int64, err error) {
	e.UID = rand.Text() + "@tidemarker"
	if _, err := calendar.Read(e, time.LoadLocation); err != nil {
		return 0, &NotRight{err}
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		if id, err = s.AddCalendarEntry(ctx, store.CalendarEntry{SiteID: siteID, MadeBy: who}.With(e)); err != nil {
			return err
		}
		return calendarNote(ctx, s, siteID, who, "Added the "+described(e))
	})
	return id, err
}

// calendarNote adds a line about a calendar to the history, and tells who looks.
func calendarNote(ctx context.Context, s *store.Store, siteID *int64, who, text string) error {
	n := store.Signal{}
	if siteID != nil {
		n.Site = *siteID
	} else {
		text += " It is for all sites."
		if err := s.RecordTeam(ctx, who, text); err != nil { // there may be no site yet
			return err
		}
	}
	return errors.Join(s.RecordCalendar(ctx, siteID, who, text), s.Tell(ctx, n))
}

func described(e calendar.Entry) string {
	again := ""
	if e.Rule != "" {
		again = ", again by " + e.Rule
	}
	return fmt.Sprintf("%s “%s”: %s to %s, %s%s.", e.Kind, e.Title, e.Begins, e.Ends, e.Zone, again)
}

// EditEntry replaces an entry; *[Conflict] when somebody else edited or removed it since a version.
func (d *Desk) EditEntry(ctx context.Context, id int64, version int, e calendar.Entry, who string) error {
	return d.entry(ctx, id, func(s *store.Store, was store.CalendarEntry) (bool, string, error) {
		e.UID = was.UID
		if _, err := calendar.Read(e, time.LoadLocation); err != nil {
			return false, "", &NotRight{err}
		}
		ok, err := s.EditCalendarEntry(ctx, was.With(e), version)
		return ok, "Edited the " + described(was.Entry()) + " It is now the " + described(e), err
	}, who)
}

// RemoveEntry removes an entry; *[Conflict] when somebody else edited or removed it since a version.
func (d *Desk) RemoveEntry(ctx context.Context, id int64, version int, who string) error {
	return d.entry(ctx, id, func(s *store.Store, was store.CalendarEntry) (bool, string, error) {
		ok, err := s.RemoveCalendarEntry(ctx, id, version)
		return ok, "Removed the " + described(was.Entry()), err
	}, who)
}

func (d *Desk) entry(ctx context.Context, id int64, do func(*store.Store, store.CalendarEntry) (ok bool, said string, err error), who string) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		was, err := s.CalendarEntry(ctx, id)
		if err != nil {
			return err
		}
		ok, said, err := do(s, was)
		if err == nil && !ok {
			err = &Conflict{"Somebody else edited this entry just now. Load the calendar again."}
		}
		if err != nil {
			return err
		}
		return calendarNote(ctx, s, was.SiteID, who, said)
	})
}

// ImportCalendar takes the events of an iCalendar file as entries, all or none. An event that came before is replaced.
func (d *Desk) ImportCalendar(ctx context.Context, siteID *int64, raw []byte, kind calendar.Kind, zone, who string) (added, replaced int, err error) {
	if _, err := time.LoadLocation(zone); err != nil || zone == "" {
		return 0, 0, &NotRight{fmt.Errorf("“%s” is no time zone. Write it as Europe/Vienna, or UTC", zone)}
	}
	entries, err := calendar.ReadFile(raw, kind, zone, time.LoadLocation)
	if err != nil {
		return 0, 0, &NotRight{err}
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		for _, e := range entries {
			if e.UID == "" {
				e.UID = rand.Text() + "@tidemarker"
			}
			isNew, err := s.PutCalendarEntry(ctx, store.CalendarEntry{SiteID: siteID, MadeBy: who}.With(e))
			if err != nil {
				return err
			}
			if isNew {
				added++
			} else {
				replaced++
			}
		}
		return calendarNote(ctx, s, siteID, who, fmt.Sprintf("Imported a calendar: %d entries added, %d replaced.", added, replaced))
	})
	return added, replaced, err
}

// WriteCalendar is the calendar of a site, or of all sites (0), as iCalendar.
func (d *Desk) WriteCalendar(ctx context.Context, siteID int64) ([]byte, error) {
	rows, err := d.Store.CalendarEntries(ctx, siteID)
	if err != nil {
		return nil, err
	}
	names := map[int64]string{}
	name := "Promotions"
	if siteID != 0 {
		site, err := d.Store.Site(ctx, siteID)
		if err != nil {
			return nil, err
		}
		name = site.Name + ": promotions"
	}
	lines := make([]calendar.Line, len(rows))
	for i, r := range rows {
		e := r.Entry()
		if siteID == 0 && r.SiteID != nil { // several sites may have an entry of one file
			if _, known := names[*r.SiteID]; !known {
				site, err := d.Store.Site(ctx, *r.SiteID)
				if err != nil {
					return nil, err
				}
				names[*r.SiteID] = site.Name
			}
			e.UID, e.Title = fmt.Sprintf("%s/%d", e.UID, *r.SiteID), clipped(names[*r.SiteID]+": "+e.Title)
		}
		if lines[i], err = calendar.Read(e, time.LoadLocation); err != nil {
			return nil, &store.UnreadEntry{Title: e.Title, Why: err}
		}
	}
	return calendar.Write(name, lines, d.Now())
}

// clipped is a title that is not too long for a calendar.
func clipped(title string) string {
	const most = 200
	if r := []rune(title); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return title
}

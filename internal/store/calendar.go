package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tidemarker/internal/core/calendar"
)

// CalendarEntry is a freeze or a window of one site, or of all.
type CalendarEntry struct {
	ID      int64          `db:"id"`
	SiteID  *int64         `db:"site_id"` // nil: of all sites
	UID     string         `db:"uid"`
	Kind    calendar.Kind  `db:"kind"`
	Title   string         `db:"title"`
	Begins  string         `db:"begins"`
	Ends    string         `db:"ends"`
	Zone    string         `db:"zone"`
	Rule    string         `db:"rule"`
	Except  JSON[[]string] `db:"except_at"`
	Version int            `db:"version"`
	MadeBy  string         `db:"made_by"`
	MadeAt  time.Time      `db:"made_at"`
}

// Entry is what the rules read of it.
func (e CalendarEntry) Entry() calendar.Entry {
	except := e.Except.V
	if except == nil {
		except = []string{}
	}
	return calendar.Entry{UID: e.UID, Kind: e.Kind, Title: e.Title, Begins: e.Begins, Ends: e.Ends, Zone: e.Zone, Rule: e.Rule, Except: except}
}

// With is the entry with what somebody wrote.
func (e CalendarEntry) With(c calendar.Entry) CalendarEntry {
	e.UID, e.Kind, e.Title, e.Begins, e.Ends, e.Zone, e.Rule, e.Except.V = c.UID, c.Kind, c.Title, c.Begins, c.Ends, c.Zone, c.Rule, c.Except
	return e
}

// CalendarEntries are a site's entries and those for all sites; every entry there is for 0.
func (s *Store) CalendarEntries(ctx context.Context, siteID int64) ([]CalendarEntry, error) {
	return many[CalendarEntry](ctx, s, "the calendar", `SELECT `+columns[CalendarEntry]("")+` FROM calendar_entries WHERE $1 = 0 OR site_id IS NULL OR site_id = $1 ORDER BY id`, siteID)
}

// UnreadEntry says that an entry of a calendar cannot be read, as one whose time zone this machine does not know.
type UnreadEntry struct {
	Title string
	Why   error
}

func (e *UnreadEntry) Error() string {
	return fmt.Sprintf("the calendar's entry “%s” cannot be read: %v", e.Title, e.Why)
}

// Calendar is what a site's calendar says, its own and that of all sites; *[UnreadEntry] when one of its
// entries cannot be read: nothing goes out past it.
func (s *Store) Calendar(ctx context.Context, siteID int64) ([]calendar.Line, error) {
	rows, err := s.CalendarEntries(ctx, siteID)
	if err != nil {
		return nil, err
	}
	lines := make([]calendar.Line, len(rows))
	for i, r := range rows {
		if lines[i], err = calendar.Read(r.Entry(), time.LoadLocation); err != nil {
			return nil, &UnreadEntry{r.Title, err}
		}
	}
	return lines, nil
}

// RecordCalendar adds a line to the history of a site, or of all sites, about their calendar.
func (s *Store) RecordCalendar(ctx context.Context, siteID *int64, who, text string) error {
	return s.exec(ctx, "the history", `INSERT INTO history (site_id, kind, text, who) SELECT id, 'calendar', $2, $3 FROM sites WHERE $1::bigint IS NULL OR id = $1 ORDER BY id`, siteID, text, who)
}

// CalendarEntry reads one entry.
func (s *Store) CalendarEntry(ctx context.Context, id int64) (CalendarEntry, error) {
	return one[CalendarEntry](ctx, s, fmt.Sprintf("calendar entry %d", id), `SELECT `+columns[CalendarEntry]("")+` FROM calendar_entries WHERE id = $1`, id)
}

// ErrSameEntry says that the calendar has an entry with this UID.
var ErrSameEntry = errors.New("the calendar has this entry already")

// AddCalendarEntry adds an entry; [ErrSameEntry] when there is one with its UID.
func (s *Store) AddCalendarEntry(ctx context.Context, e CalendarEntry) (int64, error) {
	id, err := s.insert(ctx, "the calendar entry", `INSERT INTO calendar_entries (site_id, uid, kind, title, begins, ends, zone, rule, except_at, made_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		e.SiteID, e.UID, e.Kind, e.Title, e.Begins, e.Ends, e.Zone, e.Rule, e.Except, e.MadeBy)
	if pg, is := errors.AsType[*pgconn.PgError](err); is && pg.ConstraintName == "calendar_entries_site_id_uid_key" {
		return 0, ErrSameEntry
	}
	return id, err
}

// PutCalendarEntry adds an entry, or makes of the one with its UID what it says now; added tells which.
func (s *Store) PutCalendarEntry(ctx context.Context, e CalendarEntry) (added bool, err error) {
	return one[bool](ctx, s, "the calendar entry", `INSERT INTO calendar_entries AS c (site_id, uid, kind, title, begins, ends, zone, rule, except_at, made_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		ON CONFLICT (site_id, uid) DO UPDATE SET kind = excluded.kind, title = excluded.title, begins = excluded.begins, ends = excluded.ends, zone = excluded.zone, rule = excluded.rule, except_at = excluded.except_at, version = c.version + 1
		RETURNING c.version = 1`, e.SiteID, e.UID, e.Kind, e.Title, e.Begins, e.Ends, e.Zone, e.Rule, e.Except, e.MadeBy)
}

// EditCalendarEntry replaces an entry on condition that nobody edited it since a version; ok is
// false when somebody did, or removed it.
func (s *Store) EditCalendarEntry(ctx context.Context, e CalendarEntry, version int) (ok bool, err error) {
	return s.changed(ctx, "the calendar entry", `UPDATE calendar_entries SET kind = $3, title = $4, begins = $5, ends = $6, zone = $7, rule = $8, except_at = $9, version = version + 1 WHERE id = $1 AND version = $2`,
		e.ID, version, e.Kind, e.Title, e.Begins, e.Ends, e.Zone, e.Rule, e.Except)
}

// RemoveCalendarEntry removes an entry on condition that nobody edited it since a version.
func (s *Store) RemoveCalendarEntry(ctx context.Context, id int64, version int) (ok bool, err error) {
	return s.changed(ctx, "the calendar entry", `DELETE FROM calendar_entries WHERE id = $1 AND version = $2`, id, version)
}

// CalendarAddress is a secret address to subscribe to a calendar.
type CalendarAddress struct {
	ID     int64      `db:"id"`
	SiteID *int64     `db:"site_id"` // nil: of all sites
	MadeBy string     `db:"made_by"`
	MadeAt time.Time  `db:"made_at"`
	UsedAt *time.Time `db:"used_at"`
}

// NewCalendarAddress makes the secret of a calendar's address; an earlier one is of no use any more.
func (s *Store) NewCalendarAddress(ctx context.Context, siteID *int64, who string) (secret string, err error) {
	secret, hash := newSecret("cal_")
	return secret, s.exec(ctx, "the calendar's address", `INSERT INTO calendar_addresses (site_id, secret, made_by) VALUES ($1, $2, $3)
		ON CONFLICT (site_id) DO UPDATE SET secret = excluded.secret, made_by = excluded.made_by, made_at = now(), used_at = NULL`, siteID, hash, who)
}

// RemoveCalendarAddress takes a calendar's address away; ok is false when it has none.
func (s *Store) RemoveCalendarAddress(ctx context.Context, siteID *int64) (ok bool, err error) {
	return s.changed(ctx, "the calendar's address", `DELETE FROM calendar_addresses WHERE site_id IS NOT DISTINCT FROM $1`, siteID)
}

// CalendarAddressOf is the address of a calendar; [ErrNotFound] when it has none.
func (s *Store) CalendarAddressOf(ctx context.Context, siteID *int64) (CalendarAddress, error) {
	return one[CalendarAddress](ctx, s, "an address of the calendar", `SELECT `+columns[CalendarAddress]("")+` FROM calendar_addresses WHERE site_id IS NOT DISTINCT FROM $1`, siteID)
}

// UseCalendarAddress finds the calendar of a secret; [ErrNotFound] when there is none.
func (s *Store) UseCalendarAddress(ctx context.Context, secret string) (CalendarAddress, error) {
	return one[CalendarAddress](ctx, s, "a calendar at this address", `UPDATE calendar_addresses SET used_at = now() WHERE secret = $1 RETURNING `+columns[CalendarAddress](""), secretHash(secret))
}

package store

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
)

// Change is a proposed edit of settings.
type Change struct {
	ID          int64                      `db:"id"`
	SiteID      int64                      `db:"site_id"`
	Title       string                     `db:"title"`
	Reason      string                     `db:"reason"`
	Effect      string                     `db:"effect"`
	State       release.State              `db:"state"`
	Base        string                     `db:"base"` // production's fingerprint that it was begun from
	Edits       JSON[settings.Values]      `db:"edits"`
	Expected    JSON[*measure.Expectation] `db:"expected"`    // what it is meant to make better, in figures; nil when nobody said
	Version     int                        `db:"version"`     // raised by each write
	Edition     int                        `db:"edition"`     // the version as which somebody last edited it
	Explanation string                     `db:"explanation"` // what became of it, in words
	Follows     *int64                     `db:"follows"`     // the change before it in a series
	TakesOut    *int64                     `db:"takes_out"`   // the change whose edits it takes out again
	EditedBy    string                     `db:"edited_by"`
	Makers      JSON[[]string]             `db:"makers"` // who edited it since, as people are called
	CreatedBy   string                     `db:"created_by"`
	CreatedAt   time.Time                  `db:"created_at"`
	UpdatedAt   time.Time                  `db:"updated_at"`
}

const newChangeSQL = `INSERT INTO changes (site_id, title, reason, effect, state, base, edits, created_by, follows, takes_out)
	VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`

// NewChange begins a change from a base revision.
func (s *Store) NewChange(ctx context.Context, c Change) (int64, error) {
	return s.insert(ctx, "the change", newChangeSQL, c.SiteID, c.Title, c.Reason, c.Effect, release.Drafted, c.Base, c.Edits, c.CreatedBy, c.Follows, c.TakesOut)
}

// Change reads one change.
func (s *Store) Change(ctx context.Context, id int64) (Change, error) {
	return one[Change](ctx, s, fmt.Sprintf("change %d", id), `SELECT `+columns[Change]("")+` FROM changes WHERE id = $1`, id)
}

// Changes lists a site's changes, the latest first.
func (s *Store) Changes(ctx context.Context, siteID int64, limit, offset int) ([]Change, error) {
	return many[Change](ctx, s, "the changes", `SELECT `+columns[Change]("")+` FROM changes WHERE site_id = $1 ORDER BY updated_at DESC, id DESC LIMIT $2 OFFSET $3`, siteID, limit, offset)
}

// ChangesIn lists a site's changes that are in one of these states, the oldest first.
func (s *Store) ChangesIn(ctx context.Context, siteID int64, states ...release.State) ([]Change, error) {
	names := make([]string, len(states))
	for i, st := range states {
		names[i] = string(st)
	}
	return many[Change](ctx, s, "the changes", `SELECT `+columns[Change]("")+` FROM changes WHERE site_id = $1 AND state = ANY($2) ORDER BY id`, siteID, names)
}

// LockChange reads a change as it stays until the transaction ends: nobody else edits or moves it, begins a run of its site, or
// writes what the site's environments have. Who locks more than that does it in this order: runs, environments, changes.
func (s *Store) LockChange(ctx context.Context, id int64) (Change, error) {
	c, err := s.Change(ctx, id)
	if err != nil {
		return c, err
	}
	if err := s.LockSite(ctx, c.SiteID); err != nil {
		return c, err
	}
	return one[Change](ctx, s, fmt.Sprintf("change %d", id), `SELECT `+columns[Change]("")+` FROM changes WHERE id = $1 FOR UPDATE`, id)
}

// SaveChange writes a change's words, edits and state, on condition that it still is in the state and of the version that it was
// read with. Each write raises the version. ok is false when somebody else wrote it since.
func (s *Store) SaveChange(ctx context.Context, was, now Change) (ok bool, err error) {
	if was.Title != now.Title || was.Reason != now.Reason || was.Effect != now.Effect || was.Base != now.Base || !reflect.DeepEqual(was.Edits, now.Edits) {
		now.Edition = was.Version + 1
	}
	return s.changed(ctx, "the change", `UPDATE changes SET title = $4, reason = $5, effect = $6, edits = $7, state = $8, base = $9, edited_by = $10, explanation = $11, expected = $12, edition = $13, makers = $14,
		version = version + 1, updated_at = now() WHERE id = $1 AND version = $2 AND state = $3`,
		was.ID, was.Version, was.State, now.Title, now.Reason, now.Effect, now.Edits, now.State, now.Base, now.EditedBy, now.Explanation, now.Expected, now.Edition, now.Makers)
}

// MoveChange puts a change into another state, on condition that it still is in the one it was in; ok is false when it is not.
func (s *Store) MoveChange(ctx context.Context, id int64, from, to release.State, explanation string) (ok bool, err error) {
	err = s.Within(ctx, func(s *Store) error {
		was, err := s.LockChange(ctx, id)
		if err != nil || was.State != from {
			return err
		}
		now := was
		now.State, now.Explanation = to, explanation
		ok, err = s.SaveChange(ctx, was, now)
		return err
	})
	return ok, err
}

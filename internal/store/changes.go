package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

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
	Expected    JSON[*measure.Expectation] `db:"expected"` // what it is meant to make better, in figures; nil when nobody said
	Version     int                        `db:"version"`
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

const editChangeSQL = `UPDATE changes SET title = $3, reason = $4, effect = $5, edits = $6, state = $7, base = $8, edited_by = $9, version = version + 1, updated_at = now(),
	makers = CASE WHEN $9 = '' OR makers @> to_jsonb($9::text) THEN makers ELSE makers || to_jsonb($9::text) END
	WHERE id = $1 AND version = $2`

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

// EditChange replaces a change's words, edits and state on condition that nobody else
// edited it since that version; ok is false when somebody did.
func (s *Store) EditChange(ctx context.Context, c Change, version int) (ok bool, err error) {
	return s.changed(ctx, "the change", editChangeSQL, c.ID, version, c.Title, c.Reason, c.Effect, c.Edits, c.State, c.Base, c.EditedBy)
}

// DescribeChange replaces a change's words, and nothing of what it does, on condition that nobody else edited it since that
// version; ok is false when somebody did.
func (s *Store) DescribeChange(ctx context.Context, c Change, version int) (ok bool, err error) {
	return s.changed(ctx, "the change", `UPDATE changes SET title = $3, reason = $4, effect = $5, edited_by = $6, version = version + 1, updated_at = now() WHERE id = $1 AND version = $2`,
		c.ID, version, c.Title, c.Reason, c.Effect, c.EditedBy)
}

// SplitChange edits a change and begins those that follow it, each after the one before,
// all at once or not at all. ok is false when somebody edited the change since its
// version.
func (s *Store) SplitChange(ctx context.Context, first Change, rest []Change) (ok bool, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, editChangeSQL, first.ID, first.Version, first.Title, first.Reason, first.Effect, first.Edits, first.State, first.Base, first.EditedBy)
		if err != nil {
			return fmt.Errorf("write the change: %w", err)
		}
		if n, err := res.RowsAffected(); err != nil || n != 1 {
			return err
		}
		before := first.ID
		for _, c := range rest {
			if err := tx.GetContext(ctx, &before, newChangeSQL, c.SiteID, c.Title, c.Reason, c.Effect, release.Drafted, c.Base, c.Edits, c.CreatedBy, before, c.TakesOut); err != nil {
				return fmt.Errorf("write the change: %w", err)
			}
		}
		ok = true
		return nil
	})
	return ok, err
}

// MoveChange puts a change into another state, on condition that it still is in the
// one it was in; ok is false when it is not.
func (s *Store) MoveChange(ctx context.Context, id int64, from, to release.State, explanation string) (ok bool, err error) {
	return s.changed(ctx, "the change's state", `UPDATE changes SET state = $3, explanation = $4, updated_at = now() WHERE id = $1 AND state = $2`, id, from, to, explanation)
}

// Expect records what a change is meant to make better, nil for nothing in figures.
func (s *Store) Expect(ctx context.Context, id int64, e *measure.Expectation) error {
	return s.exec(ctx, "the change", `UPDATE changes SET expected = $2 WHERE id = $1`, id, JSON[*measure.Expectation]{V: e})
}

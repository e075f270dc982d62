package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// DriftState says what became of a change made outside.
type DriftState string

// What can become of a change made outside.
const (
	DriftOpen     DriftState = "open"
	DriftAccepted DriftState = "accepted" // a person said that it is meant
	DriftReverted DriftState = "reverted" // a run brought back what was before
	DriftReplaced DriftState = "replaced" // a run brought other settings in force
	DriftGone     DriftState = "gone"     // it was undone outside, too
)

// Drift is a change of an environment's settings made outside Tide Marker.
type Drift struct {
	ID            int64      `db:"id"`
	SiteID        int64      `db:"site_id"`
	EnvironmentID int64      `db:"environment_id"`
	Was           string     `db:"was"`   // fingerprint before
	Found         string     `db:"found"` // fingerprint now
	FoundAt       time.Time  `db:"found_at"`
	State         DriftState `db:"state"`
	SettledBy     string     `db:"settled_by"`
	SettledAt     *time.Time `db:"settled_at"`
	Reason        string     `db:"reason"`
}

// NoteDrift records that an environment now has other settings than it was left with.
// A drift that is open goes on: it ends as gone when the settings are again those from
// before it.
func (s *Store) NoteDrift(ctx context.Context, env Environment, found string) error {
	return s.exec(ctx, "what was changed outside", `
		INSERT INTO drifts (site_id, environment_id, was, found) VALUES ($1, $2, $3, $4)
		ON CONFLICT (environment_id) WHERE state = 'open' DO UPDATE SET found = excluded.found, found_at = now(),
			state = CASE WHEN drifts.was = excluded.found THEN 'gone' ELSE 'open' END,
			settled_by = CASE WHEN drifts.was = excluded.found THEN 'outside' ELSE '' END,
			settled_at = CASE WHEN drifts.was = excluded.found THEN now() END`,
		env.SiteID, env.ID, env.Fingerprint, found)
}

// OpenDrifts lists what was changed outside on a site's environments and is not
// settled.
func (s *Store) OpenDrifts(ctx context.Context, siteID int64) ([]Drift, error) {
	return many[Drift](ctx, s, "what was changed outside", `SELECT `+columns[Drift]("")+` FROM drifts WHERE site_id = $1 AND state = 'open' ORDER BY id`, siteID)
}

// Drift reads one change made outside.
func (s *Store) Drift(ctx context.Context, id int64) (Drift, error) {
	return one[Drift](ctx, s, fmt.Sprintf("change outside %d", id), `SELECT `+columns[Drift]("")+` FROM drifts WHERE id = $1`, id)
}

// AcceptDrift says that what was found is meant, on condition that it still is what the
// person saw; ok is false when it is not.
func (s *Store) AcceptDrift(ctx context.Context, id int64, seen, who, reason string) (ok bool, err error) {
	return s.changed(ctx, "the change outside", `UPDATE drifts SET state = 'accepted', settled_by = $3, settled_at = now(), reason = $4 WHERE id = $1 AND state = 'open' AND found = $2`, id, seen, who, reason)
}

// settleDrift closes an environment's open drift when a run of ours brought settings
// in force.
func settleDrift(ctx context.Context, tx *sqlx.Tx, envID int64, fingerprint, who string) error {
	_, err := tx.ExecContext(ctx, `UPDATE drifts SET state = CASE WHEN was = $2 THEN 'reverted' ELSE 'replaced' END, settled_by = $3, settled_at = now()
		WHERE environment_id = $1 AND state = 'open' AND found <> $2`, envID, fingerprint, who)
	return err
}

package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/evidence"
)

// WaitsFor says what on a site waits for a person, the most urgent first. The numbers
// are the order in which sites are listed.
type WaitsFor int

// What can wait.
const (
	WaitsUnknown    WaitsFor = iota + 1 // nobody knows what an environment has
	WaitsDrift                          // an environment was changed outside
	WaitsManualTask                     // a checklist is to be carried out
	WaitsBack                           // a change is announced to go back by itself
	WaitsPromoted                       // a change is on production and not clear
	WaitsRestored                       // a change was rolled back, and the check of that is not clear
	WaitsWatch                          // the watch of a promotion is over, and a person has to say what follows
	WaitsRollout                        // a rollout stopped, or is clear on stagings and waits to be let go
	WaitsApproval                       // an approval of a change is asked for
	WaitsChecked                        // a change was checked
	WaitsStaging                        // a change is on staging, unchecked
	WaitsMark                           // an environment has no mark
	WaitsAway                           // an environment is away from its mark
	WaitsDraft                          // a change is drafted
	WaitsGoing                          // nothing; a change is approved to go out by itself
	WaitsRun                            // nothing; a run is under way
	WaitsNothing
)

// Overview is one site in the list of sites.
type Overview struct {
	ID           int64          `db:"id"`
	Name         string         `db:"name"`
	UpdatedAt    time.Time      `db:"updated_at"`
	Waits        WaitsFor       `db:"waits"`
	Subject      int64          `db:"subject"` // number of the drift, run, change or environment
	About        string         `db:"about"`   // its name
	Total        int            `db:"total"`   // of the list, not of the page
	Labels       JSON[[]string] `db:"labels"`
	Environments []EnvironmentOverview
}

// EnvironmentOverview is one environment in the list of sites.
type EnvironmentOverview struct {
	SiteID      int64            `db:"site_id"`
	Name        string           `db:"name"`
	Fingerprint string           `db:"fingerprint"`
	ReadAt      *time.Time       `db:"read_at"`
	Marked      *string          `db:"marked"` // fingerprint of its latest mark
	MarkedAt    *time.Time       `db:"marked_at"`
	Verdict     evidence.Verdict `db:"verdict"` // of its last run
	Summary     string           `db:"summary"`
}

// overviewSQL finds for each site the most urgent thing that waits. The numbers are
// those of [WaitsFor].
const overviewSQL = `
WITH marked AS (
  SELECT DISTINCT ON (environment_id) environment_id, fingerprint FROM marks ORDER BY environment_id, id DESC
), things AS (
  SELECT e.site_id, 1 AS waits, e.id AS subject, e.name AS about FROM acts a JOIN environments e ON e.id = a.environment_id WHERE a.state = 'unknown'
  UNION ALL SELECT d.site_id, 2, d.id, e.name FROM drifts d JOIN environments e ON e.id = d.environment_id WHERE d.state = 'open'
  UNION ALL SELECT h.site_id, 3, h.run_id, e.name FROM manual_tasks h JOIN environments e ON e.id = h.environment_id WHERE h.state = 'open'
  UNION ALL SELECT c.site_id, CASE WHEN c.state = 'promoted' THEN 5 WHEN c.state = 'restored' THEN 6 WHEN c.state = 'checked' AND a.state IN ('asked', 'questioned') THEN 9 WHEN c.state = 'checked' AND a.goes THEN 15
    WHEN c.state = 'checked' THEN 10 WHEN c.state = 'on staging' THEN 11 WHEN c.state = 'drafted' THEN 14 ELSE 16 END, c.id, c.title
    FROM changes c LEFT JOIN approvals a ON a.change_id = c.id AND a.state IN ('asked', 'questioned', 'approved') WHERE c.state IN ('promoted', 'restored', 'checked', 'on staging', 'drafted', 'rolling back')
  UNION ALL SELECT w.site_id, CASE WHEN w.back_at IS NOT NULL AND w.back_refused = '' THEN 4 ELSE 7 END, c.id, c.title FROM watches w JOIN changes c ON c.id = w.change_id
    WHERE c.state = 'marked' AND (w.state = 'waits for a person' OR w.state = 'watching' AND w.back_at IS NOT NULL AND w.back_refused = '')
  UNION ALL SELECT o.site_id, 8, o.id, o.title FROM rollouts o WHERE o.state = 'stopped' OR o.state = 'open' AND NOT EXISTS (
    SELECT FROM rollout_sites m LEFT JOIN changes c ON c.id = m.change_id WHERE m.rollout_id = o.id AND m.skipped = '' AND NOT m.nothing AND coalesce(c.state, 'drafted') IN ('drafted', 'trying'))
  UNION ALL SELECT e.site_id, 12, e.id, e.name FROM environments e LEFT JOIN marked m ON m.environment_id = e.id WHERE e.connector_kind <> '' AND m.environment_id IS NULL
  UNION ALL SELECT e.site_id, 13, e.id, e.name FROM environments e JOIN marked m ON m.environment_id = e.id WHERE e.connector_kind <> '' AND m.fingerprint <> e.fingerprint
  UNION ALL SELECT r.site_id, 16, r.id, e.name FROM runs r JOIN environments e ON e.id = r.environment_id WHERE r.state IN ('queued', 'running')
), first AS (
  SELECT DISTINCT ON (site_id) * FROM things ORDER BY site_id, waits, subject DESC
)
SELECT s.id, s.name, s.updated_at, coalesce(s.document->'labels', '[]') AS labels, coalesce(f.waits, 17) AS waits, coalesce(f.subject, 0) AS subject, coalesce(f.about, '') AS about, count(*) OVER () AS total
FROM sites s LEFT JOIN first f ON f.site_id = s.id
`

const overviewsSQL = overviewSQL + `WHERE position(lower($1) in lower(s.name)) > 0 AND (NOT $2 OR coalesce(f.waits, 17) < 15) AND ($6 = '' OR s.document->'labels' ? $6)
ORDER BY CASE WHEN $3 THEN coalesce(f.waits, 17) END, lower(s.name) LIMIT $4 OFFSET $5`

// OverviewOf says what waits on one site.
func (s *Store) OverviewOf(ctx context.Context, siteID int64) (Overview, error) {
	return one[Overview](ctx, s, fmt.Sprintf("site %d", siteID), overviewSQL+`WHERE s.id = $1`, siteID)
}

// Sought is which sites are listed, and in which order.
type Sought struct {
	Part                      string // of the name
	Label                     string // that they have; "" for all
	WaitingOnly, WaitingFirst bool
	Limit, Offset             int
}

// Labelled is how many sites have a label.
type Labelled struct {
	Label string `db:"label" json:"label"`
	Sites int    `db:"sites" json:"sites"`
}

// Labels are the labels of all sites, by name.
func (s *Store) Labels(ctx context.Context) ([]Labelled, error) {
	return many[Labelled](ctx, s, "the labels", `SELECT label, count(*) AS sites FROM sites, jsonb_array_elements_text(coalesce(document->'labels', '[]')) AS label GROUP BY label ORDER BY lower(label)`)
}

// Overviews lists a page of the sites that are sought, and says how many there are in all.
func (s *Store) Overviews(ctx context.Context, q Sought) ([]Overview, int, error) {
	list, err := many[Overview](ctx, s, "the sites", overviewsSQL, q.Part, q.WaitingOnly, q.WaitingFirst, q.Limit, q.Offset, q.Label)
	if err != nil || len(list) == 0 {
		return list, 0, err
	}
	at := map[int64]*Overview{}
	ids := make([]int64, len(list))
	for i := range list {
		ids[i] = list[i].ID
		at[list[i].ID] = &list[i]
	}
	query, args, err := sqlx.In(`
		SELECT e.site_id, e.name, e.fingerprint, e.read_at, m.fingerprint AS marked, m.taken_at AS marked_at, coalesce(r.verdict, '') AS verdict, coalesce(r.summary, '') AS summary
		FROM environments e
		LEFT JOIN LATERAL (SELECT fingerprint, taken_at FROM marks WHERE environment_id = e.id ORDER BY id DESC LIMIT 1) m ON true
		LEFT JOIN LATERAL (SELECT verdict, summary FROM runs WHERE environment_id = e.id AND verdict <> '' ORDER BY id DESC LIMIT 1) r ON true
		WHERE e.site_id IN (?) ORDER BY e.site_id, e.position`, ids)
	if err != nil {
		return nil, 0, err
	}
	envs := []EnvironmentOverview{}
	if err := s.db.SelectContext(ctx, &envs, s.db.Rebind(query), args...); err != nil {
		return nil, 0, fmt.Errorf("read the environments: %w", err)
	}
	for _, e := range envs {
		at[e.SiteID].Environments = append(at[e.SiteID].Environments, e)
	}
	return list, list[0].Total, nil
}

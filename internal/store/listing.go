package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
)

// Listing says which rows of a site's list are meant, in which order, and which page of them. What is empty leaves nothing out.
type Listing struct {
	Text          string // part of what a row says, in any case
	State         string // of a change
	Kind          string // of a run
	Verdict       string // of a run, or of the run that took a mark
	EnvironmentID int64
	Sort          string // one of the list's orders; "" for its first
	Down          bool   // the largest, latest or last first
	Limit, Offset int
}

// ListedChange is a change in the list of a site's changes.
type ListedChange struct {
	ID        int64                 `db:"id"`
	Title     string                `db:"title"`
	State     release.State         `db:"state"`
	Edits     JSON[settings.Values] `db:"edits"`
	Runs      int                   `db:"runs"`
	CreatedBy string                `db:"created_by"`
	CreatedAt time.Time             `db:"created_at"`
	UpdatedAt time.Time             `db:"updated_at"`
	Total     int                   `db:"total"`
}

// ListedRun is a run in the list of a site's runs.
type ListedRun struct {
	ID          int64            `db:"id"`
	Kind        release.RunKind  `db:"kind"`
	State       release.RunState `db:"state"`
	Verdict     evidence.Verdict `db:"verdict"`
	Summary     string           `db:"summary"`
	Environment string           `db:"environment"`
	ChangeID    *int64           `db:"change_id"`
	ChangeTitle string           `db:"change_title"`
	Fingerprint string           `db:"fingerprint"` // of the settings that it saw; "" when it is not recorded
	Seconds     *float64         `db:"seconds"`     // from its start to its end; nil while it is not over
	RequestedBy string           `db:"requested_by"`
	CreatedAt   time.Time        `db:"created_at"`
	Total       int              `db:"total"`
}

// ListedMark is a mark in the list of a site's marks.
type ListedMark struct {
	ID            int64            `db:"id"`
	EnvironmentID int64            `db:"environment_id"`
	Environment   string           `db:"environment"`
	Fingerprint   string           `db:"fingerprint"`
	InForce       bool             `db:"in_force"`
	RunID         int64            `db:"run_id"`
	Verdict       evidence.Verdict `db:"verdict"`
	EvidenceGone  bool             `db:"evidence_gone"`
	Reason        string           `db:"reason"`
	Who           string           `db:"who"`
	TakenAt       time.Time        `db:"taken_at"`
	Total         int              `db:"total"`
}

// ListedRevision is a revision in the list of a site's revisions.
type ListedRevision struct {
	Fingerprint string         `db:"fingerprint"`
	InForce     JSON[[]string] `db:"in_force"` // on these environments
	Marks       int            `db:"marks"`
	CreatedAt   time.Time      `db:"created_at"`
	Latest      *time.Time     `db:"latest"` // when an act last brought it anywhere
	Total       int            `db:"total"`
}

// siteList is a list of things that a site has: from where, which of them, and the orders they can have, the first when nobody chose one.
type siteList struct {
	what, columns, from string
	orders              [][2]string // name, expression
	key                 string      // keeps rows that are alike in one order
}

var (
	changeList = siteList{"the changes", `c.id, c.title, c.state, c.edits, (SELECT count(*) FROM runs r WHERE r.change_id = c.id) AS runs, c.created_by, c.created_at, c.updated_at`,
		`changes c WHERE c.site_id = $1 AND ($2 = '' OR position($2 in lower(c.title)) > 0 OR position($2 in lower(c.reason)) > 0) AND ($3 = '' OR c.state = $3) AND $4 = '' AND $5 = '' AND $6 = 0`,
		[][2]string{{"updated", "c.updated_at"}, {"created", "c.id"}, {"title", "lower(c.title)"}, {"state", "c.state"}, {"by", "lower(c.created_by)"}}, "c.id"}
	runList = siteList{"the runs", `r.id, r.kind, r.state, r.verdict, r.summary, e.name AS environment, r.change_id, COALESCE(c.title, '') AS change_title, CASE WHEN r.target <> '' THEN r.target ELSE r.before END AS fingerprint,
		extract(epoch FROM r.finished_at - r.started_at)::float8 AS seconds, r.requested_by, r.created_at`,
		`runs r JOIN environments e ON e.id = r.environment_id LEFT JOIN changes c ON c.id = r.change_id
		WHERE r.site_id = $1 AND ($2 = '' OR position($2 in lower(r.summary)) > 0 OR position($2 in lower(c.title)) > 0) AND $3 = '' AND ($4 = '' OR r.kind = $4) AND ($5 = '' OR r.verdict = $5) AND ($6 = 0 OR r.environment_id = $6)`,
		[][2]string{{"created", "r.id"}, {"kind", "r.kind"}, {"environment", "e.position"}, {"verdict", "r.verdict"}, {"seconds", "r.finished_at - r.started_at"}, {"by", "lower(r.requested_by)"}}, "r.id"}
	markList = siteList{"the marks", `m.id, m.environment_id, e.name AS environment, m.fingerprint, m.fingerprint = e.fingerprint AS in_force, m.run_id, r.verdict, r.evidence_gone_at IS NOT NULL AS evidence_gone, m.reason, m.who, m.taken_at`,
		`marks m JOIN environments e ON e.id = m.environment_id JOIN runs r ON r.id = m.run_id
		WHERE e.site_id = $1 AND ($2 = '' OR position($2 in lower(m.reason)) > 0 OR starts_with(m.fingerprint, $2)) AND $3 = '' AND $4 = '' AND ($5 = '' OR r.verdict = $5) AND ($6 = 0 OR m.environment_id = $6)`,
		[][2]string{{"taken", "m.id"}, {"environment", "e.position"}, {"verdict", "r.verdict"}, {"by", "lower(m.who)"}}, "m.id"}
	revisionList = siteList{"the revisions", `v.fingerprint, (SELECT COALESCE(jsonb_agg(e.name ORDER BY e.position), '[]') FROM environments e WHERE e.site_id = v.site_id AND e.fingerprint = v.fingerprint) AS in_force,
		(SELECT count(*) FROM marks m JOIN environments e ON e.id = m.environment_id WHERE e.site_id = v.site_id AND m.fingerprint = v.fingerprint) AS marks, v.created_at,
		(SELECT max(a.ended_at) FROM acts a JOIN environments e ON e.id = a.environment_id WHERE e.site_id = v.site_id AND a.fingerprint = v.fingerprint AND a.state = 'applied') AS latest`,
		`revisions v WHERE v.site_id = $1 AND ($2 = '' OR starts_with(v.fingerprint, $2)) AND $3 = '' AND $4 = '' AND $5 = ''
		AND ($6 = 0 OR EXISTS (SELECT FROM acts a WHERE a.environment_id = $6 AND a.fingerprint = v.fingerprint))`,
		[][2]string{{"created", "v.created_at"}, {"fingerprint", "v.fingerprint"}}, "v.fingerprint"}
)

func (l siteList) query(siteID int64, ask Listing) (string, []any) {
	by := l.orders[0][1]
	for _, o := range l.orders {
		if o[0] == ask.Sort {
			by = o[1]
		}
	}
	way := "ASC NULLS FIRST"
	if ask.Down {
		way = "DESC NULLS LAST"
	}
	return fmt.Sprintf(`SELECT %s, count(*) OVER () AS total FROM %s ORDER BY %s %s, %s %s LIMIT $7 OFFSET $8`, l.columns, l.from, by, way, l.key, way),
		[]any{siteID, strings.ToLower(strings.TrimSpace(ask.Text)), ask.State, ask.Kind, ask.Verdict, ask.EnvironmentID, ask.Limit, ask.Offset}
}

// listed reads a page of a list, and how many rows there are in all.
func listed[T any](ctx context.Context, s *Store, l siteList, siteID int64, ask Listing, total func(T) int) ([]T, int, error) {
	query, args := l.query(siteID, ask)
	rows, err := many[T](ctx, s, l.what, query, args...)
	switch {
	case err != nil:
		return nil, 0, err
	case len(rows) > 0:
		return rows, total(rows[0]), nil
	case ask.Offset == 0:
		return rows, 0, nil
	}
	ask.Offset = 0 // behind the end: the first page says how many there are
	_, n, err := listed(ctx, s, l, siteID, ask, total)
	return rows, n, err
}

// ListChanges is a page of a site's changes, and how many there are in all.
func (s *Store) ListChanges(ctx context.Context, siteID int64, ask Listing) ([]ListedChange, int, error) {
	return listed(ctx, s, changeList, siteID, ask, func(c ListedChange) int { return c.Total })
}

// ListRuns is a page of a site's runs, and how many there are in all.
func (s *Store) ListRuns(ctx context.Context, siteID int64, ask Listing) ([]ListedRun, int, error) {
	return listed(ctx, s, runList, siteID, ask, func(r ListedRun) int { return r.Total })
}

// ListMarks is a page of a site's marks, and how many there are in all.
func (s *Store) ListMarks(ctx context.Context, siteID int64, ask Listing) ([]ListedMark, int, error) {
	return listed(ctx, s, markList, siteID, ask, func(m ListedMark) int { return m.Total })
}

// ListRevisions is a page of a site's revisions, and how many there are in all.
func (s *Store) ListRevisions(ctx context.Context, siteID int64, ask Listing) ([]ListedRevision, int, error) {
	return listed(ctx, s, revisionList, siteID, ask, func(r ListedRevision) int { return r.Total })
}

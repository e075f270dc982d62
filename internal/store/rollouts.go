package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"tidemarker/internal/core/rollout"
	"tidemarker/internal/core/settings"
)

// Rollout is a change that settled on one site and goes on to others.
type Rollout struct {
	ID          int64         `db:"id"`
	SiteID      int64         `db:"site_id"`
	ChangeID    int64         `db:"change_id"`
	State       rollout.State `db:"state"`
	Why         string        `db:"why"`
	Pace        rollout.Pace  `db:"pace"`
	Measures    bool          `db:"measures"`
	Title       string        `db:"title"`
	Reason      string        `db:"reason"`
	MadeBy      string        `db:"made_by"`
	MadeAt      time.Time     `db:"made_at"`
	GoneBy      string        `db:"gone_by"`
	GoneDecides bool          `db:"gone_decides"`
	GoneAt      *time.Time    `db:"gone_at"`
}

// RolloutSite is one of the sites that a rollout goes to.
type RolloutSite struct {
	RolloutID    int64                  `db:"rollout_id"`
	SiteID       int64                  `db:"site_id"`
	Wave         int                    `db:"wave"`
	Confirmed    JSON[[]string]         `db:"confirmed"`
	ChangeID     *int64                 `db:"change_id"`
	Nothing      bool                   `db:"nothing"`
	Without      JSON[[]settings.Unmet] `db:"without"`
	Skipped      string                 `db:"skipped"`
	Said         string                 `db:"said"`
	TryAt        time.Time              `db:"try_at"`
	MeasureRunID *int64                 `db:"measure_run_id"`
}

// NewRollout records a rollout and its sites.
func (s *Store) NewRollout(ctx context.Context, r Rollout, sites []RolloutSite) (id int64, err error) {
	err = s.Within(ctx, func(s *Store) error {
		if id, err = s.insert(ctx, "the rollout", `INSERT INTO rollouts (site_id, change_id, state, pace, measures, title, reason, made_by, made_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`,
			r.SiteID, r.ChangeID, r.State, r.Pace, r.Measures, r.Title, r.Reason, r.MadeBy, r.MadeAt); err != nil {
			return err
		}
		for _, m := range sites {
			if err := s.exec(ctx, "a site of the rollout", `INSERT INTO rollout_sites (rollout_id, site_id, wave, confirmed, try_at) VALUES ($1, $2, $3, $4, $5)`, id, m.SiteID, m.Wave, m.Confirmed, r.MadeAt); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// Rollout reads one.
func (s *Store) Rollout(ctx context.Context, id int64) (Rollout, error) {
	return one[Rollout](ctx, s, fmt.Sprintf("rollout %d", id), `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE id = $1`, id)
}

// TakeRollout reads one that is not over, and keeps it from others until the transaction ends; [ErrNotFound] when somebody else has it.
func (s *Store) TakeRollout(ctx context.Context, id int64) (Rollout, error) {
	return one[Rollout](ctx, s, fmt.Sprintf("rollout %d", id), `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE id = $1 AND state <> 'ended' FOR UPDATE SKIP LOCKED`, id)
}

// LockRollout reads one, and waits for who has it.
func (s *Store) LockRollout(ctx context.Context, id int64) (Rollout, error) {
	return one[Rollout](ctx, s, fmt.Sprintf("rollout %d", id), `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE id = $1 FOR UPDATE`, id)
}

// Rollouts are those of a site's changes, or of all sites (0), the latest first.
func (s *Store) Rollouts(ctx context.Context, siteID int64) ([]Rollout, error) {
	return many[Rollout](ctx, s, "the rollouts", `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE $1 = 0 OR site_id = $1 ORDER BY id DESC LIMIT 200`, siteID)
}

// RolloutsOf are those of a change, the latest first.
func (s *Store) RolloutsOf(ctx context.Context, changeID int64) ([]Rollout, error) {
	return many[Rollout](ctx, s, "the rollouts", `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE change_id = $1 ORDER BY id DESC`, changeID)
}

// RolloutFor is the one that began a change; [ErrNotFound] when none did.
func (s *Store) RolloutFor(ctx context.Context, changeID int64) (Rollout, error) {
	return one[Rollout](ctx, s, "the rollout", `SELECT `+columns[Rollout]("")+` FROM rollouts WHERE id = (SELECT rollout_id FROM rollout_sites WHERE change_id = $1)`, changeID)
}

// OpenRollouts are those that are not over.
func (s *Store) OpenRollouts(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "the rollouts", `SELECT id FROM rollouts WHERE state <> 'ended' ORDER BY id`)
}

// SaveRollout keeps what a rollout has come to.
func (s *Store) SaveRollout(ctx context.Context, r Rollout) error {
	return s.exec(ctx, "the rollout", `UPDATE rollouts SET state = $2, why = $3, gone_by = $4, gone_decides = $5, gone_at = $6 WHERE id = $1`, r.ID, r.State, r.Why, r.GoneBy, r.GoneDecides, r.GoneAt)
}

// RolloutSites are a rollout's sites, by their wave.
func (s *Store) RolloutSites(ctx context.Context, id int64) ([]RolloutSite, error) {
	return many[RolloutSite](ctx, s, "the sites of the rollout", `SELECT `+columns[RolloutSite]("m")+` FROM rollout_sites m JOIN sites s ON s.id = m.site_id WHERE rollout_id = $1 ORDER BY wave, lower(s.name), site_id`, id)
}

// RolloutProgress is what a site of a rollout has come to.
type RolloutProgress struct {
	RolloutSite
	Name       string `db:"name"`       // of the site
	Staging    string `db:"staging"`    // names of its environments
	Production string `db:"production"` //
	TriedID    *int64 `db:"tried_id"`   // the latest try of its change that is over
	PromotedID *int64 `db:"promoted_id"`
	WatchWaits bool   `db:"watch_waits"` // its watch waits for a person
	// Change is the site's; the zero value until it is begun. Tried, Promoted and Measured are the runs, nil where there is none.
	Change                    Change `db:"-"`
	Tried, Promoted, Measured *Run   `db:"-"`
}

// RolloutProgresses are a rollout's sites, by their wave, with what each has come to.
func (s *Store) RolloutProgresses(ctx context.Context, id int64) ([]RolloutProgress, error) {
	list, err := many[RolloutProgress](ctx, s, "the sites of the rollout", `SELECT `+columns[RolloutSite]("m")+`, s.name,
			coalesce((SELECT e.name FROM environments e WHERE e.site_id = s.id AND e.role = 'staging' LIMIT 1), '') AS staging,
			coalesce((SELECT e.name FROM environments e WHERE e.site_id = s.id AND e.role = 'production' LIMIT 1), '') AS production,
			(SELECT r.id FROM runs r WHERE r.change_id = m.change_id AND r.kind = 'try' AND r.state IN ('done', 'stopped', 'failed') ORDER BY r.id DESC LIMIT 1) AS tried_id,
			(SELECT r.id FROM runs r WHERE r.change_id = m.change_id AND r.kind = 'promote' ORDER BY r.id DESC LIMIT 1) AS promoted_id,
			coalesce((SELECT w.state = 'waits for a person' FROM watches w WHERE w.change_id = m.change_id ORDER BY w.id DESC LIMIT 1), false) AS watch_waits
		FROM rollout_sites m JOIN sites s ON s.id = m.site_id WHERE m.rollout_id = $1 ORDER BY m.wave, lower(s.name), m.site_id`, id)
	if err != nil {
		return nil, err
	}
	var changeIDs, runIDs []int64
	for _, m := range list {
		if m.ChangeID != nil {
			changeIDs = append(changeIDs, *m.ChangeID)
		}
		for _, run := range []*int64{m.TriedID, m.PromotedID, m.MeasureRunID} {
			if run != nil {
				runIDs = append(runIDs, *run)
			}
		}
	}
	changes, err := many[Change](ctx, s, "the changes", `SELECT `+columns[Change]("")+` FROM changes WHERE id = ANY($1)`, changeIDs)
	if err != nil {
		return nil, err
	}
	runs, err := many[Run](ctx, s, "the runs", `SELECT `+columns[Run]("")+` FROM runs WHERE id = ANY($1)`, runIDs)
	if err != nil {
		return nil, err
	}
	changeOf, runOf := map[int64]Change{}, map[int64]*Run{}
	for _, c := range changes {
		changeOf[c.ID] = c
	}
	for i := range runs {
		runOf[runs[i].ID] = &runs[i]
	}
	run := func(id *int64) *Run {
		if id == nil {
			return nil
		}
		return runOf[*id]
	}
	for i := range list {
		m := &list[i]
		if m.ChangeID != nil {
			m.Change = changeOf[*m.ChangeID]
		}
		m.Tried, m.Promoted, m.Measured = run(m.TriedID), run(m.PromotedID), run(m.MeasureRunID)
	}
	return list, nil
}

// SaveRolloutSite keeps what a site of a rollout has come to.
func (s *Store) SaveRolloutSite(ctx context.Context, m RolloutSite) error {
	return s.exec(ctx, "the site of the rollout", `UPDATE rollout_sites SET wave = $3, change_id = $4, nothing = $5, skipped = $6, said = $7, try_at = $8, measure_run_id = $9, without = $10 WHERE rollout_id = $1 AND site_id = $2`,
		m.RolloutID, m.SiteID, m.Wave, m.ChangeID, m.Nothing, m.Skipped, m.Said, m.TryAt, m.MeasureRunID, m.Without)
}

// Candidate is another site to which a change may go, with what its production has.
type Candidate struct {
	SiteID      int64                 `db:"site_id"`
	Name        string                `db:"name"`
	Labels      JSON[[]string]        `db:"labels"`
	Production  string                `db:"production"` // its name
	OnlyOne     bool                  `db:"only_one"`   // there is no staging beside it
	About       JSON[*settings.About] `db:"about"`
	RawCatalog  string                `db:"catalogue"` // of many sites the same
	Fingerprint string                `db:"fingerprint"`
	Values      JSON[settings.Values] `db:"values"`
	In          int64                 `db:"in_rollout"` // a rollout of the change that is not over, in which the site is; 0 for none
}

// Catalogue is its production's; nil while that was not read.
func (c Candidate) Catalogue() (*settings.Catalogue, error) {
	var out *settings.Catalogue
	err := json.Unmarshal([]byte(c.RawCatalog), &out)
	return out, err
}

// Candidates are the sites beside the one on which a change settled: all (0), or one of them; by name.
func (s *Store) Candidates(ctx context.Context, changeID, siteID int64) ([]Candidate, error) {
	return many[Candidate](ctx, s, "the other sites", `SELECT s.id AS site_id, s.name, coalesce(s.document->'labels', '[]') AS labels, e.name AS production, e.about, coalesce(e.catalogue::text, 'null') AS catalogue, e.fingerprint,
			coalesce(r.values, '{}') AS values, (SELECT count(*) FROM environments x WHERE x.site_id = s.id AND x.role IN ('staging', 'production')) < 2 AS only_one,
			coalesce((SELECT max(o.id) FROM rollouts o JOIN rollout_sites m ON m.rollout_id = o.id WHERE o.change_id = $1 AND m.site_id = s.id AND o.state <> 'ended' AND m.skipped = ''), 0) AS in_rollout
		FROM sites s
		JOIN LATERAL (SELECT * FROM environments x WHERE x.site_id = s.id AND x.role IN ('staging', 'production') ORDER BY x.role = 'production' DESC LIMIT 1) e ON true
		LEFT JOIN revisions r ON r.site_id = s.id AND r.fingerprint = e.fingerprint
		WHERE s.id <> (SELECT site_id FROM changes WHERE id = $1) AND ($2 = 0 OR s.id = $2) ORDER BY lower(s.name), s.id`, changeID, siteID)
}

package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/watch"
)

// Watch is how one promotion is watched.
type Watch struct {
	ID            int64                    `db:"id"`
	SiteID        int64                    `db:"site_id"`
	EnvironmentID int64                    `db:"environment_id"`
	ChangeID      int64                    `db:"change_id"`
	RunID         int64                    `db:"run_id"` // the promotion
	Fingerprint   string                   `db:"fingerprint"`
	State         watch.State              `db:"state"`
	Why           string                   `db:"why"`
	BegunAt       time.Time                `db:"begun_at"`
	EndsAt        time.Time                `db:"ends_at"`
	Kept          JSON[[]httpcache.Stored] `db:"kept"`
	NextID        *int64                   `db:"next_id"`
	BackAt        *time.Time               `db:"back_at"`
	BackWhy       string                   `db:"back_why"`
	BackRefused   string                   `db:"back_refused"`
	BackRunID     *int64                   `db:"back_run_id"`
}

// WatchLook is one look of a watch.
type WatchLook struct {
	ID           int64              `db:"id"`
	WatchID      int64              `db:"watch_id"`
	Look         JSON[watch.Look]   `db:"look"`
	DueAt        time.Time          `db:"due_at"`
	TryAt        time.Time          `db:"try_at"`
	Tries        int                `db:"tries"`
	State        watch.LookState    `db:"state"`
	Why          string             `db:"why"`
	RunID        *int64             `db:"run_id"`
	AskedAt      *time.Time         `db:"asked_at"` // when it found something, and staging was to be asked
	StagingRunID *int64             `db:"staging_run_id"`
	Held         JSON[[]watch.Late] `db:"held"`
}

// NewWatch records a watch with its looks, and that it takes over those that go on on its environment.
func (s *Store) NewWatch(ctx context.Context, w Watch, looks []watch.Look) (int64, error) {
	id, err := s.insert(ctx, "the watch", `INSERT INTO watches (site_id, environment_id, change_id, run_id, fingerprint, state, begun_at, ends_at, kept) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`, w.SiteID, w.EnvironmentID, w.ChangeID, w.RunID, w.Fingerprint, watch.Watching, w.BegunAt, w.EndsAt, w.Kept)
	if err != nil {
		return 0, err
	}
	for _, l := range looks {
		at := w.BegunAt.Add(time.Duration(l.After) * time.Second)
		if err := s.exec(ctx, "the watch", `INSERT INTO watch_looks (watch_id, look, due_at, try_at, state) VALUES ($1, $2, $3, $3, $4)`, id, JSON[watch.Look]{V: l}, at, watch.Planned); err != nil {
			return 0, err
		}
	}
	for _, q := range []string{
		`UPDATE watch_looks SET state = 'skipped', why = '` + takenOver + `' WHERE state IN ('planned', 'under way') AND watch_id IN (SELECT id FROM watches WHERE environment_id = $2 AND id <> $1 AND state IN ('watching', 'waits for a person'))`,
		`UPDATE watches SET state = 'taken over', next_id = $1, back_at = NULL, why = 'A later promotion is watched instead, with this change in it.' WHERE environment_id = $2 AND id <> $1 AND state IN ('watching', 'waits for a person')`} {
		if _, err := s.changed(ctx, "the watches before", q, id, w.EnvironmentID); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// takenOver is why looks are skipped in a watch that a later promotion's took over.
const takenOver = "A later promotion is watched instead."

// ReviveWatches lets watches go on that one took over which has ended, where production has again what they watch: with the looks
// that were skipped for it.
func (s *Store) ReviveWatches(ctx context.Context, id int64, now time.Time) error {
	back, err := many[int64](ctx, s, "the watches before", `UPDATE watches w SET state = 'watching', next_id = NULL, why = '', ends_at = greatest(w.ends_at, $2) FROM environments e
		WHERE w.next_id = $1 AND w.state = 'taken over' AND e.id = w.environment_id AND e.fingerprint = w.fingerprint RETURNING w.id`, id, now.Add(time.Minute))
	if err != nil || len(back) == 0 {
		return err
	}
	_, err = s.changed(ctx, "the looks of the watches before", `UPDATE watch_looks SET state = 'planned', why = '', try_at = greatest(due_at, $2) WHERE watch_id = ANY($1) AND state = 'skipped' AND why = $3`, back, now, takenOver)
	return err
}

// Watch reads one.
func (s *Store) Watch(ctx context.Context, id int64) (Watch, error) {
	return one[Watch](ctx, s, fmt.Sprintf("watch %d", id), `SELECT `+columns[Watch]("")+` FROM watches WHERE id = $1`, id)
}

// TakeWatch reads one that is not over, and keeps it from others until the transaction ends; [ErrNotFound] when somebody else has it.
func (s *Store) TakeWatch(ctx context.Context, id int64) (Watch, error) {
	return one[Watch](ctx, s, fmt.Sprintf("watch %d", id), `SELECT `+columns[Watch]("")+` FROM watches WHERE id = $1 AND state IN ('watching', 'waits for a person') FOR UPDATE SKIP LOCKED`, id)
}

// LockWatch reads one, and keeps others from it until the transaction ends: it waits for who has it.
func (s *Store) LockWatch(ctx context.Context, id int64) (Watch, error) {
	return one[Watch](ctx, s, fmt.Sprintf("watch %d", id), `SELECT `+columns[Watch]("")+` FROM watches WHERE id = $1 FOR UPDATE`, id)
}

// OpenWatches are those that are not over: of a site, or of all (0), the latest first.
func (s *Store) OpenWatches(ctx context.Context, siteID int64) ([]Watch, error) {
	return many[Watch](ctx, s, "the watches", `SELECT `+columns[Watch]("")+` FROM watches WHERE state IN ('watching', 'waits for a person') AND ($1 = 0 OR site_id = $1) ORDER BY id DESC`, siteID)
}

// WatchesOf are those of a change, the latest first.
func (s *Store) WatchesOf(ctx context.Context, changeID int64) ([]Watch, error) {
	return many[Watch](ctx, s, "the watches", `SELECT `+columns[Watch]("")+` FROM watches WHERE change_id = $1 ORDER BY id DESC`, changeID)
}

// WatchesInto are those that a watch took over, and those that these did.
func (s *Store) WatchesInto(ctx context.Context, id int64) ([]Watch, error) {
	return many[Watch](ctx, s, "the watches", `WITH RECURSIVE into_it AS (SELECT id FROM watches WHERE next_id = $1 UNION SELECT w.id FROM watches w JOIN into_it i ON w.next_id = i.id)
		SELECT `+columns[Watch]("")+` FROM watches WHERE id IN (SELECT id FROM into_it) ORDER BY id`, id)
}

// WatchOfLook is the watch for which a run looks at production; [ErrNotFound] when it looks for none.
func (s *Store) WatchOfLook(ctx context.Context, runID int64) (Watch, error) {
	return one[Watch](ctx, s, "the watch", `SELECT `+columns[Watch]("")+` FROM watches WHERE id = (SELECT watch_id FROM watch_looks WHERE run_id = $1)`, runID)
}

// WatchLooks are the looks of a watch, the earliest first.
func (s *Store) WatchLooks(ctx context.Context, watchID int64) ([]WatchLook, error) {
	return many[WatchLook](ctx, s, "the looks of the watch", `SELECT `+columns[WatchLook]("")+` FROM watch_looks WHERE watch_id = $1 ORDER BY due_at, id`, watchID)
}

// SaveWatchLook keeps what became of a look.
func (s *Store) SaveWatchLook(ctx context.Context, l WatchLook) error {
	return s.exec(ctx, "the look of the watch", `UPDATE watch_looks SET state = $2, why = $3, run_id = $4, staging_run_id = $5, held = $6, tries = $7, try_at = $8, look = $9, asked_at = $10 WHERE id = $1`,
		l.ID, l.State, l.Why, l.RunID, l.StagingRunID, l.Held, l.Tries, l.TryAt, l.Look, l.AskedAt)
}

// SaveWatch keeps what a watch has come to.
func (s *Store) SaveWatch(ctx context.Context, w Watch) error {
	return s.exec(ctx, "the watch", `UPDATE watches SET state = $2, why = $3, back_at = $4, back_why = $5, back_refused = $6, back_run_id = $7, ends_at = $8 WHERE id = $1`,
		w.ID, w.State, w.Why, w.BackAt, w.BackWhy, w.BackRefused, w.BackRunID, w.EndsAt)
}

// DueWatches are those for which something is to be done at a time: a look is due or under way, the watch or the announcement of
// going back is over, production has something else, or what was found was accepted meanwhile.
func (s *Store) DueWatches(ctx context.Context, at time.Time) ([]int64, error) {
	return many[int64](ctx, s, "the watches", `SELECT w.id FROM watches w JOIN environments e ON e.id = w.environment_id JOIN changes c ON c.id = w.change_id
		WHERE w.state IN ('watching', 'waits for a person') AND (
			EXISTS (SELECT 1 FROM watch_looks l WHERE l.watch_id = w.id AND (l.state = 'under way' OR l.state = 'planned' AND l.try_at <= $1))
			OR w.state = 'watching' AND w.ends_at <= $1
			OR w.back_at <= $1 AND w.back_refused = ''
			OR c.state NOT IN ('marked', 'promoted') OR e.fingerprint <> w.fingerprint
			OR EXISTS (SELECT 1 FROM watch_looks l JOIN runs r ON r.id = l.run_id WHERE l.watch_id = w.id AND l.state = 'found' AND r.verdict = 'clear'))
		ORDER BY w.id`, at)
}

// AsIfNow has a record that was read in begin where it ended: watches go on from there, as if no time had passed since, and people
// are told what is in it. It is for data that is made up.
func (s *Store) AsIfNow(ctx context.Context) error {
	return s.Within(ctx, func(s *Store) error {
		for _, q := range []string{
			`UPDATE watch_looks SET due_at = due_at + passed.by, try_at = try_at + passed.by FROM (SELECT now() - max(at) AS by FROM history) passed`,
			`UPDATE watches SET begun_at = begun_at + passed.by, ends_at = ends_at + passed.by FROM (SELECT now() - max(at) AS by FROM history) passed`,
			`UPDATE notices SET handed = false`,
		} {
			if _, err := s.changed(ctx, "the record", q); err != nil {
				return err
			}
		}
		return nil
	})
}

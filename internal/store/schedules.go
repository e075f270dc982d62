package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/schedule"
)

// Schedule is what is done on a site again and again by itself.
type Schedule struct {
	ID       int64                   `db:"id"`
	SiteID   int64                   `db:"site_id"`
	Schedule JSON[schedule.Schedule] `db:"schedule"`
	Paused   bool                    `db:"paused"`
	Version  int                     `db:"version"`
	MadeBy   string                  `db:"made_by"`
	MadeAt   time.Time               `db:"made_at"`
	LastDue  time.Time               `db:"last_due"`
	EditedAt time.Time               `db:"edited_at"`
	LastRun  *int64                  `db:"last_run"`
	Said     string                  `db:"said"`
}

// Schedules are those of a site, or of all (0) that are not paused.
func (s *Store) Schedules(ctx context.Context, siteID int64) ([]Schedule, error) {
	return many[Schedule](ctx, s, "the schedules", `SELECT `+columns[Schedule]("")+` FROM schedules WHERE CASE WHEN $1 = 0 THEN NOT paused ELSE site_id = $1 END ORDER BY id`, siteID)
}

// Schedule reads one schedule.
func (s *Store) Schedule(ctx context.Context, id int64) (Schedule, error) {
	return one[Schedule](ctx, s, fmt.Sprintf("schedule %d", id), `SELECT `+columns[Schedule]("")+` FROM schedules WHERE id = $1`, id)
}

// TakeSchedule reads a schedule that is not paused and keeps it from others until the transaction ends; [ErrNotFound] when somebody
// else has it now.
func (s *Store) TakeSchedule(ctx context.Context, id int64) (Schedule, error) {
	return one[Schedule](ctx, s, fmt.Sprintf("schedule %d", id), `SELECT `+columns[Schedule]("")+` FROM schedules WHERE id = $1 AND NOT paused FOR UPDATE SKIP LOCKED`, id)
}

// NewSchedule adds a schedule. Nothing of it is due before at.
func (s *Store) NewSchedule(ctx context.Context, c Schedule, at time.Time) (int64, error) {
	return s.insert(ctx, "the schedule", `INSERT INTO schedules (site_id, schedule, made_by, last_due, edited_at) VALUES ($1, $2, $3, $4, $4) RETURNING id`, c.SiteID, c.Schedule, c.MadeBy, at)
}

// EditSchedule replaces a schedule on condition that nobody edited it since a version; what was due before at is not caught up.
func (s *Store) EditSchedule(ctx context.Context, c Schedule, version int, at time.Time) (ok bool, err error) {
	return s.changed(ctx, "the schedule", `UPDATE schedules SET schedule = $3, paused = $4, last_due = $5, edited_at = $5, said = '', version = version + 1 WHERE id = $1 AND version = $2`, c.ID, version, c.Schedule, c.Paused, at)
}

// RemoveSchedule removes a schedule; ok is false when it is not there any more.
func (s *Store) RemoveSchedule(ctx context.Context, id int64) (ok bool, err error) {
	return s.changed(ctx, "the schedule", `DELETE FROM schedules WHERE id = $1`, id)
}

// ScheduleDone records that what was due at a moment is taken care of.
func (s *Store) ScheduleDone(ctx context.Context, id int64, due time.Time, run *int64, said string) error {
	return s.exec(ctx, "the schedule", `UPDATE schedules SET last_due = $2, last_run = coalesce($3, last_run), said = $4 WHERE id = $1`, id, due, run, said)
}

// ScheduleSaid records what a schedule waits for, or what came of a reading.
func (s *Store) ScheduleSaid(ctx context.Context, id int64, said string) error {
	_, err := s.changed(ctx, "the schedule", `UPDATE schedules SET said = $2 WHERE id = $1 AND said <> $2`, id, said)
	return err
}

// PauseSchedule pauses a schedule and says why; changed is false when it was paused already.
func (s *Store) PauseSchedule(ctx context.Context, id int64, why string) (changed bool, err error) {
	return s.changed(ctx, "the schedule", `UPDATE schedules SET paused = true, said = $2, version = version + 1 WHERE id = $1 AND NOT paused`, id, why)
}

// SaveTidy keeps what a tidy has counted.
func (s *Store) SaveTidy(ctx context.Context, runID int64, w schedule.Work) error {
	return s.exec(ctx, "the count", `UPDATE runs SET tidy = $2 WHERE id = $1`, runID, JSON[schedule.Work]{V: w})
}

// Carried are the times at which a schedule's tidy was carried out since a moment, the oldest first.
func (s *Store) Carried(ctx context.Context, scheduleID int64, since time.Time) ([]schedule.Carried, error) {
	rows, err := many[JSON[schedule.Work]](ctx, s, "what was tidied", `SELECT tidy FROM runs WHERE (tidy->>'schedule')::bigint = $1 AND tidy->'left' IS NOT NULL AND (tidy->>'at')::timestamptz >= $2 ORDER BY id`, scheduleID, since)
	var out []schedule.Carried
	for _, r := range rows {
		out = append(out, schedule.Carried{At: r.V.At, Records: schedule.Sum(r.V.Found)})
	}
	return out, err
}

package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
)

// FieldSource is a site whose visitors tell how fast pages are.
type FieldSource struct {
	SiteID int64     `db:"site_id"`
	Key    string    `db:"key"`
	Share  float64   `db:"share"` // of page views that tell
	MadeBy string    `db:"made_by"`
	MadeAt time.Time `db:"made_at"`
}

// FieldSource reads it; ErrNotFound when the site has none.
func (s *Store) FieldSource(ctx context.Context, siteID int64) (FieldSource, error) {
	return one[FieldSource](ctx, s, "the site's beacon", `SELECT `+columns[FieldSource]("")+` FROM field_sources WHERE site_id = $1`, siteID)
}

// FieldSourceOf reads it by the key of a beacon.
func (s *Store) FieldSourceOf(ctx context.Context, key string) (FieldSource, error) {
	return one[FieldSource](ctx, s, "the site of a beacon", `SELECT `+columns[FieldSource]("")+` FROM field_sources WHERE key = $1`, key)
}

// SetFieldSource keeps it in place of the one before.
func (s *Store) SetFieldSource(ctx context.Context, f FieldSource) error {
	return s.exec(ctx, "the site's beacon", `INSERT INTO field_sources (site_id, key, share, made_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site_id) DO UPDATE SET key = excluded.key, share = excluded.share, made_by = excluded.made_by, made_at = now()`, f.SiteID, f.Key, f.Share, f.MadeBy)
}

// DropFieldSource forgets it; what visitors told stays.
func (s *Store) DropFieldSource(ctx context.Context, siteID int64) error {
	return s.exec(ctx, "the site's beacon", `DELETE FROM field_sources WHERE site_id = $1`, siteID)
}

// Visit is one page view as it is kept: of each metric the step of its histogram.
type Visit struct {
	At            time.Time
	SiteID        int64
	Class, Device string
	Steps         map[measure.Metric]int
}

// visitColumns are the metrics of the table visits, in the order of its columns.
var visitColumns = []struct {
	column string
	metric measure.Metric
}{{"lcp", measure.Largest}, {"inp", measure.Interaction}, {"cls", measure.LayoutShift}, {"fcp", measure.FirstPaint}, {"ttfb", measure.FirstByte}}

// SaveVisits keeps page views, all of them or none.
func (s *Store) SaveVisits(ctx context.Context, list []Visit) error {
	columns := []string{"at", "site_id", "class", "device"}
	for _, c := range visitColumns {
		columns = append(columns, c.column)
	}
	_, err := s.Pool.CopyFrom(ctx, pgx.Identifier{"visits"}, columns, pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
		v := list[i]
		row := []any{v.At, v.SiteID, v.Class, v.Device}
		for _, c := range visitColumns {
			if step, told := v.Steps[c.metric]; told {
				row = append(row, int16(step))
			} else {
				row = append(row, nil)
			}
		}
		return row, nil
	}))
	if err != nil {
		return fmt.Errorf("write page views: %w", err)
	}
	return nil
}

// KeepVisitsFor makes room for the page views of some days from a day on, and drops what is older than it may be.
func (s *Store) KeepVisitsFor(ctx context.Context, day time.Time, days int, oldest time.Time) error {
	day = day.UTC().Truncate(24 * time.Hour)
	for i := range days {
		from := day.AddDate(0, 0, i)
		there, err := one[bool](ctx, s, "the days of page views", `SELECT to_regclass($1) IS NOT NULL`, "visits_"+from.Format("20060102"))
		if err != nil {
			return err
		}
		if there {
			continue // else the table would be locked for everybody who writes
		}
		err = s.exec(ctx, "the days of page views", fmt.Sprintf(`CREATE TABLE IF NOT EXISTS visits_%s PARTITION OF visits FOR VALUES FROM ('%s') TO ('%s')`,
			from.Format("20060102"), from.Format(time.RFC3339), from.AddDate(0, 0, 1).Format(time.RFC3339)))
		if err != nil {
			return err
		}
	}
	names, err := many[string](ctx, s, "the days of page views", `SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'visits'::regclass AND c.relname < $1`, "visits_"+oldest.UTC().Format("20060102"))
	if err != nil {
		return err
	}
	for _, n := range names {
		if err := s.exec(ctx, "a day of page views", `DROP TABLE `+pgx.Identifier{n}.Sanitize()); err != nil {
			return err
		}
	}
	return nil
}

// RollUpVisits makes of the page views that are kept what each day comes to.
func (s *Store) RollUpVisits(ctx context.Context) error {
	for _, c := range visitColumns {
		err := s.exec(ctx, "what page views come to", fmt.Sprintf(`INSERT INTO field_days (site_id, day, class, device, metric, source, visits, steps, counts)
			SELECT site_id, day, class, device, $1, 'beacon', sum(n), array_agg(step ORDER BY step), array_agg(n ORDER BY step) FROM (
				SELECT site_id, (at AT TIME ZONE 'UTC')::date AS day, class, device, %[1]s AS step, count(*)::int AS n FROM visits v
				WHERE %[1]s IS NOT NULL AND EXISTS (SELECT 1 FROM sites s WHERE s.id = v.site_id) GROUP BY 1, 2, 3, 4, 5) steps
			GROUP BY site_id, day, class, device
			ON CONFLICT (site_id, device, metric, source, day, class) DO UPDATE SET visits = excluded.visits, steps = excluded.steps, counts = excluded.counts`, c.column), c.metric)
		if err != nil {
			return err
		}
	}
	return nil
}

// DropFieldDays forgets what days before one came to.
func (s *Store) DropFieldDays(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "old days", `DELETE FROM field_days WHERE day < $1`, before)
}

// FieldDay is what the page views of one day come to.
type FieldDay struct {
	SiteID int64          `db:"site_id"`
	Day    time.Time      `db:"day"`
	Class  string         `db:"class"`
	Device string         `db:"device"`
	Metric measure.Metric `db:"metric"`
	Source string         `db:"source"` // beacon or file
	Visits int            `db:"visits"`
	P75    *float64       `db:"p75"` // of a file, where nothing else is known
	Steps  field.Histogram
}

// SaveFieldDays keeps days in place of what was there of them.
func (s *Store) SaveFieldDays(ctx context.Context, list []FieldDay) error {
	batch := &pgx.Batch{}
	for _, d := range list {
		steps, counts := d.Steps.Lists()
		batch.Queue(`INSERT INTO field_days (site_id, day, class, device, metric, source, visits, steps, counts, p75) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
			ON CONFLICT (site_id, device, metric, source, day, class) DO UPDATE SET visits = excluded.visits, steps = excluded.steps, counts = excluded.counts, p75 = excluded.p75`,
			d.SiteID, d.Day, d.Class, d.Device, d.Metric, d.Source, d.Visits, steps, counts, d.P75)
	}
	if err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { return tx.SendBatch(ctx, batch).Close() }); err != nil {
		return fmt.Errorf("write days: %w", err)
	}
	return nil
}

// FieldDays are a site's days from one on, of a metric and a device, by day.
func (s *Store) FieldDays(ctx context.Context, siteID int64, m measure.Metric, device string, from time.Time) ([]FieldDay, error) {
	return s.fieldDays(ctx, `site_id = $1 AND metric = $2 AND device = $3 AND day >= $4 ORDER BY day`, siteID, m, device, from)
}

// AllFieldDays are a site's days from one on, of all metrics and devices, by day.
func (s *Store) AllFieldDays(ctx context.Context, siteID int64, from time.Time) ([]FieldDay, error) {
	return s.fieldDays(ctx, `site_id = $1 AND day >= $2 ORDER BY day, device, metric, class, source`, siteID, from)
}

func (s *Store) fieldDays(ctx context.Context, where string, args ...any) ([]FieldDay, error) {
	rows, err := s.Pool.Query(ctx, `SELECT site_id, day, class, device, metric, source, visits, p75, steps, counts FROM field_days WHERE `+where, args...)
	if err != nil {
		return nil, fmt.Errorf("read days: %w", err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (FieldDay, error) {
		var d FieldDay
		var steps []int16
		var counts []int32
		err := row.Scan(&d.SiteID, &d.Day, &d.Class, &d.Device, &d.Metric, &d.Source, &d.Visits, &d.P75, &steps, &counts)
		d.Steps = make(field.Histogram, len(steps))
		for i, step := range steps {
			d.Steps[int(step)] = int(counts[i])
		}
		return d, err
	})
	if err != nil {
		return nil, fmt.Errorf("read days: %w", err)
	}
	return list, nil
}

// Promoted is something that was put in force for visitors at a moment.
type Promoted struct {
	Run    int64     `db:"id" json:"run"`
	Change *int64    `db:"change_id" json:"change,omitempty"`
	Title  string    `db:"title" json:"title"`
	Kind   string    `db:"kind" json:"kind" enum:"promote,roll back"`
	At     time.Time `db:"at" json:"at"`
}

// Promotions are a site's promotions and rollbacks on production since a day, in order.
func (s *Store) Promotions(ctx context.Context, siteID int64, from time.Time) ([]Promoted, error) {
	return many[Promoted](ctx, s, "the promotions", `SELECT r.id, r.change_id, coalesce(c.title, '') AS title, r.kind, r.finished_at AS at FROM runs r
		JOIN environments e ON e.id = r.environment_id LEFT JOIN changes c ON c.id = r.change_id
		WHERE r.site_id = $1 AND e.role = 'production' AND r.kind IN ('promote', 'roll back') AND r.state = 'done' AND r.finished_at >= $2 ORDER BY r.finished_at`, siteID, from)
}

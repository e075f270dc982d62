package store

import (
	"context"
	"fmt"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
)

// Removed is what was removed since it need not be kept any more.
type Removed struct {
	Runs   int   // whose looks, loads and references are gone
	Bodies int   // of pages as personas were shown them
	Blobs  int   // pictures and bodies that nothing refers to
	Bytes  int64 // their size
}

// Steps of a removal are small, so that one which is cut off goes on where it was and keeps nobody waiting.
const (
	runsAtOnce  = 100
	blobsAtOnce = 500
)

// RemoveEvidence removes of one site what it does not keep any more. inUse are runs that are kept whatever their age: those of
// marks in use.
func (s *Store) RemoveEvidence(ctx context.Context, siteID int64, keep site.Keeping, inUse []int64) (out Removed, err error) {
	for {
		// A run stays while another that has its evidence is compared with its mark, or a look that it planned is still to come.
		ids, err := many[int64](ctx, s, "the runs whose evidence goes", `SELECT r.id FROM runs r WHERE r.site_id = $1 AND r.evidence_gone_at IS NULL
			AND r.finished_at < now() - make_interval(days => CASE WHEN r.verdict = 'clear' THEN $2::int ELSE $3::int END) AND r.state IN ('done', 'failed', 'stopped') AND r.id <> ALL($4)
			AND NOT EXISTS (SELECT FROM marks m JOIN runs c ON c.mark_id = m.id WHERE m.run_id = r.id AND c.id <> r.id AND c.evidence_gone_at IS NULL AND c.site_id = $1)
			AND NOT EXISTS (SELECT FROM rechecks l WHERE l.run_id = r.id AND l.state = 'planned')
			ORDER BY r.finished_at, r.id LIMIT $5`, siteID, keep.Clear, keep.Others, inUse, runsAtOnce)
		if err != nil {
			return out, err
		}
		for _, id := range ids {
			if err := s.removeRunEvidence(ctx, id); err != nil {
				return out, err
			}
			out.Runs++
		}
		if len(ids) < runsAtOnce {
			break
		}
	}
	out.Bodies, err = one[int](ctx, s, "the bodies that go", `WITH gone AS (DELETE FROM blob_references f USING runs r, blobs b WHERE r.id = f.run_id AND b.sha256 = f.sha256 AND r.site_id = $1 AND f.personal
		AND b.media_type NOT LIKE 'image/%' AND r.finished_at < now() - make_interval(days => $2::int) AND r.id <> ALL($3) RETURNING 1) SELECT count(*) FROM gone`, siteID, keep.Personal, inUse)
	return out, err
}

// removeRunEvidence removes one run's evidence, all of it or nothing.
func (s *Store) removeRunEvidence(ctx context.Context, id int64) error {
	return s.Within(ctx, func(s *Store) error {
		for _, q := range []string{`DELETE FROM looks WHERE run_id = $1`, `DELETE FROM loads WHERE run_id = $1`, `DELETE FROM blob_references WHERE run_id = $1`,
			`UPDATE runs SET evidence_gone_at = now() WHERE id = $1`} {
			if err := s.exec(ctx, "the evidence", q, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// RemoveBlobs removes pictures and bodies that nothing refers to. What was put in within a day stays: what refers to it may
// still be on its way.
func (s *Store) RemoveBlobs(ctx context.Context) (out Removed, err error) {
	for {
		gone, err := one[struct {
			N     int   `db:"n"`
			Bytes int64 `db:"bytes"`
		}](ctx, s, "the pictures that go", `WITH unused AS (SELECT sha256 FROM blobs b WHERE kept_at < now() - interval '1 day' AND NOT EXISTS (SELECT FROM blob_references r WHERE r.sha256 = b.sha256) LIMIT $1),
			gone AS (DELETE FROM blobs b USING unused u WHERE b.sha256 = u.sha256 AND b.kept_at < now() - interval '1 day' AND NOT EXISTS (SELECT FROM blob_references r WHERE r.sha256 = b.sha256) RETURNING b.sha256, size, bytes IS NULL AS elsewhere),
			objects AS (INSERT INTO objects_gone (sha256) SELECT sha256 FROM gone WHERE elsewhere ON CONFLICT (sha256) DO UPDATE SET gone_at = now())
			SELECT count(*) AS n, coalesce(sum(size), 0)::bigint AS bytes FROM gone`, blobsAtOnce)
		if err != nil {
			return out, err
		}
		out.Blobs += gone.N
		out.Bytes += gone.Bytes
		if gone.N < blobsAtOnce {
			return out, nil
		}
	}
}

// RunsInUse are the runs of a site's marks in use, and those that such a mark was renewed by.
func (s *Store) RunsInUse(ctx context.Context, siteID int64) ([]int64, error) {
	envs, err := s.Environments(ctx, siteID)
	if err != nil {
		return nil, err
	}
	out := []int64{}
	for _, e := range envs {
		marks, err := many[Mark](ctx, s, "the marks", `SELECT `+columns[Mark]("")+` FROM marks WHERE environment_id = $1 ORDER BY id DESC`, e.ID)
		if err != nil {
			return nil, err
		}
		placed, err := s.Placed(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		of := make([]release.MarkOf, len(marks))
		for i, m := range marks {
			of[i] = release.MarkOf{ID: m.ID, Fingerprint: m.Fingerprint}
		}
		used := release.MarksInUse(of, release.Record(placed))
		for _, m := range marks {
			if !used[m.ID] {
				continue
			}
			out = append(out, m.RunID)
			for _, r := range m.Renewed.V {
				out = append(out, r.Run)
			}
		}
	}
	return out, nil
}

// RemoveExpired removes of all sites what they do not keep any more, and then what nothing refers to.
func (s *Store) RemoveExpired(ctx context.Context) (out Removed, err error) {
	sites, err := many[Site](ctx, s, "the sites", `SELECT `+columns[Site]("")+` FROM sites ORDER BY id`)
	if err != nil {
		return out, err
	}
	for _, row := range sites {
		inUse, err := s.RunsInUse(ctx, row.ID)
		if err != nil {
			return out, fmt.Errorf("%s: %w", row.Name, err)
		}
		of, err := s.RemoveEvidence(ctx, row.ID, row.Document.V.Kept(), inUse)
		out.Runs += of.Runs
		out.Bodies += of.Bodies
		if err != nil {
			return out, fmt.Errorf("%s: %w", row.Name, err)
		}
	}
	blobs, err := s.RemoveBlobs(ctx)
	out.Blobs, out.Bytes = blobs.Blobs, blobs.Bytes
	if err == nil {
		err = s.RemoveObjects(ctx)
	}
	if err != nil {
		return out, err
	}
	return out, s.exec(ctx, "sessions that are over", `DELETE FROM sessions WHERE expiry < now()`)
}

// Size is how much of a site is kept.
type Size struct {
	Runs   int   `db:"runs" json:"runs"`
	Looks  int   `db:"looks" json:"looks"`
	Loads  int   `db:"loads" json:"loads"`
	Blobs  int   `db:"blobs" json:"blobs" doc:"Pictures and bodies. One that several sites have counts for each."`
	Bytes  int64 `db:"bytes" json:"bytes" doc:"Of the pictures and bodies, in octets."`
	Events int   `db:"events" json:"events" doc:"Lines of its history."`
}

// SizeOf says how much of a site is kept.
func (s *Store) SizeOf(ctx context.Context, siteID int64) (Size, error) {
	return one[Size](ctx, s, "the size", `SELECT (SELECT count(*) FROM runs WHERE site_id = $1) AS runs, (SELECT count(*) FROM looks l JOIN runs r ON r.id = l.run_id WHERE r.site_id = $1) AS looks,
		(SELECT count(*) FROM loads l JOIN runs r ON r.id = l.run_id WHERE r.site_id = $1) AS loads, (SELECT count(*) FROM history WHERE site_id = $1) AS events, x.blobs, x.bytes
		FROM (SELECT count(*) AS blobs, coalesce(sum(b.size), 0)::bigint AS bytes FROM blobs b WHERE EXISTS (SELECT FROM blob_references f JOIN runs r ON r.id = f.run_id WHERE f.sha256 = b.sha256 AND r.site_id = $1)) x`, siteID)
}

// Removable says how far a site has come, as seen, and why it cannot be removed now; "" when it can.
func (s *Store) Removable(ctx context.Context, siteID int64) (seen, open string, err error) {
	at, err := one[struct {
		Runs    int64 `db:"runs"`
		Open    int   `db:"open"`
		Unknown int   `db:"unknown"`
		Acts    int64 `db:"acts"`
		Changes int64 `db:"changes"`
	}](ctx, s, "what is under way", `SELECT (SELECT coalesce(max(id), 0) FROM runs WHERE site_id = $1) AS runs, (SELECT count(*) FROM runs WHERE site_id = $1 AND state NOT IN ('done', 'failed', 'stopped')) AS open,
		(SELECT count(*) FROM acts a JOIN environments e ON e.id = a.environment_id WHERE e.site_id = $1 AND a.state IN ('intended', 'unknown')) AS unknown,
		(SELECT coalesce(max(a.id), 0) FROM acts a JOIN environments e ON e.id = a.environment_id WHERE e.site_id = $1) AS acts,
		(SELECT coalesce(max(id), 0) FROM changes WHERE site_id = $1) AS changes`, siteID)
	switch {
	case err != nil:
		return "", "", err
	case at.Open > 0:
		open = "a run is under way on the site. Wait for it, or stop it."
	case at.Unknown > 0:
		open = "it is not known which settings an environment has. Wait until it is."
	}
	return fmt.Sprintf("%d-%d-%d-%d", siteID, at.Runs, at.Acts, at.Changes), open, nil
}

// RemoveSite removes a site with all that is recorded of it; seen is how far it had come when somebody looked at what would go.
// why says why nothing was removed; "" when it was. The pictures go when they are a day old and nothing else refers to them.
func (s *Store) RemoveSite(ctx context.Context, siteID int64, seen, who string) (why string, err error) {
	err = s.Within(ctx, func(s *Store) error {
		name, err := one[string](ctx, s, fmt.Sprintf("site %d", siteID), `SELECT name FROM sites WHERE id = $1 FOR UPDATE`, siteID)
		if err != nil {
			return err
		}
		now, open, err := s.Removable(ctx, siteID)
		switch {
		case err != nil:
			return err
		case open != "":
			why = open
			return nil
		case now != seen:
			why = "something has happened on the site since you looked. Look again at what would go."
			return nil
		}
		chain, err := s.VerifyChain(ctx, siteID)
		if err != nil {
			return err
		}
		if err := s.exec(ctx, "the site", `DELETE FROM sites WHERE id = $1`, siteID); err != nil {
			return err
		}
		return s.RecordTeam(ctx, who, fmt.Sprintf("Removed the site “%s” with all that was recorded of it: a history of %d entries, the last with the hash %s.", name, chain.Entries, chain.Last()))
	})
	return why, err
}

package store

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
)

// archived are the tables of an archive in the order in which they can be read in,
// each with the condition of what is taken.
var archived = []struct{ table, where string }{
	{"blobs", shownBlobs}, {"sites", ""}, {"environments", ""}, {"revisions", ""}, {"changes", ""}, {"runs", ""}, {"acts", ""}, {"manual_tasks", ""}, {"drifts", ""}, {"looks", ""},
	{"findings", ""}, {"decisions", ""}, {"rechecks", ""}, {"searches", ""}, {"search_answers", ""}, {"predictions", ""}, {"step_ups", ""}, {"loads", ""}, {"field_sources", ""}, {"field_days", ""}, {"marks", ""}, {"exclusions", ""}, {"exclusion_events", ""}, {"policies", ""}, {"addresses", ""}, {"exports", ""}, {"backups", ""},
	{"parities", ""}, {"bundles", ""}, {"calendar_entries", ""}, {"approvals", ""}, {"comments", ""}, {"schedules", ""}, {"watches", ""}, {"watch_looks", ""}, {"rollouts", ""}, {"rollout_sites", ""}, {"notices", ""}, {"history", ""},
}

// cameLater are tables that an archive of an earlier version does not have; it holds nothing of
// theirs.
var cameLater = []string{"decisions", "rechecks", "searches", "search_answers", "predictions", "step_ups", "loads", "field_sources", "field_days", "calendar_entries", "approvals", "comments", "schedules", "watches", "watch_looks", "rollouts", "rollout_sites", "notices"}

// formerTables are the names of tables in archives of earlier versions, by today's.
var formerTables = map[string]string{"step_ups": "climbs", "predictions": "foresights", "rechecks": "later_looks"}

// renamedColumns are today's names of columns, by table and name in archives of earlier versions.
var renamedColumns = map[string]string{"step_ups.climb": "step_up", "rechecks.later_run_id": "recheck_run_id", "runs.put_back": "restores", "rollout_sites.left_out": "skipped"}

// notArchived are the other tables: references to blobs, which come about again; objects that are to go; the chain of the history, which that becomes anew; who may sign in and subscribe, with their secrets, and sites
// that somebody is still adding, with theirs; page views, of which each day is kept; and who is told what, and how.
var notArchived = []string{"people", "invitations", "tokens", "sign_in_failures", "known_browsers", "factors", "recovery_codes", "required_factors", "identities", "sessions", "team_history", "onboardings", "visits", "blob_references", "objects_gone", "calendar_addresses", "history_chain", "notice_choices", "notice_for", "mails", "feeds", "webhooks", "deliveries"}

// shownBlobs are the bodies of first looks and of those that a finding's proof shows, and of their pictures those that a page
// shows or a run needs: of each environment's newest mark, of that with which a promotion's open watch compares, and on both sides of the
// proof of a finding; and how measured pages came into view.
const shownBlobs = `WHERE sha256 IN (
	WITH named AS (
		SELECT l.run_id, l.page, l.journey, l.persona, l.device, (regexp_matches(l.document::text, '[0-9a-f]{64}', 'g'))[1] AS sha256
		FROM looks l WHERE l.pass = 1 OR EXISTS (SELECT 1 FROM findings f WHERE f.run_id = l.run_id
			AND l.pass IN ((f.document->>'pass')::int, (f.document->'control'->>'pass')::int))
	), shown AS (
		SELECT r.id AS run_id, m.run_id AS before_id, f.document->>'page' AS page, coalesce(f.document->>'journey', '') AS journey,
			f.document->>'persona' AS persona, f.document->>'device' AS device
		FROM findings f JOIN runs r ON r.id = f.run_id LEFT JOIN marks m ON m.id = r.mark_id
	)
	SELECT n.sha256 FROM named n JOIN blobs b ON b.sha256 = n.sha256
	WHERE b.media_type NOT LIKE 'image/%'
		OR n.run_id IN (SELECT DISTINCT ON (environment_id) run_id FROM marks ORDER BY environment_id, id DESC)
		OR n.run_id IN (SELECT m.run_id FROM watches w JOIN runs r ON r.id = w.run_id JOIN marks m ON m.id = r.mark_id WHERE w.state IN ('watching', 'waits for a person'))
		OR EXISTS (SELECT 1 FROM shown s WHERE n.run_id IN (s.run_id, s.before_id) AND n.persona = s.persona AND n.device = s.device
			AND CASE WHEN s.journey = '' THEN n.page = s.page AND n.journey = '' ELSE n.journey = s.journey END)
	UNION SELECT (regexp_matches(document::text, '[0-9a-f]{64}', 'g'))[1] FROM loads)`

// zstdWindow lets the archive find a page's body again in one of the many others that
// are nearly the same.
const zstdWindow = 32 << 20

// Export writes the record of all sites as a zip archive (compressed with Zstandard,
// method 93), as it is at one moment. Tokens are not in it, and nobody who can sign in.
func (s *Store) Export(ctx context.Context, w io.Writer) error {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zstd.ZipMethodWinZip, zstd.ZipCompressor(zstd.WithWindowSize(zstdWindow), zstd.WithEncoderLevel(zstd.SpeedBestCompression)))
	err := pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		for _, a := range archived {
			if err := exportTable(ctx, tx, z, a.table, a.where, true); err != nil {
				return fmt.Errorf("write %s into the archive: %w", a.table, err)
			}
		}
		return s.exportObjects(ctx, tx, z, shownBlobs)
	})
	return errors.Join(err, z.Close())
}

func exportTable(ctx context.Context, tx pgx.Tx, z *zip.Writer, table, where string, withoutTokens bool) error {
	cols, err := tableColumns(ctx, tx, table)
	if err != nil {
		return err
	}
	head, err := json.Marshal(cols)
	if err != nil {
		return err
	}
	f, err := z.CreateHeader(&zip.FileHeader{Name: table + ".columns.json", Method: zip.Store})
	if err == nil {
		_, err = f.Write(head)
	}
	if err != nil {
		return err
	}
	if f, err = z.CreateHeader(&zip.FileHeader{Name: table + ".copy", Method: zstd.ZipMethodWinZip}); err != nil {
		return err
	}
	selected := make([]string, len(cols))
	for i, c := range cols {
		selected[i] = pgx.Identifier{c}.Sanitize()
		if withoutTokens && table == "environments" && c == "token" {
			selected[i] = "''::text"
		}
	}
	query := fmt.Sprintf("COPY (SELECT %s FROM %s %s) TO STDOUT (FORMAT binary)", strings.Join(selected, ", "), pgx.Identifier{table}.Sanitize(), where)
	_, err = tx.Conn().PgConn().CopyTo(ctx, f, query)
	return err
}

// Import reads an archive into a database that has no site, all of it or nothing.
func (s *Store) Import(ctx context.Context, raw []byte) error {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return fmt.Errorf("read the archive: %w", err)
	}
	z.RegisterDecompressor(zstd.ZipMethodWinZip, zstd.ZipDecompressor(zstd.WithDecoderMaxWindow(zstdWindow)))
	_, total, err := s.Sites(ctx, "", 1, 0)
	if err != nil {
		return err
	}
	if total > 0 {
		return errors.New("the database has sites already; an archive is read into an empty one")
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		for _, a := range archived {
			if err := importTable(ctx, tx, z, a.table); err != nil {
				return fmt.Errorf("read %s from the archive: %w", a.table, err)
			}
		}
		if _, err := tx.Exec(ctx, `SELECT rename_stored_values()`); err != nil {
			return fmt.Errorf("bring the archive's values up to date: %w", err)
		}
		return importObjects(ctx, tx, z)
	})
}

func importTable(ctx context.Context, tx pgx.Tx, z *zip.Reader, table string) error {
	file := table
	head, err := z.Open(file + ".columns.json")
	if former := formerTables[table]; former != "" && errors.Is(err, fs.ErrNotExist) {
		file = former
		head, err = z.Open(file + ".columns.json")
	}
	if errors.Is(err, fs.ErrNotExist) && slices.Contains(cameLater, table) {
		return nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("it is not in the archive, which is of another version of Tide Marker")
	}
	if err != nil {
		return err
	}
	var cols []string
	if err := json.NewDecoder(head).Decode(&cols); err != nil {
		return err
	}
	f, err := z.Open(file + ".copy")
	if err != nil {
		return err
	}
	defer f.Close()
	quoted := make([]string, len(cols))
	hasID := false
	for i, c := range cols {
		quoted[i] = pgx.Identifier{cmp.Or(renamedColumns[table+"."+c], c)}.Sanitize()
		hasID = hasID || c == "id"
	}
	name := pgx.Identifier{table}.Sanitize()
	if _, err := tx.Conn().PgConn().CopyFrom(ctx, f, fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", name, strings.Join(quoted, ", "))); err != nil {
		return err
	}
	if !hasID {
		return nil
	}
	_, err = tx.Exec(ctx, fmt.Sprintf("SELECT setval(pg_get_serial_sequence('%s', 'id'), coalesce((SELECT max(id) FROM %s), 1))", table, name))
	return err
}

func tableColumns(ctx context.Context, tx pgx.Tx, table string) ([]string, error) {
	rows, err := tx.Query(ctx, `SELECT column_name FROM information_schema.columns WHERE table_schema = 'public' AND table_name = $1 ORDER BY ordinal_position`, table)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

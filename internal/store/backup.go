package store

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
)

// backedUp are the tables of a backup beside those of an archive, in the order in which they can be read in. Sessions are not
// among them: whoever was signed in signs in again.
var backedUp = []string{"people", "invitations", "tokens", "sign_in_failures", "known_browsers", "factors", "recovery_codes", "required_factors", "identities", "team_history", "history_chain", "onboardings", "visits", "calendar_addresses", "notice_choices", "mails", "notice_for", "feeds", "webhooks", "deliveries", "river_job"}

// notBackedUp are the tables that a backup leaves out: sessions; references, which come about again; and objects that are to go, since a backup brings all bytes itself.
var notBackedUp = []string{"sessions", "blob_references", "objects_gone"}

// manifestName is the file of a backup that says what it is.
const manifestName = "tidemarker-backup.json"

// Manifest says what a backup is of.
type Manifest struct {
	Schema     int64     `json:"schema"` // version of the schema
	Made       time.Time `json:"made"`
	VisitsFrom time.Time `json:"visitsFrom"` // the first day of page views in it
	VisitsDays int       `json:"visitsDays"` // and how many days
}

func schemaVersion(ctx context.Context, tx pgx.Tx) (v int64, err error) {
	err = tx.QueryRow(ctx, `SELECT max(version_id) FROM goose_db_version WHERE is_applied`).Scan(&v)
	return v, err
}

// Backup writes everything, as it is at one moment, as a zip archive (compressed with Zstandard, method 93). Secrets are in it
// as they lie in the database: sealed, so that whoever reads it in needs the key.
func (s *Store) Backup(ctx context.Context, w io.Writer) error {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zstd.ZipMethodWinZip, zstd.ZipCompressor(zstd.WithWindowSize(zstdWindow)))
	err := pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		m := Manifest{Made: time.Now().UTC()}
		var err error
		if m.Schema, err = schemaVersion(ctx, tx); err != nil {
			return err
		}
		var from, to *time.Time
		if err := tx.QueryRow(ctx, `SELECT min(at), max(at) FROM visits`).Scan(&from, &to); err != nil {
			return err
		}
		if from != nil {
			m.VisitsFrom = from.UTC().Truncate(24 * time.Hour)
			m.VisitsDays = int(to.UTC().Sub(m.VisitsFrom)/(24*time.Hour)) + 1
		}
		f, err := z.Create(manifestName)
		if err == nil {
			err = json.NewEncoder(f).Encode(m)
		}
		if err != nil {
			return err
		}
		for _, table := range backedUpTables() {
			if err := exportTable(ctx, tx, z, table, "", false); err != nil {
				return fmt.Errorf("write %s into the backup: %w", table, err)
			}
		}
		return s.exportObjects(ctx, tx, z, "")
	})
	return errors.Join(err, z.Close())
}

func backedUpTables() []string {
	var out []string
	for _, a := range archived {
		out = append(out, a.table)
	}
	return append(out, backedUp...)
}

// Restore reads a backup into a database in which nothing is recorded and nobody can sign in, all of it or nothing.
func (s *Store) Restore(ctx context.Context, r io.ReaderAt, size int64) error {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return fmt.Errorf("read the backup: %w", err)
	}
	z.RegisterDecompressor(zstd.ZipMethodWinZip, zstd.ZipDecompressor(zstd.WithDecoderMaxWindow(zstdWindow)))
	var m Manifest
	f, err := z.Open(manifestName)
	if err == nil {
		err = json.NewDecoder(f).Decode(&m)
	}
	if err != nil {
		return errors.New("this is no backup of Tide Marker: it does not say what it is of")
	}
	if m.VisitsDays > 0 {
		if err := s.KeepVisitsFor(ctx, m.VisitsFrom, m.VisitsDays, m.VisitsFrom); err != nil {
			return err
		}
	}
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		version, err := schemaVersion(ctx, tx)
		if err != nil {
			return err
		}
		if version != m.Schema {
			return fmt.Errorf("the backup is of another version of Tide Marker: its schema is %d, this one's is %d. Read it in with the version that made it, then upgrade", m.Schema, version)
		}
		full := false
		if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM sites) OR EXISTS (SELECT FROM people)`).Scan(&full); err != nil {
			return err
		}
		if full {
			return errors.New("the database has sites or people already; a backup is read into an empty one")
		}
		for _, table := range backedUpTables() {
			if table == "river_job" { // what a process that has just begun put there itself
				if _, err := tx.Exec(ctx, `DELETE FROM river_job`); err != nil {
					return err
				}
			}
			if err := importTable(ctx, tx, z, table); err != nil {
				return fmt.Errorf("read %s from the backup: %w", table, err)
			}
		}
		return importObjects(ctx, tx, z)
	})
}

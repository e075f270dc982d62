package store

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
)

// archived are the tables of an archive in the order in which they can be read in,
// each with the condition of what is taken. Pictures of second looks are left out;
// nothing shows them.
var archived = []struct{ table, where string }{
	{"sites", ""}, {"environments", ""}, {"revisions", ""}, {"changes", ""}, {"runs", ""}, {"acts", ""}, {"drifts", ""}, {"looks", ""},
	{"findings", ""}, {"marks", ""}, {"exclusions", ""}, {"exclusion_events", ""}, {"policies", ""}, {"addresses", ""}, {"history", ""},
	{"blobs", `WHERE sha256 IN (SELECT (regexp_matches(document::text, '[0-9a-f]{64}', 'g'))[1] FROM looks WHERE pass = 1)`},
}

// Export writes everything that is kept as a zip archive. Tokens are not in it.
func (s *Store) Export(ctx context.Context, w io.Writer) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	z := zip.NewWriter(w)
	for _, a := range archived {
		cols, err := columns(ctx, conn.Conn(), a.table)
		if err != nil {
			return err
		}
		head, err := json.Marshal(cols)
		if err != nil {
			return err
		}
		f, err := z.Create(a.table + ".columns.json")
		if err == nil {
			_, err = f.Write(head)
		}
		if err != nil {
			return err
		}
		if f, err = z.Create(a.table + ".copy"); err != nil {
			return err
		}
		selected := make([]string, len(cols))
		for i, c := range cols {
			selected[i] = pgx.Identifier{c}.Sanitize()
			if a.table == "environments" && c == "token" {
				selected[i] = "''::text"
			}
		}
		query := fmt.Sprintf("COPY (SELECT %s FROM %s %s) TO STDOUT (FORMAT binary)", strings.Join(selected, ", "), pgx.Identifier{a.table}.Sanitize(), a.where)
		if _, err := conn.Conn().PgConn().CopyTo(ctx, f, query); err != nil {
			return fmt.Errorf("write %s into the archive: %w", a.table, err)
		}
	}
	return z.Close()
}

// Import reads an archive into a database that has no site, all of it or nothing.
func (s *Store) Import(ctx context.Context, raw []byte) error {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return fmt.Errorf("read the archive: %w", err)
	}
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
		return nil
	})
}

func importTable(ctx context.Context, tx pgx.Tx, z *zip.Reader, table string) error {
	head, err := z.Open(table + ".columns.json")
	if errors.Is(err, fs.ErrNotExist) {
		return nil // the archive is older than the table
	}
	if err != nil {
		return err
	}
	var cols []string
	if err := json.NewDecoder(head).Decode(&cols); err != nil {
		return err
	}
	f, err := z.Open(table + ".copy")
	if err != nil {
		return err
	}
	defer f.Close()
	quoted := make([]string, len(cols))
	hasID := false
	for i, c := range cols {
		quoted[i] = pgx.Identifier{c}.Sanitize()
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

func columns(ctx context.Context, conn *pgx.Conn, table string) ([]string, error) {
	rows, err := conn.Query(ctx, `SELECT column_name FROM information_schema.columns WHERE table_schema = 'public' AND table_name = $1 ORDER BY ordinal_position`, table)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

package soak_test

import (
	"context"
	"fmt"
	"os"
	"strings"
)

// secrets are what nothing that the soak produces may hold: the connectors' token, an editor's password, people's password, and
// the key.
func (w *world) secrets() map[string]string {
	return map[string]string{"the connectors' token": token, "the editor's password": editorPassword, "people's password": password, "the key": w.key}
}

// checkSecrets looks for secrets in everything that was written: logs, and every row of every table, bodies and pictures too.
func (w *world) checkSecrets(ctx context.Context) (wrong, error) {
	var out wrong
	for _, p := range w.programs {
		raw, err := os.ReadFile(p.folder + "/" + p.name + ".log")
		if err != nil {
			return nil, err
		}
		for what, secret := range w.secrets() {
			if strings.Contains(string(raw), secret) {
				out.add("the log of %s has %s in it", p.name, what)
			}
		}
	}
	rows, err := w.db().Pool.Query(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE'`)
	if err != nil {
		return nil, err
	}
	var tables []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		tables = append(tables, name)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for _, table := range tables {
		for what, secret := range w.secrets() {
			where := `x::text LIKE '%' || $1 || '%'`
			if table == "blobs" { // whose rows as text are hexadecimal
				where = `position(convert_to($1, 'UTF8') IN x.bytes) > 0`
			}
			var n int
			if err := w.db().Pool.QueryRow(ctx, fmt.Sprintf(`SELECT count(*) FROM %q x WHERE %s`, table, where), secret).Scan(&n); err != nil {
				return nil, fmt.Errorf("%s: %w", table, err)
			}
			if n > 0 {
				out.add("%d rows of %s have %s in them", n, table, what)
			}
		}
	}
	return out, nil
}

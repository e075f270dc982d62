package store

import (
	"context"
	"fmt"
)

// Found is something that has the words that were searched for.
type Found struct {
	Kind     string `db:"kind"` // site, page, setting, exclusion, change, run or finding
	ID       int64  `db:"id"`   // of the thing; of its site where it has none of its own
	SiteID   int64  `db:"site_id"`
	SiteName string `db:"site_name"`
	RunID    int64  `db:"run_id"` // of a finding
	Title    string `db:"title"`
	Detail   string `db:"detail"`
}

// searchedFindings is how many findings, the newest, are searched: years of them would have to be read for a word that few have.
const searchedFindings = 50_000

// Each query takes the words in lower case as $1 and how many to find as $2.
var finds = []string{
	`SELECT 'site' AS kind, s.id, s.id AS site_id, s.name AS site_name, 0 AS run_id, s.name AS title, l.labels AS detail
	 FROM sites s, LATERAL (SELECT COALESCE(string_agg(x, ', '), '') AS labels FROM jsonb_array_elements_text(CASE jsonb_typeof(s.document->'labels') WHEN 'array' THEN s.document->'labels' ELSE '[]' END) x) l
	 WHERE position($1 in lower(s.name)) > 0 OR position($1 in lower(l.labels)) > 0
	 ORDER BY position($1 in lower(s.name)) = 1 DESC, s.name LIMIT $2`,
	`SELECT 'change' AS kind, c.id, s.id AS site_id, s.name AS site_name, 0 AS run_id, c.title, c.state AS detail
	 FROM changes c JOIN sites s ON s.id = c.site_id WHERE position($1 in lower(c.title)) > 0 OR position($1 in lower(c.reason)) > 0
	 ORDER BY c.updated_at DESC LIMIT $2`,
	`SELECT 'setting' AS kind, s.id, s.id AS site_id, s.name AS site_name, 0 AS run_id, d->>'title' AS title, d->>'key' AS detail
	 FROM environments e JOIN sites s ON s.id = e.site_id, jsonb_array_elements(e.catalogue->'settings') d
	 WHERE e.role = 'production' AND (position($1 in lower(d->>'title')) > 0 OR position($1 in lower(d->>'key')) > 0)
	 ORDER BY title, s.name LIMIT $2`,
	`SELECT 'exclusion' AS kind, x.id, s.id AS site_id, s.name AS site_name, 0 AS run_id, x.pattern AS title, x.reason AS detail
	 FROM exclusions x JOIN sites s ON s.id = x.site_id WHERE position($1 in lower(x.pattern)) > 0 OR position($1 in lower(x.reason)) > 0
	 ORDER BY x.made_at DESC LIMIT $2`,
	`SELECT 'page' AS kind, s.id, s.id AS site_id, s.name AS site_name, 0 AS run_id, p->>'path' AS title, p->>'class' AS detail
	 FROM sites s, jsonb_array_elements(s.document->'pages') p WHERE position($1 in lower(p->>'path')) > 0
	 ORDER BY length(p->>'path'), title, s.name LIMIT $2`,
	fmt.Sprintf(`SELECT 'finding' AS kind, f.id, s.id AS site_id, s.name AS site_name, f.run_id, f.document->>'title' AS title, f.document->>'page' AS detail
	 FROM (SELECT * FROM findings ORDER BY id DESC LIMIT %d) f JOIN runs r ON r.id = f.run_id JOIN sites s ON s.id = r.site_id
	 WHERE position($1 in lower(f.document->>'title')) > 0 ORDER BY f.id DESC LIMIT $2`, searchedFindings),
}

// Find finds sites, changes, settings, exclusions, pages and findings that have a text, in any case: of each at most so many.
func (s *Store) Find(ctx context.Context, text string, most int) ([]Found, error) {
	var all []Found
	for _, q := range finds {
		found, err := many[Found](ctx, s, "what was searched for", q, text, most)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

package api_test

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
)

//go:embed testdata/scale.sql
var scaleSQL string

// scale is how much there is of all.
type scale struct{ sites, runs, looks, findings, history, addresses, rules, asked int }

// whole is what make scale fills in: 200 sites and two years of them. Looks and findings are of each run, history of each site.
var whole = scale{sites: 200, runs: 40_000, looks: 38, findings: 25, history: 1500, addresses: 50_000, rules: 2000, asked: 40}

// part is what make test fills in: that every list answers, not how fast.
var part = scale{sites: 8, runs: 160, looks: 5, findings: 4, history: 30, addresses: 300, rules: 20, asked: 1}

const (
	enough     = 15 * time.Second // of asking for one thing
	medianGoal = 100 * time.Millisecond
	tailGoal   = 300 * time.Millisecond // of the 95th percentile
)

// filled is the application with a house of sites in it, of which nobody looks at a page.
func filled(t *testing.T, n scale) *desk {
	t.Helper()
	d := fullShop(t)
	d.read(d.api(people.Administrator)) // what the other sites have
	rules := []string{"/cart", "/checkout", "/account"}
	for i := range n.rules {
		rules = append(rules, []string{fmt.Sprintf("/item/part-%d/page-%d", i%97, i), fmt.Sprintf("/article/*/page-%d", i*13), fmt.Sprintf("/account/part-%d/page-%d/", i%97, i)}[i%3])
	}
	meddle(t, d.staging, settings.Values{"pages.never": rules})
	meddle(t, d.production, settings.Values{"pages.never": rules})
	d.read(d.api(people.Administrator))
	tx, err := d.store.Pool.Begin(t.Context())
	require.NoError(t, err)
	for name, value := range map[string]int{"sites": n.sites, "runs": n.runs, "looks": n.looks, "findings": n.findings, "history": n.history, "addresses": n.addresses} {
		_, err := tx.Exec(t.Context(), `SELECT set_config($1, $2, true)`, "scale."+name, fmt.Sprint(value))
		require.NoError(t, err)
	}
	_, err = tx.Exec(t.Context(), scaleSQL)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(t.Context()))
	_, err = d.store.Pool.Exec(t.Context(), `INSERT INTO webhooks (address, secret, made_by) VALUES ('https://127.0.0.1:1/hook', 'sealed', 'Ada')`)
	require.NoError(t, err)
	_, err = d.store.Pool.Exec(t.Context(), `VACUUM ANALYZE`)
	require.NoError(t, err)
	return d
}

// TestEveryListAnswersAtScale asks for everything that can be read, and with TIDEMARKER_SCALE (make scale) says how long it takes
// when there are 200 sites and two years of them.
func TestEveryListAnswersAtScale(t *testing.T) {
	n, measured := part, os.Getenv("TIDEMARKER_SCALE") != ""
	if measured {
		n = whole
	}
	d := filled(t, n)
	api := d.api(people.Administrator)
	before := d.scanned()
	var described struct {
		Paths map[string]struct {
			Get *struct{ OperationID string }
		}
	}
	req, err := newRequest(t, http.MethodGet, d.url+"/api/openapi.json", "")
	require.NoError(t, err)
	status, text := answerTo(t, &api.http, req)
	require.Equal(t, http.StatusOK, status)
	require.NoError(t, json.Unmarshal([]byte(text), &described))
	random := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // the same each time
	slow := 0
	for _, path := range slices.Sorted(maps.Keys(described.Paths)) {
		op := described.Paths[path].Get
		if op == nil || slices.Contains([]string{"compare-measured-runs", "compare-runs", "export-recording", "export-measured", "get-measured-page", "get-onboarding", "get-exclusion-history", "preview-bundle", "compare-revisions", "list-found-pages"}, op.OperationID) {
			continue // they need what is not filled in
		}
		var times []time.Duration
		for i, since := 0, time.Now(); i < n.asked && (i < 4 || time.Since(since) < enough); i++ {
			at := d.filledIn(strings.TrimPrefix(path, "/api/v1"), n, i, random)
			began := time.Now()
			status, text := api.ask(http.MethodGet, at, nil, nil)
			times = append(times, time.Since(began))
			if slices.Contains([]string{"get-run-predictions", "predict-change", "get-parity", "plan-roll-back", "get-report"}, op.OperationID) {
				require.Less(t, status, 500, "%s: %s", at, text[:min(len(text), 300)]) // some runs and changes have none
				continue
			}
			require.Equal(t, http.StatusOK, status, "%s: %s", at, text[:min(len(text), 300)])
		}
		slices.Sort(times)
		median, tail := times[len(times)/2], times[int(math.Ceil(0.95*float64(len(times))))-1]
		mark := ""
		if median > medianGoal || tail > tailGoal {
			mark, slow = " **slow**", slow+1
		}
		if measured {
			t.Logf("| `%s` | %.1f | %.1f |%s", op.OperationID, ms(median), ms(tail), mark)
		}
	}
	if measured {
		for table, rows := range d.scanned() {
			if more := rows - before[table]; more > 0 {
				t.Logf("read by scanning %s: %d rows", table, more)
				assert.NotContains(t, []string{"looks", "findings", "history", "runs", "changes", "exclusions", "addresses", "acts"}, table, "a large table is read from end to end")
			}
		}
		assert.Zero(t, slow, "operations above %s at the median or %s at the 95th percentile", medianGoal, tailGoal)
	}
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// filledIn puts numbers into a path: of the large site as often as of another, and of runs the newest as often as others.
func (d *desk) filledIn(path string, n scale, i int, random *rand.Rand) string {
	number := func(table string, most int) string {
		if i%2 == 0 {
			return fmt.Sprint(map[string]int{"sites": 1, "environments": 1 + i/2%2, "runs": most, "changes": 100, "findings": n.findings * most}[table])
		}
		return fmt.Sprint(1 + random.IntN(most))
	}
	switch {
	case path == "/search":
		return path + "?q=" + []string{"site", "defer", "/cart", "not defined"}[i%4]
	case strings.HasPrefix(path, "/sites/"):
		return strings.Replace(path, "{id}", number("sites", n.sites), 1)
	case strings.Contains(path, "{fingerprint}"):
		e, err := d.store.Environment(d.Context(), 1)
		require.NoError(d, err)
		return strings.NewReplacer("{id}", "1", "{fingerprint}", e.Fingerprint).Replace(path)
	case strings.HasPrefix(path, "/environments/"):
		at := ""
		if strings.HasSuffix(path, "/at") {
			at = "?time=" + url.QueryEscape(time.Now().Add(-time.Duration(random.IntN(700*24))*time.Hour).UTC().Format(time.RFC3339))
		}
		return strings.Replace(path, "{id}", number("environments", 2*n.sites), 1) + at
	case strings.HasPrefix(path, "/changes/"):
		return strings.Replace(path, "{id}", number("changes", 100*n.sites), 1)
	case strings.HasPrefix(path, "/webhooks/"), strings.HasPrefix(path, "/rollouts/"):
		return strings.Replace(path, "{id}", "1", 1)
	case strings.HasPrefix(path, "/findings/"):
		return strings.Replace(path, "{id}", fmt.Sprint(1+random.IntN(n.findings*n.runs)), 1)
	}
	return strings.Replace(path, "{id}", number("runs", n.runs), 1)
}

// scanned is how many rows of each table were read by going through all of it.
func (d *desk) scanned() map[string]int {
	d.Helper()
	rows, err := d.store.Pool.Query(d.Context(), `SELECT relname, seq_tup_read FROM pg_stat_user_tables`)
	require.NoError(d, err)
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var name string
		var n int
		require.NoError(d, rows.Scan(&name, &n))
		out[name] = n
	}
	return out
}

package api_test

import (
	_ "embed"
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

//go:embed testdata/much.sql
var muchSQL string

// much is how much there is of what a screen shows.
type much struct{ findings, pages, history, runs, times int }

// lots is what make bench fills in; 200 sites and 500 rules beside it. History is ten lines a day for ten years.
var lots = much{findings: 5000, pages: 10_000, history: 36_500, runs: 20_000, times: 5}

// some is what make test fills in: that all of it can be reached, not how fast.
var some = much{findings: 300, pages: 300, history: 250, runs: 160, times: 1}

const (
	openGoal = time.Second
	actGoal  = 200 * time.Millisecond // web.dev, “Interaction to Next Paint”: good up to here
)

// screen is one that shows much: where it is, what is there when it is open, and what somebody then does again and again.
type screen struct {
	name, path, selector, text string
	act                        string // a function of JavaScript; it is smooth when the next picture comes soon
}

func screens(run int) []screen {
	scroll := `() => window.scrollBy(0, 500)`
	press := func(key string) string {
		return fmt.Sprintf(`() => document.body.dispatchEvent(new KeyboardEvent("keydown", { key: %q, bubbles: true }))`, key)
	}
	return []screen{
		{"200 sites", "/", "a.name", "Fernhollow", scroll},
		{"5,000 findings", fmt.Sprintf("/runs/%d", run), "ul[aria-label=Findings] button", "Something is otherwise", press("j")},
		{"5,000 findings, the last chosen", fmt.Sprintf("/runs/%d?finding=%s", run, "last"), "ul[aria-label=Findings] [aria-current=true]", "page", press("k")},
		{"500 rules", "/sites/1/exclusions", "td code", "/", scroll},
		{"10 years of history", "/sites/1/history", "td", "Something happened", scroll},
		{"10,000 addresses", "/add-site/1?pages=all", "td", "/part-", scroll},
		{"a site with 10 years", "/sites/1", "h2", "Changes", scroll},
		{"its runs", "/sites/1/runs", "td a", "Check", scroll},
		{"its changes", "/sites/1/changes", "td a", "Change", scroll},
	}
}

// opened opens a screen and says how long it took until what is asked for was drawn, by the browser's own clock.
func (d *desk) opened(s screen) time.Duration {
	d.Helper()
	d.open(s.path)
	res, err := d.page.Timeout(patience).Evaluate(rod.Eval(`(selector, text) => new Promise((done) => {
		const there = () => [...document.querySelectorAll(selector)].some((e) => new RegExp(text).test(e.textContent))
			? requestAnimationFrame(() => setTimeout(() => done(performance.now()))) : requestAnimationFrame(there);
		there();
	})`, s.selector, s.text).ByPromise())
	if err != nil {
		body, _ := d.page.Eval(`() => document.body.innerText.slice(0, 2000)`)
		d.Fatalf("%s: %v\n%s", s.name, err, body.Value.Str())
	}
	return time.Duration(res.Value.Num() * float64(time.Millisecond))
}

// acted does something twenty times and says how long the slowest took until the next picture.
func (d *desk) acted(s screen) time.Duration {
	d.Helper()
	res, err := d.page.Timeout(patience).Evaluate(rod.Eval(fmt.Sprintf(`async () => {
		const act = %s;
		let slowest = 0;
		for (let i = 0; i < 20; i++) {
			const began = performance.now();
			act();
			await new Promise((drawn) => requestAnimationFrame(() => setTimeout(drawn)));
			slowest = Math.max(slowest, performance.now() - began);
		}
		return slowest;
	}`, s.act)).ByPromise())
	require.NoError(d, err)
	return time.Duration(res.Value.Num() * float64(time.Millisecond))
}

// TestScreensOpenWhenThereIsMuch opens what can grow when it has grown; with TIDEMARKER_MUCH (make bench) it says how long that takes.
func TestScreensOpenWhenThereIsMuch(t *testing.T) {
	n, measured := some, os.Getenv("TIDEMARKER_MUCH") != ""
	houses := part
	if measured {
		n, houses = lots, scale{sites: 200, runs: lots.runs, looks: 1, findings: 1, history: 10, addresses: lots.pages, rules: 500}
	}
	d := filled(t, houses)
	tx, err := d.store.Pool.Begin(t.Context())
	require.NoError(t, err)
	for name, value := range map[string]int{"findings": n.findings, "pages": n.pages, "history": n.history} {
		_, err := tx.Exec(t.Context(), `SELECT set_config($1, $2, true)`, "much."+name, fmt.Sprint(value))
		require.NoError(t, err)
	}
	_, err = tx.Exec(t.Context(), muchSQL)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(t.Context()))
	var run, last int
	require.NoError(t, d.store.Pool.QueryRow(t.Context(), `SELECT run_id, max(id) FROM findings GROUP BY run_id ORDER BY count(*) DESC LIMIT 1`).Scan(&run, &last))
	d.signIn("Ada", "/")
	d.see("h1", "^Sites$")
	slow := 0
	for _, s := range screens(run) {
		if i := len("?finding=last"); len(s.path) > i && s.path[len(s.path)-i:] == "?finding=last" {
			s.path = fmt.Sprintf("/runs/%d?finding=%d", run, last)
		}
		opens, acts := make([]time.Duration, n.times), make([]time.Duration, n.times)
		for i := range n.times {
			opens[i] = d.opened(s)
		}
		for i := range n.times {
			acts[i] = d.acted(s)
		}
		slices.Sort(opens)
		slices.Sort(acts)
		open, act, mark := opens[len(opens)/2], acts[len(acts)/2], ""
		if open > openGoal || act > actGoal {
			mark, slow = " **slow**", slow+1
		}
		if measured {
			t.Logf("| %s | %.0f ms | %.0f ms |%s", s.name, ms(open), ms(act), mark)
		}
	}
	if measured {
		assert.Zero(t, slow, "screens that take longer than %s to open, or %s to answer", openGoal, actGoal)
	}
}

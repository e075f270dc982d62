package soak_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"sync"
	"time"

	"github.com/stretchr/testify/require"
)

// promise is something that the server said it has done, which must not be lost.
type promise struct {
	what  string
	query string // counts the rows that show it
	args  []any
}

// person is somebody who acts at random.
type person struct {
	w      *world
	name   string
	random *rand.Rand
	http   http.Client

	mu       sync.Mutex
	promises []promise
}

func newPerson(w *world, name string, random *rand.Rand) *person {
	w.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(w, err)
	p := &person{w: w, name: name, random: random, http: http.Client{Jar: jar, Timeout: 20 * time.Second}}
	status, said := p.ask(w.Context(), http.MethodPost, "/session", map[string]any{"name": name, "password": password}, nil)
	require.Equal(w, http.StatusOK, status, said)
	return p
}

// ask makes one request; status is 0 when nobody knows what came of it.
func (p *person) ask(ctx context.Context, method, path string, body, into any) (status int, said string) {
	raw, err := json.Marshal(body)
	if err != nil {
		panic(err)
	}
	req, err := http.NewRequestWithContext(ctx, method, p.w.server+"/api/v1"+path, bytes.NewReader(raw))
	if err != nil {
		panic(err)
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := p.http.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	got, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, err.Error()
	}
	if into != nil && res.StatusCode < 300 {
		if err := json.Unmarshal(got, into); err != nil {
			return res.StatusCode, err.Error()
		}
	}
	p.w.counts.refused(method+" "+digits.ReplaceAllString(path, "…"), res.StatusCode, string(got))
	return res.StatusCode, string(got)
}

// promised notes what the server said that it has done.
func (p *person) promised(status int, what, query string, args ...any) {
	if status < 200 || status > 299 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.promises = append(p.promises, promise{what, query, args})
}

// broken are the promises of which nothing is to be seen: among the latest, or among all.
func (p *person) broken(ctx context.Context, all bool) (out []string, err error) {
	p.mu.Lock()
	list := p.promises
	if !all {
		list = list[max(0, len(list)-50):]
	}
	p.mu.Unlock()
	for _, pr := range list {
		var n int
		if err := p.w.db().Pool.QueryRow(ctx, pr.query, pr.args...).Scan(&n); err != nil {
			return nil, fmt.Errorf("%s: %w", pr.what, err)
		}
		if n == 0 {
			out = append(out, fmt.Sprintf("%s was told: %s. It is not there.", p.name, pr.what))
		}
	}
	return out, nil
}

// change is what is read of one.
type change struct {
	ID      int64
	Title   string
	State   string
	Version int
	Edits   map[string]any
	Runs    []struct {
		ID    int64
		State string
	}
}

// acts are what people do, each as often as it is here.
func (p *person) acts() map[string]func(context.Context, *shop) int {
	return map[string]func(context.Context, *shop) int{
		"begin": p.begin, "edit": p.edit, "try": p.try, "promote": p.promote, "roll back": p.rollBack, "stop": p.stop, "accept": p.accept, "exclude": p.exclude,
		"accept drift": p.acceptDrift, "import": p.importLedger, "watch": p.watch, "mark": p.mark, "check": p.check, "measure": p.measure, "search": p.search, "step-up": p.stepUp, "purge": p.purge,
		"file": p.importFile, "discard": p.discard,
	}
}

// often is in which proportion they are done.
var often = []string{"begin", "begin", "edit", "edit", "try", "try", "try", "promote", "promote", "roll back", "stop", "accept", "accept", "exclude", "accept drift", "accept drift", "import", "watch", "mark", "check", "measure", "search", "step-up", "purge", "file", "discard"}

// alone is what is refused while a run is under way.
var alone = []string{"edit", "try", "promote", "roll back", "mark", "check", "measure", "search", "step-up", "discard"}

// act does one thing at random.
func (p *person) act(ctx context.Context) {
	what := often[p.random.IntN(len(often))]
	s := p.w.shops[p.random.IntN(len(p.w.shops))]
	if _, busy := p.openRun(ctx, s); busy && slices.Contains(alone, what) && p.random.IntN(4) > 0 {
		for _, other := range p.w.shops { // people, too, mostly go where nothing is under way
			if _, busy := p.openRun(ctx, other); !busy {
				s = other
				break
			}
		}
	}
	status := p.acts()[what](ctx, s)
	p.w.counts.asked(what, status)
}

// pick chooses one of some; ok is false when there are none.
func pick[T any](random *rand.Rand, from []T) (one T, ok bool) {
	if len(from) == 0 {
		return one, false
	}
	return from[random.IntN(len(from))], true
}

// some is a change of a site in one of the states, as the server shows it.
func (p *person) some(ctx context.Context, s *shop, states ...string) (c change, ok bool) {
	var ids []int64
	rows, err := p.w.db().Pool.Query(ctx, `SELECT id FROM changes WHERE site_id = $1 AND state = ANY($2) ORDER BY id DESC LIMIT 6`, s.id, states)
	if err != nil {
		return c, false
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		if rows.Scan(&id) == nil {
			ids = append(ids, id)
		}
	}
	id, ok := pick(p.random, ids)
	if !ok {
		return c, false
	}
	status, _ := p.ask(ctx, http.MethodGet, fmt.Sprintf("/changes/%d", id), nil, &c)
	return c, status == http.StatusOK
}

// edits are one to three settings turned.
func (p *person) edits(s *shop) map[string]any {
	v, _ := s.production.inst.Layer.Settings()
	out := map[string]any{}
	for range 1 + p.random.IntN(3) {
		key := switches[p.random.IntN(len(switches))]
		on, _ := v[key].(bool)
		out[key] = !on
	}
	return out
}

func (p *person) begin(ctx context.Context, s *shop) int {
	var c change
	title := fmt.Sprintf("Faster, %d", p.random.Int64())
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/changes", s.id), map[string]any{"title": title, "reason": "soak", "effect": "", "edits": p.edits(s)}, &c)
	p.promised(status, "the change "+title+" was begun", `SELECT count(*) FROM changes WHERE title = $1`, title)
	return status
}

func (p *person) edit(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "drafted", "checked")
	if !ok {
		return -1
	}
	edits := p.edits(s)
	var after change
	status, _ := p.ask(ctx, http.MethodPut, fmt.Sprintf("/changes/%d", c.ID), map[string]any{"version": c.Version, "title": c.Title, "reason": "soak", "effect": "", "edits": edits}, &after)
	if raw, err := json.Marshal(after.Edits); err == nil {
		p.promised(status, fmt.Sprintf("change %d was edited, version %d", c.ID, after.Version),
			`SELECT count(*) FROM changes WHERE id = $1 AND (version > $2 OR version = $2 AND edits = $3::jsonb)`, c.ID, after.Version, string(raw))
	}
	return status
}

func (p *person) runOf(status int, c change, kind string) int {
	p.promised(status, fmt.Sprintf("change %d: %s", c.ID, kind), `SELECT count(*) FROM runs WHERE change_id = $1 AND kind = $2`, c.ID, kind)
	return status
}

func (p *person) try(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "drafted", "on staging", "checked")
	if !ok {
		return -1
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/try", c.ID), nil, nil)
	return p.runOf(status, c, "try")
}

func (p *person) promote(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "checked")
	if !ok {
		return -1
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/promote", c.ID), nil, nil)
	return p.runOf(status, c, "promote")
}

func (p *person) rollBack(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "promoted", "marked", "checked", "on staging")
	if !ok {
		return -1
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/rollback", c.ID), map[string]any{"all": p.random.IntN(2) == 0}, nil)
	return p.runOf(status, c, "roll back")
}

func (p *person) discard(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "drafted")
	if !ok {
		return -1
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/discard", c.ID), nil, nil)
	p.promised(status, fmt.Sprintf("change %d was discarded", c.ID), `SELECT count(*) FROM changes WHERE id = $1 AND state = 'discarded'`, c.ID)
	return status
}

// watch follows what happens for a moment, as an open page does.
func (p *person) watch(ctx context.Context, _ *shop) int {
	watching, end := context.WithTimeout(ctx, 2*time.Second)
	defer end()
	status, _ := p.ask(watching, http.MethodGet, "/events", nil, nil)
	return status
}

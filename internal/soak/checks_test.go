package soak_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"tidemarker/internal/core/release"
)

// wrong is what the checks found to be wrong, in words.
type wrong []string

func (x *wrong) add(format string, args ...any) { *x = append(*x, fmt.Sprintf(format, args...)) }

// lies counts rows that must not be there.
var lies = map[string]string{
	"an act is said to be applied, though something else was read back": `SELECT count(*) FROM acts WHERE state = 'applied' AND kind NOT IN ('outside', 'first') AND found <> fingerprint`,
	"an act has a predecessor, or a target, that is not kept": `SELECT count(*) FROM acts a JOIN environments e ON e.id = a.environment_id WHERE a.kind <> 'first' AND (
		NOT EXISTS (SELECT FROM revisions r WHERE r.site_id = e.site_id AND r.fingerprint = a.predecessor) OR NOT EXISTS (SELECT FROM revisions r WHERE r.site_id = e.site_id AND r.fingerprint = a.fingerprint))`,
	"two acts are open on one environment": `SELECT count(*) FROM (SELECT FROM acts WHERE state IN ('intended', 'unknown') GROUP BY environment_id HAVING count(*) > 1) x`,
	"a run is said to have restored what was there, and its last act is another": `SELECT count(*) FROM runs r WHERE r.restored AND r.state IN ('done', 'failed', 'stopped') AND EXISTS (
		SELECT FROM acts a WHERE a.run_id = r.id AND a.state = 'applied' AND a.id = (SELECT max(id) FROM acts b WHERE b.run_id = r.id AND b.state = 'applied') AND a.fingerprint <> r.before)`,
	"a change is said to be rolled back, and no act did it": `SELECT count(*) FROM changes c WHERE c.state IN ('rolled back', 'restored') AND NOT EXISTS (
		SELECT FROM runs r JOIN acts a ON a.run_id = r.id WHERE r.change_id = c.id AND a.state = 'applied' AND a.kind IN ('roll back', 'restore'))
		AND NOT EXISTS (SELECT FROM runs r WHERE r.change_id = c.id AND r.kind = 'roll back' AND r.state = 'done' AND r.before = r.target)`,
	"a run has ended and has no verdict": `SELECT count(*) FROM runs WHERE state = 'done' AND verdict = ''`,
	"a change is under way and no run is": `SELECT count(*) FROM changes c WHERE c.state IN ('trying', 'promoting', 'rolling back') AND NOT EXISTS (
		SELECT FROM runs r WHERE r.change_id = c.id AND r.state NOT IN ('done', 'failed', 'stopped'))`,
	"a run is marked, and there is no mark":       `SELECT count(*) FROM runs r WHERE r.kind = 'mark' AND r.state = 'done' AND r.verdict = 'clear' AND NOT EXISTS (SELECT FROM marks m WHERE m.run_id = r.id)`,
	"a look refers to a picture that is not kept": `SELECT count(*) FROM (SELECT document #>> '{picture,sha256}' AS sha FROM looks WHERE kind = 'page') l WHERE coalesce(l.sha, '') <> '' AND NOT EXISTS (SELECT FROM blobs b WHERE b.sha256 = l.sha)`,
}

// check holds all that must be so at any time against what is there. all asks for everything that was ever promised.
func (w *world) check(ctx context.Context, all bool) (wrong, error) {
	var out wrong
	for what, query := range lies {
		var n int
		if err := w.db().Pool.QueryRow(ctx, query).Scan(&n); err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		if n > 0 {
			out.add("%d times: %s", n, what)
		}
	}
	for _, p := range w.people {
		broken, err := p.broken(ctx, all)
		if err != nil {
			return nil, err
		}
		out = append(out, broken...)
	}
	for _, s := range w.shops {
		for i, e := range []*environment{s.staging, s.production} {
			if err := w.checkWrites(ctx, s, s.envs[i], e, &out); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// act is a row of an environment's record.
type act struct {
	ID                int64
	Kind, State       string
	Fingerprint, Pred string
	Found             string
	At                time.Time
	Ended             *time.Time
	used              bool
}

// checkWrites holds what an environment's connector was told against the record of acts: each write has an intent from
// before it, no intent was written twice, and nothing is said to be applied that was not written.
func (w *world) checkWrites(ctx context.Context, s *shop, env int64, e *environment, out *wrong) error {
	writes, _ := e.truth() // before the acts are read: what is written meanwhile is looked at the next time
	rows, err := w.db().Pool.Query(ctx, `SELECT id, kind, state, fingerprint, predecessor, found, intended_at, ended_at FROM acts WHERE environment_id = $1 AND kind NOT IN ('outside', 'first') ORDER BY id`, env)
	if err != nil {
		return err
	}
	defer rows.Close()
	var acts []*act
	for rows.Next() {
		var a act
		if err := rows.Scan(&a.ID, &a.Kind, &a.State, &a.Fingerprint, &a.Pred, &a.Found, &a.At, &a.Ended); err != nil {
			return err
		}
		acts = append(acts, &a)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	where := s.name + ", " + e.inst.Environment
	for _, wr := range writes {
		if !wr.ours {
			continue
		}
		var of *act
		for _, a := range acts {
			if !a.At.After(wr.at) && (a.Ended == nil || !a.Ended.Before(wr.at)) && a.Fingerprint == wr.to {
				of = a
			}
		}
		switch {
		case of == nil:
			out.add("%s: %s was written at %s and nobody had kept that it was intended", where, wr.to[:8], wr.at.Format(time.StampMilli))
		case of.used:
			out.add("%s: act %d (%s) was done twice", where, of.ID, of.Kind)
		default:
			of.used = true
		}
	}
	for _, a := range acts {
		if a.State == string(release.ActApplied) && !a.used && a.Fingerprint != a.Pred && !others(writes, a) {
			out.add("%s: act %d (%s) is said to be applied and was never written", where, a.ID, a.Kind)
		}
	}
	return nil
}

// others tells whether somebody else brought about meanwhile what an act wanted.
func others(writes []write, a *act) bool {
	for _, wr := range writes {
		if !wr.ours && wr.to == a.Fingerprint && wr.at.After(a.At) {
			return true
		}
	}
	return false
}

// state is how far everything is: as long as something is under way, it has to change.
const state = `SELECT concat_ws(' ',
	(SELECT count(*) FROM looks), (SELECT count(*) FROM loads), (SELECT count(*) FROM search_answers), (SELECT string_agg(concat(id, state), ',' ORDER BY id DESC) FROM acts WHERE state <> 'applied'),
	(SELECT count(*) FROM acts), (SELECT string_agg(concat(id, state, phase, attempt, handed), ',' ORDER BY id) FROM runs WHERE state NOT IN ('done', 'failed', 'stopped')),
	(SELECT count(*) FROM runs))`

// open is what is under way.
const open = `SELECT (SELECT count(*) FROM runs WHERE state NOT IN ('done', 'failed', 'stopped')) + (SELECT count(*) FROM acts WHERE state IN ('intended', 'unknown'))
	+ (SELECT count(*) FROM step_ups WHERE over_at IS NULL)`

// patience is for how long people let runs go on once all trouble is over.
const patience = 40 * time.Second

// settle waits, with all trouble gone, until nothing is under way. Whatever is has to go on within a minute.
func (w *world) settle(ctx context.Context) (wrong, error) {
	var out wrong
	was, since, began := "", time.Now(), time.Now()
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for {
		var n int
		var now string
		if err := w.db().Pool.QueryRow(ctx, open).Scan(&n); err != nil {
			return nil, err
		}
		if n == 0 {
			return out, nil
		}
		if err := w.db().Pool.QueryRow(ctx, state).Scan(&now); err != nil {
			return nil, err
		}
		if now != was {
			was, since = now, time.Now()
		}
		if time.Since(began) > patience { // what takes long is stopped, as people do
			for _, s := range w.shops {
				w.people[2].stop(ctx, s)
			}
			began = time.Now()
		}
		if time.Since(since) > time.Minute {
			var list string
			_ = w.db().Pool.QueryRow(ctx, `SELECT coalesce(string_agg(concat_ws(' ', 'run', id, kind, state, phase, 'attempt', attempt, 'handed', handed, problem), '; '), '') FROM runs WHERE state NOT IN ('done', 'failed', 'stopped')`).Scan(&list)
			out.add("nothing has gone on for a minute: %s (%s)", now, list)
			return out, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-tick.C:
		}
	}
}

// checkSettled holds what has to be so when nothing is under way: every environment's settings are known, no test edit is left
// published, and no process is left over.
func (w *world) checkSettled(ctx context.Context) (wrong, error) {
	var out wrong
	for _, s := range w.shops {
		for i, e := range []*environment{s.staging, s.production} {
			where := s.name + ", " + e.inst.Environment
			status, said := w.people[0].ask(ctx, http.MethodPost, fmt.Sprintf("/environments/%d/read", s.envs[i]), nil, nil)
			if status != http.StatusOK {
				out.add("%s could not be read: %d %s", where, status, said)
				continue
			}
			var known string
			if err := w.db().Pool.QueryRow(ctx, `SELECT fingerprint FROM environments WHERE id = $1`, s.envs[i]).Scan(&known); err != nil {
				return nil, err
			}
			if _, inForce := e.truth(); known != inForce {
				out.add("%s is said to have %s and has %s", where, known[:8], inForce[:8])
			}
			if page, err := get(ctx, e.inst.URL+article); err != nil || strings.Contains(page, lead) {
				out.add("%s shows a test edit to visitors (%v)", where, err)
			}
		}
	}
	alive := map[int]bool{}
	for _, p := range w.programs {
		alive[p.cmd.Process.Pid] = true
	}
	var left []string
	for until := time.Now().Add(20 * time.Second); ; { // a killed process's browser ends a moment after it
		if left = leftOver(w.mark(), alive); len(left) == 0 || time.Now().After(until) {
			break
		}
		<-time.After(200 * time.Millisecond)
	}
	if len(left) > 0 {
		out.add("processes are left over: %s", strings.Join(left, ", "))
	}
	return out, nil
}

func get(ctx context.Context, url string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return string(raw), err
}

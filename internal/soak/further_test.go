package soak_test

import (
	"context"
	"fmt"
	"net/http"
)

// openRun is a run of a site that has not ended.
func (p *person) openRun(ctx context.Context, s *shop) (id int64, ok bool) {
	err := p.w.db().Pool.QueryRow(ctx, `SELECT id FROM runs WHERE site_id = $1 AND state NOT IN ('done', 'failed', 'stopped') ORDER BY id DESC LIMIT 1`, s.id).Scan(&id)
	return id, err == nil
}

func (p *person) stop(ctx context.Context, s *shop) int {
	id, ok := p.openRun(ctx, s)
	if !ok {
		return -1
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/stop", id), nil, nil)
	p.promised(status, fmt.Sprintf("run %d is stopped", id), `SELECT count(*) FROM runs WHERE id = $1 AND (stop_asked OR state IN ('done', 'failed', 'stopped'))`, id)
	return status
}

func (p *person) accept(ctx context.Context, s *shop) int {
	var id int64
	if p.w.db().Pool.QueryRow(ctx, `SELECT f.id FROM findings f JOIN runs r ON r.id = f.run_id WHERE r.site_id = $1 AND f.state = 'open' ORDER BY f.id DESC LIMIT 1`, s.id).Scan(&id) != nil {
		return -1
	}
	why := fmt.Sprintf("known, %d", p.random.Int64())
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/findings/%d/accept", id), map[string]any{"accepted": true, "why": why}, nil)
	p.promised(status, fmt.Sprintf("finding %d was accepted: %s", id, why), `SELECT count(*) FROM findings WHERE id = $1 AND state <> 'open'`, id)
	return status
}

func (p *person) exclude(ctx context.Context, s *shop) int {
	pattern := fmt.Sprintf("part-%d.js", p.random.IntN(1_000_000))
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/exclusions", s.id), map[string]any{"key": "scripts.compactNot", "pattern": pattern, "reason": "soak"}, nil)
	p.promised(status, "the exclusion "+pattern, `SELECT count(*) FROM exclusions WHERE site_id = $1 AND pattern = $2`, s.id, pattern)
	return status
}

func (p *person) importLedger(ctx context.Context, s *shop) int {
	pattern := fmt.Sprintf("file-%d.css", p.random.IntN(1_000_000))
	text := "key,pattern,reason\nstyles.not," + pattern + ",soak\n"
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/exclusions/import", s.id), map[string]any{"format": "csv", "text": text}, nil)
	p.promised(status, "the imported exclusion "+pattern, `SELECT count(*) FROM exclusions WHERE site_id = $1 AND pattern = $2`, s.id, pattern)
	return status
}

// acceptDrift settles what somebody changed behind everybody's back: it is accepted, or reverted.
func (p *person) acceptDrift(ctx context.Context, s *shop) int {
	var id int64
	var found string
	if p.w.db().Pool.QueryRow(ctx, `SELECT id, found FROM drifts WHERE site_id = $1 AND state = 'open' ORDER BY id LIMIT 1`, s.id).Scan(&id, &found) != nil {
		return -1
	}
	if p.random.IntN(3) == 0 {
		status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/drifts/%d/revert", id), nil, nil)
		return status
	}
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/drifts/%d/accept", id), map[string]any{"found": found, "reason": "soak"}, nil)
	p.promised(status, fmt.Sprintf("drift %d was settled", id), `SELECT count(*) FROM drifts WHERE id = $1 AND state <> 'open'`, id)
	return status
}

func (p *person) env(s *shop) int64 { return s.envs[p.random.IntN(2)] }

func (p *person) mark(ctx context.Context, s *shop) int {
	return p.summary(ctx, fmt.Sprintf("/environments/%d/marks", p.env(s)), nil)
}

func (p *person) check(ctx context.Context, s *shop) int {
	return p.summary(ctx, fmt.Sprintf("/environments/%d/checks", p.env(s)), nil)
}

// summary asks for a run, whose number the answer has.
func (p *person) summary(ctx context.Context, path string, body any) int {
	var r struct{ ID int64 }
	status, _ := p.ask(ctx, http.MethodPost, path, body, &r)
	if r.ID != 0 {
		p.promised(status, fmt.Sprintf("run %d", r.ID), `SELECT count(*) FROM runs WHERE id = $1`, r.ID)
	}
	return status
}

func (p *person) measure(ctx context.Context, s *shop) int {
	c, ok := p.some(ctx, s, "checked")
	if !ok {
		return -1
	}
	return p.summary(ctx, fmt.Sprintf("/changes/%d/measure", c.ID), map[string]any{"rounds": 2, "pages": []string{"/contact"}})
}

func (p *person) search(ctx context.Context, s *shop) int {
	var id int64
	if p.w.db().Pool.QueryRow(ctx, `SELECT id FROM runs WHERE site_id = $1 AND kind = 'try' AND verdict = 'broken' ORDER BY id DESC LIMIT 1`, s.id).Scan(&id) != nil {
		return -1
	}
	return p.summary(ctx, fmt.Sprintf("/runs/%d/find-culprit", id), nil)
}

func (p *person) stepUp(ctx context.Context, s *shop) int {
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/step-ups", s.id), map[string]any{"window": map[string]any{"from": "", "to": "", "zone": ""}, "mostLooks": 4}, nil)
	return status
}

func (p *person) purge(ctx context.Context, s *shop) int {
	status, _ := p.ask(ctx, http.MethodPost, fmt.Sprintf("/environments/%d/purges", p.env(s)), map[string]any{"warm": true}, nil)
	return status
}

// importFile gives the site's file again, as it is.
func (p *person) importFile(ctx context.Context, s *shop) int {
	status, file := p.ask(ctx, http.MethodGet, fmt.Sprintf("/sites/%d/file", s.id), nil, nil)
	if status != http.StatusOK {
		return status
	}
	status, _ = p.ask(ctx, http.MethodPost, "/sites", map[string]any{"file": file, "rolesMayChange": false}, nil)
	return status
}

package inspect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// recheckPass holds the looks of a browser that was there at the promotion.
const recheckPass = 1030

// WatchLook is what a look of a promotion's watch is about.
type WatchLook struct {
	Aged   bool               // something has grown old: pages are asked for, and forms sent, as they are cached
	Kept   []httpcache.Stored // what browsers kept that were there at the promotion
	Before evidence.Baseline  // what production was before the promotion; empty when it is not known
	At     time.Time          // what time it is
}

// Recheck looks at an environment as it stands, some time after its settings were brought
// in force: forms are sent from pages as they are cached, and pages asked for and looked at
// before anything is purged. No setting is changed.
func (r *Inspection) Recheck(ctx context.Context) (Result, error) {
	r.Isolated = true // pages are asked for as they are, and what is asked counts
	g := r.gathering()
	if err := r.makeReady(ctx, g); err != nil {
		return Result{}, err
	}
	if r.Watch == nil || r.Watch.Aged {
		if err := r.staleCheck(ctx, g); err != nil {
			return Result{}, err
		}
	}
	plan := r.Site.Plan(r.Env.Name)
	done := r.Progress.Looks()
	plan.Pages, plan.Journeys = r.returning(), nil
	b, err := r.Browser()
	if err != nil {
		return Result{}, err
	}
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned = done.Planned + len(plan.Pages) })
	r.Progress.Say(ctx, "looking", "Looking at pages as they stand")
	for _, t := range plan.Pages {
		if err := r.lookAtPage(ctx, b, t, 1, g); err != nil {
			return Result{}, err
		}
	}
	if err := r.lookAgain(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.returnLater(ctx, g); err != nil {
		return Result{}, err
	}
	was, err := r.heldAgainstBefore(ctx, g)
	if err != nil {
		return Result{}, err
	}
	for k, found := range g.everything() {
		changed := false
		for i, f := range found {
			if before, known := was[k]; known && !f.Shows(before) && f.Kind.Appearance() {
				found[i] = f.AsBefore()
				changed = true
				continue
			}
			if f.NeedsControl() && f.NeedsSecondLook() {
				found[i] = f.Unprovoked().Controlled(evidence.Control{}.GivenUp("a look later on goes nowhere else"))
				changed = true
			}
		}
		if changed {
			if err := g.take(ctx, k, found); err != nil {
				return Result{}, err
			}
		}
	}
	out, err := r.conclude(ctx, g.all())
	if err == nil && out.Verdict == evidence.VerdictClear {
		out.Summary = strings.Replace(out.Summary, "Clear:", "Clear later on, too:", 1)
	}
	return out, err
}

// KeepBrowser looks as a visitor who returns another day, and returns what their browsers keep.
func (r *Inspection) KeepBrowser(ctx context.Context) ([]httpcache.Stored, error) {
	r.Progress.Say(ctx, "returning", "Looking as a visitor who returns another day")
	v, err := r.browsers(r.returning())
	if err != nil {
		return nil, err
	}
	defer v.Close()
	came := make(chan []httpcache.Stored, len(v.tasks))
	err = r.inEach(ctx, v, v.tasks, func(ctx context.Context, t site.PageTask) error {
		kept, err := v.visitors[t.Device].Keep(ctx, t, r.Blobs.Put)
		came <- kept
		return err
	})
	close(came)
	var out []httpcache.Stored
	for kept := range came {
		for _, s := range kept {
			if !slices.ContainsFunc(out, func(o httpcache.Stored) bool { return o.URL == s.URL && o.Device == s.Device }) {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b httpcache.Stored) int { return strings.Compare(a.Device+a.URL, b.Device+b.URL) })
	return out, err
}

// returnLater looks as somebody whose browser was there at the promotion and has kept what it still may keep.
func (r *Inspection) returnLater(ctx context.Context, g *gathering) error {
	if r.Watch == nil || len(r.Watch.Kept) == 0 {
		return nil
	}
	v, err := r.browsers(r.returning())
	if err != nil {
		return err
	}
	defer v.Close()
	carried := 0
	for _, b := range v.visitors {
		carried += b.Carry(ctx, r.Watch.Kept, r.Watch.At, func(ctx context.Context, sha string) ([]byte, error) {
			blob, err := r.Blobs.Get(ctx, sha)
			return blob.Bytes, err
		})
	}
	if carried == 0 {
		return nil // nothing is kept any more: it would look like a first visit
	}
	r.Progress.Say(ctx, "returning", fmt.Sprintf("Coming again as somebody who was here at the promotion, with %d files from then", carried))
	seen, err := r.comeAs(ctx, v, v.tasks, nil)
	if err != nil {
		return err
	}
	return r.judgeReturning(ctx, seen, v.tasks, recheckPass, g)
}

// heldAgainstBefore compares what was seen with what production was before the promotion, by what was looked at.
func (r *Inspection) heldAgainstBefore(ctx context.Context, g *gathering) (map[evidence.Key][]evidence.Finding, error) {
	out := map[evidence.Key][]evidence.Finding{}
	if r.Watch == nil {
		return out, nil
	}
	for k, found := range g.everything() {
		if len(found) == 0 || k.Journey != "" {
			continue
		}
		m, known := r.Watch.Before.Look.Page(k)
		now := g.firstLook(k)
		if !known || m.Missing != "" || now.Key != k || now.Missing != "" {
			continue
		}
		was, err := evidence.ComparePage(r.Watch.Before, now, r.picture(ctx))
		if err != nil {
			return nil, err
		}
		out[k] = was
	}
	return out, nil
}

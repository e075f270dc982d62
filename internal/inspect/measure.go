package inspect

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// mostBusy is how many rounds in which the machine was busy are made up for.
const mostBusy = 5

// mostMeasured is how many pages are measured on each device when nobody says which.
const mostMeasured = 3

// Measure loads pages in turns with the change and with the earlier settings, one after the other and
// each from an empty browser, until it is known what the change did to speed or the limit is reached.
// Each load is kept at once, so that a run which was cut off goes on with the next round.
func (r *Inspection) Measure(ctx context.Context) (Result, error) {
	out := Result{Verdict: evidence.VerdictNotChecked, Findings: []evidence.Finding{}}
	if r.Turns.Earlier == nil {
		out.Summary = "Not measured: " + r.Turns.Why + "."
		return out, nil
	}
	tasks := measured(r.Site.Plan(r.Env.Name))
	if len(tasks) == 0 {
		out.Summary = "Not measured: the test plan has no page that strangers see."
		return out, nil
	}
	loads, err := r.Store.Loads(ctx, r.Run)
	if err != nil {
		return out, err
	}
	limit := measure.Looks[len(measure.Looks)-1]
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned = 2 * limit * len(tasks) })
	for round := 1; round <= limit+min(mostBusy, len(measure.Busy(loads))); round++ {
		if round <= whole(loads, len(tasks)) {
			continue
		}
		if err := r.Store.DropLoads(ctx, r.Run, round); err != nil {
			return out, err
		}
		if err := r.measureRound(ctx, round, tasks); err != nil {
			if no, is := errors.AsType[*NoTurn](err); is {
				out.Summary = "Not measured: " + no.Error()
				return out, nil
			}
			return out, err
		}
		if loads, err = r.Store.Loads(ctx, r.Run); err != nil {
			return out, err
		}
		if slices.Contains(measure.Looks, round-len(measure.Busy(loads))) && measure.Enough(measure.Compare(loads)) {
			break
		}
	}
	list := measure.Compare(loads)
	if measure.Judge(list) == measure.NotMeasured {
		out.Summary = "Not measured: no load counted. " + why(loads)
		return out, nil
	}
	out.Verdict, out.Summary = evidence.VerdictClear, measure.Summarise(list)
	return out, nil
}

// why is the first reason for which a load does not count.
func why(loads []measure.Load) string {
	for _, l := range loads {
		if l.Dropped != "" {
			return l.Page + ": " + l.Dropped
		}
	}
	return ""
}

// whole is how many rounds have both sides of every page, from the first on.
func whole(loads []measure.Load, tasks int) int {
	of := map[int]int{}
	for _, l := range loads {
		of[l.Round]++
	}
	n := 0
	for of[n+1] == 2*tasks {
		n++
	}
	return n
}

// measured are the pages that are measured: of each device the first of each class that strangers see.
func measured(plan site.Plan) []site.PageTask {
	var out []site.PageTask
	taken := map[[2]string]bool{}
	count := map[string]int{}
	for _, t := range plan.Pages {
		of := [2]string{t.Device, t.Page.Class}
		if t.Persona != site.Visitor || taken[of] || count[t.Device] >= mostMeasured {
			continue
		}
		taken[of] = true
		count[t.Device]++
		out = append(out, t)
	}
	return out
}

// measureRound loads each page once with each of the settings. Which come first changes from round to
// round, so that a machine that grows slower favours neither.
func (r *Inspection) measureRound(ctx context.Context, round int, tasks []site.PageTask) error {
	sides := []measure.Side{measure.Before, measure.After}
	if round%2 == 0 {
		slices.Reverse(sides)
	}
	for _, side := range sides {
		to, where := r.Turns.Earlier, "the earlier settings"
		if side == measure.After {
			to, where = r.Turns.Again, "the change"
		}
		r.Progress.Say(ctx, "measuring", fmt.Sprintf("Round %d, with %s", round, where))
		values, err := to(ctx)
		if err != nil {
			return err
		}
		r.Values, r.Changed = values, true
		if err := r.purge(ctx); err != nil {
			return err
		}
		var paths []string
		for _, t := range tasks {
			paths = append(paths, t.Page.Path)
		}
		if _, err := r.askUntilCached(ctx, slices.Compact(paths)); err != nil {
			return err
		}
		if err := r.measureSide(ctx, round, side, tasks); err != nil {
			return err
		}
	}
	return nil
}

func (r *Inspection) measureSide(ctx context.Context, round int, side measure.Side, tasks []site.PageTask) error {
	b, err := r.Browser()
	if err != nil {
		return err
	}
	took := effort()
	for _, t := range tasks {
		l, err := b.Measure(ctx, r.Env, t, browser.State{}, r.facts())
		if err != nil {
			return err
		}
		l.Side, l.Round, l.Effort = side, round, took
		if l.Dropped == "" {
			l.Dropped = unlikePlan(r.Catalogue, r.Values, t.Page.Path, httpcache.Served(l.Served))
		}
		if err := r.Store.SaveLoad(ctx, r.Run, l); err != nil {
			return err
		}
		r.Progress.update(ctx, func(p *store.RunProgress) {
			p.Looks.Done++
			if l.Dropped != "" {
				p.Looks.Failed++
			}
		})
	}
	return nil
}

// unlikePlan is why a load does not count by how its page was served: one that the settings have
// cached was not served from the cache.
func unlikePlan(cat settings.Catalogue, v settings.Values, path string, served httpcache.Served) string {
	if served == httpcache.Unknown || !expectCached(cat, v, path) || served.FromCache() {
		return ""
	}
	return "It was not served from the page cache (" + strings.ToLower(string(served)) + ")."
}

// effort is how long the machine takes for a fixed piece of work, in milliseconds: the least of three
// times, so that only what goes on for longer counts.
func effort() float64 {
	least := 0.0
	block := make([]byte, 4<<20)
	for i := range 3 {
		began := time.Now()
		sha256.Sum256(block)
		if took := float64(time.Since(began).Microseconds()) / 1000; i == 0 || took < least {
			least = took
		}
	}
	return least
}

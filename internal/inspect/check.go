package inspect

import (
	"context"
	"slices"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// Check clears, warms, looks, compares with the mark, looks a second time at what
// differs, comes first after a purge, asks as somebody else, publishes, waits for what grows
// old soon, and comes to a verdict.
func (r *Inspection) Check(ctx context.Context) (Result, error) {
	predicted, err := r.predict(ctx)
	if err != nil {
		return Result{}, err
	}
	if err := r.clearAndWarm(ctx); err != nil {
		return Result{}, err
	}
	g := r.gathering()
	if err := r.lookAt(ctx, r.Site.Plan(r.Env.Name), 1, g); err != nil {
		return Result{}, err
	}
	if err := r.lookAgain(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.comeAgain(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.firstRebuilt(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.probe(ctx, 1, g); err != nil {
		return Result{}, err
	}
	if err := r.followLinks(ctx, 1, g); err != nil {
		return Result{}, err
	}
	if err := r.publish(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.await(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.noLongerCached(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.known(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.budgets(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.control(ctx, g); err != nil {
		return Result{}, err
	}
	out, err := r.conclude(ctx, g.all())
	if err != nil {
		return out, err
	}
	return out, r.holdPredicted(ctx, predicted, out.Findings)
}

// mostAgain is on how many pages a cause is looked at a second time. When each of them shows it
// again it is no chance, wherever else it shows.
const mostAgain = 3

// lookAgain looks a second time at what differed and could be chance: journeys first,
// since pages are purged before they are looked at again, so that what
// changes by itself gets its chance to change.
func (r *Inspection) lookAgain(ctx context.Context, g *gathering) error {
	plan := r.Site.Plan(r.Env.Name)
	var journeys, pages site.Plan
	for _, t := range plan.Journeys {
		if slices.ContainsFunc(g.of(journeyKey(t)), evidence.Finding.NeedsSecondLook) || r.why[[2]string{t.Journey.Persona, t.Device}] != "" {
			journeys.Journeys = append(journeys.Journeys, t)
		}
	}
	unready := map[evidence.Key]bool{}
	for _, t := range plan.Pages {
		if r.why[[2]string{t.Persona, t.Device}] != "" {
			unready[pageKey(t)] = true
		}
	}
	g.second = true
	defer func() { g.second = false }()
	if len(journeys.Journeys) > 0 {
		if err := r.lookAt(ctx, journeys, 2, g); err != nil {
			return err
		}
	}
	for sample := true; ; sample = false {
		again := g.again(plan.Pages, sample)
		pages.Pages = slices.DeleteFunc(slices.Clone(plan.Pages), func(t site.PageTask) bool { return !again[pageKey(t)] && !(sample && unready[pageKey(t)]) })
		if len(pages.Pages) > 0 {
			var paths []string
			for _, t := range pages.Pages {
				paths = append(paths, t.Page.Path)
			}
			if err := r.purgePages(ctx, paths...); err != nil {
				return err
			}
			if err := r.lookAt(ctx, pages, 2, g); err != nil {
				return err
			}
		}
		if !sample {
			return nil
		}
	}
}

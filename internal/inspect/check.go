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
	if err := r.control(ctx, g); err != nil {
		return Result{}, err
	}
	return r.conclude(ctx, g.all())
}

// lookAgain looks a second time at what differed and could be chance: journeys first,
// since pages are purged before they are looked at again, so that what
// changes by itself gets its chance to change.
func (r *Inspection) lookAgain(ctx context.Context, g *gathering) error {
	plan := r.Site.Plan(r.Env.Name)
	doubtful := func(k evidence.Key) bool { return slices.ContainsFunc(g.of(k), evidence.Finding.NeedsSecondLook) }
	var journeys, pages site.Plan
	for _, t := range plan.Journeys {
		if doubtful(journeyKey(t)) || r.why[[2]string{t.Journey.Persona, t.Device}] != "" {
			journeys.Journeys = append(journeys.Journeys, t)
		}
	}
	var paths []string
	for _, t := range plan.Pages {
		if doubtful(pageKey(t)) || r.why[[2]string{t.Persona, t.Device}] != "" {
			pages.Pages = append(pages.Pages, t)
			paths = append(paths, t.Page.Path)
		}
	}
	g.second = true
	defer func() { g.second = false }()
	if len(journeys.Journeys) > 0 {
		if err := r.lookAt(ctx, journeys, 2, g); err != nil {
			return err
		}
	}
	if len(pages.Pages) == 0 {
		return nil
	}
	if err := r.purgePages(ctx, paths...); err != nil {
		return err
	}
	return r.lookAt(ctx, pages, 2, g)
}

package inspect

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// Sought is what a search looks for again: findings of another run, and where they show.
type Sought struct {
	findings []evidence.Finding // as they were found, before they were tied
	keys     []evidence.Key     // pages and journeys that are looked at
	asked    []string           // pages that are asked for
	Rate     float64            // how often it showed in looks with the change, 0 to 1
}

// mostSought is on how many pages or journeys a cause is looked for.
const mostSought = 2

// mostQuick is on how many pages it is looked for first.
const mostQuick = 3

// Seek picks what to look for of what was found with a change, and where: of each cause the
// places that say the most, or everywhere that it showed. any is false when nothing of it can be
// looked for: what shows only to somebody who was there before, or much later.
func Seek(found []evidence.Finding, everywhere bool) (s Sought, any bool) {
	found = slices.Clone(found)
	evidence.Sort(found)
	places := map[string]map[evidence.Key]bool{}
	for _, f := range found {
		if !f.NeedsControl() && !f.Known || f.Severity == evidence.Note || f.Control != nil && f.Control.Outcome == evidence.Remains {
			continue
		}
		tied := f.Cause
		f.Cause = f.OwnCause()
		s.findings = append(s.findings, f)
		rate := 1.0
		if f.Control != nil && f.Control.WithOf > 0 {
			rate = float64(f.Control.With) / float64(f.Control.WithOf)
		}
		s.Rate = max(s.Rate, rate)
		if f.FollowsFromSettings() {
			continue // nothing has to be looked at for it
		}
		if places[tied] == nil {
			places[tied] = map[evidence.Key]bool{}
		}
		if !everywhere && len(places[tied]) >= mostSought && !places[tied][f.Key()] {
			continue
		}
		places[tied][f.Key()] = true
		if asked(f.Kind) && !slices.Contains(s.asked, f.Page) {
			s.asked = append(s.asked, f.Page)
		}
	}
	keys := map[evidence.Key]bool{}
	for _, at := range places {
		maps.Copy(keys, at)
	}
	s.keys = slices.SortedFunc(maps.Keys(keys), byName)
	return s, len(s.findings) > 0
}

// SeekQuickly picks some pages on which what was found shows; nil when it shows in journeys only, which wait for what does
// not come.
func SeekQuickly(found []evidence.Finding) *Sought {
	s, _ := Seek(found, false)
	s.keys = slices.DeleteFunc(s.keys, func(k evidence.Key) bool { return k.Journey != "" })
	if len(s.keys) == 0 {
		return nil
	}
	s.keys, s.asked = s.keys[:min(mostQuick, len(s.keys))], nil
	return &s
}

// asked tells whether findings of a kind come of asking for pages without a browser.
func asked(k evidence.Kind) bool {
	return slices.Contains([]evidence.Kind{evidence.LeakKind, evidence.VariantKind, evidence.PolicyKind, evidence.StaleKind, evidence.FormKind, evidence.RequestKind}, k)
}

// PurgeFor removes from the cache what other settings made of pages, before they are looked at.
func (r *Inspection) PurgeFor(ctx context.Context, s Sought) error {
	if err := r.purge(ctx); err != nil {
		return err
	}
	return r.warmFor(ctx, s.keys, map[string]bool{})
}

// errShown ends looking for something once it has shown.
var errShown = errors.New("it has shown")

// LookUntilShown is [Inspection.Look] that ends with the first thing that shows, for whom it does not matter what else does.
func (r *Inspection) LookUntilShown(ctx context.Context, s Sought, pass int) (shown []string, looked bool, err error) {
	looking, end := context.WithCancelCause(ctx)
	defer end(nil)
	g := r.gathering()
	g.took = func(k evidence.Key, found []evidence.Finding) {
		// What could be chance counts only once it was looked at twice.
		chance := func(f evidence.Finding) bool { return f.NeedsSecondLook() && !g.twice(k) }
		if len(s.Among(slices.DeleteFunc(slices.Clone(found), chance))) > 0 {
			end(errShown)
		}
	}
	if err := r.lookFor(looking, s, pass, g); err != nil && !errors.Is(context.Cause(looking), errShown) {
		return nil, false, err
	}
	shown, looked = s.shownBy(g)
	return shown, looked, nil
}

// Look looks once for what is sought, with the settings in force. shown are the fingerprints of
// the findings that showed; looked is false when none did and something could not be looked at.
func (r *Inspection) Look(ctx context.Context, s Sought, pass int) (shown []string, looked bool, err error) {
	g := r.gathering()
	if err := r.lookFor(ctx, s, pass, g); err != nil {
		return nil, false, err
	}
	shown, looked = s.shownBy(g)
	return shown, looked, nil
}

// lookFor looks, takes journeys and asks wherever something is sought.
func (r *Inspection) lookFor(ctx context.Context, s Sought, pass int, g *gathering) error {
	g.silent = true
	whole := r.Site.Plan(r.Env.Name)
	var some site.Plan
	for _, t := range whole.Pages {
		if slices.Contains(s.keys, pageKey(t)) {
			some.Pages = append(some.Pages, t)
		}
	}
	for _, t := range whole.Journeys {
		at := journeyKey(t)
		if slices.ContainsFunc(s.keys, func(k evidence.Key) bool {
			return k.Journey == at.Journey && k.Persona == at.Persona && k.Device == at.Device
		}) {
			some.Journeys = append(some.Journeys, t)
		}
	}
	wanted := func(k evidence.Key) bool { return slices.Contains(s.asked, k.Page) }
	if len(s.asked) > 0 { // whoever asks has to be ready
		some.Others = slices.Collect(maps.Keys(r.everybody()))
	}
	if err := r.lookAt(ctx, some, pass, g); err != nil {
		return err
	}
	if len(s.asked) > 0 {
		if err := r.probeAgain(ctx, wanted, pass, g); err != nil {
			return err
		}
	}
	return r.known(ctx, g)
}

// shownBy is what of it was found; looked is false when nothing was and something could not be looked at.
func (s Sought) shownBy(g *gathering) (shown []string, looked bool) {
	var found []evidence.Finding
	looked = true
	for _, list := range g.everything() {
		found = append(found, list...)
		looked = looked && !slices.ContainsFunc(list, func(f evidence.Finding) bool { return f.Kind == evidence.NotCheckedKind && f.Severity != evidence.Note })
	}
	shown = s.Among(found)
	return shown, looked || len(shown) > 0
}

// Places are the names of where it is looked for, each once.
func (s Sought) Places() []string {
	out := []string{}
	for _, k := range s.keys {
		out = append(out, strings.Join([]string{k.Page, k.Journey, k.Persona, k.Device}, " · "))
	}
	for _, page := range s.asked {
		out = append(out, "asked "+page)
	}
	return out
}

// Among are the fingerprints of what is sought that findings of another look or run show, too.
func (s Sought) Among(found []evidence.Finding) []string {
	var out []string
	for _, f := range s.findings {
		if f.Shows(found) {
			out = append(out, f.Fingerprint)
		}
	}
	return out
}

// OnlyDrawn tells whether all of what showed, given by fingerprints, is how a page is drawn: what can differ by chance.
func (s Sought) OnlyDrawn(shown []string) bool {
	return !slices.ContainsFunc(s.findings, func(f evidence.Finding) bool {
		return slices.Contains(shown, f.Fingerprint) && f.Kind != evidence.PictureKind && f.Kind != evidence.ShiftKind
	})
}

// everybody are all personas that have to be made ready, on each device that they use.
func (r *Inspection) everybody() map[[2]string]bool {
	out := map[[2]string]bool{}
	plan := r.Site.Plan(r.Env.Name)
	for who := range plan.Who() {
		if p, known := r.Site.Persona(who[0]); known && len(p.Prepare) > 0 {
			out[who] = true
		}
	}
	return out
}

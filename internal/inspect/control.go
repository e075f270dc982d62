package inspect

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Turns are how an inspection goes back to the earlier settings, and on to those that it
// inspects. Each puts settings in force and returns them.
type Turns struct {
	Earlier func(context.Context) (settings.Values, error)
	Again   func(context.Context) (settings.Values, error)
	Why     string // why there are none, when Earlier is nil
	Same    bool   // nothing was changed since the mark was taken, so that no setting can be to blame
	Before  bool   // LookBefore has looked, which is the control where nobody goes back
	// Witness is what staging was found to have with the same settings; nil when it was not
	// looked at with them.
	Witness []evidence.Finding
}

// NoTurn is why the earlier settings could not be put in force, which leaves the
// inspection as it is.
type NoTurn struct{ Err error }

func (e *NoTurn) Error() string { return e.Err.Error() }
func (e *NoTurn) Unwrap() error { return e.Err }

const (
	mostTurns   = 5 // earlier, again, earlier, again, earlier
	mostInTurn  = 5 // looks at one thing in a turn
	againInTurn = 2 // looks in a turn after the first
)

// control looks at what differs with the earlier settings: a finding counts when it comes
// with the change and goes with it. It comes last, and leaves the earlier settings in force
// when they are to stay.
func (r *Inspection) control(ctx context.Context, g *gathering) error {
	c := &controlling{inspection: r, of: g, causes: map[string]*evidence.Control{}, pass: evidence.FirstEarlierPass}
	c.begin()
	returning := slices.ContainsFunc(g.all(), hasReturning)
	if len(c.causes) == 0 && !(returning && r.Turns.Earlier != nil) {
		return nil
	}
	if r.Turns.Earlier == nil {
		if r.Turns.Before {
			if err := c.before(ctx); err != nil {
				return err
			}
		}
		return c.conclude(ctx, r.Turns.Why)
	}
	why := ""
	for turn := range mostTurns {
		if len(c.undecided()) == 0 && !(turn == 0 && returning) {
			break
		}
		err := c.turn(ctx, turn)
		if no, is := errors.AsType[*NoTurn](err); is {
			why = no.Error()
			break
		}
		if err != nil {
			return err
		}
	}
	return c.conclude(ctx, why)
}

// LookBefore looks at everything with the settings that are about to be replaced, where
// nobody can go back to them to look. The pages of the test plan are generated fresh for
// it, and no others: visitors are there.
func (r *Inspection) LookBefore(ctx context.Context) error {
	r.Progress.Say(ctx, "control", "Looking at "+r.Env.Name+" as it is, before it is changed")
	g := r.gathering()
	g.silent = true
	if err := r.purgePages(ctx, r.planned()...); err != nil {
		return err
	}
	return r.lookAt(ctx, r.Site.Plan(r.Env.Name), evidence.FirstEarlierPass, g)
}

// before counts what the looks just before showed, which are kept.
func (c *controlling) before(ctx context.Context) error {
	r := c.inspection
	look, err := r.Store.Look(ctx, r.Run, evidence.FirstEarlierPass)
	if err != nil {
		return err
	}
	was := map[evidence.Key][]evidence.Finding{}
	for _, p := range look.Pages {
		if was[p.Key], err = evidence.ComparePage(c.of.base(p.Key), p, r.picture(ctx)); err != nil {
			return err
		}
	}
	for _, j := range look.Journeys {
		was[evidence.Key{Journey: j.Journey, Persona: j.Persona, Device: j.Device}] = evidence.CompareJourney(r.Base, j)
	}
	for k, findings := range c.of.everything() {
		others, looked := was[k]
		if !looked || slices.ContainsFunc(others, evidence.Finding.NotLooked) {
			continue
		}
		c.seen[k] = evidence.FirstEarlierPass
		for _, f := range findings {
			if have := c.causes[f.OwnCause()]; have != nil && f.NeedsControl() {
				*have = have.Seen(false, f.Shows(others))
			}
		}
	}
	for _, have := range c.causes {
		*have = have.DecideBefore()
	}
	return nil
}

// controlling is a control under way.
type controlling struct {
	inspection *Inspection
	of         *gathering
	causes     map[string]*evidence.Control
	pass       int                  // of the next looks
	seen       map[evidence.Key]int // the last pass in which something was looked at with the earlier settings
}

// begin counts the looks that were made with the change.
func (c *controlling) begin() {
	c.seen = map[evidence.Key]int{}
	for _, f := range c.of.all() {
		if !f.NeedsControl() {
			continue
		}
		have := c.causes[f.OwnCause()]
		if have == nil {
			have = &evidence.Control{}
			c.causes[f.OwnCause()] = have
		}
		*have = have.Seen(true, true)
		if f.NeedsSecondLook() && c.of.twice(f.Key()) {
			*have = have.Seen(true, f.Repeated())
		}
	}
}

func (c *controlling) undecided() []string {
	var out []string
	for cause, have := range c.causes {
		if have.Outcome == "" {
			out = append(out, cause)
		}
	}
	slices.Sort(out)
	return out
}

// turn puts the other settings in force and looks until all that is not decided is, or
// the turn is over.
func (c *controlling) turn(ctx context.Context, turn int) error {
	r, withChange := c.inspection, turn%2 == 1
	to, where := r.Turns.Earlier, "the earlier settings"
	if withChange {
		to, where = r.Turns.Again, "the change"
	}
	r.Progress.Say(ctx, "control", "Looking once more with "+where)
	values, err := to(ctx)
	if err != nil {
		return err
	}
	r.Values, r.Changed = values, true
	if err := r.purge(ctx); err != nil {
		return err
	}
	if !withChange {
		if err := r.takeBackWithEarlier(ctx, c.of); err != nil {
			return err
		}
	}
	if turn == 0 {
		if err := r.returnWithEarlier(ctx, c.of); err != nil {
			return err
		}
	}
	most := mostInTurn
	if turn > 0 {
		most = againInTurn
	}
	warmed := map[string]bool{}
	for range most {
		keys := c.choose()
		if len(keys) == 0 {
			return nil
		}
		if err := r.warmFor(ctx, keys, warmed); err != nil {
			return err
		}
		if err := c.round(ctx, keys, withChange); err != nil {
			return err
		}
	}
	return nil
}

// choose picks what to look at next: for each cause that is not decided something that
// shows it, preferring what was chosen already and what was looked at least.
func (c *controlling) choose() []evidence.Key {
	showing := map[string][]evidence.Key{}
	for k, findings := range c.of.everything() {
		for _, f := range findings {
			if have := c.causes[f.OwnCause()]; have != nil && have.Outcome == "" && f.NeedsControl() && !slices.Contains(showing[f.OwnCause()], k) {
				showing[f.OwnCause()] = append(showing[f.OwnCause()], k)
			}
		}
	}
	chosen := map[evidence.Key]bool{}
	for _, cause := range slices.Sorted(maps.Keys(showing)) {
		keys := showing[cause]
		slices.SortFunc(keys, func(a, b evidence.Key) int {
			if d := c.seen[a] - c.seen[b]; d != 0 {
				return d
			}
			return byName(a, b)
		})
		// A cause that many things show is seen on three of them at once.
		for _, k := range keys[:min(len(keys), 3)] {
			chosen[k] = true
		}
	}
	return slices.SortedFunc(maps.Keys(chosen), byName)
}

func byName(a, b evidence.Key) int {
	return strings.Compare(a.Page+a.Journey+a.Persona+a.Device, b.Page+b.Journey+b.Persona+b.Device)
}

// round looks once at each of these, and counts what was seen.
func (c *controlling) round(ctx context.Context, keys []evidence.Key, withChange bool) error {
	r := c.inspection
	got := r.gathering()
	got.silent, got.bases = true, c.of.bases
	if err := r.lookAtKeys(ctx, keys, c.pass, got); err != nil {
		return err
	}
	found := got.everything()
	for k, findings := range c.of.everything() {
		others, looked := found[k]
		if !looked {
			continue
		}
		missing := slices.ContainsFunc(others, evidence.Finding.NotLooked)
		for _, f := range findings {
			if have := c.causes[f.OwnCause()]; have != nil && f.NeedsControl() && !missing {
				*have = have.Seen(withChange, f.Shows(others))
			}
		}
		if !withChange && !missing {
			c.seen[k] = c.pass
		}
	}
	for _, have := range c.causes {
		if have.Outcome == "" {
			*have, _ = have.Decide()
		}
	}
	c.pass++
	return nil
}

// conclude says of each finding what the control showed. why is why there was none.
func (c *controlling) conclude(ctx context.Context, why string) error {
	for k, findings := range c.of.everything() {
		var out []evidence.Finding
		for _, f := range findings {
			if have := c.causes[f.OwnCause()]; have != nil && f.NeedsControl() {
				control := *have
				if control.Outcome == "" {
					control = control.GivenUp(why)
				}
				control.Pass = c.seen[k]
				if w := c.inspection.Turns.Witness; w != nil && control.Outcome == evidence.Came {
					control = control.Witnessed(f, w)
				}
				f = f.Controlled(control)
				if c.inspection.Turns.Same {
					f = f.Unprovoked()
				}
				if f.SiteMovedOn() && control.Pass > 0 && k.Journey == "" { // a look at a page, which the mark can take in
					c.inspection.renewed = append(c.inspection.renewed, store.Renewal{Key: k, Pass: control.Pass, Why: f.Title})
				}
			}
			out = append(out, f)
		}
		if err := c.of.take(ctx, k, out); err != nil {
			return err
		}
	}
	return nil
}

// Renewed is what the site itself has moved on in, which the mark's evidence takes in.
func (r *Inspection) Renewed() []store.Renewal { return r.renewed }

// warmFor has pages fetched until they are cached, each once in a turn.
func (r *Inspection) warmFor(ctx context.Context, keys []evidence.Key, warmed map[string]bool) error {
	var paths []string
	for _, k := range keys {
		if page, known := r.Site.Page(k.Page); known && site.Cacheable(page.Class) && !warmed[k.Page] {
			paths = append(paths, k.Page)
			warmed[k.Page] = true
		}
	}
	if len(paths) == 0 {
		return nil
	}
	if r.Able.Warms {
		if err := r.warmByConnector(ctx, paths); err != nil {
			return err
		}
	}
	_, err := r.askUntilCached(ctx, paths)
	return err
}

// lookAtKeys looks at pages, takes journeys and asks once more, each as its key says.
func (r *Inspection) lookAtKeys(ctx context.Context, keys []evidence.Key, pass int, g *gathering) error {
	whole := r.Site.Plan(r.Env.Name)
	var some site.Plan
	wanted := func(k evidence.Key) bool { return slices.Contains(keys, k) }
	for _, t := range whole.Journeys {
		if wanted(journeyKey(t)) {
			some.Journeys = append(some.Journeys, t)
		}
	}
	for _, t := range whole.Pages {
		if wanted(pageKey(t)) {
			some.Pages = append(some.Pages, t)
		}
	}
	for who := range r.asking(keys) { // and whoever asks, or could not be made ready
		some.Others = append(some.Others, who)
	}
	if err := r.lookAt(ctx, some, pass, g); err != nil {
		return err
	}
	return r.probeAgain(ctx, wanted, pass, g)
}

// asking is who has to be made ready for these.
func (r *Inspection) asking(keys []evidence.Key) map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, k := range keys {
		if persona, known := r.Site.Persona(k.Persona); known && len(persona.Prepare) > 0 {
			out[[2]string{k.Persona, k.Device}] = true
		}
		if kind, _, is := probeOfKey(k); is && kind == evidence.PersonaAfter {
			for _, p := range r.Site.Personas {
				out[[2]string{p.Name, k.Device}] = true
			}
		}
	}
	return out
}

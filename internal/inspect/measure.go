package inspect

import (
	"cmp"
	"context"
	"crypto/rand"
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
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// mostBusy is how many rounds in which the machine was busy are made up for.
const mostBusy = 5

// Measure loads pages in turns with the change and with the earlier settings, one after the other and
// each from an empty browser, until it is known what the change did to speed or the limit is reached.
// Each load is kept at once, so that a run which was cut off goes on with the next round.
func (r *Inspection) Measure(ctx context.Context) (Result, error) {
	out := Result{Verdict: evidence.VerdictNotChecked, Findings: []evidence.Finding{}}
	if r.Turns.Same {
		return r.measureAlone(ctx)
	}
	if r.Turns.Earlier == nil {
		out.Summary = "Not measured: " + r.Turns.Why + "."
		return out, nil
	}
	limit := r.Measures.Limit()
	m, loads, err := r.measuring(ctx, limit, 2)
	if err != nil || m.each == 0 {
		out.Summary = nothingAsked
		return out, err
	}
	for round := 1; round <= limit+min(mostBusy, len(measure.Busy(loads))); round++ {
		if round <= whole(loads, m.each) {
			continue
		}
		if err := r.Store.DropLoads(ctx, r.Run, round); err != nil {
			return out, err
		}
		if err := m.round(ctx, round); err != nil {
			if no, is := errors.AsType[*NoTurn](err); is {
				out.Summary = "Not measured: " + no.Error()
				return out, nil
			}
			return out, err
		}
		if loads, err = r.Store.Loads(ctx, r.Run); err != nil {
			return out, err
		}
		if slices.Contains(measure.Looks, round-len(measure.Busy(loads))) && measure.Enough(measure.Compare(loads), m.scope.Main...) {
			break
		}
	}
	list := measure.Compare(loads)
	if measure.Judge(list, m.scope.Main...) == measure.NotMeasured {
		out.Summary = "Not measured: no load counted. " + why(loads)
		return out, nil
	}
	out.Verdict, out.Summary = evidence.VerdictClear, measure.Summarise(list, m.scope.Main...)
	return out, nil
}

// measureAlone loads the pages with what is in force, where there is nothing to hold that against: how fast they are.
func (r *Inspection) measureAlone(ctx context.Context) (Result, error) {
	out := Result{Verdict: evidence.VerdictNotChecked, Findings: []evidence.Finding{}}
	times := forBudgets
	if r.Measures.Rounds > 0 {
		times = r.Measures.Rounds
	}
	m, loads, err := r.measuring(ctx, times, 1)
	if err != nil || m.each == 0 {
		out.Summary = nothingAsked
		return out, err
	}
	if err := m.purge(ctx); err != nil {
		return out, err
	}
	if _, err := m.askUntilCached(ctx, m.cacheable()); err != nil {
		return out, err
	}
	for round := whole(loads, m.each) + 1; round <= times; round++ {
		if err := r.Store.DropLoads(ctx, r.Run, round); err != nil {
			return out, err
		}
		r.Progress.Say(ctx, "measuring", fmt.Sprintf("Round %d", round))
		if err := m.side(ctx, round, measure.After); err != nil {
			return out, err
		}
	}
	out.Verdict, out.Summary = evidence.VerdictClear, fmt.Sprintf("Measured as it is, in %d rounds: nothing was changed to compare it with.", times)
	return out, nil
}

// why is the first reason for which a load does not count.
func why(loads []measure.Load) string {
	for _, l := range loads {
		if l.Dropped != "" {
			return l.Name() + ": " + l.Dropped
		}
	}
	return ""
}

// whole is how many rounds have all their loads, from the first on.
func whole(loads []measure.Load, each int) int {
	of := map[int]int{}
	for _, l := range loads {
		of[l.Round]++
	}
	n := 0
	for of[n+1] == each {
		n++
	}
	return n
}

// measuring is a measurement under way.
type measuring struct {
	*Inspection
	scope    measure.Scope
	tasks    []site.PageTask
	journeys []site.JourneyTask
	each     int // how many loads a round has; 0 when nothing was asked for that the test plan has
}

const nothingAsked = "Not measured: the test plan has no page that was asked for."

// measuring gets ready to measure in so many rounds at most, of one side or both, and gives what was measured already.
func (r *Inspection) measuring(ctx context.Context, rounds, sides int) (*measuring, []measure.Load, error) {
	m := &measuring{Inspection: r, scope: r.Measures}
	plan := r.Site.Plan(r.Env.Name)
	m.tasks, m.journeys = m.scope.Tasks(plan), m.scope.Taken(plan)
	if m.each = sides * (len(m.tasks)*m.scope.LoadsOf() + len(m.journeys)); m.each == 0 {
		return m, nil, nil
	}
	loads, err := r.Store.Loads(ctx, r.Run)
	if err != nil {
		return m, nil, err
	}
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned = rounds * m.each })
	return m, loads, m.makeReady(ctx)
}

// makeReady makes everybody ready as whom pages are loaded. Who cannot be, is said by each of the loads.
func (m *measuring) makeReady(ctx context.Context) error {
	var plan site.Plan
	for _, t := range m.tasks {
		if t.Persona != site.Visitor {
			plan.Pages = append(plan.Pages, t)
		}
	}
	for _, t := range m.journeys {
		if t.Journey.Persona != site.Visitor {
			plan.Journeys = append(plan.Journeys, t)
		}
	}
	if len(plan.Who()) == 0 {
		return nil
	}
	b, err := m.Browser()
	if err != nil {
		return err
	}
	m.Progress.Say(ctx, "signing in", "Making everybody ready for whom it is measured")
	g := m.gathering()
	g.silent = true
	return m.personas(ctx, b, plan, 1, g)
}

// state is what makes a browser a persona's, and why nobody could be made that persona.
func (m *measuring) state(persona, device string) (browser.State, string) {
	if persona == site.Visitor {
		return browser.State{}, ""
	}
	who := [2]string{persona, device}
	if state, made := m.ready[who]; made {
		return state, ""
	}
	return browser.State{}, fmt.Sprintf("%s could not be made ready: %s", persona, cmp.Or(m.why[who], "nobody knows why"))
}

// round loads each page once with each of the settings. Which come first changes from round to
// round, so that a machine that grows slower favours neither.
func (m *measuring) round(ctx context.Context, round int) error {
	sides := []measure.Side{measure.Before, measure.After}
	if round%2 == 0 {
		slices.Reverse(sides)
	}
	for _, side := range sides {
		to, where := m.Turns.Earlier, "the earlier settings"
		if side == measure.After {
			to, where = m.Turns.Again, "the change"
		}
		m.Progress.Say(ctx, "measuring", fmt.Sprintf("Round %d, with %s", round, where))
		values, err := to(ctx)
		if err != nil {
			return err
		}
		m.Values, m.Changed = values, true
		if err := m.purge(ctx); err != nil {
			return err
		}
		if _, err := m.askUntilCached(ctx, m.cacheable()); err != nil {
			return err
		}
		if err := m.side(ctx, round, side); err != nil {
			return err
		}
	}
	return nil
}

// cacheable are the pages that are loaded by strangers, each once.
func (m *measuring) cacheable() []string {
	var out []string
	for _, t := range m.tasks {
		if t.Persona == site.Visitor && !slices.Contains(out, t.Page.Path) {
			out = append(out, t.Page.Path)
		}
	}
	return out
}

// side makes all loads of one side of a round.
func (m *measuring) side(ctx context.Context, round int, side measure.Side) error {
	before, err := m.Store.Loads(ctx, m.Run)
	if err != nil {
		return err
	}
	took := effort()
	if err := m.pages(ctx, round, side, took, before, m.keep); err != nil {
		return err
	}
	b, err := m.Browser()
	if err != nil {
		return err
	}
	for _, t := range m.journeys {
		l := measure.Load{Page: t.Journey.StartPage(), Journey: t.Journey.Name, Case: measure.Case{Persona: t.Journey.Persona, Device: t.Device, Visit: measure.First}}
		state, missing := m.state(t.Journey.Persona, t.Device)
		if missing != "" {
			l.Dropped = missing
		} else if l, err = b.React(ctx, m.Env, t, state); err != nil {
			return err
		}
		l.Side, l.Round, l.Effort = side, round, took
		if err := m.keep(ctx, browser.Measured{Load: l}); err != nil {
			return err
		}
	}
	return nil
}

// pages loads each page, and has each load kept. before is what the run measured until then.
func (m *measuring) pages(ctx context.Context, round int, side measure.Side, took float64, before []measure.Load, keep func(context.Context, browser.Measured) error) error {
	for _, t := range m.tasks {
		list, err := m.loads(ctx, t, !pictured(before, side, t))
		if err != nil {
			return err
		}
		for _, l := range list {
			l.Side, l.Round, l.Effort = side, round, took
			if l.Dropped == "" {
				l.Dropped = m.unlikePlan(l.Load, before)
			}
			if err := keep(ctx, l); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *measuring) keep(ctx context.Context, l browser.Measured) error {
	if err := m.Store.SaveLoad(ctx, m.Run, l.Load, l.Requests); err != nil {
		return err
	}
	m.Progress.update(ctx, func(p *store.RunProgress) {
		p.Looks.Done++
		if l.Dropped != "" {
			p.Looks.Failed++
		}
	})
	return nil
}

// loads loads one page as often as the scope says: first from the site itself, then as it is kept.
func (m *measuring) loads(ctx context.Context, t site.PageTask, pictures bool) ([]browser.Measured, error) {
	b, err := m.Browser()
	if err != nil {
		return nil, err
	}
	how := browser.Measuring{Repeat: m.scope.Repeat, Film: m.scope.Film}
	if pictures {
		how.Keep = m.Blobs.Put
	}
	state, missing := m.state(t.Persona, t.Device)
	if missing != "" {
		var list []browser.Measured
		for _, of := range m.scope.Cases(t.Device, t.Persona) {
			list = append(list, browser.Measured{Load: measure.Load{Page: t.Page.Path, Dropped: missing, Case: of}})
		}
		return list, nil
	}
	var out []browser.Measured
	if m.scope.Uncached {
		fresh := t
		fresh.Ask = site.Uncached(t.Page.Path, rand.Text())
		if out, err = b.Measure(ctx, m.Env, fresh, state, m.facts(), browser.Measuring{Film: how.Film, Keep: how.Keep}); err != nil {
			return nil, err
		}
		out[0].Uncached = true
	}
	list, err := b.Measure(ctx, m.Env, t, state, m.facts(), how)
	return append(out, list...), err
}

// pictured tells whether there are pictures of how a page came into view on a side.
func pictured(loads []measure.Load, side measure.Side, t site.PageTask) bool {
	return slices.ContainsFunc(loads, func(l measure.Load) bool {
		return l.Side == side && l.Page == t.Page.Path && l.Persona == t.Persona && l.Device == t.Device && l.Dropped == "" &&
			slices.ContainsFunc(l.Film, func(f measure.Frame) bool { return f.Picture != "" })
	})
}

// unlikePlan is why a load does not count by how its page was served: one that the settings have cached was
// not served from the cache, one that was to come from the site itself was, or somebody's page was served
// in another way than in the rounds before.
func (m *measuring) unlikePlan(l measure.Load, before []measure.Load) string {
	served := httpcache.Served(l.Served)
	if served == httpcache.Unknown {
		return ""
	}
	switch {
	case l.Uncached:
		if served.FromCache() {
			return "It was served from the page cache, and was to come from the site itself."
		}
	case l.Persona == site.Visitor:
		if expectCached(m.Catalogue, m.Values, l.Page) && !served.FromCache() {
			return "It was not served from the page cache (" + strings.ToLower(string(served)) + ")."
		}
	default:
		for _, b := range before {
			if b.Case == l.Case && b.Side == l.Side && b.Page == l.Page && b.Dropped == "" && httpcache.Served(b.Served) != httpcache.Unknown {
				if httpcache.Served(b.Served).FromCache() != served.FromCache() {
					return fmt.Sprintf("It was served otherwise than in round %d (%s, then %s).", b.Round, b.Served, l.Served)
				}
				break
			}
		}
	}
	return ""
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

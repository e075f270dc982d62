package inspect

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/trouble"
)

const (
	// atOnce is how long a page that has to show an edit at once may take: layers are told
	// a moment after the editor has the answer.
	atOnce = 3 * time.Second
	// mostPatience is how long a page is waited for that may show an edit later. What may
	// take longer is not waited for.
	mostPatience = time.Minute
	// undoLimit is how long taking an edit back may take.
	undoLimit = 3 * time.Minute
	askAgain  = 250 * time.Millisecond
)

// until asks until something is so, or for as long as that may take.
func (r *Inspection) until(ctx context.Context, patience time.Duration, so func() (bool, error)) error {
	deadline := time.Now().Add(patience)
	tick := time.NewTicker(askAgain)
	defer tick.Stop()
	for {
		if done, err := so(); done || err != nil || !time.Now().Before(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// publishingPages is how many pages have to show an edit.
func (r *Inspection) publishingPages() int {
	n := 0
	for _, e := range r.Site.PublishingTestsOn(r.Env.Name) {
		for _, at := range e.Shows {
			page, _ := r.Site.Page(at.Page)
			n += len(page.Devices)
		}
	}
	return n
}

// publish publishes each of the site's edits and asks for the pages that have to show
// it, then takes it back.
func (r *Inspection) publish(ctx context.Context, g *gathering) error {
	for _, e := range r.Site.PublishingTestsOn(r.Env.Name) {
		if err := r.publishOne(ctx, e, 1, g); err != nil {
			return err
		}
	}
	return nil
}

func (r *Inspection) publishOne(ctx context.Context, e site.PublishingTest, pass int, g *gathering) error {
	b, err := r.Browser()
	if err != nil {
		return err
	}
	r.Progress.Say(ctx, "probing", "Publishing: "+e.Name)
	word := r.word(e.Name, "", pass)
	probes := r.expectations(ctx, e)
	if err := r.Progress.editing(ctx, e.Name); err != nil {
		return err
	}
	trouble.At(trouble.Editing)
	published, why, err := r.edit(ctx, b, "publishing: "+e.Name, e, journey.WithCanary(e.Steps, word), false)
	if err != nil { // nobody knows how far it came
		return errors.Join(err, r.takeBack(ctx, b, e, word))
	}
	trouble.At(trouble.Published)
	at := time.Now()
	eg, waiting := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for i := range probes {
		eg.Go(func() error {
			err := why
			if published && probes[i].Missing == "" {
				err = r.shows(waiting, &probes[i], word, at)
			}
			return r.probed(waiting, probes[i], err, pass, g)
		})
	}
	err = eg.Wait()
	if err == nil && published {
		err = r.comeAfterRelease(ctx, probes, word, g)
	}
	return errors.Join(err, r.takeBack(ctx, b, e, word))
}

// TakeBack takes back what a publishing test of that name published: what an attempt that was cut off, or an earlier run, left.
// Where the test plan has no such test any more there is nothing to take it back with.
func (r *Inspection) TakeBack(ctx context.Context, test string) error {
	for _, e := range r.Site.PublishingTestsOn(r.Env.Name) {
		if e.Name != test {
			continue
		}
		b, err := r.Browser()
		if err != nil {
			return err
		}
		r.Editing = ""
		if err := r.Progress.editing(ctx, e.Name); err != nil {
			return err
		}
		return r.takeBack(ctx, b, e, "")
	}
	return nil
}

// takeBack takes an edit back, also when the run was stopped meanwhile, and purges the
// pages that show it: what was published for a test is not left for visitors. An edit
// that cannot be taken back is a finding, whatever the run is for, and stays on record.
func (r *Inspection) takeBack(ctx context.Context, b *browser.Browser, e site.PublishingTest, word string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), undoLimit)
	defer cancel()
	back := true
	if len(e.Undo) > 0 {
		var why, err error
		for _, anew := range []bool{false, true} { // who is no longer signed in signs in once more
			if back, why, err = r.edit(ctx, b, "taking back: "+e.Name, e, journey.WithCanary(e.Undo, word), anew); err != nil {
				return err
			}
			if back {
				break
			}
		}
		r.left = slices.DeleteFunc(r.left, func(l leftEdit) bool { return l.test.Name == e.Name })
		if !back {
			k := evidence.Key{Page: e.Shows[0].Page, Journey: "taking back: " + e.Name, Persona: e.Persona, Device: site.Desktop}
			r.left = append(r.left, leftEdit{e, word, evidence.NotTakenBack(k, e.Name, why.Error())})
		}
	}
	for _, at := range e.Shows {
		if err := r.purgePages(ctx, at.Page); err != nil {
			return err
		}
	}
	if !back {
		return nil
	}
	trouble.At(trouble.TakenBack)
	return r.Progress.editing(ctx, "")
}

// leftEdit is a publishing test that could not be taken back.
type leftEdit struct {
	test  site.PublishingTest
	word  string
	found []evidence.Finding
}

// leftFindings are the findings of what could not be taken back.
func (r *Inspection) leftFindings() []evidence.Finding {
	var out []evidence.Finding
	for _, l := range r.left {
		out = append(out, l.found...)
	}
	return out
}

// takeBackWithEarlier takes back with the earlier settings what could not be taken back with
// the change, and tells so.
func (r *Inspection) takeBackWithEarlier(ctx context.Context, g *gathering) error {
	if len(r.left) == 0 {
		return nil
	}
	b, err := r.Browser()
	if err != nil {
		return err
	}
	for _, l := range slices.Clone(r.left) {
		if err := r.takeBack(ctx, b, l.test, l.word); err != nil {
			return err
		}
		if slices.ContainsFunc(r.left, func(still leftEdit) bool { return still.test.Name == l.test.Name }) {
			continue
		}
		for _, f := range l.found {
			if err := g.take(ctx, f.Key(), []evidence.Finding{evidence.TakenBackLate(f)}); err != nil {
				return err
			}
		}
	}
	return nil
}

// expectations are the pages that have to show an edit, each asked for twice, so that
// it is cached when it can be, with the rule by which it has to show it.
func (r *Inspection) expectations(ctx context.Context, e site.PublishingTest) []evidence.Probe {
	layer := exclusion.LayerOf(r.Catalogue, r.Values)
	var out []evidence.Probe
	for _, at := range e.Shows {
		page, _ := r.Site.Page(at.Page)
		for _, device := range page.Devices {
			p := r.probeOf(site.PageTask{Page: page, Persona: site.Visitor, Device: device}, evidence.Published)
			rule := layer.ShowsWithin(page.Path, at.Within, browser.Agent(device))
			p.Edit, p.Rule, p.Allowed = e.Name, rule.Rule, rule.Seconds
			if rule.Seconds == 0 && !rule.AtOnce {
				p.Allowed = -1
			}
			for range 2 {
				if err := r.ask(ctx, page.Path, asker{site.Visitor, device}, nil, &p.First); err != nil {
					p.Missing = err.Error()
				}
			}
			out = append(out, p)
		}
	}
	return out
}

// edit takes the steps of an edit as whoever publishes, who signs in anew when they are not
// ready or are asked to. why tells of what kept it from being published.
func (r *Inspection) edit(ctx context.Context, b *browser.Browser, name string, e site.PublishingTest, steps []journey.Step, anew bool) (done bool, why, err error) {
	persona, _ := r.Site.Persona(e.Persona)
	who := [2]string{e.Persona, site.Desktop}
	state, ready := r.ready[who]
	if !ready || anew {
		var look evidence.JourneyLook
		if state, look, err = r.prepare(ctx, b, persona, site.Desktop, 1); err != nil {
			return false, nil, err
		}
		if err := r.Store.SaveLook(ctx, r.Run, 1, "journey", look.Key, look); err != nil {
			return false, nil, err
		}
	}
	look, err := b.Take(ctx, r.Env, site.JourneyTask{Journey: journey.Journey{Name: name, Persona: e.Persona, Steps: steps}, Device: site.Desktop}, state, r.Blobs.Put)
	if err != nil {
		return false, nil, err
	}
	if err := r.Store.SaveLook(ctx, r.Run, 1, "journey", look.Key, look); err != nil {
		return false, nil, err
	}
	failed := look.Outcome.Failed()
	switch {
	case look.Missing != "":
		return false, fmt.Errorf("%s could not be done: %s", name, look.Missing), nil
	case failed >= 0:
		step := look.Outcome.Steps[failed]
		return false, fmt.Errorf("%s could not be done: %s: %s", name, step.Step, step.Why), nil
	}
	return true, nil, nil
}

// shows asks for a page until it shows an edit or has had its time, and once more when
// nothing is cached.
func (r *Inspection) shows(ctx context.Context, p *evidence.Probe, word string, at time.Time) error {
	patience := min(time.Duration(p.Allowed)*time.Second, mostPatience) + atOnce
	if p.Allowed < 0 || time.Duration(p.Allowed)*time.Second > mostPatience {
		patience = 0 // it may take longer than anybody waits
	}
	words := map[string]string{word: p.Edit}
	err := r.until(ctx, patience, func() (bool, error) {
		err := r.askWith(ctx, p.Page, p.Device, browser.State{}, []string{word}, words, &p.Second)
		p.Waited = time.Since(at).Seconds()
		return len(p.Second.PrivateTexts) > 0, err
	})
	if err != nil {
		return err
	}
	if err := r.purgePages(ctx, p.Page); err != nil {
		return err
	}
	return r.askWith(ctx, r.uncached(p.Page), p.Device, browser.State{}, []string{word}, words, &p.Fresh)
}

// uncached is a path to ask for a page that is rendered fresh, where single pages cannot be
// purged.
func (r *Inspection) uncached(path string) string {
	if r.Able.PurgesPages {
		return path
	}
	return site.Uncached(path, strconv.FormatInt(r.Run, 10))
}

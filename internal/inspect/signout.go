package inspect

import (
	"context"
	"fmt"
	"slices"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// signOutPersonas are who signs out, by persona and device, with the pages that they are asked
// for.
func (r *Inspection) signOutPersonas() (who [][2]string, pages map[[2]string][]site.PageTask) {
	pages = map[[2]string][]site.PageTask{}
	for _, t := range r.Site.Plan(r.Env.Name).Pages {
		if p, _ := r.Site.Persona(t.Persona); len(p.SignOut) == 0 {
			continue
		}
		at := [2]string{t.Persona, t.Device}
		if pages[at] == nil {
			who = append(who, at)
		}
		pages[at] = append(pages[at], t)
	}
	return who, pages
}

// signOutPages is how many pages are asked for after somebody signed out.
func (r *Inspection) signOutPages() int {
	n := 0
	_, pages := r.signOutPersonas()
	for _, list := range pages {
		n += len(list)
	}
	return n
}

// signOutProbes signs people out, one after the other, and asks for their pages with what
// their browsers have left; only for those that are wanted, unless wanted is nil. It comes
// last: their sessions are over then.
func (r *Inspection) signOutProbes(ctx context.Context, pass int, g *gathering, wanted func(evidence.Key) bool) error {
	who, pages := r.signOutPersonas()
	for _, at := range who {
		if wanted != nil {
			pages[at] = slices.DeleteFunc(pages[at], func(t site.PageTask) bool { return !wanted(probeKey(r.probeOf(t, evidence.AfterSignOut))) })
			if len(pages[at]) == 0 {
				continue
			}
		}
		state, ready := r.ready[at]
		if !ready {
			continue // that nobody could sign in was found before
		}
		if err := r.signOutAs(ctx, at, state, pages[at], pass, g); err != nil {
			return err
		}
	}
	return nil
}

// signOutAs asks for pages as somebody, signs out, and asks again with what the browser
// has kept. Long because all of it is one session, and the order is what it is about.
func (r *Inspection) signOutAs(ctx context.Context, at [2]string, state browser.State, pages []site.PageTask, pass int, g *gathering) error {
	persona, _ := r.Site.Persona(at[0])
	b, err := r.Browser()
	if err != nil {
		return err
	}
	r.Progress.Say(ctx, "probing", "Signing out as "+persona.Name)
	var lost error // why nobody could sign in
	if r.ReadyFor <= 0 {
		delete(r.ready, at)
	} else { // the session that is kept for later isolation tests is not ended
		ready, look, err := r.prepare(ctx, b, persona, at[1], pass)
		if err != nil {
			return err
		}
		state, lost = ready, look.NotReady()
	}
	marks, words := append(slices.Clone(persona.PrivateTexts), state.Canary), map[string]string{state.Canary: persona.Name}
	probes := make([]evidence.Probe, len(pages))
	missing := make([]error, len(pages))
	for i, t := range pages {
		probes[i] = r.probeOf(t, evidence.AfterSignOut)
		if lost != nil {
			if err := r.probed(ctx, probes[i], lost, pass, g); err != nil {
				return err
			}
			continue
		}
		if missing[i] = r.purgePages(ctx, t.Page.Path); missing[i] == nil {
			missing[i] = r.askWith(ctx, t.Page.Path, at[1], state, marks, words, &probes[i].First)
		}
	}
	if lost != nil {
		return nil
	}
	left, look, err := b.SignOut(ctx, r.Env, persona, at[1], state, r.Blobs.Put)
	if err != nil {
		return err
	}
	if err := r.Store.SaveLook(ctx, r.Run, pass, "journey", look.Key, look); err != nil {
		return err
	}
	if g != nil {
		if err := g.take(ctx, look.Key, evidence.CompareJourney(r.Base, look)); err != nil {
			return err
		}
	}
	stayed := notSignedOut(persona.Name, look)
	for i, t := range pages {
		err := missing[i]
		switch {
		case err != nil:
		case stayed != nil:
			err = stayed
		default:
			if err = r.askWith(ctx, t.Page.Path, at[1], left, marks, words, &probes[i].Second); err == nil {
				if err = r.purgePages(ctx, t.Page.Path); err == nil {
					err = r.askWith(ctx, t.Page.Path, at[1], left, marks, words, &probes[i].Fresh)
				}
			}
		}
		if err := r.probed(ctx, probes[i], err, pass, g); err != nil {
			return err
		}
	}
	return nil
}

// notSignedOut says why somebody is signed in still, or nil.
func notSignedOut(name string, look evidence.JourneyLook) error {
	if look.Missing != "" {
		return fmt.Errorf("%s could not sign out: %s", name, look.Missing)
	}
	if failed := look.Outcome.Failed(); failed >= 0 {
		return fmt.Errorf("%s could not sign out: %s", name, look.Outcome.Steps[failed].Why)
	}
	return nil
}

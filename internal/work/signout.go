package work

import (
	"context"
	"fmt"
	"slices"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// leavers are who signs out, by persona and device, with the pages that they are asked
// for.
func (r *run) leavers() (who [][2]string, pages map[[2]string][]site.PageTask) {
	pages = map[[2]string][]site.PageTask{}
	for _, t := range r.site.Plan(r.env.Name).Pages {
		if p, _ := r.site.Persona(t.Persona); len(p.Leave) == 0 {
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

// leavings is how many pages are asked for after somebody signed out.
func (r *run) leavings() int {
	n := 0
	_, pages := r.leavers()
	for _, list := range pages {
		n += len(list)
	}
	return n
}

// leave signs people out, one after the other, and asks for their pages with what their
// browsers have left. It comes last: their sessions are over then.
func (r *run) leave(ctx context.Context, pass int, g *gathering) error {
	who, pages := r.leavers()
	for _, at := range who {
		state, ready := r.ready[at]
		if !ready {
			continue // that nobody could sign in was found before
		}
		if err := r.leaveAs(ctx, at, state, pages[at], pass, g); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) leaveAs(ctx context.Context, at [2]string, state browser.State, pages []site.PageTask, pass int, g *gathering) error {
	persona, _ := r.site.Persona(at[0])
	b, err := r.Browser()
	if err != nil {
		return err
	}
	r.progress.say(ctx, "probing", "Signing out as "+persona.Name)
	var lost error // why nobody could sign in
	if r.ReadyFor <= 0 {
		delete(r.ready, at)
	} else { // the session that is kept for later proofs is not ended
		ready, look, err := r.makeUp(ctx, b, persona, at[1], pass)
		if err != nil {
			return err
		}
		state, lost = ready, notReady(persona.Name, look)
	}
	marks, words := append(slices.Clone(persona.Marks), state.Canary), map[string]string{state.Canary: persona.Name}
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
		if missing[i] = r.drop(ctx, t.Page.Path); missing[i] == nil {
			missing[i] = r.askWith(ctx, t.Page.Path, at[1], state, marks, words, &probes[i].First)
		}
	}
	if lost != nil {
		return nil
	}
	left, look, err := b.Leave(ctx, r.environment(), persona, at[1], state, r.Blobs.Put)
	if err != nil {
		return err
	}
	if err := r.Store.SaveLook(ctx, r.row.ID, pass, "journey", look.Key, look); err != nil {
		return err
	}
	if g != nil {
		if err := g.take(ctx, look.Key, evidence.CompareJourney(r.base, look)); err != nil {
			return err
		}
	}
	failed := look.Outcome.Failed()
	for i, t := range pages {
		err := missing[i]
		switch {
		case err != nil:
		case look.Missing != "":
			err = fmt.Errorf("%s could not sign out: %s", persona.Name, look.Missing)
		case failed >= 0:
			err = fmt.Errorf("%s could not sign out: %s", persona.Name, look.Outcome.Steps[failed].Why)
		default:
			if err = r.askWith(ctx, t.Page.Path, at[1], left, marks, words, &probes[i].Second); err == nil {
				if err = r.drop(ctx, t.Page.Path); err == nil {
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

// notReady says at which step somebody could not be made ready, nil when they could.
func notReady(name string, look evidence.JourneyLook) error {
	if look.Missing != "" {
		return fmt.Errorf("%s could not be made ready: %s", name, look.Missing)
	}
	if failed := look.Outcome.Failed(); failed >= 0 {
		return fmt.Errorf("%s could not be made ready: %s: %s", name, look.Outcome.Steps[failed].Step, look.Outcome.Steps[failed].Why)
	}
	return nil
}

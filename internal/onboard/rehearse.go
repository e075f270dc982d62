package onboard

import (
	"context"
	"fmt"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// Rehearsal is what is taken on the spot: a persona made ready and signed out again, or a
// journey.
type Rehearsal struct {
	Persona string `json:"persona,omitempty"`
	Journey string `json:"journey,omitempty"`
	Device  string `json:"device" enum:"desktop,phone"`
}

// Rehearsed is what came of it.
type Rehearsed struct {
	evidence.JourneyLook
	SignOut []journey.Step `json:"signOut,omitempty" doc:"Steps that seem to sign the persona out, where none are known."`
}

// RehearseOnboarding takes something of a site being added, on its staging.
// store.ErrNotFound when it has no such persona or journey.
func (d *Desk) RehearseOnboarding(ctx context.Context, id int64, what Rehearsal) (Rehearsed, error) {
	t, err := d.Store.Onboarding(ctx, id)
	if err != nil {
		return Rehearsed{}, err
	}
	return d.rehearse(ctx, t.Document.V.Looks(), what)
}

// RehearseSite is the same for a site that is registered. *act.Busy while somebody acts on
// its staging.
func (d *Desk) RehearseSite(ctx context.Context, id int64, what Rehearsal) (Rehearsed, error) {
	row, err := d.Store.Site(ctx, id)
	if err != nil {
		return Rehearsed{}, err
	}
	doc := row.Document.V.WithRoles()
	var out Rehearsed
	err = d.locked(ctx, id, placeOf(doc).Name, func() error {
		out, err = d.rehearse(ctx, doc, what)
		return err
	})
	return out, err
}

// placeOf is where something of a site is tried: on its staging.
func placeOf(s site.Site) site.Environment {
	if e, there := s.WithRoles().WithRole(site.Staging); there {
		return e
	}
	return s.Environments[0]
}

func (d *Desk) rehearse(ctx context.Context, s site.Site, what Rehearsal) (Rehearsed, error) {
	b, err := d.Browser()
	if err != nil {
		return Rehearsed{}, err
	}
	env := placeOf(s)
	if what.Persona != "" {
		p, known := s.Persona(what.Persona)
		if !known {
			return Rehearsed{}, fmt.Errorf("the persona %q: %w", what.Persona, store.ErrNotFound)
		}
		return d.rehearsePersona(ctx, b, env, p, what.Device)
	}
	for _, j := range s.Journeys {
		if j.Name != what.Journey {
			continue
		}
		if !j.RunsOn(env.Name) {
			return Rehearsed{}, &act.NotPossible{Why: fmt.Sprintf("the journey “%s” does not run on %s, and nothing is tried anywhere else", j.Name, env.Name)}
		}
		state := browser.State{}
		if p, known := s.Persona(j.Persona); known && len(p.Prepare) > 0 {
			p.Prepare = journey.WithCanary(p.Prepare, wordToTry)
			var look evidence.JourneyLook
			if state, look, err = b.Prepare(ctx, env, p, what.Device, d.Blobs.Put); err != nil || look.NotReady() != nil {
				return Rehearsed{JourneyLook: look}, err
			}
		}
		look, err := b.Take(ctx, env, site.JourneyTask{Journey: j, Device: what.Device}, state, d.Blobs.Put)
		return Rehearsed{JourneyLook: look}, err
	}
	return Rehearsed{}, fmt.Errorf("the journey %q: %w", what.Journey, store.ErrNotFound)
}

// wordToTry stands where a run would have a word made up.
const wordToTry = "tidetry"

// rehearsePersona makes somebody ready and signs them out again, as far as their steps
// go. Where none sign them out, it looks for what would.
func (d *Desk) rehearsePersona(ctx context.Context, b *browser.Browser, env site.Environment, p site.Persona, device string) (Rehearsed, error) {
	p.Prepare = journey.WithCanary(p.Prepare, wordToTry)
	state, look, err := b.Prepare(ctx, env, p, device, d.Blobs.Put)
	out := Rehearsed{JourneyLook: look}
	if err != nil || look.NotReady() != nil {
		return out, err
	}
	if len(p.SignOut) == 0 {
		if at := look.Outcome.Steps; exclusion.SignedIn(p.Kind) && len(at) > 0 {
			out.SignOut = wayOut(ctx, env, at[len(at)-1].At, device, state)
		}
		return out, nil
	}
	_, left, err := b.SignOut(ctx, env, p, device, state, d.Blobs.Put)
	out.Outcome.Steps = append(out.Outcome.Steps, left.Outcome.Steps...)
	out.Missing = left.Missing
	return out, err
}

// wayOut are steps that seem to sign somebody out, seen on the page where signing in
// has led; none when there is nothing of the kind.
func wayOut(ctx context.Context, env site.Environment, path, device string, state browser.State) []journey.Step {
	var body []byte
	keep := func(_ context.Context, _ string, raw []byte) (string, error) {
		body = raw
		return "", nil
	}
	if _, err := (browser.Plain{Env: env, Keep: keep}).Ask(ctx, path, device, state, nil); err != nil {
		return nil // a proposal that cannot be made is none
	}
	if out, found := survey.WayOut(body); found {
		return survey.Leaving(path, out)
	}
	return nil
}

package inspect

import (
	"context"
	"slices"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/site"
)

// asker is somebody who asks for pages with one device.
type asker struct {
	persona, device string
}

// notReady is why nothing was asked for.
type notReady struct{ persona, why string }

func (e *notReady) Error() string { return e.why }

// ask gets a page as somebody, and notes which of these marks stand in it.
func (r *Inspection) ask(ctx context.Context, path string, as asker, marks []string, into *evidence.Answer) error {
	state := browser.State{}
	if as.persona != site.Visitor {
		var ready bool
		if state, ready = r.ready[[2]string{as.persona, as.device}]; !ready {
			return &notReady{as.persona, r.unready(as.persona, as.device)}
		}
	}
	return r.askWith(ctx, path, as.device, state, marks, r.words(), into)
}

// words are those made up for somebody, with whose they are.
func (r *Inspection) words() map[string]string {
	out := map[string]string{}
	for who, state := range r.ready {
		if state.Canary != "" {
			out[state.Canary] = who[0]
		}
	}
	return out
}

// askWith gets a page with what a browser carries. Words that were made up are told by
// whose they are: the next test has others.
func (r *Inspection) askWith(ctx context.Context, path, device string, state browser.State, marks []string, words map[string]string, into *evidence.Answer) error {
	a, err := r.plain().Ask(ctx, path, device, state, marks)
	for i, m := range a.PrivateTexts {
		if whose := words[m]; whose != "" {
			a.PrivateTexts[i] = evidence.MadeUp(whose)
		}
	}
	a.PrivateTexts = slices.Compact(a.PrivateTexts)
	*into = a
	return err
}

// pair asks for a page as one, as the other right after, and as the other once more
// when nothing is cached.
func (r *Inspection) pair(ctx context.Context, path string, first, second asker, marks []string, p *evidence.Probe) error {
	if err := r.purgePages(ctx, path); err != nil {
		return err
	}
	if err := r.ask(ctx, path, first, marks, &p.First); err != nil {
		return err
	}
	if err := r.ask(ctx, path, second, marks, &p.Second); err != nil {
		return err
	}
	if err := r.purgePages(ctx, path); err != nil {
		return err
	}
	return r.ask(ctx, path, second, marks, &p.Fresh)
}

// personalCookies are the names of the cookies by which the site knows those who were
// made ready.
func (r *Inspection) personalCookies() []string {
	var out []string
	for _, state := range r.ready {
		for _, name := range state.Personal() {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// signedInTexts are the marks of those who have to be made ready by signing in: what a
// basket has in it stands on public pages, too.
func (r *Inspection) signedInTexts() []string {
	var out []string
	for _, who := range r.Site.Personas {
		if exclusion.SignedIn(who.Kind) {
			out = append(out, r.privateTextsOf(who.Name)...)
		}
	}
	return out
}

// privateTextsOf are the texts that only one persona may see: those that the site file names,
// and the words made up while it was made ready.
func (r *Inspection) privateTextsOf(persona string) []string {
	p, _ := r.Site.Persona(persona)
	out := slices.Clone(p.PrivateTexts)
	for who, state := range r.ready {
		if who[0] == persona && state.Canary != "" {
			out = append(out, state.Canary)
		}
	}
	return out
}

func (r *Inspection) probeOf(t site.PageTask, kind evidence.ProbeKind) evidence.Probe {
	return evidence.Probe{Key: pageKey(t), Class: t.Page.Class, Kind: kind}
}

package onboard

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// Survey finds the pages of a site that is being added, from its sitemap or, without
// one, by following links from its start page; looks at a sample of each part of the
// site; and proposes what to watch. How far it is is written down as it goes.
func (d *Desk) Survey(ctx context.Context, id int64) error {
	t, err := d.Store.Onboarding(ctx, id)
	if err != nil {
		return err
	}
	if len(t.Document.V.Environments) == 0 {
		return errors.New("there is no environment to look at")
	}
	s := &surveying{Desk: d, id: id, f: newFetcher(stagingOf(t.Document.V)), p: store.SurveyProgress{State: "running", Notes: []string{}}}
	pages, err := s.run(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	s.p.State = "done"
	if err != nil {
		s.p.State = "failed"
		s.note("%v", err)
	}
	for i := range pages {
		pages[i].Links = nil // they have served their purpose
	}
	if _, err = d.Store.ChangeOnboarding(ctx, id, func(t *store.Onboarding) error {
		d := &t.Document.V
		d.Survey = s.p
		if len(pages) > 0 {
			d.Pages = survey.WatchList(pages)
			d.Personas, d.Journeys = survey.Personas(d.Pages), survey.Journeys(d.Pages)
		}
		return nil
	}); err != nil {
		return err
	}
	return d.Store.Tell(ctx, store.Signal{})
}

type surveying struct {
	*Desk
	id int64
	f  *fetcher
	mu sync.Mutex
	p  store.SurveyProgress
}

func (s *surveying) note(format string, args ...any) {
	s.p.Notes = append(s.p.Notes, fmt.Sprintf(format, args...))
}

// say writes down how far it is.
func (s *surveying) say(ctx context.Context) {
	if s.Store.SaveSurvey(ctx, s.id, s.p) == nil {
		_ = s.Store.Tell(ctx, store.Signal{})
	}
}

func (s *surveying) run(ctx context.Context) ([]survey.Found, error) {
	base, err := url.Parse(s.f.env.URL)
	if err != nil {
		return nil, err
	}
	paths, err := s.listed(ctx)
	if err != nil {
		s.note("No sitemap could be used: %v. Links are followed from the start page.", err)
		return s.follow(ctx, base)
	}
	s.p.Listed = len(paths)
	if !slices.Contains(paths, "/") {
		paths = append([]string{"/"}, paths...)
	}
	chosen := sample(paths)
	s.p.Wanted = len(chosen)
	s.say(ctx)
	seen := s.observe(ctx, base, chosen)
	var out []survey.Found
	for _, p := range paths {
		o, looked := seen[p]
		if !looked {
			o = survey.Observation{Path: p}
		}
		out = append(out, survey.Found{Observation: o, Suggestion: survey.Classify(o)})
	}
	// Cart, checkout and the like stand in no sitemap: what the pages link to is looked at, too.
	var more []string
	for _, o := range seen {
		for _, l := range o.Links {
			if c := survey.Classify(survey.Observation{Path: l}); !site.Cacheable(c.Class) && !slices.Contains(paths, l) && !slices.Contains(more, l) && len(more) < 12 {
				more = append(more, l)
			}
		}
	}
	slices.Sort(more)
	for p, o := range s.observe(ctx, base, more) {
		o.Path = p
		out = append(out, survey.Found{Observation: o, Suggestion: survey.Classify(o)})
	}
	out = append(out, s.guessCheckout(ctx, base, out)...)
	return out, ctx.Err()
}

// guessCheckout asks where checkouts usually are when none was seen: an empty cart
// seldom links to one. Common practice, not a rule.
func (s *surveying) guessCheckout(ctx context.Context, base *url.URL, seen []survey.Found) []survey.Found {
	guesses := []string{"/checkout"}
	for _, p := range seen {
		switch p.Class {
		case "checkout":
			return nil
		case "cart":
			if cart, _, _ := strings.Cut(strings.TrimSuffix(p.Path, "/"), "?"); p.Status == http.StatusOK && len(guesses) < 5 {
				guesses = append(guesses, cart+"/checkout", cart+"/pay")
			}
		}
	}
	var out []survey.Found
	for p, o := range s.observe(ctx, base, guesses) {
		if o.Path = p; o.Status == http.StatusOK {
			out = append(out, survey.Found{Observation: o, Suggestion: survey.Classify(o)})
		}
	}
	return out
}

// sample takes a few paths of each part of a site.
func sample(paths []string) []string {
	of := map[string]int{}
	var out []string
	for _, p := range paths {
		part, _, _ := strings.Cut(strings.TrimPrefix(p, "/"), "/")
		if of[part] < perPlace && len(out) < mostObserved {
			of[part]++
			out = append(out, p)
		}
	}
	return out
}

// listed are the paths that the site's sitemap names.
func (s *surveying) listed(ctx context.Context) ([]string, error) {
	queue := []string{s.f.env.Address("/sitemap.xml")}
	var paths []string
	for i := 0; i < len(queue) && i < mostFiles; i++ {
		res, body, err := s.f.get(ctx, queue[i])
		if err == nil && res.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s was answered with %s", queue[i], res.Status)
		}
		var m survey.Sitemap
		if err == nil {
			m, err = survey.ParseSitemap(body)
		}
		if err != nil && (i == 0 && len(m.Pages) == 0) {
			return nil, err
		}
		if err != nil {
			s.note("%s: %v", queue[i], err)
		}
		for _, f := range m.Files {
			if len(queue) < mostFiles && !slices.Contains(queue, f) {
				queue = append(queue, f)
			}
		}
		for _, p := range m.Pages {
			u, err := url.Parse(p)
			if err != nil || !s.f.env.Owns(u) {
				continue
			}
			if len(paths) < survey.MostAddresses {
				paths = append(paths, u.RequestURI())
			}
		}
	}
	if len(paths) == 0 {
		return nil, errors.New("it names no page of this site")
	}
	slices.Sort(paths)
	return slices.Compact(paths), nil
}

// follow goes from link to link, as far as the limits allow.
func (s *surveying) follow(ctx context.Context, base *url.URL) ([]survey.Found, error) {
	var out []survey.Found
	known := map[string]bool{"/": true}
	next := []string{"/"}
	for len(next) > 0 && len(out) < mostObserved && ctx.Err() == nil {
		batch := next[:min(len(next), 8)]
		next = next[len(batch):]
		s.p.Wanted = min(mostObserved, len(out)+len(batch)+len(next))
		seen := s.observe(ctx, base, batch)
		for _, p := range batch {
			o, ok := seen[p]
			if !ok {
				continue
			}
			out = append(out, survey.Found{Observation: o, Suggestion: survey.Classify(o)})
			for _, l := range sample(o.Links) {
				if !known[l] && len(known) < 2000 {
					known[l] = true
					next = append(next, l)
				}
			}
		}
		s.p.Listed = len(known)
	}
	if len(out) == 0 {
		return nil, errors.New("the start page does not answer")
	}
	return out, ctx.Err()
}

// observe looks at pages, a few at once.
func (s *surveying) observe(ctx context.Context, base *url.URL, paths []string) map[string]survey.Observation {
	out := map[string]survey.Observation{}
	s.p.Wanted = max(s.p.Wanted, s.p.Done+len(paths))
	g := errgroup.Group{}
	g.SetLimit(4)
	for _, p := range paths {
		g.Go(func() error {
			res, body, err := s.f.get(ctx, s.f.env.Address(p))
			s.mu.Lock()
			defer s.mu.Unlock()
			s.p.Done++
			if err == nil && strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") {
				o := survey.Observe(base, p, res.StatusCode, res.Header.Get("Cache-Control"), body)
				if res.Request.URL.RequestURI() != p {
					o.Status = http.StatusFound // it leads elsewhere
				}
				out[p] = o
			}
			if s.p.Done%8 == 0 {
				s.say(ctx)
			}
			return nil
		})
	}
	_ = g.Wait()
	s.say(ctx)
	return out
}

// stagingOf is where a site that is being added is looked at: its staging, or whatever
// there is.
func stagingOf(d store.OnboardingDocument) site.Environment {
	looks := d.Looks().WithRoles()
	if e, there := looks.WithRole(site.Staging); there {
		return e
	}
	return looks.Environments[0]
}

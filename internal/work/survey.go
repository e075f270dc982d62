package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/connector"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// The limits of a survey.
const (
	mostObserved = 120 // pages that are fetched
	perPlace     = 10  // of them, below one first part of the path
	mostFiles    = 60  // of a sitemap that has several
	mostFetched  = 50 << 20
)

// fetcher gets what a site serves, from the site's own hosts alone.
type fetcher struct {
	env  site.Environment
	http http.Client
}

func newFetcher(env site.Environment) *fetcher {
	f := &fetcher{env: env}
	f.http = http.Client{Timeout: 30 * time.Second, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if !env.Owns(r.URL) || len(via) > 5 {
			return http.ErrUseLastResponse
		}
		return nil
	}}
	return f
}

func (f *fetcher) get(ctx context.Context, address string) (res *http.Response, body []byte, err error) {
	u, err := url.Parse(address)
	if err != nil || !f.env.Owns(u) {
		return nil, nil, fmt.Errorf("%s is not on one of the site's hosts", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, nil, err
	}
	req.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64) tide-marker-survey")
	if res, err = f.http.Do(req); err != nil {
		return nil, nil, fmt.Errorf("%s does not answer: %w", address, bare(err))
	}
	defer res.Body.Close()
	body, err = io.ReadAll(io.LimitReader(res.Body, mostFetched+1))
	return res, body, err
}

// bare is why a request failed, without what wraps it for programmers.
func bare(err error) error {
	if u, ok := errors.AsType[*url.Error](err); ok {
		err = u.Err
	}
	if n, ok := errors.AsType[*net.OpError](err); ok {
		err = n.Err
	}
	if sys, ok := errors.AsType[*os.SyscallError](err); ok {
		err = sys.Err
	}
	return err
}

// Survey finds the pages of a site that is being added, from its sitemap or, without
// one, by following links from its start page; looks at a sample of each part of the
// site; and proposes what to watch. How far it is is written down as it goes.
func (w *Runner) Survey(ctx context.Context, id int64) error {
	t, err := w.Store.Onboarding(ctx, id)
	if err != nil {
		return err
	}
	if len(t.Document.V.Environments) == 0 {
		return errors.New("there is no environment to look at")
	}
	s := &surveying{Runner: w, id: id, f: newFetcher(t.Document.V.Environments[0]), p: store.SurveyProgress{State: "running", Notes: []string{}}}
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
	if _, err = w.Store.ChangeOnboarding(ctx, id, func(t *store.Onboarding) error {
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
	return w.Store.Tell(ctx, store.Notice{})
}

type surveying struct {
	*Runner
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
		_ = s.Store.Tell(ctx, store.Notice{})
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

// TestEnvironments tests what a person said about a site's environments: that they
// answer, that the connectors are right, and that staging is not production.
func (w *Runner) TestEnvironments(ctx context.Context, t store.Onboarding) []store.OnboardingTest {
	d := t.Document.V
	tests := []store.OnboardingTest{}
	say := func(env, what string, ok bool, format string, args ...any) {
		tests = append(tests, store.OnboardingTest{Environment: env, What: what, OK: ok, Text: fmt.Sprintf(format, args...)})
	}
	abouts := map[string]connector.About{}
	for i := range d.Environments {
		e := d.Environments[i]
		res, _, err := newFetcher(e).get(ctx, e.Address("/"))
		switch {
		case err != nil:
			say(e.Name, "address", false, "%v", err)
		case res.StatusCode >= 400:
			say(e.Name, "address", false, "The start page was answered with %s.", res.Status)
		default:
			say(e.Name, "address", true, "The start page answers.")
		}
		if e.Connector == nil || e.Connector.Kind == byHandKind {
			say(e.Name, "connector", true, "Changed by hand: settings are exported and uploaded.")
			continue
		}
		client, err := Dial(e.Name, e.Connector.URL, t.Tokens.V[e.Name])
		if err != nil {
			say(e.Name, "connector", false, "%v", err)
			continue
		}
		about, err := client.About(ctx)
		if err != nil {
			say(e.Name, "connector", false, "%v", err)
			continue
		}
		abouts[e.Name] = about
		say(e.Name, "connector", true, "%s answers for %s of %s, protocol %s.", about.Software, about.Environment, about.Site, about.Protocol)
		now, err := client.Settings(ctx)
		if err != nil {
			say(e.Name, "token", false, "%v", err)
			continue
		}
		say(e.Name, "token", true, "The token is right; %d settings were read.", len(now.Values))
	}
	sayApart(d.Environments, abouts, say)
	w.sayHost(ctx, d.Environments, t.Tokens.V, abouts, say)
	return tests
}

// sayApart says whether the environments are not one and the same.
func sayApart(envs []site.Environment, abouts map[string]connector.About, say func(env, what string, ok bool, format string, args ...any)) {
	for i, a := range envs {
		for _, b := range envs[i+1:] {
			same := a.URL == b.URL || a.Connector != nil && b.Connector != nil && a.Connector.URL != "" && a.Connector.URL == b.Connector.URL
			x, there := abouts[a.Name]
			y, too := abouts[b.Name]
			if there && too && x.Environment == y.Environment {
				same = true
			}
			if same {
				say(a.Name, "apart", false, "%s and %s are the same environment. What is tried on one would reach visitors.", a.Name, b.Name)
			} else {
				say(a.Name, "apart", true, "%s is not %s.", a.Name, b.Name)
			}
			if there && too && x.Site != y.Site {
				say(a.Name, "site", false, "%s is of %s, %s of %s.", a.Name, x.Site, b.Name, y.Site)
			}
		}
	}
}

// sayHost says what the host cannot carry, what else works there, and where staging and
// production differ: a check on a staging that differs proves little.
func (w *Runner) sayHost(ctx context.Context, envs []site.Environment, tokens map[string]string, abouts map[string]connector.About, say func(env, what string, ok bool, format string, args ...any)) {
	var first *settings.Catalogue
	for _, e := range envs {
		about, there := abouts[e.Name]
		if !there {
			continue
		}
		client, err := Dial(e.Name, e.Connector.URL, tokens[e.Name])
		if err != nil {
			continue
		}
		cat, err := client.Catalogue(ctx)
		if err != nil {
			say(e.Name, "catalogue", false, "%v", err)
			continue
		}
		if lacking := cat.Lacking(about.Facts.Host()); len(lacking) > 0 {
			say(e.Name, "host", true, "The host (%s) cannot carry %d of %d settings; each says what would do instead.", about.Facts.Hosting, len(lacking), len(cat.Settings))
		}
		for _, o := range about.Facts.OtherOptimisers {
			say(e.Name, "other tools", true, "“%s” does part of the same work; a setting that collides with it is blocked.", o.Name)
		}
		if first == nil {
			first = &cat
			continue
		}
		if missing := keysApart(*first, cat); len(missing) > 0 {
			say(e.Name, "parity", false, "The catalogues differ: %s. A check on staging proves little of what only one of them has.", strings.Join(missing, ", "))
		} else {
			say(e.Name, "parity", true, "Both have the same %d settings.", len(cat.Settings))
		}
	}
	if len(envs) > 1 && abouts[envs[0].Name].Facts.Hosting != abouts[envs[len(envs)-1].Name].Facts.Hosting {
		say(envs[0].Name, "parity", false, "The hosts differ: %s and %s.", abouts[envs[0].Name].Facts.Hosting, abouts[envs[len(envs)-1].Name].Facts.Hosting)
	}
}

// keysApart are the keys that only one of two catalogues has.
func keysApart(a, b settings.Catalogue) []string {
	var out []string
	for _, d := range a.Settings {
		if _, there := b.Find(d.Key); !there {
			out = append(out, d.Key)
		}
	}
	for _, d := range b.Settings {
		if _, there := a.Find(d.Key); !there {
			out = append(out, d.Key)
		}
	}
	return out
}

package onboard

import (
	"context"
	"fmt"
	"strings"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// TestEnvironments tests what a person said about a site's environments: that they
// answer, that the connectors are right, and that staging is not production.
func (d *Desk) TestEnvironments(ctx context.Context, t store.Onboarding) []store.OnboardingTest {
	doc := t.Document.V
	tests := []store.OnboardingTest{}
	say := func(env, what string, ok bool, format string, args ...any) {
		tests = append(tests, store.OnboardingTest{Environment: env, What: what, OK: ok, Text: fmt.Sprintf(format, args...)})
	}
	abouts := map[string]settings.About{}
	for i := range doc.Environments {
		e := doc.Environments[i]
		res, _, err := newFetcher(e).get(ctx, e.Address("/"))
		switch {
		case err != nil:
			say(e.Name, "address", false, "%v", err)
		case res.StatusCode >= 400:
			say(e.Name, "address", false, "The start page was answered with %s.", res.Status)
		default:
			say(e.Name, "address", true, "The start page answers.")
		}
		if e.Connector == nil || !d.Acts.Able(store.Environment{ConnectorKind: e.Connector.Kind}).Reads {
			say(e.Name, "connector", true, "Changed by hand: settings are exported and uploaded.")
			continue
		}
		client, err := d.dial(e, t.Tokens.V[e.Name])
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
		d.saySignal(ctx, e, say)
		say(e.Name, "connector", true, "%s answers for %s of %s, protocol %s.", about.Software, about.Environment, about.Site, about.Protocol)
		now, err := client.Settings(ctx)
		if err != nil {
			say(e.Name, "token", false, "%v", err)
			continue
		}
		say(e.Name, "token", true, "The token is right; %d settings were read.", len(now.Values))
	}
	sayApart(doc.Environments, abouts, say)
	d.sayHost(ctx, doc.Environments, t.Tokens.V, abouts, say)
	return tests
}

// sayApart says whether the environments are not one and the same.
func sayApart(envs []site.Environment, abouts map[string]settings.About, say func(env, what string, ok bool, format string, args ...any)) {
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
func (d *Desk) sayHost(ctx context.Context, envs []site.Environment, tokens map[string]string, abouts map[string]settings.About, say func(env, what string, ok bool, format string, args ...any)) {
	var first *settings.Catalogue
	for _, e := range envs {
		about, there := abouts[e.Name]
		if !there {
			continue
		}
		client, err := d.dial(e, tokens[e.Name])
		if err != nil {
			continue
		}
		cat, err := client.Catalogue(ctx)
		if err != nil {
			say(e.Name, "catalogue", false, "%v", err)
			continue
		}
		if lacking := cat.Lacking(about.Facts.Host()); len(lacking) > 0 {
			say(e.Name, "host", true, "The host (%s) cannot support %d of %d settings; each says what would do instead.", about.Facts.Hosting, len(lacking), len(cat.Settings))
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
	roles := site.Site{Environments: envs}.WithRoles()
	staging, has := roles.WithRole(site.Staging)
	production, too := roles.WithRole(site.Production)
	if a, b := abouts[staging.Name].Facts.Hosting, abouts[production.Name].Facts.Hosting; has && too && a != b {
		say(staging.Name, "parity", false, "The hosts differ: %s and %s.", a, b)
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

// saySignal says by what the environment's responses seem to tell that they came from its
// page cache, when that is not what is said of it.
func (d *Desk) saySignal(ctx context.Context, e site.Environment, say func(env, what string, ok bool, format string, args ...any)) {
	s, why := d.ProposeSignal(ctx, e)
	said := e.Signal()
	switch {
	case why == "":
		return // it does not answer, which was said before
	case s.Kind == said.Kind:
		say(e.Name, "cache signal", true, "%s", why)
	case e.CacheSignal != nil && s.Kind == httpcache.ByNothing:
		say(e.Name, "cache signal", true, "As was said: %s.", said.Text())
	default:
		say(e.Name, "cache signal", s.Kind != httpcache.ByNothing, "%s Taken: %s.", why, s.Text())
	}
}

// ProposeSignal asks for the start page a few times and says by what its answers seem to
// tell that they came from a cache; why is empty when the site does not answer.
func (d *Desk) ProposeSignal(ctx context.Context, e site.Environment) (s httpcache.Signal, why string) {
	var samples []httpcache.Sample
	for range 3 {
		res, body, err := newFetcher(e).get(ctx, e.Address("/"))
		if err != nil {
			return s, ""
		}
		samples = append(samples, httpcache.Sample{Header: res.Header, Body: body})
	}
	return httpcache.Propose(samples)
}

// WithSignals gives every environment that says nothing of it the cache signal that it
// seems to have.
func (d *Desk) WithSignals(ctx context.Context, envs []site.Environment) {
	for i := range envs {
		if envs[i].CacheSignal != nil {
			continue
		}
		if s, why := d.ProposeSignal(ctx, envs[i]); why != "" && s.Kind != httpcache.ByCacheStatus {
			envs[i].CacheSignal = &s
		}
	}
}

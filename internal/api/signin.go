package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// signedInOutput is a session that has begun, and the cookie by which the browser is known from then on.
type signedInOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      SessionView
}

// signInOperation registers how somebody signs in.
func (s *Server) signInOperation(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/session", Summary: "Signs in", Description: "Who has a second factor is asked for it then (needs). 429 after several tries that did not succeed. A browser in which somebody has signed in before has tries of its own, so that nobody else can lock them out there.", Tags: tags},
		func(ctx context.Context, in *struct {
			Known string `cookie:"tidemarker-known" doc:"By which the browser is known."`
			Body  struct {
				Name     string `json:"name" maxLength:"200"`
				Password string `json:"password" maxLength:"1000"`
			}
		}) (*signedInOutput, error) {
			v, known, err := s.signIn(ctx, in.Body.Name, in.Body.Password, in.Known)
			if err != nil {
				return nil, problem(err)
			}
			return &signedInOutput{known, v}, nil
		})
}

// signIn begins a session. Right or wrong, no more than a few tries are looked at in a
// quarter of an hour: of each browser in which this person has signed in before, and of all others together. Those who know
// no more than a name can lock nobody out of the browser that they use. It gives the cookie by which the browser is known;
// nil when it has it already.
func (s *Server) signIn(ctx context.Context, name, password, known string) (v SessionView, cookies []http.Cookie, err error) {
	name = strings.TrimSpace(name)
	if err := s.limited(ctx); err != nil {
		return v, nil, err
	}
	counted := strings.ReplaceAll(name, "\n", " ")
	browser, err := s.Store.KnownBrowser(ctx, known, name)
	switch {
	case err == nil:
		counted = fmt.Sprintf("%s\nbrowser %d", name, browser)
	case !errors.Is(err, store.ErrNotFound):
		return v, nil, err
	}
	earlier, err := s.Store.TrySignIn(ctx, counted)
	if err != nil {
		return v, nil, err
	}
	if until := people.DefaultLockOut.Until(earlier, time.Now()); !until.IsZero() {
		s.logRefused(ctx, "locked")
		return v, nil, huma.Error429TooManyRequests(fmt.Sprintf("Too many tries did not succeed under this name. Try again after %s UTC, or in a browser in which you have signed in before.", until.UTC().Format("15:04")))
	}
	p, err := s.Store.PersonNamed(ctx, name)
	hash := p.Password
	if errors.Is(err, store.ErrNotFound) || err == nil && hash == "" { // nobody, or somebody who comes through a provider
		hash = nobodysHash()
	} else if err != nil {
		return v, nil, err
	}
	right, hashErr := rightPassword(ctx, password, hash)
	if hashErr != nil {
		return v, nil, hashErr
	}
	if err != nil || !right {
		s.logRefused(ctx, "password")
		return v, nil, huma.Error401Unauthorized("The name or the password is not right.")
	}
	if p.Disabled {
		return v, nil, huma.Error403Forbidden("An administrator disabled this account. Ask one of them.")
	}
	if err := s.Store.SignedIn(ctx, counted); err != nil {
		return v, nil, err
	}
	v, err = s.enter(ctx, p, counted, browser != 0)
	if err != nil || browser != 0 || v.Needs == people.Prove { // it is known once they have proven all
		return v, nil, err
	}
	cookies, err = s.knowBrowser(ctx, p)
	return v, cookies, err
}

// logRefused leaves a line of a sign-in that did not succeed. The name is not in it: people type passwords there.
func (s *Server) logRefused(ctx context.Context, why string) {
	s.Log.Warn("a sign-in did not succeed", "why", why, "address", callerOf(ctx).address)
}

// knowBrowser gives the cookie by which a browser is known in which somebody has signed in.
func (s *Server) knowBrowser(ctx context.Context, p store.Person) ([]http.Cookie, error) {
	secret, err := s.Store.KnowBrowser(ctx, p.ID)
	return []http.Cookie{{Name: "tidemarker-known", Value: secret, Path: "/api/v1/session", MaxAge: 400 * 24 * 3600, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.sessions.Cookie.Secure}}, err
}

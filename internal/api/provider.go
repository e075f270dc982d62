package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/oauth2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// Provider is where people may sign in instead of here: an OpenID Connect provider, as whoever runs Tide Marker named it.
type Provider struct {
	Name         string // as the button says it
	Issuer       string
	ClientID     string
	ClientSecret string
	Claim        string                 // what of a person's claims says what they may: text, or a list of texts
	Roles        map[string]people.Role // which role each value of the claim gives
	Scopes       []string               // asked for beside openid, profile and email

	mu    sync.Mutex
	found *oidc.Provider // once it has told of itself
}

const (
	providerAnswers = 15 * time.Second
	providerBack    = "/api/v1/provider/back"
)

// What a session keeps while somebody is at the provider.
const (
	sessionState    = "provider state"
	sessionNonce    = "provider nonce"
	sessionVerifier = "provider verifier"
	sessionThen     = "provider then"
	sessionRefused  = "provider refused"
)

// refusedThere says why somebody who signed in at a provider is not let in here.
type refusedThere string

func (r refusedThere) Error() string { return string(r) }

// discovered is the provider as it tells of itself. It is asked when it is needed, so that a provider that does not answer keeps
// no server from starting, and until it has answered.
func (p *Provider) discovered(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	found := p.found
	p.mu.Unlock()
	if found != nil {
		return found, nil
	}
	// Whoever comes meanwhile asks, too: one that does not answer keeps nobody waiting longer than its own question. The keys are fetched anew for as long as the process lives, so not with the context of one request.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), providerClient), p.Issuer)
	if err != nil {
		return nil, fmt.Errorf("ask %s about itself: %w", p.Issuer, err)
	}
	p.mu.Lock()
	p.found = found
	p.mu.Unlock()
	return found, nil
}

var providerClient = &http.Client{Timeout: providerAnswers}

func (p *Provider) oauth(found *oidc.Provider, base string) *oauth2.Config {
	return &oauth2.Config{ClientID: p.ClientID, ClientSecret: p.ClientSecret, Endpoint: found.Endpoint(), RedirectURL: base + providerBack,
		Scopes: append([]string{oidc.ScopeOpenID, "profile", "email"}, p.Scopes...)}
}

// WaysView is how people can sign in.
type WaysView struct {
	Provider string `json:"provider" doc:"The name of the provider of OpenID Connect; empty when there is none."`
	Refused  string `json:"refused" doc:"Why the provider's answer just now let nobody in; told once."`
}

func (s *Server) providerOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "list-ways", Method: http.MethodGet, Path: "/session/ways", Summary: "How people can sign in", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[WaysView], error) {
			v := WaysView{Refused: s.sessions.PopString(ctx, sessionRefused)}
			if s.Provider != nil {
				v.Provider = s.Provider.Name
			}
			return out(v, nil)
		})
}

// base is the address under which the person reached us.
func (s *Server) base(r *http.Request) string {
	if s.Public != nil {
		return s.Public.Scheme + "://" + s.Public.Host
	}
	return "http://" + r.Host
}

// toProvider sends somebody to the provider.
func (s *Server) toProvider(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	if s.Provider == nil {
		http.NotFound(w, r)
		return
	}
	if !s.tries.allow(callerOf(ctx).address, time.Now()) {
		s.backToDoor(w, r, refusedThere("Too many tries came from your address. Try again in a few minutes."))
		return
	}
	found, err := s.Provider.discovered(ctx)
	if err != nil {
		s.backToDoor(w, r, err)
		return
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	s.sessions.Put(ctx, sessionState, state)
	s.sessions.Put(ctx, sessionNonce, nonce)
	s.sessions.Put(ctx, sessionVerifier, verifier)
	s.sessions.Put(ctx, sessionThen, ownPath(r.URL.Query().Get("then")))
	http.Redirect(w, r, s.Provider.oauth(found, s.base(r)).AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)), http.StatusFound)
}

// ownPath is a path of the interface: nothing that leads elsewhere.
func ownPath(then string) string {
	u, err := url.Parse(then)
	if err != nil || u.IsAbs() || u.Host != "" || !strings.HasPrefix(then, "/") || strings.HasPrefix(then, "//") || strings.Contains(then, `\`) {
		return "/"
	}
	return then
}

// fromProvider takes somebody back who signed in there.
func (s *Server) fromProvider(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	if s.Provider == nil {
		http.NotFound(w, r)
		return
	}
	state, nonce, verifier := s.sessions.PopString(ctx, sessionState), s.sessions.PopString(ctx, sessionNonce), s.sessions.PopString(ctx, sessionVerifier)
	then := s.sessions.PopString(ctx, sessionThen)
	p, err := s.cameFrom(r, state, nonce, verifier)
	if err != nil {
		s.backToDoor(w, r, err)
		return
	}
	s.sessions.Put(ctx, sessionElsewhere, true)
	if err := s.beginSession(ctx, p); err != nil {
		s.backToDoor(w, r, err)
		return
	}
	http.Redirect(w, r, ownPath(then), http.StatusFound)
}

// backToDoor says at the sign-in why nothing came of it. What is ours goes into the log.
func (s *Server) backToDoor(w http.ResponseWriter, r *http.Request, err error) {
	said, known := errors.AsType[refusedThere](err)
	if !known {
		s.Log.Error("somebody could not sign in with the provider", "provider", s.Provider.Issuer, "why", err)
		said = refusedThere(s.Provider.Name + " gave no answer that can be used. Try again, or ask the administrator of the server: its log says why.")
	}
	s.sessions.Put(r.Context(), sessionRefused, string(said))
	http.Redirect(w, r, "/sign-in", http.StatusFound)
}

// cameFrom is who the provider says that somebody is.
func (s *Server) cameFrom(r *http.Request, state, nonce, verifier string) (p store.Person, err error) {
	ctx, q := oidc.ClientContext(r.Context(), providerClient), r.URL.Query()
	if state == "" || subtle.ConstantTimeCompare([]byte(q.Get("state")), []byte(state)) != 1 {
		return p, refusedThere("This answer belongs to no sign-in that was started here. Start again.")
	}
	if q.Get("error") != "" {
		return p, refusedThere(s.Provider.Name + " did not let you sign in. Begin again, or sign in otherwise.")
	}
	found, err := s.Provider.discovered(ctx)
	if err != nil {
		return p, err
	}
	token, err := s.Provider.oauth(found, s.base(r)).Exchange(ctx, q.Get("code"), oauth2.VerifierOption(verifier))
	if err != nil {
		return p, fmt.Errorf("exchange the code: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: s.Provider.ClientID}).Verify(ctx, raw)
	if err != nil {
		return p, fmt.Errorf("check who it is: %w", err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(nonce)) != 1 {
		return p, errors.New("the answer was made for another sign-in: its nonce is not ours")
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return p, err
	}
	if _, there := claims[s.Provider.Claim]; !there && found.UserInfoEndpoint() != "" {
		info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err != nil {
			return p, fmt.Errorf("ask for more about them: %w", err)
		}
		if info.Subject != id.Subject { // OpenID Connect Core 1.0, §5.3.2
			return p, errors.New("what it says more is about somebody else")
		}
		if err := info.Claims(&claims); err != nil {
			return p, err
		}
	}
	return s.welcomed(ctx, id.Issuer, id.Subject, claims)
}

// welcomed is the person whom a provider knows, with the role that it gives them now; somebody new is put in.
func (s *Server) welcomed(ctx context.Context, issuer, subject string, claims map[string]any) (store.Person, error) {
	role := people.RoleOf(texts(claims[s.Provider.Claim]), s.Provider.Roles)
	if role == "" {
		return store.Person{}, refusedThere("You signed in at " + s.Provider.Name + ", but nothing it says of you gives you a role here. Ask an administrator for one.")
	}
	p, err := s.Store.Identified(ctx, issuer, subject)
	if errors.Is(err, store.ErrNotFound) {
		return s.newlyWelcomed(ctx, issuer, subject, role, claims)
	}
	if err != nil {
		return p, err
	}
	if p.Disabled {
		return p, refusedThere("An administrator disabled this account. Ask one of them.")
	}
	if p.Role == role {
		return p, nil
	}
	err = s.Store.SavePerson(ctx, p.ID, role, false)
	if errors.Is(err, store.ErrLastAdministrator) { // somebody has to be left to administer
		return p, s.Store.RecordTeam(ctx, s.Provider.Name, fmt.Sprintf("Would have made %s %s, who stays: nobody else is an administrator.", p.Name, role))
	}
	if err != nil {
		return p, err
	}
	if err := s.Store.RecordTeam(ctx, s.Provider.Name, fmt.Sprintf("Made %s %s.", p.Name, role)); err != nil {
		return p, err
	}
	return s.Store.Person(ctx, p.ID)
}

func (s *Server) newlyWelcomed(ctx context.Context, issuer, subject string, role people.Role, claims map[string]any) (p store.Person, err error) {
	for _, claim := range []string{"preferred_username", "email", "name", "sub"} {
		name, _ := claims[claim].(string)
		if name = strings.TrimSpace(name); people.CheckName(name) != nil {
			continue
		}
		// A name that is taken is somebody else's account, whatever the provider calls them.
		for _, called := range []string{name, name + " (" + s.Provider.Name + ")"} {
			id, err := s.Store.AddIdentified(ctx, issuer, subject, called, role)
			if errors.Is(err, store.ErrNameTaken) {
				continue
			}
			if err != nil {
				return p, err
			}
			if err := s.Store.RecordTeam(ctx, s.Provider.Name, fmt.Sprintf("Let %s in as %s.", called, role)); err != nil {
				return p, err
			}
			return s.Store.Person(ctx, id)
		}
	}
	return p, refusedThere("No name that " + s.Provider.Name + " has for you is free here. Ask an administrator.")
}

// texts are what a claim says: one text, or several.
func texts(claim any) (out []string) {
	switch c := claim.(type) {
	case string:
		return []string{c}
	case []any:
		for _, x := range c {
			if t, ok := x.(string); ok {
				out = append(out, t)
			}
		}
	}
	return out
}

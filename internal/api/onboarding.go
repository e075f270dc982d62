package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/onboard"
	"tidemarker/internal/store"
)

// OnboardingView is a site that somebody is adding.
type OnboardingView struct {
	ID        int64     `json:"id"`
	Name      string    `json:"name"`
	HasToken  []string  `json:"hasToken" doc:"Environments for which a token is kept."`
	MadeBy    string    `json:"madeBy"`
	UpdatedAt time.Time `json:"updatedAt"`
	store.OnboardingDocument
}

// OnboardingPlace is where one environment of the site is.
type OnboardingPlace struct {
	Name      string    `json:"name" minLength:"1" maxLength:"40"`
	Role      site.Role `json:"role,omitempty" enum:"staging,production,other" doc:"What it is for; the first is staging and the last production when none says."`
	URL       string    `json:"url" minLength:"1" maxLength:"500"`
	Hosts     []string  `json:"hosts,omitempty" doc:"Further hosts that belong to the site."`
	Kind      string    `json:"kind" doc:"One of the speed layers that there are."`
	Connector string    `json:"connector,omitempty" maxLength:"500" doc:"Address of its connector; without one the usual place is taken."`
	Token     string    `json:"token,omitempty" maxLength:"2000" doc:"The token itself, or env:NAME; without one the kept token stays."`
}

// usualPlace is where connectors mostly are.
const usualPlace = "/_speed/v1"

func (s *Server) onboardingOperations(api huma.API) {
	tags := []string{"adding"}
	huma.Register(api, huma.Operation{OperationID: "list-onboardings", Method: http.MethodGet, Path: "/onboardings", Summary: "Sites that are being added", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]OnboardingView], error) {
			rows, err := s.Store.Onboardings(ctx)
			views := []OnboardingView{}
			for _, t := range rows {
				views = append(views, onboardingView(t))
			}
			return out(views, err)
		})
	huma.Register(api, huma.Operation{OperationID: "begin-onboarding", Method: http.MethodPost, Path: "/onboardings", Summary: "Starts adding a site: where it is", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Name         string            `json:"name" minLength:"1" maxLength:"100"`
				Environments []OnboardingPlace `json:"environments" minItems:"1" maxItems:"5"`
			}
		}) (*output[OnboardingView], error) {
			doc, tokens, err := s.places(in.Body.Environments, store.Onboarding{})
			if err != nil {
				return nil, problem(err)
			}
			id, err := s.Store.NewOnboarding(ctx, strings.TrimSpace(in.Body.Name), doc, tokens, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.tested(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "get-onboarding", Method: http.MethodGet, Path: "/onboardings/{id}", Summary: "How far it is", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[OnboardingView], error) {
			t, err := s.Store.Onboarding(ctx, in.ID)
			return out(onboardingView(t), err)
		})
	huma.Register(api, huma.Operation{OperationID: "place-onboarding", Method: http.MethodPut, Path: "/onboardings/{id}/environments", Summary: "Sets where the site is, and tests it", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Environments []OnboardingPlace `json:"environments" minItems:"1" maxItems:"5"`
			}
		}) (*output[OnboardingView], error) {
			if _, err := s.Store.ChangeOnboarding(ctx, in.ID, func(t *store.Onboarding) error {
				doc, tokens, err := s.places(in.Body.Environments, *t)
				if err != nil {
					return err
				}
				d := &t.Document.V
				looks := d.Looks().Redacted() // secret values stay with the hosts that they were given for
				looks.Environments = doc.Environments
				d.SetLooks(looks.WithSecretsFrom(d.Looks()))
				t.Tokens.V = tokens
				return nil
			}); err != nil {
				return nil, problem(err)
			}
			return out(s.tested(ctx, in.ID))
		})
	s.onboardingSteps(api, tags)
	s.onboardingEnds(api, tags)
}

// onboardingSteps are the steps from a site's address to its test plan.
func (s *Server) onboardingSteps(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "survey-onboarding", Method: http.MethodPost, Path: "/onboardings/{id}/survey", Summary: "Finds the site's pages, from its sitemap or by following links", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[OnboardingView], error) {
			if err := s.Store.Within(ctx, func(st *store.Store) error {
				return errors.Join(
					st.SaveSurvey(ctx, in.ID, store.SurveyProgress{State: "running", Notes: []string{}}),
					s.Runner.EnqueueSurvey(ctx, st, in.ID))
			}); err != nil {
				return nil, problem(err)
			}
			t, err := s.Store.Onboarding(ctx, in.ID)
			return out(onboardingView(t), err)
		})
	huma.Register(api, huma.Operation{OperationID: "class-pages", Method: http.MethodPut, Path: "/onboardings/{id}/pages", Summary: "Gives pages a class, and says which are watched, many at once", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Paths []string `json:"paths" minItems:"1" maxItems:"50000"`
				Class string   `json:"class,omitempty" enum:",home,listing,item,cart,checkout,account,membership,article,search,form,other"`
				Watch *bool    `json:"watch,omitempty"`
			}
		}) (*output[OnboardingView], error) {
			said := map[string]bool{}
			for _, p := range in.Body.Paths {
				said[p] = true
			}
			t, err := s.Store.ChangeOnboarding(ctx, in.ID, func(t *store.Onboarding) error {
				for i := range t.Document.V.Pages {
					p := &t.Document.V.Pages[i]
					if said[p.Path] && in.Body.Class != "" {
						p.Suggestion = survey.Suggestion{Class: in.Body.Class, Why: "Said by " + who(ctx) + "."}
					}
					if said[p.Path] && in.Body.Watch != nil {
						p.Watch = *in.Body.Watch
					}
				}
				return nil
			})
			return out(onboardingView(t), err)
		})
	huma.Register(api, huma.Operation{OperationID: "people-onboarding", Method: http.MethodPut, Path: "/onboardings/{id}/looks", Summary: "Says who looks and what has to work", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Personas   []site.Persona        `json:"personas"`
				Journeys   []journey.Journey     `json:"journeys"`
				Publishing []site.PublishingTest `json:"publishing,omitempty"`
			}
		}) (*output[OnboardingView], error) {
			t, err := s.Store.ChangeOnboarding(ctx, in.ID, func(t *store.Onboarding) error {
				d := &t.Document.V
				said := site.Site{Environments: d.Environments, Personas: in.Body.Personas, Journeys: in.Body.Journeys, Publishing: in.Body.Publishing}
				d.SetLooks(said.MarkSensitive().WithSecretsFrom(d.Looks()))
				return nil
			})
			return out(onboardingView(t), err)
		})
}

// onboardingEnds are trying what was said on the spot, and the end.
func (s *Server) onboardingEnds(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "run-onboarding", Method: http.MethodPost, Path: "/onboardings/{id}/run", Summary: "Makes a persona ready, or takes a journey, on staging and on the spot", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body onboard.Rehearsal
		}) (*output[onboard.Rehearsed], error) {
			return out(s.Onboard.RehearseOnboarding(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "register-onboarding", Method: http.MethodPost, Path: "/onboardings/{id}/register", Summary: "Registers the site with what was confirmed", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *ByID) (*output[SiteView], error) {
			return out(s.registerOnboarding(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "discard-onboarding", Method: http.MethodDelete, Path: "/onboardings/{id}", Summary: "Discards it", Tags: tags},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(s.Store.DiscardOnboarding(ctx, in.ID))
		})
}

func onboardingView(t store.Onboarding) OnboardingView {
	v := OnboardingView{ID: t.ID, Name: t.Name, HasToken: []string{}, MadeBy: t.MadeBy, UpdatedAt: t.UpdatedAt, OnboardingDocument: t.Document.V}
	for name, token := range t.Tokens.V {
		if token != "" {
			v.HasToken = append(v.HasToken, name)
		}
	}
	slices.Sort(v.HasToken)
	d := &v.OnboardingDocument
	shown := d.Looks().Redacted()
	d.Tests, d.Pages, d.Personas, d.Journeys, d.Publishing = orEmpty(d.Tests), orEmpty(d.Pages), orEmpty(shown.Personas), orEmpty(shown.Journeys), orEmpty(shown.Publishing)
	d.Survey.Notes = orEmpty(d.Survey.Notes)
	return v
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// places makes environments of what a person typed in. A token that is kept stays with
// the address that it was given for.
func (s *Server) places(in []OnboardingPlace, before store.Onboarding) (store.OnboardingDocument, map[string]string, error) {
	doc := store.OnboardingDocument{Tests: []store.OnboardingTest{}, Pages: []survey.Found{}, Personas: []site.Persona{}, Journeys: []journey.Journey{}, Publishing: []site.PublishingTest{}, Survey: store.SurveyProgress{Notes: []string{}}}
	tokens := map[string]string{}
	for i, p := range in {
		at := strings.TrimSuffix(strings.TrimSpace(p.URL), "/")
		if u, err := url.Parse(at); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return doc, nil, refusedInput(fmt.Sprintf("body.environments[%d].url", i), fmt.Errorf("%q is not an address such as https://www.example.org", p.URL))
		}
		kind, known := s.Acts.Kinds.Find(p.Kind)
		if !known {
			return doc, nil, refusedInput(fmt.Sprintf("body.environments[%d].kind", i), fmt.Errorf("there is no speed layer of the kind %q", p.Kind))
		}
		e := site.Environment{Name: strings.TrimSpace(p.Name), Role: p.Role, URL: at, Hosts: p.Hosts, Connector: &site.Connector{Kind: p.Kind}}
		if kind.NeedsAddress {
			e.Connector.URL = strings.TrimSuffix(strings.TrimSpace(p.Connector), "/")
			if e.Connector.URL == "" {
				e.Connector.URL = at + usualPlace
			}
			tokens[e.Name] = p.Token
			if kept := before.Tokens.V[e.Name]; p.Token == "" && kept != "" {
				if was, _, _ := before.Document.V.Looks().Environment(e.Name); was.Connector == nil || was.Connector.URL != e.Connector.URL {
					return doc, nil, refusedInput(fmt.Sprintf("body.environments[%d].token", i), errors.New("the connector has another address now: give its token again"))
				}
				tokens[e.Name] = kept
			}
		}
		doc.Environments = append(doc.Environments, e)
	}
	return doc, tokens, nil
}

func (s *Server) tested(ctx context.Context, id int64) (OnboardingView, error) {
	t, err := s.Store.Onboarding(ctx, id)
	if err != nil {
		return OnboardingView{}, err
	}
	tests := s.Onboard.TestEnvironments(ctx, t)
	t, err = s.Store.ChangeOnboarding(ctx, id, func(t *store.Onboarding) error {
		t.Document.V.Tests = tests
		return nil
	})
	return onboardingView(t), err
}

func (s *Server) registerOnboarding(ctx context.Context, id int64) (SiteView, error) {
	t, err := s.Store.Onboarding(ctx, id)
	if err != nil {
		return SiteView{}, err
	}
	if _, err := s.Store.SiteNamed(ctx, t.Name); err == nil {
		return SiteView{}, huma.Error409Conflict(fmt.Sprintf("There is a site named %q already.", t.Name))
	} else if !errors.Is(err, store.ErrNotFound) {
		return SiteView{}, err
	}
	d := t.Document.V
	envs := slices.Clone(d.Environments)
	for i := range envs {
		if c := envs[i].Connector; c != nil {
			withToken := *c
			withToken.Token = t.Tokens.V[envs[i].Name]
			envs[i].Connector = &withToken
		}
	}
	s.Onboard.WithSignals(ctx, envs)
	doc := survey.Document(t.Name, envs, d.Pages, d.Personas, d.Journeys, d.Publishing)
	if err := doc.Check(); err != nil {
		return SiteView{}, huma.Error422UnprocessableEntity("The site cannot be registered yet: " + err.Error())
	}
	row, err := s.Store.SaveSite(ctx, doc, false, who(ctx))
	if lacking, ok := errors.AsType[*site.MissingSecret](err); ok {
		return SiteView{}, huma.Error422UnprocessableEntity("The site cannot be registered yet. Not filled in: " + strings.Join(lacking.Fields, "; ") + ". Fill it in, or leave these steps out.")
	}
	if err != nil {
		return SiteView{}, err
	}
	rows, err := s.Store.Environments(ctx, row.ID)
	if err != nil {
		return SiteView{}, err
	}
	for _, e := range rows {
		if _, _, err := s.Acts.Read(ctx, e.ID); err != nil {
			s.Log.Info("an environment was not read", "environment", e.ID, "why", err)
		}
	}
	if len(rows) > 1 {
		if err := s.Onboard.Parity(ctx, row.ID, who(ctx)); err != nil {
			s.Log.Info("the environments were not compared", "site", row.ID, "why", err)
		}
	}
	if err := s.Store.DiscardOnboarding(ctx, id); err != nil {
		return SiteView{}, err
	}
	return s.siteView(ctx, row.ID)
}

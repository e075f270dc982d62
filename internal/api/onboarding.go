package api

import (
	"cmp"
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

	Environments []site.Environment     `json:"environments"`
	Tests        []store.OnboardingTest `json:"tests"`
	Survey       store.SurveyProgress   `json:"survey"`
	Pages        FoundSummary           `json:"pages"`
	Personas     []site.Persona         `json:"personas"`
	Journeys     []journey.Journey      `json:"journeys"`
	Publishing   []site.PublishingTest  `json:"publishing"`
}

// FoundSummary is how many pages of a site were found, and which of them are to be in the test plan. The pages themselves are a list of their own.
type FoundSummary struct {
	Total   int          `json:"total"`
	Watched []string     `json:"watched" doc:"Paths of the pages of the test plan."`
	Classes []ClassCount `json:"classes" doc:"Classes that pages have, the largest first."`
}

// ClassCount is how many pages have a class.
type ClassCount struct {
	Class string `json:"class"`
	Pages int    `json:"pages"`
}

func foundSummary(pages []survey.Found) FoundSummary {
	f := FoundSummary{Total: len(pages), Watched: []string{}, Classes: []ClassCount{}}
	counts := map[string]int{}
	for _, p := range pages {
		counts[p.Class]++
		if p.Watch {
			f.Watched = append(f.Watched, p.Path)
		}
	}
	for class, n := range counts {
		f.Classes = append(f.Classes, ClassCount{class, n})
	}
	slices.SortFunc(f.Classes, func(a, b ClassCount) int {
		return cmp.Or(cmp.Compare(b.Pages, a.Pages), cmp.Compare(a.Class, b.Class))
	})
	return f
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
	s.foundPages(api, tags)
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

// foundPages are the pages that the survey found, as a list.
func (s *Server) foundPages(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "list-found-pages", Method: http.MethodGet, Path: "/onboardings/{id}/pages", Summary: "Pages that were found of a site being added, a page of them", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Q      string `query:"q" maxLength:"200" doc:"Part of an address or title."`
			Class  string `query:"class" enum:",home,listing,item,cart,checkout,account,membership,article,search,form,other"`
			Watch  bool   `query:"watch" doc:"Only pages of the test plan."`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
			Offset int    `query:"offset" minimum:"0"`
		}) (*output[ListOf[survey.Found]], error) {
			t, err := s.Store.Onboarding(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			wanted := survey.Wanted{Text: in.Q, Class: in.Class, Watch: in.Watch}
			meant := slices.DeleteFunc(slices.Clone(t.Document.V.Pages), func(f survey.Found) bool { return !wanted.Matches(f) })
			from := min(in.Offset, len(meant))
			return out(ListOf[survey.Found]{Rows: orEmpty(meant[from:min(from+in.Limit, len(meant))]), Total: len(meant)}, nil)
		})
	huma.Register(api, huma.Operation{OperationID: "class-pages", Method: http.MethodPut, Path: "/onboardings/{id}/pages", Summary: "Gives pages a class, and says which are watched, many at once", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Paths []string       `json:"paths,omitempty" maxItems:"50000"`
				All   *survey.Wanted `json:"all,omitempty" doc:"Instead of paths: all pages that are like this."`
				Class string         `json:"class,omitempty" enum:",home,listing,item,cart,checkout,account,membership,article,search,form,other"`
				Watch *bool          `json:"watch,omitempty"`
			}
		}) (*output[OnboardingView], error) {
			if (len(in.Body.Paths) == 0) == (in.Body.All == nil) {
				return nil, huma.Error422UnprocessableEntity("Give paths, or say with “all” which pages are meant.")
			}
			said := map[string]bool{}
			for _, p := range in.Body.Paths {
				said[p] = true
			}
			meant := func(p survey.Found) bool { return said[p.Path] || in.Body.All != nil && in.Body.All.Matches(p) }
			t, err := s.Store.ChangeOnboarding(ctx, in.ID, func(t *store.Onboarding) error {
				for i := range t.Document.V.Pages {
					p := &t.Document.V.Pages[i]
					if !meant(*p) {
						continue
					}
					if in.Body.Class != "" {
						p.Suggestion = survey.Suggestion{Class: in.Body.Class, Why: "Said by " + who(ctx) + "."}
					}
					if in.Body.Watch != nil {
						p.Watch = *in.Body.Watch
					}
				}
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
	d := t.Document.V
	shown := d.Looks().Redacted()
	v := OnboardingView{ID: t.ID, Name: t.Name, HasToken: []string{}, MadeBy: t.MadeBy, UpdatedAt: t.UpdatedAt,
		Environments: d.Environments, Tests: orEmpty(d.Tests), Survey: d.Survey, Pages: foundSummary(d.Pages),
		Personas: orEmpty(shown.Personas), Journeys: orEmpty(shown.Journeys), Publishing: orEmpty(shown.Publishing)}
	v.Survey.Notes = orEmpty(d.Survey.Notes)
	for name, token := range t.Tokens.V {
		if token != "" {
			v.HasToken = append(v.HasToken, name)
		}
	}
	slices.Sort(v.HasToken)
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

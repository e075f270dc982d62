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

// SessionView is who is signed in.
type SessionView struct {
	Person    int64       `json:"person"`
	Name      string      `json:"name"`
	Role      people.Role `json:"role" enum:"observer,maintainer,approver,administrator"`
	Abilities []string    `json:"abilities" enum:"see,work,decide,administer" doc:"What this role may do."`

	Needs   people.Entry        `json:"needs,omitempty" enum:"second factor,enrolment" doc:"What has to be done before anything else: show a second factor, or add one."`
	Factors []people.FactorKind `json:"factors,omitempty" enum:"code app,passkey" doc:"Which kinds of second factors they have; a recovery code does as well."`
}

// PersonView is somebody who can sign in.
type PersonView struct {
	ID        int64       `json:"id"`
	Name      string      `json:"name"`
	Role      people.Role `json:"role" enum:"observer,maintainer,approver,administrator"`
	Disabled  bool        `json:"disabled"`
	CreatedAt time.Time   `json:"createdAt"`
	SeenAt    *time.Time  `json:"seenAt"`
	Factors   int         `json:"factors" doc:"How many second factors they have."`
}

// InvitationView is an invitation that can still be used. Its link is not kept.
type InvitationView struct {
	ID        int64       `json:"id"`
	Role      people.Role `json:"role" enum:"observer,maintainer,approver,administrator"`
	For       string      `json:"for" doc:"Who gets a new password with it; empty for somebody new."`
	Note      string      `json:"note"`
	InvitedBy string      `json:"invitedBy"`
	ExpiresAt time.Time   `json:"expiresAt"`
}

// MadeInvitation is a new invitation with its link, which is shown once.
type MadeInvitation struct {
	Link      string    `json:"link" doc:"Path and fragment to put behind the address of this server. Works once."`
	ExpiresAt time.Time `json:"expiresAt"`
}

// TokenView is a token, without its secret.
type TokenView struct {
	ID        int64       `json:"id"`
	Name      string      `json:"name"`
	Most      people.Role `json:"most" enum:"observer,maintainer,approver,administrator" doc:"It may at most what this role may."`
	CreatedAt time.Time   `json:"createdAt"`
	ExpiresAt *time.Time  `json:"expiresAt"`
	UsedAt    *time.Time  `json:"usedAt"`
	RevokedAt *time.Time  `json:"revokedAt"`
}

// TeamLine is one line of what people did that is not about one site.
type TeamLine struct {
	ID   int64     `json:"id"`
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	Text string    `json:"text"`
}

// invitationLife is how long an invitation can be used.
const invitationLife = 7 * 24 * time.Hour

func (s *Server) peopleOperations(api huma.API) {
	tags := []string{"people"}
	s.sessionOperations(api, tags)
	s.tokenOperations(api, tags)
	huma.Register(api, huma.Operation{OperationID: "list-people", Method: http.MethodGet, Path: "/people", Summary: "Everybody who can sign in", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]PersonView], error) {
			rows, err := s.Store.People(ctx)
			if err != nil {
				return nil, problem(err)
			}
			factors, err := s.Store.FactorCounts(ctx)
			views := []PersonView{}
			for _, p := range rows {
				views = append(views, personView(p, factors[p.ID]))
			}
			return out(views, err)
		})
	huma.Register(api, huma.Operation{OperationID: "edit-person", Method: http.MethodPut, Path: "/people/{id}", Summary: "Gives somebody a role, or disables the account", Description: "Who is disabled is signed out at once. 409 when nobody would be left to administer.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Role     people.Role `json:"role" enum:"observer,maintainer,approver,administrator"`
				Disabled bool        `json:"disabled"`
			}
		}) (*output[PersonView], error) {
			return out(s.editPerson(ctx, in.ID, in.Body.Role, in.Body.Disabled))
		})
	huma.Register(api, huma.Operation{OperationID: "invite", Method: http.MethodPost, Path: "/invitations", Summary: "Makes a link with which somebody chooses a name and a password, or a new password", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Role   people.Role `json:"role" enum:"observer,maintainer,approver,administrator"`
				Note   string      `json:"note,omitempty" maxLength:"200" doc:"Whom it is for, for the list of invitations."`
				Person *int64      `json:"person,omitempty" doc:"Who gets a new password with it; without one it is for somebody new."`
			}
		}) (*output[MadeInvitation], error) {
			return out(s.invite(ctx, in.Body.Role, in.Body.Note, in.Body.Person))
		})
	huma.Register(api, huma.Operation{OperationID: "list-invitations", Method: http.MethodGet, Path: "/invitations", Summary: "Invitations that can still be used", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]InvitationView], error) {
			return out(s.invitations(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "withdraw-invitation", Method: http.MethodDelete, Path: "/invitations/{id}", Summary: "Makes an invitation useless", Tags: tags},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(errors.Join(s.Store.WithdrawInvitation(ctx, in.ID), s.Store.RecordTeam(ctx, who(ctx), "Withdrew an invitation.")))
		})
	huma.Register(api, huma.Operation{OperationID: "get-team-history", Method: http.MethodGet, Path: "/people/history", Summary: "Who invited whom, and gave which role", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]TeamLine], error) {
			rows, err := s.Store.TeamHistory(ctx, 100)
			lines := []TeamLine{}
			for _, e := range rows {
				lines = append(lines, TeamLine{e.ID, e.At, e.Who, e.Text})
			}
			return out(lines, err)
		})
}

func (s *Server) sessionOperations(api huma.API, tags []string) {
	s.signInOperation(api, tags)
	s.enteringOperations(api, tags)
	s.providerOperations(api, tags)
	s.factorOperations(api, tags)
	s.sessionListOperations(api, tags)
	huma.Register(api, huma.Operation{OperationID: "get-session", Method: http.MethodGet, Path: "/session", Summary: "Who is signed in", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[SessionView], error) {
			c := callerOf(ctx)
			if c.role == "" && !c.enrolling {
				return nil, huma.Error401Unauthorized(notSignedIn)
			}
			if c.enrolling {
				c.role = c.person.Role
			}
			return out(sessionView(c.person, c.role, c.enrolling), nil)
		})
	huma.Register(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/session", Summary: "Signs out", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			return nil, problem(s.sessions.Destroy(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "look-at-invitation", Method: http.MethodPost, Path: "/invitations/look", Summary: "What an invitation is for", Tags: tags},
		func(ctx context.Context, in *struct {
			Body struct {
				Secret string `json:"secret" maxLength:"200"`
			}
		}) (*output[InvitationView], error) {
			if err := s.limited(ctx); err != nil {
				return nil, err
			}
			inv, err := s.Store.Invited(ctx, in.Body.Secret)
			if err != nil {
				return nil, invitationProblem(err)
			}
			return out(s.invitationView(ctx, inv))
		})
	huma.Register(api, huma.Operation{OperationID: "join", Method: http.MethodPost, Path: "/session/invited", Summary: "Uses an invitation, and signs in", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Secret   string `json:"secret" maxLength:"200"`
				Name     string `json:"name" maxLength:"200" doc:"Not looked at when the invitation is for a new password."`
				Password string `json:"password" maxLength:"1000"`
			}
		}) (*output[SessionView], error) {
			return out(s.join(ctx, in.Body.Secret, strings.TrimSpace(in.Body.Name), in.Body.Password))
		})
	huma.Register(api, huma.Operation{OperationID: "change-password", Method: http.MethodPut, Path: "/session/password", Summary: "Sets one's own password, and ends one's other sessions", Tags: tags},
		func(ctx context.Context, in *struct {
			Body struct {
				Old string `json:"old" maxLength:"1000"`
				New string `json:"new" maxLength:"1000"`
			}
		}) (*struct{}, error) {
			return nil, problem(s.changePassword(ctx, in.Body.Old, in.Body.New))
		})
}

func (s *Server) tokenOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "list-tokens", Method: http.MethodGet, Path: "/tokens", Summary: "One's own tokens", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]TokenView], error) {
			rows, err := s.Store.Tokens(ctx, callerOf(ctx).person.ID)
			views := []TokenView{}
			for _, t := range rows {
				views = append(views, TokenView{t.ID, t.Name, t.Most, t.CreatedAt, t.ExpiresAt, t.UsedAt, t.RevokedAt})
			}
			return out(views, err)
		})
	huma.Register(api, huma.Operation{OperationID: "make-token", Method: http.MethodPost, Path: "/tokens", Summary: "Makes a token for a program; it is shown once", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Name string      `json:"name" minLength:"1" maxLength:"60"`
				Most people.Role `json:"most" enum:"observer,maintainer,approver,administrator"`
				Days int         `json:"days" minimum:"1" maximum:"730" doc:"How long it can be used."`
			}
		}) (*output[struct {
			Secret string `json:"secret"`
		}], error) {
			c := callerOf(ctx)
			if c.token != "" {
				return nil, huma.Error403Forbidden("A token cannot make tokens. Sign in to make one.")
			}
			until := time.Now().Add(time.Duration(in.Body.Days) * 24 * time.Hour)
			secret, err := s.Store.NewToken(ctx, store.Token{PersonID: c.person.ID, Name: in.Body.Name, Most: c.role.Capped(in.Body.Most), ExpiresAt: &until})
			err = errors.Join(err, s.Store.RecordTeam(ctx, who(ctx), fmt.Sprintf("Made the token “%s”.", in.Body.Name)))
			return out(struct {
				Secret string `json:"secret"`
			}{secret}, err)
		})
	huma.Register(api, huma.Operation{OperationID: "revoke-token", Method: http.MethodDelete, Path: "/tokens/{id}", Summary: "Makes a token useless", Tags: tags},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(s.Store.RevokeToken(ctx, callerOf(ctx).person.ID, in.ID))
		})
}

func personView(p store.Person, factors int) PersonView {
	return PersonView{p.ID, p.Name, p.Role, p.Disabled, p.CreatedAt, p.SeenAt, factors}
}

func (s *Server) editPerson(ctx context.Context, id int64, role people.Role, disabled bool) (PersonView, error) {
	before, err := s.Store.Person(ctx, id)
	if err != nil {
		return PersonView{}, err
	}
	if err := s.Store.SavePerson(ctx, id, role, disabled); err != nil {
		return PersonView{}, err
	}
	text := fmt.Sprintf("Made %s %s.", before.Name, role)
	switch {
	case disabled && !before.Disabled:
		text = "Disabled the account of " + before.Name + "."
	case !disabled && before.Disabled:
		text = fmt.Sprintf("Lets %s in again as %s.", before.Name, role)
	}
	if err := s.Store.RecordTeam(ctx, who(ctx), text); err != nil {
		return PersonView{}, err
	}
	p, err := s.Store.Person(ctx, id)
	if err != nil {
		return PersonView{}, err
	}
	factors, err := s.Store.FactorCounts(ctx)
	return personView(p, factors[id]), err
}

func (s *Server) invite(ctx context.Context, role people.Role, note string, person *int64) (MadeInvitation, error) {
	text := fmt.Sprintf("Invited somebody as %s.", role)
	if note != "" {
		text = fmt.Sprintf("Invited %s as %s.", note, role)
	}
	if person != nil {
		p, err := s.Store.Person(ctx, *person)
		if err != nil {
			return MadeInvitation{}, err
		}
		role, text = p.Role, "Made a link with which "+p.Name+" chooses a new password."
	}
	until := time.Now().Add(invitationLife)
	link, err := InvitationLink(ctx, s.Store, store.Invitation{Role: role, PersonID: person, Note: note, InvitedBy: who(ctx), ExpiresAt: until})
	if err != nil {
		return MadeInvitation{}, err
	}
	return MadeInvitation{link, until}, s.Store.RecordTeam(ctx, who(ctx), text)
}

// InvitationLink makes an invitation and returns its path. The secret stands in the
// fragment, which browsers send to no server.
func InvitationLink(ctx context.Context, st *store.Store, inv store.Invitation) (string, error) {
	secret, err := st.NewInvitation(ctx, inv)
	return "/join#" + secret, err
}

func (s *Server) invitations(ctx context.Context) ([]InvitationView, error) {
	rows, err := s.Store.Invitations(ctx)
	if err != nil {
		return nil, err
	}
	views := []InvitationView{}
	for _, inv := range rows {
		v, err := s.invitationView(ctx, inv)
		if err != nil {
			return nil, err
		}
		views = append(views, v)
	}
	return views, nil
}

func (s *Server) invitationView(ctx context.Context, inv store.Invitation) (InvitationView, error) {
	v := InvitationView{inv.ID, inv.Role, "", inv.Note, inv.InvitedBy, inv.ExpiresAt}
	if inv.PersonID == nil {
		return v, nil
	}
	p, err := s.Store.Person(ctx, *inv.PersonID)
	v.For = p.Name
	return v, err
}

func invitationProblem(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return huma.Error404NotFound("This link has been used, withdrawn, or is too old. Ask an administrator for a new one.")
	}
	return problem(err)
}

func (s *Server) join(ctx context.Context, secret, name, password string) (SessionView, error) {
	if err := s.limited(ctx); err != nil {
		return SessionView{}, err
	}
	inv, err := s.Store.Invited(ctx, secret)
	if err != nil {
		return SessionView{}, invitationProblem(err)
	}
	if inv.PersonID != nil {
		p, err := s.Store.Person(ctx, *inv.PersonID)
		if err != nil {
			return SessionView{}, err
		}
		name = p.Name
	}
	if err := people.CheckName(name); err != nil {
		return SessionView{}, refusedInput("body.name", err)
	}
	if err := people.CheckPassword(password, name); err != nil {
		return SessionView{}, refusedInput("body.password", err)
	}
	hash, err := hashed(ctx, func() (string, error) { return HashPassword(password) })
	if err != nil {
		return SessionView{}, err
	}
	id, err := s.Store.Join(ctx, secret, name, hash)
	if errors.Is(err, store.ErrNameTaken) {
		return SessionView{}, refusedInput("body.name", err)
	}
	if err != nil {
		return SessionView{}, invitationProblem(err)
	}
	p, err := s.Store.Person(ctx, id)
	if err != nil {
		return SessionView{}, err
	}
	if err := s.Store.RecordTeam(ctx, p.Name, "Used the invitation of "+inv.InvitedBy+"."); err != nil {
		return SessionView{}, err
	}
	return s.enter(ctx, p, p.Name, false)
}

func refusedInput(where string, err error) error {
	text := err.Error()
	text = strings.ToUpper(text[:1]) + text[1:] + "."
	return huma.Error422UnprocessableEntity(text, &huma.ErrorDetail{Message: text, Location: where})
}

func (s *Server) changePassword(ctx context.Context, old, new string) error {
	c := callerOf(ctx)
	if c.token != "" {
		return huma.Error403Forbidden("A token cannot set a password. Sign in to do so.")
	}
	if err := s.limited(ctx); err != nil {
		return err
	}
	right, err := rightPassword(ctx, old, c.person.Password)
	if err != nil {
		return err
	}
	if !right {
		return huma.Error422UnprocessableEntity("The old password is not right.", &huma.ErrorDetail{Message: "This is not your password.", Location: "body.old"})
	}
	if err := people.CheckPassword(new, c.person.Name); err != nil {
		return refusedInput("body.new", err)
	}
	hash, err := hashed(ctx, func() (string, error) { return HashPassword(new) })
	if err != nil {
		return err
	}
	if err := s.Store.SavePassword(ctx, c.person.ID, hash); err != nil {
		return err
	}
	p, err := s.Store.Person(ctx, c.person.ID)
	if err != nil {
		return err
	}
	return s.beginSession(ctx, p)
}

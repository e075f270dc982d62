package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/pquerna/otp/totp"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// FactorView is something that somebody proves that they are themselves with.
type FactorView struct {
	ID        int64             `json:"id"`
	Kind      people.FactorKind `json:"kind" enum:"code app,passkey"`
	Name      string            `json:"name"`
	CreatedAt time.Time         `json:"createdAt"`
	UsedAt    *time.Time        `json:"usedAt"`
}

// FactorsView is all that somebody has beside a password.
type FactorsView struct {
	Factors    []FactorView `json:"factors"`
	Codes      int          `json:"codes" doc:"Recovery codes that can still be used."`
	Required   bool         `json:"required" doc:"Their role has to have one."`
	NoPasskeys string       `json:"noPasskeys" doc:"Why a passkey cannot be added; empty when it can."`
}

// CodeAppView is a code app that is being added.
type CodeAppView struct {
	ID      int64  `json:"id"`
	Secret  string `json:"secret" doc:"What codes are made of, in base 32; shown once."`
	Address string `json:"address" doc:"The same for a program: an otpauth address."`
	Picture string `json:"picture" doc:"The address as a QR code: a PNG, as a data address."`
}

// AddedFactor is a factor that counts from now on.
type AddedFactor struct {
	FactorsView
	RecoveryCodes []string `json:"recoveryCodes" doc:"With the first factor: codes for the day on which there is nothing else. Each works once; they are shown once."`
}

// RequiredView is of which roles people have to have a second factor.
type RequiredView struct {
	Roles []people.Role `json:"roles" enum:"observer,maintainer,approver,administrator"`
}

// factorOperations are what people prove themselves with. Long because it is a list: one registration after the other.
func (s *Server) factorOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "list-factors", Method: http.MethodGet, Path: "/factors", Summary: "What you prove yourself with beside your password", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[FactorsView], error) {
			return out(s.factorsOf(ctx, callerOf(ctx).person))
		})
	huma.Register(api, huma.Operation{OperationID: "begin-code-app", Method: http.MethodPost, Path: "/factors/code-app", Summary: "Begins to add a code app; it counts once a code of it was right", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Name string `json:"name" minLength:"1" maxLength:"60"`
			}
		}) (*output[CodeAppView], error) {
			return out(s.beginCodeApp(ctx, in.Body.Name))
		})
	huma.Register(api, huma.Operation{OperationID: "confirm-code-app", Method: http.MethodPost, Path: "/factors/code-app/{id}", Summary: "Adds the code app with a first code of it", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Code string `json:"code" maxLength:"20"`
			}
		}) (*output[AddedFactor], error) {
			return out(s.confirmCodeApp(ctx, in.ID, in.Body.Code))
		})
	huma.Register(api, huma.Operation{OperationID: "begin-passkey", Method: http.MethodPost, Path: "/factors/passkey/question", Summary: "What a browser is to ask for to add a passkey", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[PasskeyQuestion], error) {
			return out(s.beginPasskey(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "add-passkey", Method: http.MethodPost, Path: "/factors/passkey", Summary: "Adds a passkey", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				PasskeyAnswer
				Name string `json:"name" minLength:"1" maxLength:"60"`
			}
		}) (*output[AddedFactor], error) {
			return out(s.addPasskey(ctx, in.Body.Name, in.Body.PasskeyAnswer))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-factor", Method: http.MethodDelete, Path: "/factors/{id}", Summary: "Removes a code app or a passkey", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[FactorsView], error) {
			return out(s.removeFactor(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "renew-recovery-codes", Method: http.MethodPost, Path: "/factors/recovery-codes", Summary: "Creates new recovery codes; the earlier ones no longer work", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[AddedFactor], error) {
			return out(s.renewRecoveryCodes(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "reset-factors", Method: http.MethodDelete, Path: "/people/{id}/factors", Summary: "Removes all second factors of somebody who has lost them", Description: "Ends their sessions, too.", Tags: tags},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(s.resetFactors(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "get-required-factors", Method: http.MethodGet, Path: "/people/required-factors", Summary: "Of which roles people have to have a second factor", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[RequiredView], error) {
			roles, err := s.Store.RequiredFactors(ctx)
			return out(RequiredView{append([]people.Role{}, roles...)}, err)
		})
	huma.Register(api, huma.Operation{OperationID: "require-factors", Method: http.MethodPut, Path: "/people/required-factors", Summary: "Says of which roles people have to have a second factor", Description: "Who has none adds one before anything else, from their next request on.", Tags: tags},
		func(ctx context.Context, in *struct{ Body RequiredView }) (*output[RequiredView], error) {
			return out(s.requireFactors(ctx, in.Body.Roles))
		})
}

// mayChangeFactors is nil when the caller has signed in lately, as they have to for changing what they prove themselves with.
func (s *Server) mayChangeFactors(ctx context.Context) error {
	if callerOf(ctx).token != "" {
		return huma.Error409Conflict("A token cannot do this. Sign in to do it.")
	}
	if time.Since(time.Unix(s.sessions.GetInt64(ctx, sessionProven), 0)) > provenFor {
		return huma.Error409Conflict("You signed in more than a quarter of an hour ago. Sign out and in again to change what you sign in with.")
	}
	return nil
}

func (s *Server) factorsOf(ctx context.Context, p store.Person) (FactorsView, error) {
	v := FactorsView{Factors: []FactorView{}}
	_, v.NoPasskeys = s.relying(ctx)
	factors, err := s.Store.Factors(ctx, p.ID)
	if err != nil {
		return v, err
	}
	for _, f := range factors {
		v.Factors = append(v.Factors, FactorView{f.ID, f.Kind, f.Name, f.CreatedAt, f.UsedAt})
	}
	required, err := s.Store.RequiredFactors(ctx)
	if err != nil {
		return v, err
	}
	v.Required = slices.Contains(required, p.Role)
	v.Codes, err = s.Store.RecoveryCodesLeft(ctx, p.ID)
	return v, err
}

func (s *Server) beginCodeApp(ctx context.Context, name string) (CodeAppView, error) {
	if err := s.mayChangeFactors(ctx); err != nil {
		return CodeAppView{}, err
	}
	p := callerOf(ctx).person
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Tide Marker", AccountName: p.Name})
	if err != nil {
		return CodeAppView{}, err
	}
	id, err := s.Store.BeginCodeApp(ctx, p.ID, name, key.Secret())
	if err != nil {
		return CodeAppView{}, err
	}
	img, err := key.Image(220, 220)
	if err != nil {
		return CodeAppView{}, err
	}
	var raw bytes.Buffer
	err = png.Encode(&raw, img)
	return CodeAppView{id, key.Secret(), key.URL(), "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw.Bytes())}, err
}

func (s *Server) confirmCodeApp(ctx context.Context, id int64, code string) (AddedFactor, error) {
	if err := errors.Join(s.mayChangeFactors(ctx), s.limited(ctx)); err != nil {
		return AddedFactor{}, err
	}
	p := callerOf(ctx).person
	f, err := s.Store.Unconfirmed(ctx, p.ID, id)
	if err != nil {
		return AddedFactor{}, err
	}
	step, right := people.CodeStep(f.Secret, code, time.Now())
	if !right {
		return AddedFactor{}, huma.Error422UnprocessableEntity("This code is not right. Take the one that the app shows now, and see that the clock of its device is right.", &huma.ErrorDetail{Message: "Not right.", Location: "body.code"})
	}
	if err := s.Store.UseStep(ctx, id, step); err != nil {
		return AddedFactor{}, codeProblem(err)
	}
	return s.added(ctx, fmt.Sprintf("Added the code app “%s”.", f.Name))
}

func (s *Server) beginPasskey(ctx context.Context) (PasskeyQuestion, error) {
	if err := s.mayChangeFactors(ctx); err != nil {
		return PasskeyQuestion{}, err
	}
	w, why := s.relying(ctx)
	if w == nil {
		return PasskeyQuestion{}, huma.Error409Conflict(why)
	}
	h, err := s.holderOf(ctx, callerOf(ctx).person)
	if err != nil {
		return PasskeyQuestion{}, err
	}
	options, data, err := w.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()))
	if err != nil {
		return PasskeyQuestion{}, err
	}
	return PasskeyQuestion{options.Response}, s.keepCeremony(ctx, data)
}

func (s *Server) addPasskey(ctx context.Context, name string, answer PasskeyAnswer) (AddedFactor, error) {
	if err := s.mayChangeFactors(ctx); err != nil {
		return AddedFactor{}, err
	}
	w, why := s.relying(ctx)
	if w == nil {
		return AddedFactor{}, huma.Error409Conflict(why)
	}
	data, err := s.ceremony(ctx)
	if err != nil {
		return AddedFactor{}, err
	}
	p := callerOf(ctx).person
	h, err := s.holderOf(ctx, p)
	if err != nil {
		return AddedFactor{}, err
	}
	raw, err := json.Marshal(answer.Response)
	if err != nil {
		return AddedFactor{}, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(raw)
	if err != nil {
		return AddedFactor{}, notRight(err)
	}
	key, err := w.CreateCredential(h, data, parsed)
	if err != nil {
		return AddedFactor{}, notRight(err)
	}
	text, err := json.Marshal(key)
	if err != nil {
		return AddedFactor{}, err
	}
	if _, err := s.Store.AddPasskey(ctx, p.ID, name, text); err != nil {
		return AddedFactor{}, err
	}
	return s.added(ctx, fmt.Sprintf("Added the passkey “%s”.", name))
}

// added is what the caller has after a factor came; with the first come recovery codes.
func (s *Server) added(ctx context.Context, what string) (out AddedFactor, err error) {
	p := callerOf(ctx).person
	out.RecoveryCodes = []string{}
	left, err := s.Store.RecoveryCodesLeft(ctx, p.ID)
	if err == nil && left == 0 {
		out.RecoveryCodes, err = s.Store.NewRecoveryCodes(ctx, p.ID)
	}
	if err != nil {
		return out, err
	}
	if err := s.Store.RecordTeam(ctx, who(ctx), what); err != nil {
		return out, err
	}
	out.FactorsView, err = s.factorsOf(ctx, p)
	return out, err
}

func (s *Server) removeFactor(ctx context.Context, id int64) (FactorsView, error) {
	if err := s.mayChangeFactors(ctx); err != nil {
		return FactorsView{}, err
	}
	p := callerOf(ctx).person
	before, err := s.factorsOf(ctx, p)
	if err != nil {
		return before, err
	}
	if before.Required && len(before.Factors) == 1 && before.Factors[0].ID == id {
		return before, huma.Error409Conflict("Your role has to have a second factor, and this is the only one that you have. Add another first.")
	}
	if err := s.Store.RemoveFactor(ctx, p.ID, id); err != nil {
		return before, err
	}
	for _, f := range before.Factors {
		if f.ID == id {
			err = s.Store.RecordTeam(ctx, who(ctx), fmt.Sprintf("Removed the %s “%s”.", f.Kind, f.Name))
		}
	}
	if err != nil {
		return before, err
	}
	return s.factorsOf(ctx, p)
}

func (s *Server) renewRecoveryCodes(ctx context.Context) (out AddedFactor, err error) {
	if err := s.mayChangeFactors(ctx); err != nil {
		return out, err
	}
	p := callerOf(ctx).person
	if out.FactorsView, err = s.factorsOf(ctx, p); err != nil {
		return out, err
	}
	if len(out.Factors) == 0 {
		return out, huma.Error409Conflict("Recovery codes come with the first code app or passkey. Add one.")
	}
	if out.RecoveryCodes, err = s.Store.NewRecoveryCodes(ctx, p.ID); err != nil {
		return out, err
	}
	out.Codes = len(out.RecoveryCodes)
	return out, s.Store.RecordTeam(ctx, who(ctx), "Made new recovery codes.")
}

func (s *Server) resetFactors(ctx context.Context, id int64) error {
	p, err := s.Store.Person(ctx, id)
	if err != nil {
		return err
	}
	if err := s.Store.ResetFactors(ctx, id); err != nil {
		return err
	}
	return s.Store.RecordTeam(ctx, who(ctx), "Removed all second factors of "+p.Name+".")
}

func (s *Server) requireFactors(ctx context.Context, roles []people.Role) (RequiredView, error) {
	if err := s.Store.RequireFactors(ctx, roles); err != nil {
		return RequiredView{}, err
	}
	now, err := s.Store.RequiredFactors(ctx)
	if err != nil {
		return RequiredView{}, err
	}
	text := "No role requires a second factor now."
	if len(now) > 0 {
		var names []string
		for _, r := range now {
			names = append(names, string(r)+"s")
		}
		text = "Have to have a second factor: " + strings.Join(names, ", ") + "."
	}
	return RequiredView{append([]people.Role{}, now...)}, s.Store.RecordTeam(ctx, who(ctx), text)
}

package api

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// What a session keeps of somebody whose password was right and who has not proven more yet.
const (
	sessionWaiting  = "waiting"  // the person
	sessionTries    = "tries"    // under which name their tries are counted
	sessionKnown    = "known"    // somebody has signed in in this browser before
	sessionCeremony = "ceremony" // of Web Authentication, as JSON
	// sessionElsewhere: they signed in with a provider, whose work a second factor is then.
	sessionElsewhere = "elsewhere"
	sessionProven    = "proven" // when they were last asked for all that they have to prove
)

const (
	// provenFor is how long somebody may change what they prove themselves with after they signed in.
	provenFor = 15 * time.Minute
	// waitsFor is how long a session waits for a second factor.
	waitsFor = 10 * time.Minute
)

// enter begins the session of somebody whose password was right, or who was invited: wholly, or as far as a second factor lets.
// counted is the name under which their tries are counted, known whether that is a browser's in which they have signed in before.
func (s *Server) enter(ctx context.Context, p store.Person, counted string, known bool) (SessionView, error) {
	s.sessions.Remove(ctx, sessionElsewhere) // whoever was signed in before
	entry, err := s.Store.EntryOf(ctx, p)
	if err != nil {
		return SessionView{}, err
	}
	if entry != people.Prove {
		return sessionView(p, p.Role, entry == people.Enrol), s.beginSession(ctx, p)
	}
	factors, err := s.Store.Factors(ctx, p.ID)
	if err != nil {
		return SessionView{}, err
	}
	if err := s.sessions.RenewToken(ctx); err != nil {
		return SessionView{}, fmt.Errorf("begin a session: %w", err)
	}
	s.sessions.Remove(ctx, sessionPerson)
	s.sessions.Put(ctx, sessionWaiting, p.ID)
	s.sessions.Put(ctx, sessionEpoch, p.Epoch)
	s.sessions.Put(ctx, sessionTries, counted+"\nsecond factor")
	s.sessions.Put(ctx, sessionKnown, known)
	s.sessions.Put(ctx, sessionBegan, time.Now().Unix())
	v := SessionView{Abilities: []string{}, Needs: people.Prove, Factors: []people.FactorKind{}}
	seen := map[people.FactorKind]bool{}
	for _, f := range factors {
		if !seen[f.Kind] {
			seen[f.Kind] = true
			v.Factors = append(v.Factors, f.Kind)
		}
	}
	return v, nil
}

// waiting is who has to prove more in this session, and under which name their tries are counted.
func (s *Server) waiting(ctx context.Context) (p store.Person, counted string, err error) {
	id := s.sessions.GetInt64(ctx, sessionWaiting)
	if id == 0 || time.Since(time.Unix(s.sessions.GetInt64(ctx, sessionBegan), 0)) > waitsFor {
		return p, "", huma.Error401Unauthorized("Sign in with your name and password first.")
	}
	p, err = s.Store.Person(ctx, id)
	if err == nil && (p.Disabled || p.Epoch != s.sessions.GetInt(ctx, sessionEpoch)) {
		err = huma.Error401Unauthorized("Sign in with your name and password first.")
	}
	return p, s.sessions.GetString(ctx, sessionTries), err
}

// tried counts one more try of a second factor: who knows the password may try as seldom as anybody else.
func (s *Server) tried(ctx context.Context, counted string) error {
	if err := s.limited(ctx); err != nil {
		return err
	}
	earlier, err := s.Store.TrySignIn(ctx, counted)
	if err != nil {
		return err
	}
	if until := people.DefaultLockOut.Until(earlier, time.Now()); !until.IsZero() {
		s.logRefused(ctx, "locked")
		return huma.Error429TooManyRequests(fmt.Sprintf("Too many codes were not right. Try again after %s UTC.", until.UTC().Format("15:04")))
	}
	return nil
}

// proven begins the whole session of somebody who waited for it.
func (s *Server) proven(ctx context.Context, p store.Person, counted string) (*signedInOutput, error) {
	if err := s.Store.SignedIn(ctx, counted); err != nil {
		return nil, err
	}
	known := s.sessions.GetBool(ctx, sessionKnown)
	if err := s.beginSession(ctx, p); err != nil {
		return nil, err
	}
	out := &signedInOutput{Body: sessionView(p, p.Role, false)}
	if known {
		return out, nil
	}
	var err error
	out.SetCookie, err = s.knowBrowser(ctx, p)
	return out, err
}

// proveByCode takes a code of a code app, or a recovery code.
func (s *Server) proveByCode(ctx context.Context, code string) (*signedInOutput, error) {
	p, counted, err := s.waiting(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.tried(ctx, counted); err != nil {
		return nil, err
	}
	factors, err := s.Store.Factors(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	for _, f := range factors {
		if f.Kind != people.CodeApp {
			continue
		}
		step, right := people.CodeStep(f.Secret, code, time.Now())
		if !right {
			continue
		}
		if err := s.Store.UseStep(ctx, f.ID, step); err != nil {
			return nil, codeProblem(err)
		}
		return s.proven(ctx, p, counted)
	}
	err = s.Store.UseRecoveryCode(ctx, p.ID, code)
	if errors.Is(err, store.ErrNotFound) {
		s.logRefused(ctx, "second factor")
		return nil, huma.Error422UnprocessableEntity("This code is not right, or was used already. Take the one that is shown now.", &huma.ErrorDetail{Message: "Not right.", Location: "body.code"})
	}
	if err != nil {
		return nil, err
	}
	left, err := s.Store.RecoveryCodesLeft(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	if err := s.Store.RecordTeam(ctx, p.Name, fmt.Sprintf("Signed in with a recovery code; %d are left.", left)); err != nil {
		return nil, err
	}
	return s.proven(ctx, p, counted)
}

func codeProblem(err error) error {
	if errors.Is(err, store.ErrCodeUsed) {
		text := err.Error()
		return huma.Error422UnprocessableEntity(strings.ToUpper(text[:1])+text[1:]+".", &huma.ErrorDetail{Message: "Used already.", Location: "body.code"})
	}
	return problem(err)
}

// enteringOperations are how somebody proves more than a password.
func (s *Server) enteringOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "prove-code", Method: http.MethodPost, Path: "/session/code", Summary: "Ends signing in with a code of a code app, or a recovery code", Description: "After sign-in answered that it needs a second factor. 429 after several codes that were not right.", Tags: tags},
		func(ctx context.Context, in *struct {
			Body struct {
				Code string `json:"code" maxLength:"40"`
			}
		}) (*signedInOutput, error) {
			done, err := s.proveByCode(ctx, in.Body.Code)
			return done, problem(err)
		})
	huma.Register(api, huma.Operation{OperationID: "ask-passkey", Method: http.MethodPost, Path: "/session/passkey/question", Summary: "What a passkey has to sign to end signing in", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[PasskeyQuestion], error) {
			return out(s.askPasskey(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "prove-passkey", Method: http.MethodPost, Path: "/session/passkey", Summary: "Ends signing in with what a passkey signed", Tags: tags},
		func(ctx context.Context, in *struct{ Body PasskeyAnswer }) (*signedInOutput, error) {
			done, err := s.proveByPasskey(ctx, in.Body)
			return done, problem(err)
		})
}

func (s *Server) beginSession(ctx context.Context, p store.Person) error {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return fmt.Errorf("begin a session: %w", err)
	}
	for _, key := range []string{sessionWaiting, sessionTries, sessionKnown, sessionCeremony} {
		s.sessions.Remove(ctx, key)
	}
	s.sessions.Put(ctx, sessionPerson, p.ID)
	s.sessions.Put(ctx, sessionEpoch, p.Epoch)
	s.sessions.Put(ctx, sessionProven, time.Now().Unix())
	s.noteSession(ctx, rand.Text()[:16])
	return nil
}

// sessionView is what somebody who is signed in is told of it. Who has to add a second factor first may nothing until then.
func sessionView(p store.Person, role people.Role, enrolling bool) SessionView {
	v := SessionView{Person: p.ID, Name: p.Name, Role: role, Abilities: []string{}}
	if enrolling {
		v.Needs = people.Enrol
		return v
	}
	for _, a := range []people.Ability{people.See, people.Work, people.Decide, people.Administer} {
		if role.May(a) {
			v.Abilities = append(v.Abilities, string(a))
		}
	}
	return v
}

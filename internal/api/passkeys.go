package api

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"net"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// PasskeyQuestion is what a browser is to ask a passkey.
type PasskeyQuestion struct {
	Options any `json:"options" doc:"Of the W3C's Web Authentication, as JSON: PublicKeyCredentialCreationOptionsJSON or PublicKeyCredentialRequestOptionsJSON."`
}

// PasskeyAnswer is what a passkey answered.
type PasskeyAnswer struct {
	Response map[string]any `json:"response" doc:"Of the W3C's Web Authentication, as JSON: RegistrationResponseJSON or AuthenticationResponseJSON."`
}

// relying is who asks passkeys: this server, under the name by which people reach it. why says why that cannot be.
func (s *Server) relying(ctx context.Context) (w *webauthn.WebAuthn, why string) {
	scheme, host := "http", callerOf(ctx).host
	if s.Public != nil {
		scheme, host = s.Public.Scheme, s.Public.Host
	}
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	if net.ParseIP(name) != nil || name == "" {
		return nil, "Passkeys belong to a name, and this server is reached by an address. Open it as http://localhost, or start it with --public."
	}
	if scheme != "https" && name != "localhost" {
		return nil, "Browsers give passkeys to HTTPS addresses only."
	}
	w, err := webauthn.New(&webauthn.Config{RPID: name, RPDisplayName: "Tide Marker", RPOrigins: []string{scheme + "://" + host}, AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{UserVerification: protocol.VerificationPreferred, ResidentKey: protocol.ResidentKeyRequirementDiscouraged}})
	if err != nil {
		return nil, err.Error()
	}
	return w, ""
}

// holder is a person as Web Authentication knows them.
type holder struct {
	store.Person
	keys []webauthn.Credential
	ids  []int64 // of the factors
}

// WebAuthnID is a number that says nothing of the person.
func (h holder) WebAuthnID() []byte { return binary.BigEndian.AppendUint64(nil, uint64(h.ID)) } //nolint:gosec // never negative

// WebAuthnName is how a passkey's own list calls it.
func (h holder) WebAuthnName() string { return h.Name }

// WebAuthnDisplayName is the same.
func (h holder) WebAuthnDisplayName() string { return h.Name }

// WebAuthnCredentials are the passkeys that they have here.
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (s *Server) holderOf(ctx context.Context, p store.Person) (holder, error) {
	h := holder{Person: p}
	factors, err := s.Store.Factors(ctx, p.ID)
	for _, f := range factors {
		if f.Kind != people.Passkey {
			continue
		}
		var c webauthn.Credential
		if err := json.Unmarshal([]byte(f.Secret), &c); err != nil {
			return h, err
		}
		h.keys, h.ids = append(h.keys, c), append(h.ids, f.ID)
	}
	return h, err
}

// keepCeremony keeps what was asked until it is answered.
func (s *Server) keepCeremony(ctx context.Context, data *webauthn.SessionData) error {
	data.Expires = time.Now().Add(waitsFor)
	raw, err := json.Marshal(data)
	s.sessions.Put(ctx, sessionCeremony, raw)
	return err
}

// ceremony is what was asked; it is answered once.
func (s *Server) ceremony(ctx context.Context) (data webauthn.SessionData, err error) {
	raw := s.sessions.PopBytes(ctx, sessionCeremony)
	if len(raw) == 0 {
		return data, huma.Error409Conflict("No passkey was requested, or it was answered already. Start again.")
	}
	return data, json.Unmarshal(raw, &data)
}

func (s *Server) askPasskey(ctx context.Context) (PasskeyQuestion, error) {
	p, _, err := s.waiting(ctx)
	if err != nil {
		return PasskeyQuestion{}, err
	}
	w, why := s.relying(ctx)
	if w == nil {
		return PasskeyQuestion{}, huma.Error409Conflict(why)
	}
	h, err := s.holderOf(ctx, p)
	if err != nil {
		return PasskeyQuestion{}, err
	}
	if len(h.keys) == 0 {
		return PasskeyQuestion{}, huma.Error409Conflict("You have no passkey here. Use a code.")
	}
	options, data, err := w.BeginLogin(h)
	if err != nil {
		return PasskeyQuestion{}, err
	}
	return PasskeyQuestion{options.Response}, s.keepCeremony(ctx, data)
}

func (s *Server) proveByPasskey(ctx context.Context, answer PasskeyAnswer) (*signedInOutput, error) {
	p, counted, err := s.waiting(ctx)
	if err != nil {
		return nil, err
	}
	w, why := s.relying(ctx)
	if w == nil {
		return nil, huma.Error409Conflict(why)
	}
	data, err := s.ceremony(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.tried(ctx, counted); err != nil {
		return nil, err
	}
	h, err := s.holderOf(ctx, p)
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(answer.Response)
	if err != nil {
		return nil, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(raw)
	if err != nil {
		return nil, passkeyProblem(err)
	}
	used, err := w.ValidateLogin(h, data, parsed)
	if err != nil {
		return nil, passkeyProblem(err)
	}
	if used.Authenticator.CloneWarning {
		return nil, huma.Error422UnprocessableEntity("This passkey counts backwards: a copy of it may be about. Sign in with a recovery code, and remove it.")
	}
	for i, k := range h.keys {
		if string(k.ID) == string(used.ID) {
			text, err := json.Marshal(used)
			if err != nil {
				return nil, err
			}
			if err := s.Store.UsePasskey(ctx, h.ids[i], text); err != nil {
				return nil, err
			}
		}
	}
	return s.proven(ctx, p, counted)
}

// passkeyProblem says that what a passkey answered is not right, and what the standard's check said.
func passkeyProblem(err error) error {
	detail := "What the passkey answered is not right. Start again."
	if e, ok := errors.AsType[*protocol.Error](err); ok {
		detail += " (" + e.Details + ")"
	}
	return huma.Error422UnprocessableEntity(detail)
}

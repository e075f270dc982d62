package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// caller is who wants something: a person with a session, or a program with a token
// of theirs.
type caller struct {
	person store.Person
	role   people.Role // what they may do here and now; with a token it can be less than the person's
	token  string      // its name; empty for a session
	// address is where the request came from, as far as that limits how often somebody tries.
	address string
	agent   string // as the browser calls itself
	host    string // by which it called us
	// enrolling: they have to add a second factor before anything else; the role is none until then.
	enrolling bool
}

// name is how the record calls them.
func (c caller) name() string {
	if c.token != "" {
		return people.OfToken(c.person.Name, c.token)
	}
	return c.person.Name
}

type callerKey struct{}

func callerOf(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

// who is the name under which what happens is recorded.
func who(ctx context.Context) string { return callerOf(ctx).name() }

// What a session keeps.
const (
	sessionPerson = "person"
	sessionEpoch  = "epoch"
)

// newSessions keeps sessions in the database for a week, or until nobody came for a
// day. The cookie is sent over HTTPS only when the public address is an HTTPS one.
func newSessions(st *store.Store, public *url.URL, log *slog.Logger) *scs.SessionManager {
	m := scs.New()
	m.Store = pgxstore.NewWithCleanupInterval(st.Pool, 0)
	m.Lifetime, m.IdleTimeout = 7*24*time.Hour, 24*time.Hour
	m.Cookie.Name, m.Cookie.HttpOnly, m.Cookie.SameSite = "tidemarker", true, http.SameSiteLaxMode
	m.Cookie.Secure = public != nil && public.Scheme == "https"
	if m.Cookie.Secure {
		m.Cookie.Name = "__Host-tidemarker"
	}
	m.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) {
		complain(log, r, "a session could not be read or kept", err)
		unreachable(w)
	}
	return m
}

// complain logs why something could not be answered, unless who asked went away: what was broken off for that is no trouble.
func complain(log *slog.Logger, r *http.Request, what string, err error) {
	if r.Context().Err() == nil {
		log.Error(what, "why", err)
	}
}

// unreachable says that the database cannot be reached. What was asked for may have been done before.
func unreachable(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Retry-After", "5")
	w.WriteHeader(http.StatusServiceUnavailable)
	_, _ = w.Write([]byte(`{"title":"Service Unavailable","status":503,"detail":"Tide Marker cannot reach its database. Look in a moment whether what you asked for was done, then ask again."}`))
}

// identify finds out who calls and puts them into the context. Who cannot be told is
// nobody.
func (s *Server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := s.callerFor(r)
		if err != nil {
			complain(s.Log, r, "who calls could not be told", err)
			unreachable(w)
			return
		}
		c.address, c.agent, c.host = s.addressOf(r), r.UserAgent(), r.Host
		if c.person.ID != 0 && c.token == "" {
			if err := s.Store.Saw(r.Context(), c.person.ID); err != nil {
				complain(s.Log, r, "that somebody was here could not be noted", err)
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, c)))
	})
}

// callerFor tells who sent a request, as far as that still holds.
func (s *Server) callerFor(r *http.Request) (caller, error) {
	ctx := r.Context()
	if secret, there := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); there {
		t, err := s.Store.TokenOf(ctx, strings.TrimSpace(secret))
		if errors.Is(err, store.ErrNotFound) {
			return caller{}, nil
		}
		if err != nil {
			return caller{}, err
		}
		p, err := s.Store.Person(ctx, t.PersonID)
		if err != nil || p.Disabled {
			return caller{}, err
		}
		return caller{person: p, role: p.Role.Capped(t.Most), token: t.Name}, nil
	}
	id := s.sessions.GetInt64(ctx, sessionPerson)
	if id == 0 {
		return caller{}, nil
	}
	p, err := s.Store.Person(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return caller{}, nil
	}
	if err != nil || p.Disabled || p.Epoch != s.sessions.GetInt(ctx, sessionEpoch) {
		return caller{}, err
	}
	if s.sessions.GetBool(ctx, sessionElsewhere) { // a second factor was the provider's work
		return caller{person: p, role: p.Role}, nil
	}
	entry, err := s.Store.EntryOf(ctx, p)
	if err != nil {
		return caller{}, err
	}
	if entry == people.Enrol {
		return caller{person: p, enrolling: true}, nil
	}
	return caller{person: p, role: p.Role}, nil
}

// needs says what each operation asks of its caller. An operation that is not here
// cannot be registered.
var needs = map[string]people.Ability{
	"sign-in": anybody, "sign-out": anybody, "get-session": anybody, "look-at-invitation": anybody, "join": anybody,
	"prove-code": anybody, "ask-passkey": anybody, "prove-passkey": anybody, "list-ways": anybody,
	"list-factors": people.See, "begin-code-app": people.See, "confirm-code-app": people.See, "begin-passkey": people.See, "add-passkey": people.See, "remove-factor": people.See, "renew-recovery-codes": people.See,
	"reset-factors": people.Administer, "get-required-factors": people.Administer, "require-factors": people.Administer,
	"change-password": people.See, "list-sessions": people.See, "end-session": people.See, "list-tokens": people.See, "make-token": people.See, "revoke-token": people.See,
	"list-people": people.Administer, "edit-person": people.Administer, "invite": people.Administer, "list-invitations": people.Administer,
	"withdraw-invitation": people.Administer, "get-team-history": people.Administer,
	"list-sites": people.See, "get-site": people.See, "get-history": people.See, "list-exclusions": people.See, "get-change": people.See,
	"measure-change": people.Work, "measure-more": people.Work, "get-measured-page": people.See, "compare-recording": people.See, "export-measured": people.See, "list-measured-runs": people.See, "compare-measured-runs": people.See, "get-field": people.See, "get-beacon": people.See, "set-beacon": people.Work, "export-field": people.See, "import-field": people.Work, "expect-of-change": people.Work, "measure-on-environment": people.Work, "begin-step-up": people.Work, "stop-step-up": people.Work, "predict-change": people.See, "predict": people.See, "get-run-predictions": people.See,
	"get-run": people.See, "get-report": people.See, "list-looks": people.See, "list-probes": people.See, "get-proof": people.See,
	"import-site": people.Work, "read-environment": people.Work, "take-mark": people.Work, "record-backup": people.Work, "try-on-environment": people.Work, "check-environment": people.Work, "roll-back-environment": people.Work,
	"record-exclusion": people.Work, "edit-exclusions": people.Work, "retire-exclusions": people.Work, "try-without-exclusions": people.Work, "mend-exclusions": people.Work,
	"import-exclusions": people.Work, "find-addresses": people.Work, "get-exclusion-history": people.See, "get-coverage": people.See, "get-matrix": people.See, "try-pattern": people.See, "export-exclusions": people.See,
	"get-kept": people.See, "decide-kept": people.Decide, "look-at-removal": people.Administer, "remove-site": people.Administer,
	"decide-policy": people.Decide,
	"get-parity":    people.See, "test-cache-isolation": people.Work, "purge-environment": people.Work, "compare-environments": people.Work,
	"begin-change": people.Work, "edit-change": people.Work, "describe-change": people.Work, "try-change": people.Work, "roll-back-change": people.Work, "plan-roll-back": people.See, "take-out-change": people.Work, "discard-change": people.Work, "rebase-change": people.Work, "split-change": people.Work,
	"get-test-plan": people.See, "get-learned": people.See, "get-decisions": people.See, "change-test-plan": people.Work, "rehearse": people.Work, "export-site": people.See, "read-recording": people.Work, "export-recording": people.See,
	"list-onboardings": people.See, "list-found-pages": people.See, "get-onboarding": people.See, "begin-onboarding": people.Work, "place-onboarding": people.Work, "survey-onboarding": people.Work,
	"class-pages": people.Work, "people-onboarding": people.Work, "run-onboarding": people.Work, "register-onboarding": people.Work, "discard-onboarding": people.Work,
	"upload-export": people.Work, "tick-task-item": people.Work, "complete-task": people.Work,
	"list-settings": people.See, "list-speed-layers": people.See, "list-bundles": people.See, "make-bundle": people.Work, "remove-bundle": people.Work, "preview-bundle": people.See, "apply-bundle": people.Work,
	"copy-settings": people.See, "fit-copied": people.See, "begin-from-copied": people.Work,
	"accept-drift": people.Work, "revert-drift": people.Work,
	"exclude": people.Work, "accept-finding": people.Work, "mask-finding": people.Work, "end-decision": people.Work, "add-host": people.Work, "stop-run": people.Work, "find-culprit": people.Work, "end-search": people.Work, "remove-culprit": people.Work,
	"promote-change": people.Work, "tidy-change": people.Work, "accept-change": people.Decide,
	"ask-approval": people.Work, "decide-approval": people.Decide, "withdraw-approval": people.Work, "decide-promotions": people.Decide, "get-promotions": people.See,
	"list-change-comments": people.See, "list-run-comments": people.See, "comment-on-change": people.Work, "comment-on-run": people.Work, "comment-on-finding": people.Work,
	"get-calendar": people.See, "add-calendar-entry": people.Decide, "edit-calendar-entry": people.Decide, "remove-calendar-entry": people.Decide, "import-calendar": people.Decide, "export-calendar": people.See,
	"get-history-known": people.See, "export-history": people.See, "verify-history": people.See, "get-in-force-at": people.See,
	"list-changes": people.See, "export-changes": people.See, "list-runs": people.See, "export-runs": people.See, "list-marks": people.See, "export-marks": people.See, "list-revisions": people.See, "export-revisions": people.See, "compare-revisions": people.See,
	"list-schedules": people.See, "list-tidies": people.See, "add-schedule": people.Work, "edit-schedule": people.Work, "remove-schedule": people.Work,
	"offer-change": people.See, "begin-rollout": people.Work, "list-rollouts": people.See, "get-rollout": people.See, "let-rollout-go": people.Work, "stop-rollout": people.Work, "end-rollout": people.Work, "skip-rollout-site": people.Work,
	"label-site": people.Work, "list-watches": people.See, "stop-watch": people.Work, "keep-change": people.Work, "settle-change": people.Work,
	"list-notices": people.See, "read-notices": people.See, "get-notice-choices": people.See, "choose-notices": people.See, "set-notice-reach": people.See, "make-feed": people.See, "remove-feed": people.See,
	"find-anything": people.See, "compare-runs": people.See, "list-webhooks": people.Administer, "add-webhook": people.Administer, "edit-webhook": people.Administer, "renew-webhook-secret": people.Administer, "remove-webhook": people.Administer, "list-deliveries": people.Administer, "send-again": people.Administer,
	"make-calendar-address": people.Work, "remove-calendar-address": people.Work,
}

const anybody people.Ability = ""

// toEnrol is what somebody may who has to add a second factor first.
var toEnrol = []string{"list-factors", "begin-code-app", "confirm-code-app", "begin-passkey", "add-passkey"}

// guard lets an operation through when its caller has the ability it needs.
func guard(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		ability := needs[ctx.Operation().OperationID]
		c := callerOf(ctx.Context())
		switch {
		case ability == anybody || c.role.May(ability):
			next(ctx)
		case c.enrolling && slices.Contains(toEnrol, ctx.Operation().OperationID):
			next(ctx)
		case c.enrolling:
			_ = huma.WriteErr(api, ctx, http.StatusForbidden, "Your role has to have a second factor. Add one first, on your own page.")
		case c.role == "":
			_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, notSignedIn)
		default:
			_ = huma.WriteErr(api, ctx, http.StatusForbidden, (&people.Forbidden{Ability: ability, Role: c.role}).Error())
		}
	}
}

const notSignedIn = "Sign in first, or send a token that can still be used."

// signedIn guards what is not an operation of the API's description.
func signedIn(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !callerOf(r.Context()).role.May(people.See) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprintf(w, `{"title":"Unauthorized","status":401,"detail":%q}`, notSignedIn)
			return
		}
		next(w, r)
	}
}

// everythingGuarded fails when an operation has been forgotten in needs.
func everythingGuarded(api huma.API) error {
	var forgotten []error
	for path, item := range api.OpenAPI().Paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch} {
			if op == nil {
				continue
			}
			if _, known := needs[op.OperationID]; !known {
				forgotten = append(forgotten, fmt.Errorf("%s %s: say in needs who may %s", op.Method, path, op.OperationID))
			}
		}
	}
	return errors.Join(forgotten...)
}

// nobodysHash is compared with when there is no such person, so that a name that
// exists is not told by the time the answer takes.
var nobodysHash = sync.OnceValue(func() string {
	h, err := argon2id.CreateHash("nobody has this password", argon2id.DefaultParams)
	if err != nil {
		panic(err) // no randomness to be had
	}
	return h
})

// HashPassword makes of a password what is kept of it.
func HashPassword(password string) (string, error) {
	return argon2id.CreateHash(password, argon2id.DefaultParams)
}

package api

import (
	"context"
	"embed"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"path"
	"strings"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"tidemarker/docs/contract"
	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/people"
	"tidemarker/internal/exclusions"
	"tidemarker/internal/field"
	"tidemarker/internal/onboard"
	"tidemarker/internal/post"
	"tidemarker/internal/rollouts"
	"tidemarker/internal/run"
	"tidemarker/internal/scheduled"
	"tidemarker/internal/status"
	"tidemarker/internal/store"
	"tidemarker/internal/watching"
)

// Server is what the handlers work with.
type Server struct {
	Store      *store.Store
	Acts       *act.Acts
	Runner     *run.Runner
	Changes    *changes.Desk
	Exclusions *exclusions.Desk
	Onboard    *onboard.Desk
	Field      *field.Desk
	Scheduled  *scheduled.Desk
	Rollouts   *rollouts.Desk
	Watching   *watching.Desk
	Post       *post.Desk
	Log        *slog.Logger
	// Public is the address under which people reach the server, when it is not a
	// loopback one.
	Public *url.URL
	// Provider is where people may sign in instead; nil when there is none.
	Provider *Provider

	tries    addresses // of those who give a secret
	hub      hub
	sessions *scs.SessionManager
}

// NewServer is a server on what carries runs out. The address is nil on a loopback one.
func NewServer(r *run.Runner, public *url.URL, log *slog.Logger) *Server {
	desk := &changes.Desk{Store: r.Store, Acts: r.Acts, Runner: r}
	return &Server{Field: &field.Desk{Store: r.Store, Log: log}, Store: r.Store, Acts: r.Acts, Runner: r, Changes: desk, Scheduled: &scheduled.Desk{Store: r.Store, Runner: r}, Rollouts: &rollouts.Desk{Store: r.Store, Runner: r, Changes: desk}, Watching: &watching.Desk{Store: r.Store, Runner: r, Changes: desk}, Post: &post.Desk{Store: r.Store, Log: log, Base: baseOf(public)}, Exclusions: &exclusions.Desk{Store: r.Store, Changes: desk},
		Onboard: &onboard.Desk{Store: r.Store, Acts: r.Acts, Blobs: r.Tools.Blobs, Browser: r.Tools.Browser, Log: log}, Log: log, Public: public}
}

// baseOf is the address for links, without a slash at its end: "" on a loopback one, which whoever listens says then.
func baseOf(public *url.URL) string {
	if public == nil {
		return ""
	}
	return strings.TrimSuffix(public.String(), "/")
}

// compressed are the types of answers that are sent compressed to who can take it: what is text. Pictures are compressed as they are.
var compressed = []string{"text/html", "text/css", "text/javascript", "application/javascript", "application/json", "application/problem+json", "application/vnd.oai.openapi+json", "application/openapi+json", "text/csv", "image/svg+xml"}

// packed compresses answers, but for the stream of events: those have to arrive one by one, and are not held back in any buffer.
func packed(next http.Handler) http.Handler {
	with := middleware.Compress(5, compressed...)(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == eventsPath {
			next.ServeHTTP(w, r)
			return
		}
		with.ServeHTTP(w, r)
	})
}

const eventsPath = "/api/v1/events"

// New returns the whole handler. The server listens for changes of the database until
// the context ends.
func New(ctx context.Context, s *Server, files embed.FS) http.Handler {
	go s.hub.run(ctx, s.Store)
	s.sessions = newSessions(s.Store, s.Public, s.Log)
	r := chi.NewRouter()
	top := chi.NewRouter()
	top.Use(secureHeaders, s.watched, s.onlyKnownHosts)
	s.beaconRoutes(top, files)
	s.calendarRoutes(top)
	s.feedRoutes(top)
	r.Use(packed, s.sessions.LoadAndSave, s.identify)
	s.API(r)
	r.Get("/api/v1/provider/begin", s.toProvider)
	r.Get(providerBack, s.fromProvider)
	r.Get(eventsPath, signedIn(s.events))
	r.Get("/api/v1/blobs/{sha256}", signedIn(s.blob))
	r.Get("/api/v1/findings/{id}/difference.png", signedIn(s.differencePicture))
	r.Get("/api/v1/findings/{id}/thumbnail.png", signedIn(s.thumbnailPicture))
	r.Get("/api/contract/connector-v1.openapi.yaml", serveBytes("application/yaml", contract.ConnectorYAML))
	r.Get("/api/contract/site-file.schema.json", serveBytes("application/schema+json", contract.SiteFileSchema))
	r.Get("/api/contract/copied-settings.schema.json", serveBytes("application/schema+json", contract.CopiedSettingsSchema))
	r.Get("/api/contract/report.schema.json", serveBytes("application/schema+json", contract.ReportSchema))
	r.Get("/api/contract/culprit-report.schema.json", serveBytes("application/schema+json", contract.CulpritReportSchema))
	r.NotFound(s.unknownOrInterface(files))
	top.Mount("/", http.NewCrossOriginProtection().Handler(r)) // visitors' browsers come from the sites
	whole := http.NewServeMux()                                // whoever asks whether the process lives may call it by any name
	whole.HandleFunc("GET /healthz", status.Healthy)
	whole.HandleFunc("GET /readyz", status.Ready(s.Store.Answers))
	whole.Handle("/", top)
	return whole
}

// A list without members is written as [], so no list of the API can be null.
func init() { huma.DefaultArrayNullable = false }

// As is the API for somebody who needs not sign in, since they have the database: what they do is recorded under a name.
func (s *Server) As(name string, role people.Role) http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			c := caller{person: store.Person{Name: name, Role: role}, role: role, host: r.Host}
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, c)))
		})
	})
	s.API(r)
	return r
}

// API registers every operation on a router and returns the description.
func (s *Server) API(r chi.Router) huma.API {
	cfg := huma.DefaultConfig("Tide Marker", "1")
	cfg.Info.Description = "Promotes a site's speed settings through staging, with evidence, and rolls faulty settings back."
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/openapi", "", ""
	cfg.CreateHooks = nil // answers carry no $schema member
	api := humachi.New(r, cfg)
	v1 := huma.NewGroup(api, "/api/v1")
	v1.UseMiddleware(guard(api))
	s.peopleOperations(v1)
	s.siteOperations(v1)
	s.keepingOperations(v1)
	s.environmentOperations(v1)
	s.kindOperations(v1)
	s.driftOperations(v1)
	s.parityOperations(v1)
	s.exclusionOperations(v1)
	s.bundleOperations(v1)
	s.carryOperations(v1)
	s.handOperations(v1)
	s.onboardingOperations(v1)
	s.testPlanOperations(v1)
	s.learnedOperations(v1)
	s.decisionOperations(v1)
	s.recordingOperations(v1)
	s.changeOperations(v1)
	s.commentOperations(v1)
	s.calendarOperations(v1)
	s.scheduleOperations(v1)
	s.watchOperations(v1)
	s.rolloutOperations(v1)
	s.noticeOperations(v1)
	s.webhookOperations(v1)
	s.runOperations(v1)
	s.searchOperations(v1)
	s.removeCulpritOperation(v1)
	s.predictionOperations(v1)
	s.stepUpOperations(v1)
	s.measureOperations(v1)
	s.fieldOperations(v1)
	if err := everythingGuarded(api); err != nil {
		panic(err)
	}
	return api
}

// onlyKnownHosts refuses requests that name another host than this machine or the
// public address: a page elsewhere could have its own name resolve to this machine.
func (s *Server) onlyKnownHosts(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Public != nil && strings.EqualFold(r.Host, s.Public.Host) {
			next.ServeHTTP(w, r)
			return
		}
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		if ip := net.ParseIP(strings.Trim(host, "[]")); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			http.Error(w, "Tide Marker does not answer under this name. Start it with --public and the address that people use.", http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("X-Frame-Options", "DENY")
		if strings.HasPrefix(r.URL.Path, "/api/v1/") { // what is for one person stays in no cache, unless it says so itself
			h.Set("Cache-Control", "no-store")
		}
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'")
		next.ServeHTTP(w, r)
	})
}

func serveBytes(mediaType string, raw []byte) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", mediaType)
		_, _ = w.Write(raw)
	}
}

// unknownOrInterface serves the built interface; every address of a view gets its
// start page. An unknown address of the API is a problem.
func (s *Server) unknownOrInterface(files embed.FS) http.HandlerFunc {
	dist, err := fs.Sub(files, "dist")
	if err != nil {
		panic("the interface was built into the binary under another name: " + err.Error())
	}
	server := http.FileServerFS(dist)
	return func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write([]byte(`{"title":"Not Found","status":404,"detail":"The API has no such address; see /api/openapi.json."}`))
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(dist, name); err != nil || info.IsDir() {
			r.URL.Path = "/"
			w.Header().Set("Cache-Control", "no-cache")
			if _, err := fs.Stat(dist, "index.html"); err != nil {
				http.Error(w, "The interface has not been built into this binary. Run: make build", http.StatusNotFound)
				return
			}
		} else if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		server.ServeHTTP(w, r)
	}
}

package standin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"

	"tidemarker/internal/core/settings"
)

// connector answers the connector protocol for one layer.
type connector struct {
	inst *Instance

	mu   sync.Mutex
	runs map[string]*warming
}

type warming struct {
	ID     string `json:"id"`
	State  string `json:"state"`
	Total  int    `json:"total"`
	Done   int    `json:"done"`
	Failed int    `json:"failed"`
}

const (
	bodyLimit = 4 << 20
	urlLimit  = 10000
)

func (c *connector) routes() http.Handler {
	r := chi.NewRouter()
	r.Get("/about", c.about)
	r.Group(func(r chi.Router) {
		r.Use(c.authorised)
		r.Get("/catalogue", func(w http.ResponseWriter, _ *http.Request) { answer(w, http.StatusOK, c.inst.catalogue()) })
		r.Get("/settings", c.readSettings)
		r.Put("/settings", c.writeSettings)
		r.Post("/purge", c.purge)
		r.Post("/warm", c.warm)
		r.Get("/warm/{id}", c.progress)
		r.Get("/status", func(w http.ResponseWriter, _ *http.Request) { answer(w, http.StatusOK, c.inst.Layer.Status()) })
	})
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		refuse(w, http.StatusNotFound, "The protocol has no such address.", nil)
	})
	return r
}

func (c *connector) authorised(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok || subtle.ConstantTimeCompare([]byte(token), []byte(c.inst.Token)) != 1 {
			w.Header().Set("WWW-Authenticate", "Bearer")
			refuse(w, http.StatusUnauthorized, "The token is missing or wrong.", nil)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (c *connector) about(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{
		"protocol": "1", "site": c.inst.Site, "environment": c.inst.Environment, "software": c.inst.site.Software,
		"features": []string{"purge", "purge-urls", "warm", "status"}, "facts": c.inst.site.Facts,
	})
}

func (c *connector) readSettings(w http.ResponseWriter, _ *http.Request) {
	v, etag := c.inst.Layer.Settings()
	w.Header().Set("ETag", etag)
	answer(w, http.StatusOK, map[string]any{"values": v})
}

func (c *connector) writeSettings(w http.ResponseWriter, r *http.Request) {
	ifMatch := r.Header.Get("If-Match")
	if ifMatch == "" {
		refuse(w, http.StatusPreconditionRequired, "If-Match is missing: send the ETag you last read.", nil)
		return
	}
	if _, etag := c.inst.Layer.Settings(); etag != ifMatch {
		refuse(w, http.StatusPreconditionFailed, "Somebody else changed the settings since.", nil)
		return
	}
	var in struct {
		Values settings.Values `json:"values"`
	}
	if !read(w, r, &in) {
		return
	}
	if err := c.inst.site.Catalogue.Validate(in.Values); err != nil {
		refusals, _ := errors.AsType[settings.Refusals](err)
		refuse(w, http.StatusUnprocessableEntity, "Nothing was applied: some values are not valid.", refusals)
		return
	}
	etag, matched := c.inst.Layer.Replace(in.Values, ifMatch)
	if !matched {
		refuse(w, http.StatusPreconditionFailed, "Somebody else changed the settings since.", nil)
		return
	}
	if err := c.inst.save(); err != nil {
		refuse(w, http.StatusInternalServerError, "The settings are in force but could not be kept on disk.", nil)
		return
	}
	w.Header().Set("ETag", etag)
	v, _ := c.inst.Layer.Settings()
	answer(w, http.StatusOK, map[string]any{"values": v})
}

func (c *connector) purge(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Scope string   `json:"scope"`
		URLs  []string `json:"urls"`
		Mode  string   `json:"mode"`
	}
	if !read(w, r, &in) {
		return
	}
	switch {
	case in.Scope != "all" && in.Scope != "urls":
		refuse(w, http.StatusUnprocessableEntity, "scope must be all or urls.", nil)
	case in.Mode != "" && in.Mode != "drop" && in.Mode != "stale":
		refuse(w, http.StatusUnprocessableEntity, "mode must be drop or stale.", nil)
	case len(in.URLs) > urlLimit:
		refuse(w, http.StatusUnprocessableEntity, "More than 10,000 addresses.", nil)
	default:
		n := c.inst.Layer.Purge(in.URLs, in.Scope == "all", in.Mode == "stale")
		answer(w, http.StatusOK, map[string]int{"purged": n})
	}
}

func (c *connector) warm(w http.ResponseWriter, r *http.Request) {
	var in struct {
		URLs    []string `json:"urls"`
		Devices []string `json:"devices"`
	}
	if !read(w, r, &in) {
		return
	}
	if len(in.URLs) > urlLimit {
		refuse(w, http.StatusUnprocessableEntity, "More than 10,000 addresses.", nil)
		return
	}
	if len(in.Devices) == 0 {
		in.Devices = []string{"desktop", "phone"}
	}
	for _, d := range in.Devices {
		if agents[d] == "" {
			refuse(w, http.StatusUnprocessableEntity, "A device is desktop or phone.", nil)
			return
		}
	}
	run := &warming{ID: rand.Text()[:12], State: "running", Total: len(in.URLs) * len(in.Devices)}
	c.mu.Lock()
	c.runs[run.ID] = run
	started := *run
	c.mu.Unlock()
	c.inst.work.Go(func() { c.fetch(c.inst.ctx, run, in.URLs, in.Devices) })
	answer(w, http.StatusAccepted, started)
}

var agents = map[string]string{
	"desktop": "Mozilla/5.0 (X11; Linux x86_64) page-warm",
	"phone":   "Mozilla/5.0 (Linux; Android 14; Mobile) page-warm",
}

func (c *connector) fetch(ctx context.Context, run *warming, urls, devices []string) {
	for _, raw := range urls {
		for _, d := range devices {
			if ctx.Err() != nil {
				return
			}
			ok := c.inst.fetch(ctx, raw, d)
			c.mu.Lock()
			if ok {
				run.Done++
			} else {
				run.Failed++
			}
			c.mu.Unlock()
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	run.State = "done"
	if run.Done == 0 && run.Total > 0 {
		run.State = "failed"
	}
}

func (c *connector) progress(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	run, known := c.runs[chi.URLParam(r, "id")]
	var now warming
	if known {
		now = *run
	}
	c.mu.Unlock()
	if !known {
		refuse(w, http.StatusNotFound, "There is no such warm-up.", nil)
		return
	}
	answer(w, http.StatusOK, now)
}

func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, bodyLimit)).Decode(into); err != nil {
		refuse(w, http.StatusUnprocessableEntity, "The body is not the JSON that the protocol describes.", nil)
		return false
	}
	return true
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, detail string, errs []settings.Refusal) {
	if errs == nil {
		errs = []settings.Refusal{}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail, "errors": errs})
}

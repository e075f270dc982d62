package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// hub passes notices of the database on to everybody who watches.
type hub struct {
	mu       sync.Mutex
	watchers map[chan store.Signal]bool
}

func (h *hub) run(ctx context.Context, s *store.Store) {
	for ctx.Err() == nil {
		_ = s.Listen(ctx, h.tell)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second): // the connection was lost; listen anew
		}
	}
}

func (h *hub) tell(n store.Signal) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		select {
		case w <- n:
		default: // slow; the next notice will do
		}
	}
}

func (h *hub) watch() (notices chan store.Signal, end func()) {
	w := make(chan store.Signal, 64)
	h.mu.Lock()
	if h.watchers == nil {
		h.watchers = map[chan store.Signal]bool{}
	}
	h.watchers[w] = true
	h.mu.Unlock()
	return w, func() {
		h.mu.Lock()
		delete(h.watchers, w)
		h.mu.Unlock()
	}
}

// askAgain is how often a stream asks, at most, whether who listens may still do so.
const askAgain = 2 * time.Second

// events streams what changed as server-sent events: each names the site, run and
// change that should be read again. It ends when who listens is disabled, or has no
// session or token any more.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	flush := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	notices, end := s.hub.watch()
	defer end()
	fmt.Fprint(w, "retry: 2000\n\n")
	if flush.Flush() != nil {
		return
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	var asked time.Time
	for {
		line := ": still here\n\n"
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
		case n := <-notices:
			raw, err := json.Marshal(n)
			if err != nil {
				continue
			}
			line = fmt.Sprintf("event: changed\ndata: %s\n\n", raw)
		}
		if time.Since(asked) > askAgain {
			if !s.stillMay(r, people.See) {
				return
			}
			asked = time.Now()
		}
		fmt.Fprint(w, line)
		if flush.Flush() != nil {
			return
		}
	}
}

// stillMay asks once more who sent a request that goes on, and whether they may do so by now: a session is read anew, since
// somebody may have signed out since.
func (s *Server) stillMay(r *http.Request, what people.Ability) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second) // without the session that was loaded at first
	defer cancel()
	token := ""
	if cookie, err := r.Cookie(s.sessions.Cookie.Name); err == nil {
		token = cookie.Value
	}
	ctx, err := s.sessions.Load(ctx, token)
	if err != nil {
		return false
	}
	c, err := s.callerFor(r.WithContext(ctx))
	return err == nil && c.role.May(what)
}

// blob serves a kept picture, or a kept body as plain text: what a watched site sent
// is never rendered here.
func (s *Server) blob(w http.ResponseWriter, r *http.Request) {
	b, err := s.Runner.Tools.Blobs.Get(r.Context(), chi.URLParam(r, "sha256"))
	if err != nil {
		http.Error(w, "There is no such picture or body.", http.StatusNotFound)
		return
	}
	if !slices.Contains([]string{"image/png", "image/webp", "image/jpeg"}, b.MediaType) {
		b.MediaType = "text/plain; charset=utf-8"
	}
	w.Header().Set("Content-Security-Policy", "default-src 'none'; sandbox")
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	w.Header().Set("Content-Type", b.MediaType)
	_, _ = w.Write(b.Bytes)
}

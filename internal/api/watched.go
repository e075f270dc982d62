package api

import (
	"crypto/rand"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/status"
)

// failed puts the cause of something that is nobody's doing but ours into the log, under a number, and gives the problem
// that names the number and nothing else.
func failed(log *slog.Logger, what string, cause ...any) huma.StatusError {
	number := rand.Text()[:12]
	log.Error(what, append([]any{"number", number}, cause...)...)
	return huma.Error500InternalServerError("Something went wrong on the server. Its log has the cause under the number " + number + ".")
}

// written is the status of an answer.
type written struct {
	http.ResponseWriter
	status int
}

// WriteHeader notes the status.
func (w *written) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write notes that it is 200 when nobody said otherwise.
func (w *written) Write(p []byte) (int, error) {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	return w.ResponseWriter.Write(p)
}

// Unwrap lets [http.ResponseController] reach what is below.
func (w *written) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// watched counts requests, and makes a numbered problem of a panic.
func (s *Server) watched(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		w, began := &written{ResponseWriter: rw}, time.Now()
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler { //nolint:errorlint // as net/http compares it
					panic(p)
				}
				problem := failed(s.Log, "a request panicked", "method", r.Method, "path", r.URL.Path, "panic", p, "stack", string(debug.Stack()))
				if w.status == 0 {
					w.Header().Set("Content-Type", "application/problem+json")
					w.WriteHeader(http.StatusInternalServerError)
					_, _ = w.Write([]byte(`{"title":"Internal Server Error","status":500,"detail":` + strconv.Quote(problem.Error()) + `}`))
				}
			}
			status.RequestSeconds.WithLabelValues(r.Method, strconv.Itoa(w.status)).Observe(time.Since(began).Seconds())
		}()
		next.ServeHTTP(w, r)
	})
}

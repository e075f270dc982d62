package outbox

import (
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"
)

// Hook is a call of a webhook that was caught.
type Hook struct {
	At   string `json:"at"`   // RFC 3339, UTC
	Name string `json:"name"` // the end of the address that was called
	ID   string `json:"id"`   // webhook-id, by the Standard Webhooks specification
	Body string `json:"body"`
}

// Hooks are the calls that were caught, the newest first.
func (o *Outbox) Hooks() []Hook {
	o.mu.Lock()
	defer o.mu.Unlock()
	return newest(o.hooks)
}

// HookURL is an address that takes calls of webhooks under a name.
func (o *Outbox) HookURL(name string) string { return o.URL + "/hooks/" + name }

// hook keeps what a webhook is called with. Who signed it is not asked: nothing follows from it.
func (o *Outbox) hook(w http.ResponseWriter, r *http.Request) {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostShown))
	if err != nil {
		http.Error(w, "A call has 64 KiB at most.", http.StatusRequestEntityTooLarge)
		return
	}
	o.mu.Lock()
	o.hooks = last(append(o.hooks, Hook{At: stamp(), Name: chi.URLParam(r, "name"), ID: r.Header.Get("webhook-id"), Body: shown(string(raw))}))
	o.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

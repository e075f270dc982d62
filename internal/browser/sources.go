package browser

import (
	"context"
	"fmt"
	"sync"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
)

// Sources keeps what the pages of one run are made of: documents as they came, and each script and
// style sheet once, by its address.
type Sources struct {
	keep  Keep
	mu    sync.Mutex
	files map[string]string // SHA-256 by address
}

// NewSources keeps what pages are made of with keep.
func NewSources(keep Keep) *Sources { return &Sources{keep: keep, files: map[string]string{}} }

// largestSource is how large a script or a style sheet may be that is kept, in octets.
const largestSource = 2 << 20

// take keeps what the page in a tab was made of. What the browser no longer has is left out.
func (s *Sources) take(ctx context.Context, t *tab) (*evidence.Source, error) {
	t.mu.Lock()
	document := t.document.id
	ids := map[string]proto.NetworkRequestID{}
	types := map[string]string{"script": "text/javascript", "stylesheet": "text/css"}
	kinds := map[string]string{}
	for id, i := range t.byID {
		if r := t.requests[i]; types[r.Kind] != "" && r.Status == 200 && !r.Blocked && i >= t.document.from {
			ids[r.URL], kinds[r.URL] = id, types[r.Kind]
		}
	}
	t.mu.Unlock()
	out := &evidence.Source{Files: map[string]string{}}
	var err error
	if raw := t.body(document); len(raw) > 0 {
		if out.Document, err = s.keep(ctx, "text/html", raw); err != nil {
			return nil, fmt.Errorf("keep the document: %w", err)
		}
	}
	for address, id := range ids {
		s.mu.Lock()
		sha := s.files[address]
		s.mu.Unlock()
		if sha == "" {
			raw := t.body(id)
			if len(raw) == 0 || len(raw) > largestSource {
				continue
			}
			if sha, err = s.keep(ctx, kinds[address], raw); err != nil {
				return nil, fmt.Errorf("keep %s: %w", address, err)
			}
			s.mu.Lock()
			s.files[address] = sha
			s.mu.Unlock()
		}
		out.Files[address] = sha
	}
	return out, nil
}

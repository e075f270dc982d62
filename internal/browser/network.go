package browser

import (
	_ "embed"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/waterfall"
)

// fromMemory notes that the browser had an answer in its memory.
func (t *tab) fromMemory(e *proto.NetworkRequestServedFromCache) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if i, known := t.byID[e.RequestID]; known {
		t.requests[i].Kept = true
	}
	t.meter.of(e.RequestID, func(r *waterfall.Fetch) { r.Cached = true })
}

// docResponse is the answer to the last document of the main frame.
type docResponse struct {
	id      proto.NetworkRequestID
	status  int
	headers map[string]string
	from    int // index of its request
}

// paused decides about a request before it is sent: hosts that are not the site's
// are never reached, and pictures wait until the page has first been drawn, as they
// come later than the page on any real line. Without that a picture that moves the
// page would go unseen whenever the site is near.
func (t *tab) paused(e *proto.FetchRequestPaused) {
	u, err := url.Parse(e.Request.URL)
	own := err == nil && (t.env.Owns(u) || u.Scheme == "data" || u.Scheme == "blob" || u.Scheme == "about")
	if !own {
		t.mu.Lock()
		t.stopped[e.NetworkID] = true
		if i, known := t.byID[e.NetworkID]; known {
			t.requests[i].Blocked = true
		}
		t.meter.of(e.NetworkID, func(r *waterfall.Fetch) { r.Refused = true })
		t.mu.Unlock()
		go func() {
			_ = proto.FetchFailRequest{RequestID: e.RequestID, ErrorReason: proto.NetworkErrorReasonBlockedByClient}.Call(t.page)
		}()
		return
	}
	t.mu.Lock()
	drawn, lifted, measuring := t.drawn, t.lifted, t.measuring
	t.mu.Unlock()
	if had, has := t.carried[e.Request.URL]; has && e.Request.Method == http.MethodGet {
		t.mu.Lock()
		t.had[e.NetworkID] = true
		t.mu.Unlock()
		go had.give(e.RequestID, t.page)
		return
	}
	go func() {
		select {
		case <-lifted:
		case <-time.After(3 * time.Second):
		case <-t.page.GetContext().Done():
			return
		}
		if measuring != nil && e.ResourceType == proto.NetworkResourceTypeDocument {
			// Chromium slows down what a page asks for, and not the page itself.
			select {
			case <-time.After(measuring.Latency):
			case <-t.page.GetContext().Done():
				return
			}
		}
		if e.ResourceType == proto.NetworkResourceTypeImage && measuring == nil {
			select {
			case <-drawn:
			case <-time.After(3 * time.Second):
			case <-t.page.GetContext().Done():
				return
			}
		}
		_ = proto.FetchContinueRequest{RequestID: e.RequestID}.Call(t.page)
	}()
}

// pressing does what presses a finger or a button and lifts it again. Nothing that the
// page asks for meanwhile is answered before the end, as a press is over sooner than
// any real line answers: else what is only loaded at the first touch would sometimes
// be there in time, when the site is near and this machine is slow.
func (t *tab) pressing(do func() error) error {
	lifted := make(chan struct{})
	t.mu.Lock()
	t.lifted = lifted
	t.mu.Unlock()
	defer close(lifted)
	return do()
}

func (t *tab) sent(e *proto.NetworkRequestWillBeSent) {
	if e.Type == proto.NetworkResourceTypeDocument && e.FrameID == t.frame {
		t.tooMuch(&t.documents, 1, mostDocuments, "went on to another address more than 200 times")
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changed = time.Now()
	t.inFlight[e.RequestID] = e.Type
	t.meter.sent(e, t.stopped[e.RequestID])
	if strings.HasPrefix(e.Request.URL, "data:") || strings.HasPrefix(e.Request.URL, "blob:") {
		return
	}
	if e.Type == proto.NetworkResourceTypeDocument && e.FrameID == t.frame && e.RedirectResponse == nil {
		t.document = docResponse{from: len(t.requests)}
		t.drawn, t.drawOnce, t.loaded = make(chan struct{}), &sync.Once{}, false
		t.read = false
	}
	if i, known := t.byID[e.RequestID]; known && e.RedirectResponse != nil {
		t.requests[i].Status = e.RedirectResponse.Status
	}
	if len(t.requests) >= manyRequests || isFavicon(e) {
		return
	}
	t.byID[e.RequestID] = len(t.requests)
	t.requests = append(t.requests, evidence.Request{URL: clip(e.Request.URL), Kind: kindOf(e.Type), Method: e.Request.Method, Blocked: t.stopped[e.RequestID], From: askedBy(e),
		Later: e.Initiator != nil && e.Initiator.Type == proto.NetworkInitiatorTypeScript})
}

// askedBy is the script or style that asked, "" when the page itself did.
func askedBy(e *proto.NetworkRequestWillBeSent) string {
	if e.Initiator == nil {
		return ""
	}
	from := e.Initiator.URL
	if by := scriptsOn(e.Initiator.Stack); len(by) > 0 {
		from = by[0]
	}
	if from == e.DocumentURL {
		return ""
	}
	return clip(from)
}

// scriptsOn are the addresses of the scripts on a stack and on those that led to it, the
// innermost first, each once.
func scriptsOn(s *proto.RuntimeStackTrace) []string {
	var out []string
	for depth := 0; s != nil && depth < 8; s, depth = s.Parent, depth+1 {
		for _, f := range s.CallFrames {
			if f.URL != "" && !slices.Contains(out, f.URL) && len(out) < 8 {
				out = append(out, f.URL)
			}
		}
	}
	return out
}

// isFavicon tells whether the browser asks by itself for an icon that no page named.
func isFavicon(e *proto.NetworkRequestWillBeSent) bool {
	u, err := url.Parse(e.Request.URL)
	return err == nil && u.Path == "/favicon.ico" && e.Type == proto.NetworkResourceTypeOther
}

func (t *tab) answered(e *proto.NetworkResponseReceived) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changed = time.Now()
	t.meter.answered(e)
	t.notes(e)
	if i, known := t.byID[e.RequestID]; known {
		t.requests[i].Status = e.Response.Status
		byWorker := e.Response.ServiceWorkerResponseSource == proto.NetworkServiceWorkerResponseSourceCacheStorage
		t.requests[i].Kept = e.Response.FromDiskCache || byWorker || t.requests[i].Kept || t.had[e.RequestID]
		if slices.Contains([]string{"document", "script", "stylesheet"}, t.requests[i].Kind) {
			t.requests[i].Keeps = int(keptFor(e.Response).Seconds())
		}
		if slices.Contains([]string{"font", "script", "stylesheet"}, t.requests[i].Kind) {
			for k, v := range e.Response.Headers {
				if strings.EqualFold(k, "access-control-allow-origin") {
					t.requests[i].Shared = clip(v.String())
				}
			}
		}
	}
	if e.Type == proto.NetworkResourceTypeDocument && e.FrameID == t.frame {
		t.document.id, t.document.status = e.RequestID, e.Response.Status
		t.document.headers = map[string]string{}
		for k, v := range e.Response.Headers {
			if name := strings.ToLower(k); name != "set-cookie" {
				t.document.headers[name] = clip(v.String())
			}
		}
	}
}

func (t *tab) ended(id proto.NetworkRequestID, bytes int, failed string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changed = time.Now()
	delete(t.inFlight, id)
	if i, known := t.byID[id]; known {
		t.requests[i].Bytes = bytes
		t.requests[i].Failed = failed
	}
}

// keptFor is for how long the browser uses an answer again without asking.
func keptFor(r *proto.NetworkResponse) time.Duration {
	h := httpcache.Header{}
	for k, v := range r.Headers {
		if name := strings.ToLower(k); slices.Contains([]string{"cache-control", "expires", "date"}, name) {
			h[name] = strings.Split(v.String(), "\n") // the browser joins fields of one name so
		}
	}
	return httpcache.Exchange{Method: http.MethodGet, Status: r.Status, Request: httpcache.Header{}, Response: h, Received: time.Now()}.Kept()
}

func kindOf(t proto.NetworkResourceType) string {
	switch t {
	case proto.NetworkResourceTypeXHR, proto.NetworkResourceTypeFetch:
		return "fetch"
	case proto.NetworkResourceTypeDocument, proto.NetworkResourceTypeScript, proto.NetworkResourceTypeStylesheet,
		proto.NetworkResourceTypeImage, proto.NetworkResourceTypeFont:
		return strings.ToLower(string(t))
	}
	return "other"
}

package browser

import (
	_ "embed"
	"net/http"
	"net/url"
	"slices"
	"strings"
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

// pending is a request that has not ended.
type pending struct {
	kind     proto.NetworkResourceType
	out      bool // let go to the network; before that Chromium itself queues it
	held     bool // a picture that is held back here
	answered bool
	moved    time.Time // when it began, was let go, was answered or brought something
}

// How long a request may bring nothing before the page's clock goes on without it: one that was answered and stays open, such as a
// stream of events, one that a script made, and what the page itself is made of.
const (
	openPatience   = 2 * time.Second
	scriptPatience = 6 * time.Second
	partPatience   = 15 * time.Second
)

// stalled reports whether the request has brought nothing for as long as is waited for it.
func (p *pending) stalled() bool {
	patience := partPatience
	switch {
	case p.answered:
		patience = openPatience
	case p.kind == proto.NetworkResourceTypeFetch, p.kind == proto.NetworkResourceTypeXHR, p.kind == proto.NetworkResourceTypeEventSource, p.kind == proto.NetworkResourceTypePing:
		patience = scriptPatience
	}
	return time.Since(p.moved) > patience
}

// paused decides about a request before it is sent: hosts that are not the site's are never reached, and pictures wait until the
// document has been read and painted once, as they arrive after it on any real line. Without that a picture that moves the page
// would go unseen whenever the site is near.
func (t *tab) paused(e *proto.FetchRequestPaused) {
	u, err := url.Parse(e.Request.URL)
	own := err == nil && (t.env.Owns(u) || u.Scheme == "data" || u.Scheme == "blob" || u.Scheme == "about")
	had, has := t.carried[e.Request.URL]
	has = own && has && e.Request.Method == http.MethodGet
	t.mu.Lock()
	until := held{lifted: t.lifted}
	if e.ResourceType == proto.NetworkResourceTypeImage && own && !has {
		until.pictures = t.pictures
	}
	if t.measuring != nil && e.ResourceType == proto.NetworkResourceTypeDocument {
		until.latency = t.measuring.Latency // Chromium slows down what a page asks for, and not the page itself
	}
	t.letOut(e, until.pictures != nil)
	switch {
	case !own:
		t.stopped[e.NetworkID] = true
		if i, known := t.byID[e.NetworkID]; known {
			t.requests[i].Blocked = true
		}
		t.meter.of(e.NetworkID, func(r *waterfall.Fetch) { r.Refused = true })
	case has:
		t.had[e.NetworkID] = true
	}
	t.mu.Unlock()
	go func() {
		switch {
		case !own:
			_ = proto.FetchFailRequest{RequestID: e.RequestID, ErrorReason: proto.NetworkErrorReasonBlockedByClient}.Call(t.page)
		case has:
			had.give(e.RequestID, t.page)
		case t.await(until):
			t.letGo(e.NetworkID)
			_ = proto.FetchContinueRequest{RequestID: e.RequestID}.Call(t.page)
		}
	}()
}

// letOut notes that Chromium has let a request go; its event may precede that of the request. t.mu is held.
func (t *tab) letOut(e *proto.FetchRequestPaused, held bool) {
	if e.NetworkID == "" {
		return
	}
	p := t.inFlight[e.NetworkID]
	if p == nil {
		p = &pending{kind: e.ResourceType}
		t.inFlight[e.NetworkID] = p
	}
	p.out, p.held, p.moved = true, held, time.Now()
}

// held is what a request waits for before it is sent.
type held struct {
	lifted   <-chan struct{}
	latency  time.Duration
	pictures <-chan struct{} // nil when it is no picture that is held back
}

// await waits for what a request is held for; it returns false when the tab has ended.
func (t *tab) await(h held) bool {
	ended := t.page.GetContext().Done()
	select {
	case <-h.lifted:
	case <-time.After(3 * time.Second):
	case <-ended:
		return false
	}
	if h.latency > 0 {
		select {
		case <-time.After(h.latency):
		case <-ended:
			return false
		}
	}
	if h.pictures != nil {
		select {
		case <-h.pictures:
		case <-ended:
			return false
		}
	}
	return true
}

// letGo notes that a picture is held back no longer.
func (t *tab) letGo(id proto.NetworkRequestID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if p := t.inFlight[id]; p != nil && p.held {
		p.held, p.moved = false, time.Now()
	}
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
	if p := t.inFlight[e.RequestID]; p == nil {
		t.inFlight[e.RequestID] = &pending{kind: e.Type, moved: t.changed}
	} else {
		p.kind, p.moved = e.Type, t.changed
	}
	t.begun++
	t.meter.sent(e, t.stopped[e.RequestID])
	if strings.HasPrefix(e.Request.URL, "data:") || strings.HasPrefix(e.Request.URL, "blob:") {
		return
	}
	if e.Type == proto.NetworkResourceTypeDocument && e.FrameID == t.frame && e.RedirectResponse == nil {
		t.document = docResponse{from: len(t.requests)}
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
	if p := t.inFlight[e.RequestID]; p != nil {
		p.answered, p.moved = true, t.changed
	}
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

// received notes that a request brought something. What scripts read as it arrives may never end, so that only an answer counts there.
func (t *tab) received(id proto.NetworkRequestID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.inFlight[id]
	if p == nil || slices.Contains([]proto.NetworkResourceType{proto.NetworkResourceTypeFetch, proto.NetworkResourceTypeXHR, proto.NetworkResourceTypeEventSource}, p.kind) {
		return
	}
	p.moved = time.Now()
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

// explainFailure puts what happened in place of what the browser says of the proxy that is its way out: a failure of the site's host is
// that request's, what only Tide Marker could not do counts as not asked.
func (t *tab) explainFailure(id proto.NetworkRequestID, why string) string {
	if !byProxy(why) {
		return why
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	i, known := t.byID[id]
	if !known {
		return why
	}
	f := t.wayTo(t.requests[i].URL)
	if f.ours {
		t.requests[i].Blocked = true
		t.meter.of(id, func(r *waterfall.Fetch) { r.Refused = true })
	}
	t.requests[i].Unreachable = f.why
	return f.why
}

// byProxy reports whether an error of Chromium's network is about its proxy.
func byProxy(why string) bool {
	return strings.Contains(why, "ERR_SOCKS_") || strings.Contains(why, "ERR_PROXY_") || strings.Contains(why, "ERR_TUNNEL_")
}

// wayTo is why the way to an address failed.
func (t *tab) wayTo(address string) failure {
	if u, err := url.Parse(address); err == nil {
		if f, known := t.private.gate.failure(u); known {
			return f
		}
	}
	return failure{"Tide Marker's own way to it broke off", true}
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

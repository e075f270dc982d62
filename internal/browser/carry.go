package browser

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// A browser's cache ends with its process. What somebody's browser keeps between two visits hours apart is therefore kept as
// responses ([Visitor.Keep]) and given to another browser later ([Visitor.Carry]), for as long as a browser takes them without asking.

const (
	// mostCarried is how many responses are kept for later, and largestCarried how large one may be, in octets.
	mostCarried, largestCarried = 300, 4 << 20
	// longestFields is how long a response's address and fields together may be.
	longestFields = 32 << 10
)

// carried is a response that a browser has from earlier.
type carried struct {
	stored httpcache.Stored
	body   []byte
}

// dropped are the fields that say how a body was sent, and what no cache gives again.
var dropped = []string{"content-encoding", "content-length", "transfer-encoding", "set-cookie"}

// give answers a request with it.
func (c carried) give(to proto.FetchRequestID, page *rod.Page) {
	var fields []*proto.FetchHeaderEntry
	for name, lines := range c.stored.Fields {
		for _, line := range lines {
			if !slices.Contains(dropped, name) {
				fields = append(fields, &proto.FetchHeaderEntry{Name: name, Value: line})
			}
		}
	}
	_ = proto.FetchFulfillRequest{RequestID: to, ResponseCode: c.stored.Status, ResponseHeaders: fields, Body: c.body}.Call(page)
}

// Carry gives the visitor what a browser kept on an earlier day, as far as it would still take it at a time. body reads what
// was kept. It returns how many responses that are; those whose body is gone are left out.
func (v *Visitor) Carry(ctx context.Context, stored []httpcache.Stored, at time.Time, body func(ctx context.Context, sha string) ([]byte, error)) (n int) {
	v.carried = map[string]carried{}
	for _, s := range stored {
		if s.Device != v.device || !s.Serves(at) {
			continue
		}
		raw, err := body(ctx, s.Body)
		if err != nil {
			continue
		}
		v.carried[s.URL] = carried{s, raw}
	}
	return len(v.carried)
}

// keeping notes what a browser may keep of a page.
type keeping struct {
	responses map[proto.NetworkRequestID]httpcache.Stored
}

// notes notes a response that the browser keeps; t.mu is held.
func (t *tab) notes(e *proto.NetworkResponseReceived) {
	i, known := t.byID[e.RequestID]
	if t.keeping == nil || !known || t.requests[i].Method != "GET" || e.Response.Status != 200 || len(t.keeping.responses) >= mostCarried {
		return
	}
	s := httpcache.Stored{URL: e.Response.URL, Kind: t.requests[i].Kind, Status: e.Response.Status, Fields: httpcache.Header{}, Received: time.Now().UTC()}
	long := len(s.URL)
	for k, val := range e.Response.Headers {
		if name := strings.ToLower(k); name != "set-cookie" {
			for _, line := range strings.Split(val.String(), "\n") { // the browser joins fields of one name so
				s.Fields[name] = append(s.Fields[name], strings.ReplaceAll(strings.ToValidUTF8(line, ""), "\x00", ""))
				long += len(line)
			}
		}
	}
	if long <= longestFields && s.Lifetime() > 0 {
		t.keeping.responses[e.RequestID] = s
	}
}

// Keep opens a page as somebody who is there for the first time, and returns what their browser keeps of it for longer than the
// visit: bodies are kept with keep. A page that does not come keeps nothing; an error is returned when the context ended, or what
// came could not be kept.
func (v *Visitor) Keep(ctx context.Context, task site.PageTask, keep Keep) ([]httpcache.Stored, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	release, err := v.browser.acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	opening, cancel := context.WithTimeout(ctx, v.browser.opt.Timeout)
	defer cancel()
	t, err := openIn(opening, v.private, v.env, devices[v.device], State{}, true)
	if err != nil {
		return nil, ctx.Err()
	}
	defer t.close()
	t.mu.Lock()
	t.keeping = &keeping{map[proto.NetworkRequestID]httpcache.Stored{}}
	t.mu.Unlock()
	if err := t.stopClock(task.Clock); err == nil && t.request(task.Address()) == nil && t.unroll(quietLimit) == nil {
		_ = t.age(lifetime, quietLimit)
	}
	t.mu.Lock()
	noted := t.keeping.responses
	t.keeping = nil
	t.mu.Unlock()
	var out []httpcache.Stored
	for id, s := range noted {
		raw := t.body(id)
		if len(raw) == 0 || len(raw) > largestCarried {
			continue
		}
		if s.Body, err = keep(ctx, mediaType(s), raw); err != nil {
			return nil, fmt.Errorf("keep %s: %w", s.URL, err)
		}
		s.Device = v.device
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b httpcache.Stored) int { return strings.Compare(a.URL, b.URL) })
	return out, ctx.Err()
}

// mediaType is what a response says it is, without parameters.
func mediaType(s httpcache.Stored) string {
	said, _, _ := strings.Cut(s.Fields.Get("content-type"), ";")
	if said = strings.TrimSpace(said); said == "" {
		return "application/octet-stream"
	}
	return said
}

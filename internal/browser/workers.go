package browser

import (
	"context"
	"net/url"
	"sync"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/site"
)

// guard keeps service workers and shared workers to the hosts of their site. They are targets
// of their own, which no tab's interception sees; each waits at its start until its requests
// are held, and whoever belongs to no site reaches nothing.
type guard struct {
	browser *rod.Browser
	mu      sync.Mutex
	sites   map[proto.BrowserBrowserContextID]site.Environment
	held    map[proto.TargetSessionID]context.CancelFunc // workers whose requests are held
}

// workers is what a guard attaches to.
var workers = proto.TargetTargetFilter{{Type: "service_worker"}, {Type: "shared_worker"}, {Exclude: true}}

// newGuard begins to guard a browser, until it is closed.
func newGuard(b *rod.Browser) (*guard, error) {
	g := &guard{browser: b, sites: map[proto.BrowserBrowserContextID]site.Environment{}, held: map[proto.TargetSessionID]context.CancelFunc{}}
	watching := b.EachEvent(g.attached, g.detached)
	go watching()
	err := proto.TargetSetAutoAttach{AutoAttach: true, WaitForDebuggerOnStart: true, Flatten: true, Filter: workers}.Call(b)
	return g, err
}

// allow says whose hosts the workers of a private context may reach.
func (g *guard) allow(private proto.BrowserBrowserContextID, env site.Environment) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.sites[private] = env
}

// forget is for a context that has been disposed of.
func (g *guard) forget(private proto.BrowserBrowserContextID) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.sites, private)
}

func (g *guard) owns(private proto.BrowserBrowserContextID, address string) bool {
	g.mu.Lock()
	env, known := g.sites[private]
	g.mu.Unlock()
	u, err := url.Parse(address)
	if err != nil || !known {
		return false
	}
	return env.Owns(u) || u.Scheme == "data" || u.Scheme == "blob"
}

// attached holds the requests of a worker that has just begun, and lets it run then.
func (g *guard) attached(e *proto.TargetAttachedToTarget) {
	if e.TargetInfo.Type != "service_worker" && e.TargetInfo.Type != "shared_worker" {
		return
	}
	ctx, over := context.WithCancel(g.browser.GetContext())
	g.mu.Lock()
	g.held[e.SessionID] = over
	g.mu.Unlock()
	worker, private := g.browser.Context(ctx).PageFromSession(e.SessionID), e.TargetInfo.BrowserContextID
	deciding := worker.EachEvent(func(p *proto.FetchRequestPaused) {
		go func() {
			if g.owns(private, p.Request.URL) {
				_ = proto.FetchContinueRequest{RequestID: p.RequestID}.Call(worker)
			} else {
				_ = proto.FetchFailRequest{RequestID: p.RequestID, ErrorReason: proto.NetworkErrorReasonBlockedByClient}.Call(worker)
			}
		}()
	})
	go deciding()
	go func() {
		if err := (proto.FetchEnable{Patterns: []*proto.FetchRequestPattern{{URLPattern: "*"}}}).Call(worker); err == nil {
			_ = proto.RuntimeRunIfWaitingForDebugger{}.Call(worker) // one that cannot be held never begins
		}
	}()
}

// detached is for a worker that has ended.
func (g *guard) detached(e *proto.TargetDetachedFromTarget) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if over, held := g.held[e.SessionID]; held {
		over()
		delete(g.held, e.SessionID)
	}
}

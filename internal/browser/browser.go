package browser

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/status"
)

// Options say how a browser is run. The zero value finds Chromium on the PATH and
// opens four tabs at most.
type Options struct {
	Binary  string        // path of Chromium; found on the PATH when ""
	Tabs    int           // how many tabs at once; 0 means 4
	Timeout time.Duration // for one look at a page; 0 means 90 seconds

	opens time.Duration // how long a private context may take to open; 0 means 30 seconds
}

// Browser is a running Chromium. It is safe for concurrent use, and starts Chromium
// anew when it has died.
type Browser struct {
	opt   Options
	slots chan struct{}

	mu     sync.Mutex
	launch *running
	ways   []Confinement // what is tried to start it; one, once that has worked
	rod    *rod.Browser
	guard  *guard
	draws  *evidence.Renderer
	closed bool
}

// Start runs Chromium. It fails with a hint when none is installed.
func Start(opt Options) (*Browser, error) {
	if opt.Tabs == 0 {
		opt.Tabs = 4
	}
	if opt.Timeout == 0 {
		opt.Timeout = 90 * time.Second
	}
	if opt.opens == 0 {
		opt.opens = opensWithin
	}
	if opt.Binary == "" {
		var err error
		if opt.Binary, err = Find(); err != nil {
			return nil, err
		}
	}
	b := &Browser{opt: opt, ways: ways(), slots: make(chan struct{}, opt.Tabs)}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.connect(); err != nil {
		return nil, err
	}
	return b, nil
}

// Tabs is how many tabs are opened at once.
func (b *Browser) Tabs() int { return b.opt.Tabs }

// Renderer is what draws this browser's pictures.
func (b *Browser) Renderer() *evidence.Renderer {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.draws
}

// Confinement is how confined it runs.
func (b *Browser) Confinement() Confinement {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.launch.how
}

// connect starts Chromium; b.mu is held.
func (b *Browser) connect() error {
	l, err := start(b.opt.Binary, b.ways)
	if err != nil {
		return fmt.Errorf("start %s: %w", b.opt.Binary, err)
	}
	r := rod.New().ControlURL(l.url)
	if err := r.Connect(); err != nil {
		l.end()
		return fmt.Errorf("talk to %s: %w", b.opt.Binary, err)
	}
	draws, err := renderer(r)
	if err != nil {
		_ = r.Close()
		l.end()
		return fmt.Errorf("see what %s draws: %w", b.opt.Binary, err)
	}
	g, err := newGuard(r)
	if err != nil {
		_ = r.Close()
		l.end()
		return fmt.Errorf("watch over the workers of %s: %w", b.opt.Binary, err)
	}
	b.launch, b.rod, b.guard, b.draws, b.ways = l, r, g, draws, []Confinement{l.how}
	status.BrowsersStarted.Inc()
	return nil
}

// Close ends Chromium and removes its profile.
func (b *Browser) Close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return
	}
	b.closed = true
	b.end()
}

func (b *Browser) end() {
	_ = b.rod.Close()
	b.launch.end()
}

// private is a private context, which reaches the hosts of one environment.
type private struct {
	*rod.Browser
	guard *guard
	gate  *gate
}

// incognito opens a private context whose only way out is a gate, to loopback addresses too.
func incognito(r *rod.Browser, way *gate) (*rod.Browser, error) {
	res, err := proto.TargetCreateBrowserContext{ProxyServer: way.address(), ProxyBypassList: "<-loopback>"}.Call(r)
	if err != nil {
		return nil, err
	}
	opened := *r
	opened.BrowserContextID = res.BrowserContextID
	return &opened, nil
}

const (
	// opensWithin is how long a private context may take to open, and answersWithin how long Chromium may take to say that
	// it lives; a busy machine is slow, and no reason to end what others do with the browser.
	opensWithin, answersWithin = 30 * time.Second, 30 * time.Second
)

// context opens a private context for an environment. One that does not open harms no other: only when Chromium has died,
// or says nothing any more, it is started again.
func (b *Browser) context(env site.Environment) (*private, error) {
	r, g, err := b.running()
	if err != nil {
		return nil, err
	}
	way, err := openGate(env)
	if err != nil {
		return nil, err
	}
	opened, err := incognito(r.Timeout(b.opt.opens), way)
	if err != nil {
		if !lives(r) {
			if r, g, err = b.restarted(r); err != nil {
				way.close()
				return nil, err
			}
		}
		opened, err = incognito(r.Timeout(b.opt.opens), way) // once more
	}
	if err != nil {
		way.close()
		return nil, fmt.Errorf("open a private context within %s: %w", b.opt.opens, err)
	}
	opened = opened.CancelTimeout()
	if err := b.launched().limitMemory(); err != nil { // each time: a zygote may have come, or come again, since the last
		_ = proto.TargetDisposeBrowserContext{BrowserContextID: opened.BrowserContextID}.Call(opened)
		way.close()
		return nil, err
	}
	g.allow(opened.BrowserContextID, env)
	return &private{opened, g, way}, nil
}

// launched is the Chromium that runs.
func (b *Browser) launched() *running {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.launch
}

// lives tells whether a Chromium still answers.
func lives(r *rod.Browser) bool {
	_, err := proto.BrowserGetVersion{}.Call(r.Timeout(answersWithin))
	return err == nil
}

// running is the Chromium that runs now, and its guard.
func (b *Browser) running() (*rod.Browser, *guard, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return nil, nil, errors.New("the browser has been closed")
	}
	return b.rod, b.guard, nil
}

// restarted is a new Chromium in place of a dead one, unless somebody else has started it meanwhile.
func (b *Browser) restarted(dead *rod.Browser) (*rod.Browser, *guard, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return nil, nil, errors.New("the browser has been closed")
	}
	if b.rod == dead {
		b.end()
		if err := b.connect(); err != nil {
			return nil, nil, err
		}
	}
	return b.rod, b.guard, nil
}

// acquire waits for a free tab.
func (b *Browser) acquire(ctx context.Context) (release func(), err error) {
	select {
	case b.slots <- struct{}{}:
		status.TabsOpen.Inc()
		return func() { status.TabsOpen.Dec(); <-b.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// dispose removes a private context and all its tabs.
func (p *private) dispose() {
	if p.BrowserContextID != "" {
		_ = proto.TargetDisposeBrowserContext{BrowserContextID: p.BrowserContextID}.Call(p.Timeout(5 * time.Second))
	}
	p.guard.forget(p.BrowserContextID)
	p.gate.close()
}

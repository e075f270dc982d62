package browser

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/site"
)

// Options say how a browser is run. The zero value finds Chromium on the PATH and
// opens four tabs at most.
type Options struct {
	Binary  string        // path of Chromium; found on the PATH when ""
	Tabs    int           // how many tabs at once; 0 means 4
	Timeout time.Duration // for one look at a page; 0 means 90 seconds
}

// Browser is a running Chromium. It is safe for concurrent use, and starts Chromium
// anew when it has died.
type Browser struct {
	opt   Options
	slots chan struct{}

	mu     sync.Mutex
	launch *launcher.Launcher
	rod    *rod.Browser
	guard  *guard
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
	if opt.Binary == "" {
		var err error
		if opt.Binary, err = Find(); err != nil {
			return nil, err
		}
	}
	b := &Browser{opt: opt, slots: make(chan struct{}, opt.Tabs)}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.connect(); err != nil {
		return nil, err
	}
	return b, nil
}

// Tabs is how many tabs are opened at once.
func (b *Browser) Tabs() int { return b.opt.Tabs }

// connect starts Chromium; b.mu is held.
func (b *Browser) connect() error {
	l := Launcher(b.opt.Binary)
	url, err := l.Launch()
	if err != nil {
		return fmt.Errorf("start %s: %w", b.opt.Binary, err)
	}
	r := rod.New().ControlURL(url)
	if err := r.Connect(); err != nil {
		l.Kill()
		return fmt.Errorf("talk to %s: %w", b.opt.Binary, err)
	}
	g, err := newGuard(r)
	if err != nil {
		_ = r.Close()
		l.Kill()
		return fmt.Errorf("watch over the workers of %s: %w", b.opt.Binary, err)
	}
	b.launch, b.rod, b.guard = l, r, g
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
	b.launch.Kill()
	b.launch.Cleanup()
}

// private is a private context, which reaches the hosts of one environment.
type private struct {
	*rod.Browser
	guard *guard
}

// context opens a private context for an environment; when Chromium has died it is started
// again.
func (b *Browser) context(env site.Environment) (*private, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return nil, errors.New("the browser has been closed")
	}
	opened, err := b.rod.Timeout(10 * time.Second).Incognito()
	if err == nil {
		opened = opened.CancelTimeout()
	} else {
		b.end()
		if err := b.connect(); err != nil {
			return nil, err
		}
		if opened, err = b.rod.Incognito(); err != nil {
			return nil, fmt.Errorf("open a private context: %w", err)
		}
	}
	b.guard.allow(opened.BrowserContextID, env)
	return &private{opened, b.guard}, nil
}

// acquire waits for a free tab.
func (b *Browser) acquire(ctx context.Context) (release func(), err error) {
	select {
	case b.slots <- struct{}{}:
		return func() { <-b.slots }, nil
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
}

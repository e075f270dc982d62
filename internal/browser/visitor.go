package browser

import (
	"context"
	"fmt"
	"sync"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// Visitor is somebody's browser that stays: what pages, styles and scripts it was given, what
// it stored and which service workers it has are there when it comes again.
type Visitor struct {
	browser *Browser
	env     site.Environment
	device  string
	private *private
	carried map[string]carried // what it has from an earlier day
	mu      sync.Mutex         // one page after the other, as one person does
}

// Visitor is a browser of its own on a device, with nothing in it yet. It has to be closed.
func (b *Browser) Visitor(env site.Environment, deviceName string) (*Visitor, error) {
	if _, known := devices[deviceName]; !known {
		return nil, fmt.Errorf("there is no device %q", deviceName)
	}
	private, err := b.context(env)
	if err != nil {
		return nil, err
	}
	return &Visitor{browser: b, env: env, device: deviceName, private: private}, nil
}

// Close removes the browser with all that it kept.
func (v *Visitor) Close() { v.private.dispose() }

// Become gives the visitor what makes a browser a persona's: they sign in.
func (v *Visitor) Become(s State) error {
	if len(s.Cookies) == 0 {
		return nil
	}
	return proto.StorageSetCookies{Cookies: s.Cookies, BrowserContextID: v.private.BrowserContextID}.Call(v.private)
}

// Open opens a page and goes on, as somebody does who is there for the first time: what it is
// given stays in the browser. A page that does not come is no error; it is told of when it is
// looked at. An error is returned only when the context ended.
func (v *Visitor) Open(ctx context.Context, task site.PageTask) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	release, err := v.browser.acquire(ctx)
	if err != nil {
		return err
	}
	defer release()
	opening, cancel := context.WithTimeout(ctx, v.browser.opt.Timeout)
	defer cancel()
	if t, err := openIn(opening, v.private, v.env, devices[v.device], State{}, true); err == nil {
		defer t.close()
		t.carried = v.carried
		if err := t.stopClock(task.Clock); err == nil && t.request(task.Address()) == nil && t.unroll(quietLimit) == nil {
			_ = t.age(lifetime, quietLimit)
		}
	}
	return ctx.Err()
}

// Look looks at a page with what the browser has from earlier. It is made once: a second
// one would find what the first one left. An error is returned only when the context ended
// or the evidence could not be kept; otherwise the look says why it is missing.
func (v *Visitor) Look(ctx context.Context, task site.PageTask, state State, reader *httpcache.Reader, keep Keep) (evidence.PageLook, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := evidence.PageLook{Renderer: v.browser.Renderer(), Key: evidence.Key{Page: task.Page.Path, Persona: task.Persona, Device: v.device}, Class: task.Page.Class, Attempts: 1, Served: httpcache.Unknown}
	release, err := v.browser.acquire(ctx)
	if err != nil {
		return out, err
	}
	defer release()
	err = func() error {
		ctx, cancel := context.WithTimeout(ctx, v.browser.opt.Timeout)
		defer cancel()
		t, err := openIn(ctx, v.private, v.env, devices[v.device], State{Storage: state.Storage}, true)
		if err != nil {
			return err
		}
		defer t.close()
		t.carried = v.carried
		raw, err := t.look(task, reader, &out)
		if err != nil {
			return err
		}
		if out.Picture, err = kept(ctx, raw, keep); err != nil {
			return &notKept{fmt.Errorf("keep the picture of %s: %w", task.Page.Path, err)}
		}
		return nil
	}()
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	if err != nil {
		out.Missing = clip(err.Error())
	}
	return out, nil
}

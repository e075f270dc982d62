package browser

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
)

// A look runs in the browser's virtual time, the experimental part of the DevTools protocol
// (Emulation.setVirtualTimePolicy): the page's clock stands still while it waits for the
// network and jumps from one timer to the next otherwise. After the same span, clocks,
// intervals, animations and what a page does "three seconds later" stand at the same point
// in every look, however busy the machine is, and the span itself takes no time.
//
// What is painted is painted in real time: a frame takes as long as the machine needs, while the page's clock stands. Whatever
// depends on a frame (observers, decoding, what runs before a repaint) is therefore waited for by asking for frames ([tab.paint]), and
// whatever depends on timers or the network by letting the clock go on ([tab.age]). Neither is ever waited for by a real-time delay.
//
// How old a page is at each step, on its own clock; no whole seconds, at which timers fire.
const (
	// aMoment is a span in which a document is read on while nothing arrives.
	aMoment = 10 * time.Millisecond
	// firstPaint is the span in which a page is painted for the first time: six frames.
	firstPaint = 100 * time.Millisecond
	// lifetime is how old a page is before it is scrolled through.
	lifetime = 3350 * time.Millisecond
	// scrollPause is how long a visitor stays at each place, which is longer than scripts put off what they do while somebody scrolls
	// (common practice: 50 to 150 ms).
	scrollPause = 200 * time.Millisecond
	// settled is how old a page is when it has been scrolled through, however long it is: maxScrolls pauses and a second.
	settled = lifetime + maxScrolls*scrollPause + time.Second
	// maxScrolls is how often a page is scrolled at most.
	maxScrolls = 80
	// stalledSpan is in how long spans the clock goes on while something keeps a connection open, which would stop it for ever.
	stalledSpan = scrollPause
	// frameLimit is how long a frame may take, in real time.
	frameLimit = 10 * time.Second
)

// sameChance makes Math.random give the same numbers in every look: mulberry32, a
// generator of 32 bits in the public domain (from memory). What asks for keys and tokens uses
// crypto.getRandomValues, which is left as it is.
const sameChance = `(() => { let a = 1; Math.random = () => { a = (a + 0x6d2b79f5) | 0;
	let t = Math.imul(a ^ (a >>> 15), 1 | a); t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t; return ((t ^ (t >>> 14)) >>> 0) / 4294967296; }; })();`

// idleTime makes idle callbacks timers: between jumps of the page's clock Chromium is never idle. The time that is left shrinks with each
// question (requestIdleCallback, W3C: at most 50 ms), since the clock stands while a callback runs.
const idleTime = `(() => { const later = window.setTimeout.bind(window), never = window.clearTimeout.bind(window);
	window.requestIdleCallback = (f) => later(() => { let left = 50; f({ didTimeout: false, timeRemaining: () => Math.max(0, left--) }); }, 20);
	window.cancelIdleCallback = never; })();`

// stopClock makes the page's time stand still from its next document on, at a given
// moment, or at the real one when that is zero, and its chance the same each time.
func (t *tab) stopClock(at time.Time) error {
	if at.IsZero() {
		at = time.Now()
	}
	t.mu.Lock()
	t.pictures = make(chan struct{})
	t.mu.Unlock()
	if _, err := (proto.PageAddScriptToEvaluateOnNewDocument{Source: sameChance + idleTime}).Call(t.page); err != nil {
		return fmt.Errorf("set the page's chance and idle time: %w", err)
	}
	_, err := proto.EmulationSetVirtualTimePolicy{Policy: proto.EmulationVirtualTimePolicyPause,
		InitialVirtualTime: proto.TimeSinceEpoch(float64(at.UnixMilli()) / 1000)}.Call(t.page)
	if err != nil {
		return fmt.Errorf("stop the page's clock: %w", err)
	}
	return nil
}

// let gives the page a span of its own time, in which its timers fire. The channel is closed when the span has ended.
func (t *tab) let(span time.Duration, policy proto.EmulationVirtualTimePolicy) (expired <-chan struct{}, err error) {
	ended := make(chan struct{})
	t.mu.Lock()
	t.expired = ended
	t.mu.Unlock()
	ms := float64(span.Milliseconds())
	if _, err := (proto.EmulationSetVirtualTimePolicy{Policy: policy, Budget: &ms}).Call(t.page); err != nil {
		return nil, fmt.Errorf("let the page's clock go on: %w", err)
	}
	return ended, nil
}

// unroll lets the document arrive, with its styles and scripts and without its pictures, until it has been read and painted once.
//
// The clock waits for the network, but not for pictures, which are held back until the end of it. While a document's head is read
// Chromium has only two requests of low priority under way and queues the others, scripts in the body among them; with the clock
// waiting for two pictures that are held back, the head would never end. So what Chromium queues behind them is not waited for, either.
func (t *tab) unroll(limit time.Duration) error {
	began := time.Now()
	for {
		network, read := t.progress()
		if !network && read {
			break
		}
		policy := proto.EmulationVirtualTimePolicyPauseIfNetworkFetchesPending
		if !network {
			policy = proto.EmulationVirtualTimePolicyAdvance
		}
		expired, err := t.let(aMoment, policy)
		if err != nil {
			return err
		}
		if _, err := t.until(expired, quietPoll); err != nil {
			return err
		}
		if time.Since(began) > limit {
			return fmt.Errorf("the page did not finish loading within %s", limit)
		}
	}
	expired, err := t.let(firstPaint, proto.EmulationVirtualTimePolicyAdvance)
	if err != nil {
		return err
	}
	if _, err := t.until(expired, limit); err != nil {
		return err
	}
	if err := t.paint(); err != nil {
		return err
	}
	t.mu.Lock()
	close(t.pictures)
	t.pictures = nil
	t.mu.Unlock()
	return nil
}

// until waits until a span has ended, though no longer than the limit.
func (t *tab) until(expired <-chan struct{}, limit time.Duration) (ended bool, err error) {
	defer t.spend(t.waitsFor())()
	select {
	case <-expired:
		return true, nil
	case <-time.After(limit):
		return false, nil
	case <-t.crashed:
		return false, t.explain(nil)
	case <-t.page.GetContext().Done():
		return false, t.explain(t.page.GetContext().Err())
	}
}

// queuedFor is how long a request has not been let go by Chromium before it counts as queued behind held pictures.
const queuedFor = 50 * time.Millisecond

// progress reports whether the network is to bring something that is not a picture, and whether the document has been read to its end.
func (t *tab) progress() (network, read bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	held := 0
	for _, p := range t.inFlight {
		if p.held {
			held++
		}
	}
	for _, p := range t.inFlight {
		queued := !p.out && held > 1 && time.Since(p.moved) > queuedFor
		if p.kind != proto.NetworkResourceTypeImage && !p.stalled() && !queued {
			return true, t.read
		}
	}
	return false, t.read
}

// age lets the page grow older until its own clock is at a point, in time since its navigation began. Its clock waits for the
// network, though not for what has stalled. A page that does not get there within the limit is an error.
func (t *tab) age(at, limit time.Duration) error {
	began := time.Now()
	for {
		now, err := t.now(limit)
		if err != nil {
			return err
		}
		left := at - now
		if left < time.Millisecond {
			return nil
		}
		policy := proto.EmulationVirtualTimePolicyPauseIfNetworkFetchesPending
		if active, stalled := t.traffic(); stalled && !active {
			policy, left = proto.EmulationVirtualTimePolicyAdvance, min(left, stalledSpan)
		}
		expired, err := t.let(left, policy)
		if err != nil {
			return err
		}
		for over := false; !over; {
			if over, err = t.until(expired, quietPoll); err != nil {
				return err
			}
			if active, stalled := t.traffic(); stalled && !active && policy != proto.EmulationVirtualTimePolicyAdvance {
				over = true // from here on in spans, past what has stalled
			}
			if time.Since(began) > limit {
				return fmt.Errorf("the page did not finish loading within %s", limit)
			}
		}
	}
}

// now is how old the page is by its own clock.
func (t *tab) now(limit time.Duration) (time.Duration, error) {
	defer t.spend(&t.spent.Reading)()
	res, err := t.page.Timeout(limit).Evaluate(rod.Eval(`() => performance.now()`))
	if err != nil {
		return 0, fmt.Errorf("the page could not be read: %w", t.explain(err))
	}
	return time.Duration(res.Value.Num() * float64(time.Millisecond)), nil
}

// traffic reports whether the network is to bring something, and whether something has stalled.
func (t *tab) traffic() (active, stalled bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, p := range t.inFlight {
		if p.stalled() {
			stalled = true
		} else {
			active = true
		}
	}
	return active, stalled
}

// paint waits, in real time and while the page's clock stands, until Chromium has painted twice: what observes the page has seen it
// as it is then. A page that paints nothing within [frameLimit] is taken as it is, and that is noted.
func (t *tab) paint() error {
	defer t.spend(&t.spent.Painting)()
	_, err := t.page.Timeout(frameLimit).Evaluate(rod.Eval(`() => (window.__tideMarker ? window.__tideMarker.painted() : true)`).ByPromise())
	return t.unpainted(err)
}

// unpainted turns the error of a wait for frames into a note, unless the tab is lost.
func (t *tab) unpainted(err error) error {
	if err == nil {
		return nil
	}
	if t.page.GetContext().Err() != nil || t.harmed() != nil {
		return t.explain(err)
	}
	select {
	case <-t.crashed:
		return t.explain(err)
	default:
	}
	if errors.Is(err, context.DeadlineExceeded) {
		t.noteTrouble(fmt.Sprintf("the browser painted no frame within %s", frameLimit))
		return nil
	}
	return nil // a document that is being replaced
}

// spend counts the time until the returned function is called.
func (t *tab) spend(on *float64) func() {
	began := time.Now()
	return func() { *on += float64(time.Since(began).Microseconds()) / 1000 }
}

// waitsFor is what a wait counts as: the network, when it is to bring something; our own patience, when something has stalled or is
// held back; else the page's own clock.
func (t *tab) waitsFor() *float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	kept := false
	for _, p := range t.inFlight {
		switch {
		case p.out && !p.held && !p.stalled() && !p.answered, p.answered && time.Since(p.moved) < 10*quietPoll:
			return &t.spent.Network
		default:
			kept = true
		}
	}
	if kept {
		return &t.spent.Waiting
	}
	return &t.spent.Clock
}

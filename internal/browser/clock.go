package browser

import (
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
// How old a page is at each step, on its own clock; no whole seconds, at which timers fire.
const (
	// aMoment is a span in which a document is read on while nothing comes.
	aMoment = 10 * time.Millisecond
	// firstDraw is the span in which a page is drawn for the first time: six frames.
	firstDraw = 100 * time.Millisecond
	// lifetime is how old a page is before it is scrolled through.
	lifetime = 3350 * time.Millisecond
	// settled is how old it is at most when it has been scrolled through and its pictures have come.
	settled = 9350 * time.Millisecond
	// networkPatience is how long the network may hold the page's clock after it has loaded.
	// A page that keeps a connection open, such as a stream of events, would never grow older.
	networkPatience = 2 * time.Second
)

// sameChance makes Math.random give the same numbers in every look: mulberry32, a
// generator of 32 bits in the public domain (from memory). What asks for keys and tokens uses
// crypto.getRandomValues, which is left as it is.
const sameChance = `(() => { let a = 1; Math.random = () => { a = (a + 0x6d2b79f5) | 0;
	let t = Math.imul(a ^ (a >>> 15), 1 | a); t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t; return ((t ^ (t >>> 14)) >>> 0) / 4294967296; }; })();`

// stopClock makes the page's time stand still from its next document on, at a given
// moment, or at the real one when that is zero, and its chance the same each time.
func (t *tab) stopClock(at time.Time) error {
	if at.IsZero() {
		at = time.Now()
	}
	if _, err := (proto.PageAddScriptToEvaluateOnNewDocument{Source: sameChance}).Call(t.page); err != nil {
		return fmt.Errorf("set the page's chance: %w", err)
	}
	_, err := proto.EmulationSetVirtualTimePolicy{Policy: proto.EmulationVirtualTimePolicyPause,
		InitialVirtualTime: proto.TimeSinceEpoch(float64(at.UnixMilli()) / 1000)}.Call(t.page)
	if err != nil {
		return fmt.Errorf("stop the page's clock: %w", err)
	}
	return nil
}

// let gives the page a span of its own time, in which its timers fire; the clock waits for
// the network. spent is closed when the span is over.
func (t *tab) let(span time.Duration, policy proto.EmulationVirtualTimePolicy) (spent <-chan struct{}, err error) {
	over := make(chan struct{})
	t.mu.Lock()
	t.spent = over
	t.mu.Unlock()
	ms := float64(span.Milliseconds())
	if _, err := (proto.EmulationSetVirtualTimePolicy{Policy: policy, Budget: &ms}).Call(t.page); err != nil {
		return nil, fmt.Errorf("let the page's clock go on: %w", err)
	}
	return over, nil
}

// unroll lets the document come, with its styles and scripts and without its pictures,
// until it has been drawn once. The clock waits for what the network brings, but not for
// pictures, which wait for the first draw themselves.
func (t *tab) unroll(limit time.Duration) error {
	began := time.Now()
	for {
		onlyPictures, read := t.progress()
		if onlyPictures && read {
			break
		}
		policy := proto.EmulationVirtualTimePolicyPauseIfNetworkFetchesPending
		if onlyPictures {
			policy = proto.EmulationVirtualTimePolicyAdvance
		}
		spent, err := t.let(aMoment, policy)
		if err != nil {
			return err
		}
		if err := t.until(spent, quietPoll); err != nil {
			return err
		}
		if time.Since(began) > limit {
			return fmt.Errorf("the page did not finish loading within %s", limit)
		}
	}
	spent, err := t.let(firstDraw, proto.EmulationVirtualTimePolicyAdvance)
	if err != nil {
		return err
	}
	if err := t.until(spent, limit); err != nil {
		return err
	}
	t.mu.Lock()
	once, drawn := t.drawOnce, t.drawn
	t.mu.Unlock()
	// What is drawn is drawn in real time: the next frame is some milliseconds away.
	if err := t.until(drawn, 500*time.Millisecond); err != nil {
		return err
	}
	once.Do(func() { close(drawn) })
	return nil
}

// until waits until a span is over, though no longer than the limit.
func (t *tab) until(spent <-chan struct{}, limit time.Duration) error {
	select {
	case <-spent:
		return nil
	case <-time.After(limit):
		return nil
	case <-t.crashed:
		return t.explain(nil)
	case <-t.page.GetContext().Done():
		return t.explain(t.page.GetContext().Err())
	}
}

// progress tells whether nothing but pictures is under way, and whether the document
// was read to its end.
func (t *tab) progress() (onlyPictures, read bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, kind := range t.inFlight {
		if kind != proto.NetworkResourceTypeImage && (!t.read || time.Since(t.changed) < networkPatience) {
			return false, t.read
		}
	}
	return true, t.read
}

// age lets the page grow older until its own clock is at a point, in time since its
// navigation began. A page that keeps the network busy for ever is not waited for beyond
// [networkPatience] once it has loaded; one that does not load within the limit is an
// error.
func (t *tab) age(at, limit time.Duration) error {
	began, policy := time.Now(), proto.EmulationVirtualTimePolicyPauseIfNetworkFetchesPending
	for {
		res, err := t.page.Timeout(limit).Evaluate(rod.Eval(`() => performance.now()`))
		if err != nil {
			return fmt.Errorf("the page could not be read: %w", t.explain(err))
		}
		left := at - time.Duration(res.Value.Num()*float64(time.Millisecond))
		if left < time.Millisecond {
			return nil
		}
		spent, err := t.let(left, policy)
		if err != nil {
			return err
		}
		for over := false; !over; {
			if err := t.until(spent, quietPoll); err != nil {
				return err
			}
			select {
			case <-spent:
				over = true
			default:
			}
			if !over && policy != proto.EmulationVirtualTimePolicyAdvance && t.onlyWaits() {
				policy, over = proto.EmulationVirtualTimePolicyAdvance, true
			}
			if time.Since(began) > limit {
				return fmt.Errorf("the page did not finish loading within %s", limit)
			}
		}
	}
}

// onlyWaits tells whether the document has loaded and its network has brought nothing for
// a while, though something is still under way.
func (t *tab) onlyWaits() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.loaded && len(t.inFlight) > 0 && time.Since(t.changed) > networkPatience
}

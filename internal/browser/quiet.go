package browser

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"time"

	"github.com/go-rod/rod"
)

//go:embed js/quiet.js
var quietJS string

// explain turns an error of the protocol into what a person can act on.
func (t *tab) explain(err error) error {
	if harm := t.harmed(); err != nil && harm != nil {
		return harm
	}
	select {
	case <-t.crashed:
		return errors.New("the page crashed its tab")
	default:
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return errors.New("the page did not answer in time")
	}
	return err
}

// quiet waits until the document is loaded, no request is under way and the page has
// stopped changing. A page that never stops is taken as it is after a while; one that
// does not load within the limit is an error.
func (t *tab) quiet(limit time.Duration) error {
	began := time.Now()
	var loadedAt time.Time
	for {
		res, err := t.page.Timeout(5 * time.Second).Evaluate(rod.Eval(quietJS, quietFor.Milliseconds(), quietPatience.Milliseconds()).ByPromise())
		if err != nil {
			if time.Since(began) > limit {
				return fmt.Errorf("the page did not answer within %s", limit)
			}
			if err := t.rest(quietPoll); err != nil {
				return err
			}
			continue // between two documents
		}
		state := res.Value
		if state.Get("ready").Str() == "complete" && loadedAt.IsZero() {
			loadedAt = time.Now()
		}
		t.mu.Lock()
		still := len(t.inFlight) == 0 && time.Since(t.changed) >= quietFor
		t.mu.Unlock()
		still = still && state.Get("since").Num() >= float64(quietFor.Milliseconds())
		switch {
		case !loadedAt.IsZero() && (still || time.Since(loadedAt) > busyLimit):
			return nil
		case time.Since(began) > limit:
			return fmt.Errorf("the page did not finish loading within %s", limit)
		}
		if err := t.rest(quietPoll); err != nil {
			return err
		}
	}
}

// touch notes that something was done to the page: it is not quiet until what follows
// has had its time to begin.
func (t *tab) touch() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changed = time.Now()
}

// rest waits a moment, unless the tab has crashed or the look is over.
func (t *tab) rest(d time.Duration) error {
	select {
	case <-t.crashed:
		return errors.New("the page crashed its tab")
	case <-t.page.GetContext().Done():
		return t.explain(t.page.GetContext().Err())
	case <-time.After(d):
		return nil
	}
}

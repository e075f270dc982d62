package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
)

// reaction is how long a page took from an input until it was drawn again (W3C Event Timing).
type reaction struct {
	Of   int     `json:"of"`   // the interaction, which has several events
	Took float64 `json:"took"` // milliseconds, to the next 8
	Name string  `json:"name"` // of what was used
}

// reactedBinding is the function by which a page says how long it took.
const reactedBinding = "__tideReacted"

// quickest is the delay, in milliseconds, below which the browser tells nothing of an input.
const quickest = 16

func (t *tab) reacted(e *proto.RuntimeBindingCalled) {
	var r reaction
	if e.Name != reactedBinding || json.Unmarshal([]byte(e.Payload), &r) != nil || r.Took < 0 || r.Took > 1e6 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	r.Name = clip(r.Name)
	switch {
	case r.Took > t.slowest.Took:
		t.slowest = r
	case r.Of == t.slowest.Of && t.slowest.Name == "": // not each event says what it was for
		t.slowest.Name = r.Name
	}
}

// React takes a journey slowed down by the device's profile, and measures the longest that a page took to react to
// one of its steps. What could not be measured says why in Dropped; an error is returned only when the
// context ended.
func (b *Browser) React(ctx context.Context, env site.Environment, task site.JourneyTask, state State) (measure.Load, error) {
	out := measure.Load{Page: task.Journey.StartPage(), Journey: task.Journey.Name, Case: measure.Case{Persona: task.Journey.Persona, Device: task.Device, Visit: measure.First}}
	release, err := b.acquire(ctx)
	if err != nil {
		return out, err
	}
	defer release()
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout+pauses(task.Journey.Steps))
	defer cancel()
	if err := b.react(ctx, env, task, state, &out); err != nil {
		if whole.Err() != nil {
			return out, whole.Err()
		}
		out.Dropped = clip(err.Error())
	}
	return out, nil
}

func (b *Browser) react(ctx context.Context, env site.Environment, task site.JourneyTask, state State, out *measure.Load) error {
	t, err := b.open(ctx, env, task.Device, state)
	if err != nil {
		return err
	}
	defer t.close()
	if t.outbox, err = watchOutbox(ctx, env.Outbox, task.Journey.Steps); err != nil {
		return err
	}
	if err := (proto.RuntimeAddBinding{Name: reactedBinding}).Call(t.page); err != nil {
		return err
	}
	if err := t.slowDown(profiles[task.Device]); err != nil {
		return err
	}
	inputs := 0
	for i, s := range task.Journey.Steps {
		if s.Click != nil || s.Fill != nil || s.Press != "" || s.Choose != nil {
			inputs++
		}
		if err := t.step(s); err != nil {
			if no, is := errors.AsType[*notSo](err); is {
				return fmt.Errorf("step %d of %s does not hold: %s", i+1, task.Journey.Name, no.why)
			}
			return fmt.Errorf("step %d of %s: %w", i+1, task.Journey.Name, err)
		}
	}
	if inputs == 0 {
		return errors.New("it has no step that a page could react to")
	}
	// What the last step did is told with the next frame that is drawn.
	if _, err := t.page.Timeout(2 * time.Second).Evaluate(rod.Eval(`() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done, 50))))`).ByPromise()); err != nil {
		return t.explain(err)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	out.Element = t.slowest.Name
	out.Values = map[measure.Metric]float64{measure.Interaction: max(quickest, t.slowest.Took)}
	return nil
}

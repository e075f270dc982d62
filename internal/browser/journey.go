package browser

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
)

// How long a step may take to become possible or true: at least so long, and at least
// so many times looked, so that a machine that is slow at the moment does not make a
// page look broken.
const (
	stepLimit = 4 * time.Second
	stepPoll  = 50 * time.Millisecond
	stepLooks = 40
)

// patience counts how long and how often a step has been waited for.
type patience struct {
	began time.Time
	looks int
}

func (p *patience) over() bool {
	p.looks++
	return p.looks > stepLooks && time.Since(p.began) > stepLimit
}

// Take takes a journey on a device, in a private context with the persona's state.
// It ends at the first step that does not hold. What could not be taken at all is
// tried once more.
func (b *Browser) Take(ctx context.Context, env site.Environment, task site.JourneyTask, state State, keep Keep) (evidence.JourneyLook, error) {
	_, look, err := b.become(ctx, env, task.Journey, task.Device, state, keep)
	look.Cookies = nil
	return look, err
}

// Prepare makes a persona ready, such as by signing in or filling a cart, and returns
// what makes a browser that persona's. The look says how the steps went; when one
// did not hold, the state is not usable.
func (b *Browser) Prepare(ctx context.Context, env site.Environment, p site.Persona, deviceName string, keep Keep) (State, evidence.JourneyLook, error) {
	if len(p.Prepare) == 0 {
		j := journey.Journey{Name: "getting ready as " + p.Name}
		return State{}, evidence.JourneyLook{Attempts: 1, Key: evidence.Key{Page: j.StartPage(), Journey: j.Name, Persona: p.Name, Device: deviceName}}, nil
	}
	return b.become(ctx, env, journey.Journey{Name: "getting ready as " + p.Name, Persona: p.Name, Steps: p.Prepare}, deviceName, State{}, keep)
}

// SignOut carries out the steps with which a persona signs out, and returns what the
// browser has left then. Where they go wrong is in the look.
func (b *Browser) SignOut(ctx context.Context, env site.Environment, p site.Persona, deviceName string, state State, keep Keep) (State, evidence.JourneyLook, error) {
	return b.become(ctx, env, journey.Journey{Name: "signing out as " + p.Name, Persona: p.Name, Steps: p.SignOut}, deviceName, state, keep)
}

// become takes steps from one state of a browser to the next.
func (b *Browser) become(ctx context.Context, env site.Environment, j journey.Journey, deviceName string, from State, keep Keep) (to State, look evidence.JourneyLook, err error) {
	release, err := b.acquire(ctx)
	if err != nil {
		return State{}, look, err
	}
	defer release()
	var earlier []evidence.Attempt
	missing, err := twice(ctx, func(attempt int) error {
		look = evidence.JourneyLook{Attempts: attempt, Earlier: earlier, Key: evidence.Key{Page: j.StartPage(), Journey: j.Name, Persona: j.Persona, Device: deviceName}}
		state, err := b.run(ctx, env, deviceName, j.Steps, from, keep, &look)
		if err != nil {
			earlier = append(earlier, attempted(err, look.Errors, look.Console, look.Requests))
			return err
		}
		if f := look.Outcome.Failed(); f >= 0 {
			look.Page = j.PageAt(f)
		}
		to, look.Cookies = state, state.names()
		return nil
	})
	look.Missing = missing
	return to, look, err
}

// notKept says that evidence could not be kept, which is nobody's fault on the site.
type notKept struct{ error }

func (e *notKept) Unwrap() error { return e.error }

// twice does something, and once more in a new context when it could not be done; then
// it says why it is missing. An error is returned only when the context ended or the
// evidence could not be kept.
func twice(ctx context.Context, do func(attempt int) error) (missing string, err error) {
	for attempt := 1; attempt <= 2; attempt++ {
		if err = do(attempt); err == nil {
			return "", nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if lost, ok := errors.AsType[*notKept](err); ok {
			return "", lost
		}
		missing = clip(err.Error())
	}
	return missing, nil
}

// run carries steps out in a new context. A step that does not hold is an outcome; an
// error means that the steps could not be carried out at all.
func (b *Browser) run(ctx context.Context, env site.Environment, deviceName string, steps []journey.Step, state State, keep Keep, out *evidence.JourneyLook) (State, error) {
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout+pauses(steps))
	defer cancel()
	t, err := b.open(ctx, env, deviceName, state)
	if err != nil {
		return State{}, err
	}
	defer t.close()
	if t.outbox, err = watchOutbox(ctx, env.Outbox, steps); err != nil {
		return State{}, err
	}
	var secrets []string
	defer func() { t.report(out, secrets) }()
	for i, s := range steps {
		began := time.Now()
		o := journey.StepOutcome{Passed: true}
		err := t.step(s)
		if s.Fill != nil && !t.telling {
			s = s.Kept()
			if err == nil {
				secrets = append(secrets, s.Fill.Value)
			}
		}
		if err != nil {
			failed, ok := errors.AsType[*notSo](err)
			if !ok {
				return State{}, fmt.Errorf("step %d (%s): %w", i+1, s, err)
			}
			o.Passed, o.Why = false, journey.Redact(clip(failed.why), secrets)
		}
		o.Step = s.String()
		o.Took = float64(time.Since(began).Microseconds()) / 1000
		o.At = journey.Redact(t.at(), secrets)
		if keep != nil && (!o.Passed || s.Expect != nil || i == len(steps)-1) {
			raw, err := t.shoot(0, 0)
			if err != nil {
				return State{}, err
			}
			if o.Picture, err = keep(ctx, "image/png", raw); err != nil {
				return State{}, &notKept{fmt.Errorf("keep a picture of step %d: %w", i+1, err)}
			}
		}
		out.Outcome.Steps = append(out.Outcome.Steps, o)
		if !o.Passed {
			break
		}
	}
	return t.state(), nil
}

// report puts what went on while steps were taken into the look, without the secrets that were filled in.
func (t *tab) report(out *evidence.JourneyLook, secrets []string) {
	out.Requests, out.Errors, out.Console, _ = t.snapshot()
	for i := range out.Requests {
		out.Requests[i].URL, out.Requests[i].From = journey.Redact(out.Requests[i].URL, secrets), journey.Redact(out.Requests[i].From, secrets)
	}
	for i := range out.Errors {
		e := &out.Errors[i]
		e.Message, e.Source = journey.Redact(e.Message, secrets), journey.Redact(e.Source, secrets)
		for n := range e.By {
			e.By[n] = journey.Redact(e.By[n], secrets)
		}
	}
	for i := range out.Console {
		out.Console[i] = journey.Redact(out.Console[i], secrets)
	}
}

// pauses is how long steps may take together beyond one look: what they wait on
// purpose, and the patience for each.
func pauses(steps []journey.Step) time.Duration {
	total := time.Duration(len(steps)) * 3 * stepLimit
	for _, s := range steps {
		if s.Wait != nil {
			total += time.Duration(s.Wait.Milliseconds) * time.Millisecond
		}
	}
	return total
}

// notSo is the error of a step that was carried out, or tried, and did not hold.
type notSo struct{ why string }

func (e *notSo) Error() string { return e.why }

func (t *tab) at() string {
	res, err := t.page.Timeout(2 * time.Second).Evaluate(rod.Eval(`() => location.pathname + location.search`))
	if err != nil {
		return ""
	}
	return clip(res.Value.Str())
}

// state is what makes a browser this persona's.
func (t *tab) state() State {
	s := State{Storage: map[string]Stored{}}
	if res, err := (proto.StorageGetCookies{BrowserContextID: t.private.BrowserContextID}).Call(t.private); err == nil {
		s.Cookies = proto.CookiesToParams(res.Cookies)
	}
	res, err := t.page.Timeout(2 * time.Second).Evaluate(rod.Eval(`() => ({ origin: location.origin, local: Object.assign({}, localStorage), session: Object.assign({}, sessionStorage) })`))
	if err != nil {
		return s // a page that may store nothing, such as one that was not opened
	}
	texts := func(member string) map[string]string {
		out := map[string]string{}
		for k, v := range res.Value.Get(member).Map() {
			if k != storageGiven {
				out[k] = v.Str()
			}
		}
		return out
	}
	if had := (Stored{texts("local"), texts("session")}); len(had.Local)+len(had.Session) > 0 {
		s.Storage[res.Value.Get("origin").Str()] = had
	}
	return s
}

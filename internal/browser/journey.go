package browser

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
)

//go:embed js/find.js
var findJS string

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
	missing, err := twice(ctx, func(attempt int) error {
		look = evidence.JourneyLook{Attempts: attempt, Key: evidence.Key{Page: j.StartPage(), Journey: j.Name, Persona: j.Persona, Device: deviceName}}
		state, err := b.run(ctx, env, deviceName, j.Steps, from, keep, &look)
		if err != nil {
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
	var secrets []string
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
	out.Requests, out.Errors, _, _ = t.snapshot()
	for i := range out.Requests {
		out.Requests[i].URL = journey.Redact(out.Requests[i].URL, secrets)
	}
	for i := range out.Errors {
		e := &out.Errors[i]
		e.Message, e.Source = journey.Redact(e.Message, secrets), journey.Redact(e.Source, secrets)
	}
	return t.state(), nil
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

func (t *tab) step(s journey.Step) error {
	switch {
	case s.Go != "":
		return t.navigate(s.Go)
	case s.Click != nil:
		return t.act(*s.Click, t.click)
	case s.Hover != nil:
		return t.act(*s.Hover, t.hover)
	case s.ScrollTo != nil:
		return t.act(*s.ScrollTo, func(el *rod.Element) error { return el.ScrollIntoView() })
	case s.Press != "":
		return t.press(s.Press)
	case s.Fill != nil:
		t.telling = false // until the field is known not to be for a secret
		return t.act(s.Fill.In, func(el *rod.Element) error {
			secret, err := el.Eval(`() => this.type === "password" || /(^|\s)(current-password|new-password|one-time-code|cc-[a-z-]+)(\s|$)/.test(this.autocomplete || "")`)
			if err != nil {
				return err
			}
			t.telling = !s.Fill.Secret && !secret.Value.Bool()
			if !t.telling { // pictures are kept: it is drawn as dots, whatever kind of field it is
				if _, err := el.Eval(`() => this.style.setProperty("-webkit-text-security", "disc", "important")`); err != nil {
					return err
				}
			}
			return fill(el, s.Fill.Value)
		})
	case s.Choose != nil:
		return t.act(s.Choose.In, func(el *rod.Element) error { return choose(el, s.Choose.Value) })
	case s.Wait != nil:
		select {
		case <-time.After(time.Duration(s.Wait.Milliseconds) * time.Millisecond):
			return nil
		case <-t.page.GetContext().Done():
			return t.page.GetContext().Err()
		}
	case s.Expect != nil:
		return t.expect(*s.Expect)
	}
	return errors.New("the step says nothing to do")
}

// act waits until the target is there and visible, does something to it and waits
// for what follows.
func (t *tab) act(target journey.Target, do func(*rod.Element) error) error {
	wait := patience{began: time.Now()}
	for {
		el, err := t.first(target)
		if err == nil && el != nil {
			t.touch()
			if err = do(el); err == nil {
				t.touch()
				return t.quiet(quietLimit)
			}
			if no, ok := errors.AsType[*notSo](err); ok {
				return no
			}
		}
		if wait.over() {
			if err != nil {
				return &notSo{fmt.Sprintf("%s could not be used: %v", target, t.explain(err))}
			}
			return &notSo{fmt.Sprintf("%s is not there, or not visible", target)}
		}
		if err := t.rest(stepPoll); err != nil {
			return err
		}
	}
}

// click uses a finger on a touch device and a mouse elsewhere.
func (t *tab) click(el *rod.Element) error {
	pt, err := reach(el)
	if err != nil {
		return err
	}
	if t.dev.touch {
		return t.pressing(func() error { return t.page.Touch.Tap(pt.X, pt.Y) })
	}
	if err := t.page.Mouse.MoveTo(*pt); err != nil {
		return err
	}
	return t.pressing(func() error { return t.page.Mouse.Click(proto.InputMouseButtonLeft, 1) })
}

func (t *tab) hover(el *rod.Element) error {
	pt, err := reach(el)
	if err != nil {
		return err
	}
	return t.page.Mouse.MoveTo(*pt)
}

// reach scrolls an element into view and returns a point inside it.
func reach(el *rod.Element) (*proto.Point, error) {
	if err := el.ScrollIntoView(); err != nil {
		return nil, err
	}
	shape, err := el.Shape()
	if err != nil {
		return nil, err
	}
	pt := shape.OnePointInside()
	if pt == nil {
		return nil, errors.New("it has no area")
	}
	return pt, nil
}

func fill(el *rod.Element, value string) error {
	if err := el.SelectAllText(); err != nil {
		return err
	}
	return el.Input(value)
}

// choose selects an option by its value, or by its text.
func choose(el *rod.Element, value string) error {
	res, err := el.Eval(`(want) => {
		const fold = (s) => s.replace(/\s+/g, " ").trim();
		const options = Array.from(this.options || []);
		const found = options.find((o) => o.value === want) || options.find((o) => fold(o.textContent) === want);
		if (!found) return false;
		this.value = found.value;
		found.selected = true;
		this.dispatchEvent(new Event("input", { bubbles: true }));
		this.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	}`, value)
	if err != nil {
		return err
	}
	if !res.Value.Bool() {
		return &notSo{fmt.Sprintf("there is no option “%s”", value)}
	}
	return nil
}

// keys are the key names of the UI Events standard that are not a single character.
var keys = map[string]input.Key{
	"Enter": input.Enter, "Tab": input.Tab, "Escape": input.Escape, "Backspace": input.Backspace, "Delete": input.Delete,
	"ArrowLeft": input.ArrowLeft, "ArrowRight": input.ArrowRight, "ArrowUp": input.ArrowUp, "ArrowDown": input.ArrowDown,
	"Home": input.Home, "End": input.End, "PageUp": input.PageUp, "PageDown": input.PageDown, "Space": input.Space, " ": input.Space,
	"F1": input.F1, "F2": input.F2, "F3": input.F3, "F4": input.F4, "F5": input.F5, "F6": input.F6,
	"F7": input.F7, "F8": input.F8, "F9": input.F9, "F10": input.F10, "F11": input.F11, "F12": input.F12,
}

func (t *tab) press(name string) error {
	key, known := keys[name]
	if !known {
		r := []rune(name)
		if len(r) != 1 {
			return &notSo{fmt.Sprintf("%q is not a key name of the UI Events standard", name)}
		}
		key = input.Key(r[0])
	}
	if err := t.page.Keyboard.Type(key); err != nil {
		return t.explain(err)
	}
	t.touch()
	return t.quiet(quietLimit)
}

// expect waits until everything expected is so, or the limit is over.
func (t *tab) expect(e journey.Expect) error {
	wait := patience{began: time.Now()}
	for {
		why, err := t.unmet(e)
		if err == nil && why == "" {
			return nil
		}
		if wait.over() {
			if err != nil {
				why = t.explain(err).Error()
			}
			return &notSo{why}
		}
		if err := t.rest(stepPoll); err != nil {
			return err
		}
	}
}

// unmet says which part of an expectation is not so now, or "".
func (t *tab) unmet(e journey.Expect) (string, error) {
	if e.Visible != nil {
		el, err := t.first(*e.Visible)
		if err != nil {
			return "", err
		}
		if el == nil {
			return fmt.Sprintf("%s is not there, or not visible", e.Visible), nil
		}
	}
	if e.Hidden != nil {
		el, err := t.first(*e.Hidden)
		if err != nil {
			return "", err
		}
		if el != nil {
			return fmt.Sprintf("%s is visible", e.Hidden), nil
		}
	}
	if e.Text != nil {
		text, there, err := t.textIn(e.Text.In)
		if err != nil {
			return "", err
		}
		if !there {
			return fmt.Sprintf("%s is not there, or not visible", e.Text.In), nil
		}
		if !strings.Contains(text, fold(e.Text.Contains)) {
			return fmt.Sprintf("%s has “%s”", e.Text.In, short(text)), nil
		}
	}
	if e.NoText != nil {
		text, _, err := t.textIn(e.NoText.In)
		if err != nil {
			return "", err
		}
		if strings.Contains(text, fold(e.NoText.Contains)) {
			return fmt.Sprintf("“%s” is there", e.NoText.Contains), nil
		}
	}
	if e.Count != nil {
		els, err := t.all(e.Count.Of)
		if err != nil {
			return "", err
		}
		if len(els) != e.Count.Is {
			return fmt.Sprintf("%d of %s are visible, not %d", len(els), e.Count.Of, e.Count.Is), nil
		}
	}
	if e.URL != "" {
		if at := t.at(); !wholePath(e.URL, at) {
			return fmt.Sprintf("the address is %s", at), nil
		}
	}
	reqs, _, _, doc := t.snapshot()
	if e.Status != 0 && doc.status != e.Status {
		return fmt.Sprintf("the document was answered with status %d", doc.status), nil
	}
	if e.Request != "" {
		for _, r := range reqs[min(doc.from, len(reqs)):] {
			u, err := url.Parse(r.URL)
			if err == nil && r.Status > 0 && r.Status < 400 && wholePath(e.Request, u.RequestURI()) {
				return "", nil
			}
		}
		return fmt.Sprintf("no request for %s was answered", e.Request), nil
	}
	return "", nil
}

// wholePath matches a path and query from start to end; `*` stands for any characters.
func wholePath(pattern, path string) bool { return exclusion.MatchName(pattern, path) }

func fold(s string) string { return strings.Join(strings.Fields(s), " ") }

func short(s string) string {
	if r := []rune(s); len(r) > 120 {
		return string(r[:119]) + "…"
	}
	return s
}

func (t *tab) textIn(target journey.Target) (text string, there bool, err error) {
	el, err := t.first(target)
	if err != nil || el == nil {
		return "", false, err
	}
	res, err := el.Eval(`() => this.innerText || this.value || ""`)
	if err != nil {
		return "", false, err
	}
	return fold(res.Value.Str()), true, nil
}

// first is the first visible element that matches, in document order, or nil.
func (t *tab) first(target journey.Target) (*rod.Element, error) {
	els, err := t.all(target)
	if err != nil || len(els) == 0 {
		return nil, err
	}
	return els[0], nil
}

// all are the visible elements that match, in document order.
func (t *tab) all(target journey.Target) (rod.Elements, error) {
	page := t.page.Timeout(15 * time.Second)
	if target.Role == "" && target.Name == "" {
		els, err := page.ElementsByJS(rod.Eval(`(target) => (`+findJS+`)(target, null)`, target))
		return withContext(els, t.page.GetContext()), err
	}
	named, err := t.byRole(page, target)
	if err != nil || len(named) == 0 {
		return nil, err
	}
	args := []any{target}
	for _, o := range named {
		args = append(args, o)
	}
	els, err := page.ElementsByJS(rod.Eval(`(target, ...among) => (`+findJS+`)(target, among)`, args...))
	return withContext(els, t.page.GetContext()), err
}

func withContext(els rod.Elements, ctx context.Context) rod.Elements {
	for i, el := range els {
		els[i] = el.Context(ctx)
	}
	return els
}

// byRole asks the browser's own accessibility tree for elements with a role and an
// accessible name. A name that no element has exactly may be a part of one's, letter
// case ignored.
func (t *tab) byRole(page *rod.Page, target journey.Target) ([]*proto.RuntimeRemoteObject, error) {
	root, err := proto.DOMGetDocument{}.Call(page)
	if err != nil {
		return nil, err
	}
	res, err := proto.AccessibilityQueryAXTree{BackendNodeID: root.Root.BackendNodeID, Role: target.Role}.Call(page)
	if err != nil {
		return nil, err
	}
	var exact, part []proto.DOMBackendNodeID
	want := fold(target.Name)
	for _, n := range res.Nodes {
		if n.Ignored || n.BackendDOMNodeID == 0 {
			continue
		}
		name := ""
		if n.Name != nil {
			name = fold(n.Name.Value.Str())
		}
		switch {
		case want == "" || name == want:
			exact = append(exact, n.BackendDOMNodeID)
		case strings.Contains(strings.ToLower(name), strings.ToLower(want)):
			part = append(part, n.BackendDOMNodeID)
		}
	}
	if len(exact) == 0 {
		exact = part
	}
	var out []*proto.RuntimeRemoteObject
	for _, id := range exact {
		o, err := proto.DOMResolveNode{BackendNodeID: id}.Call(page)
		if err != nil {
			continue // gone since
		}
		out = append(out, o.Object)
	}
	return out, nil
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

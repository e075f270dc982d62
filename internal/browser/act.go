package browser

import (
	_ "embed"
	"errors"
	"fmt"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/journey"
)

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
	pt, err := scrollTo(el)
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
	pt, err := scrollTo(el)
	if err != nil {
		return err
	}
	return t.page.Mouse.MoveTo(*pt)
}

// scrollTo scrolls an element into view and returns a point inside it.
func scrollTo(el *rod.Element) (*proto.Point, error) {
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

// fill types into a field; in a list, it chooses.
func fill(el *rod.Element, value string) error {
	list, err := el.Eval(`() => this.tagName === "SELECT"`)
	if err != nil {
		return err
	}
	if list.Value.Bool() {
		return choose(el, value)
	}
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

package browser

import (
	"context"
	_ "embed"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
)

//go:embed js/find.js
var findJS string

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
	if why, err := t.unmetText(e); why != "" || err != nil {
		return why, err
	}
	if e.URL != "" {
		if at := t.at(); !wholePath(e.URL, at) {
			return fmt.Sprintf("the address is %s", at), nil
		}
	}
	if why := t.unmetAnswer(e); why != "" || e.Mail == "" && e.Payment == "" {
		return why, nil
	}
	return t.outbox.lacks(t.page.GetContext(), e)
}

// unmetText says which part of what an expectation says of texts and counts is not so
// now, or "".
func (t *tab) unmetText(e journey.Expect) (string, error) {
	if e.Text != nil {
		shown, written, there, err := t.textIn(e.Text.In)
		if err != nil {
			return "", err
		}
		if !there {
			return fmt.Sprintf("%s is not there, or not visible", e.Text.In), nil
		}
		if want := fold(e.Text.Contains); !strings.Contains(shown, want) && !strings.Contains(written, want) {
			return fmt.Sprintf("%s has “%s”", e.Text.In, short(shown)), nil
		}
	}
	if e.NoText != nil {
		shown, written, _, err := t.textIn(e.NoText.In)
		if err != nil {
			return "", err
		}
		if unwanted := fold(e.NoText.Contains); strings.Contains(shown, unwanted) || strings.Contains(written, unwanted) {
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
	return "", nil
}

// unmetAnswer says which part of what an expectation says of the answers to requests is
// not so now, or "".
func (t *tab) unmetAnswer(e journey.Expect) string {
	reqs, _, _, doc := t.snapshot()
	if e.Status != 0 && doc.status != e.Status {
		return fmt.Sprintf("the document was answered with status %d", doc.status)
	}
	if e.Request != "" {
		for _, r := range reqs[min(doc.from, len(reqs)):] {
			u, err := url.Parse(r.URL)
			if err == nil && r.Status > 0 && r.Status < 400 && wholePath(e.Request, u.RequestURI()) {
				return ""
			}
		}
		return fmt.Sprintf("no request for %s was answered", e.Request)
	}
	return ""
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

// textIn is the visible text in an element, as it is shown and as it is written: a style may
// show it in capitals.
func (t *tab) textIn(target journey.Target) (shown, written string, there bool, err error) {
	el, err := t.first(target)
	if err != nil || el == nil {
		return "", "", false, err
	}
	res, err := el.Eval(`() => {
		const written = [], texts = document.createTreeWalker(this, NodeFilter.SHOW_TEXT);
		for (let n = texts.nextNode(); n; n = texts.nextNode()) {
			const p = n.parentElement;
			if (p && !["SCRIPT", "STYLE", "NOSCRIPT", "TEMPLATE"].includes(p.tagName) && (!p.checkVisibility || p.checkVisibility({ visibilityProperty: true }))) written.push(n.data);
		}
		return { shown: this.innerText || this.value || "", written: written.join("") };
	}`)
	if err != nil {
		return "", "", false, err
	}
	return fold(res.Value.Get("shown").Str()), fold(res.Value.Get("written").Str()), true, nil
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

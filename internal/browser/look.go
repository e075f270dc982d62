package browser

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image/png"
	"slices"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/vitals"
)

//go:embed js/collect.js
var collectJS string

// Keep stores a picture or a body and returns its SHA-256. The browser keeps nothing
// itself.
type Keep func(ctx context.Context, mediaType string, raw []byte) (sha256 string, err error)

// Look looks at one page as a persona on a device. What could not be looked at is
// tried once more in a new context; then the look says why it is missing. reader tells
// how the page was served; sources keeps what it is made of, unless it is nil. An error is returned only when the context ended or the
// evidence could not be kept.
func (b *Browser) Look(ctx context.Context, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader, keep Keep, sources *Sources) (out evidence.PageLook, err error) {
	release, err := b.acquire(ctx)
	if err != nil {
		return out, err
	}
	defer release()
	var earlier []evidence.Attempt
	missing, err := twice(ctx, func(attempt int) error {
		out = evidence.PageLook{Earlier: earlier, Renderer: b.Renderer(), Key: evidence.Key{Page: task.Page.Path, Persona: task.Persona, Device: task.Device}, Class: task.Page.Class, Attempts: attempt, Served: httpcache.Unknown}
		raw, err := b.lookOnce(ctx, env, task, state, reader, sources, &out)
		if err != nil {
			earlier = append(earlier, attempted(err, out.Errors, out.Console, out.Requests))
			return err
		}
		if out.Picture, err = kept(ctx, raw, keep); err != nil {
			return &notKept{fmt.Errorf("keep the picture of %s: %w", task.Page.Path, err)}
		}
		return nil
	})
	out.Missing = missing
	return out, err
}

func kept(ctx context.Context, raw []byte, keep Keep) (*evidence.Picture, error) {
	cfg, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	sha, err := keep(ctx, "image/png", raw)
	if err != nil {
		return nil, err
	}
	return &evidence.Picture{SHA256: sha, Width: cfg.Width, Height: cfg.Height}, nil
}

// collected is what collect.js returns. Everything in it comes from the page and is
// untrusted; the types bound what it can be, the script how much.
type collected struct {
	Title   string           `json:"title"`
	Address string           `json:"address"`
	Width   int              `json:"width"`
	Height  int              `json:"height"`
	Outline []evidence.Box   `json:"outline"`
	Styles  []evidence.Style `json:"styles"`
	Lines   []evidence.Line  `json:"lines"`
	Masked  []evidence.Box   `json:"masked"`
	Shifts  []struct {
		At    float64       `json:"at"`
		Score float64       `json:"score"`
		Moved []string      `json:"moved"`
		Paths []vitals.Path `json:"paths"`
	} `json:"shifts"`
	Timing  evidence.Timing   `json:"timing"`
	Listens []string          `json:"listens"`
	Focus   []string          `json:"focus"`
	Facts   map[string]string `json:"facts"`
	Rules   int               `json:"rules"`
	Code    int               `json:"code"`
	Late    []string          `json:"late"`
	Waits   []string          `json:"waits"`
	Links   []string          `json:"links"`
	Empty   []string          `json:"empty"`
	Fonts   []string          `json:"fonts"`
	Boxes   int               `json:"boxes"` // how many elements and lines there are, beyond what the outline has
	Texts   int               `json:"texts"`
}

// attempted is what is kept of an attempt that failed: why, and what went wrong on the page until then.
func attempted(err error, errs []evidence.ScriptError, console []string, requests []evidence.Request) evidence.Attempt {
	failed := slices.DeleteFunc(slices.Clone(requests), func(r evidence.Request) bool { return !r.Broken() && !r.Blocked })
	return evidence.Attempt{Why: clip(err.Error()), Errors: errs, Console: console, Requests: failed}
}

func (b *Browser) lookOnce(ctx context.Context, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader, sources *Sources, out *evidence.PageLook) (picture []byte, err error) {
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout)
	defer cancel()
	began := time.Now()
	t, err := b.open(ctx, env, task.Device, state)
	if err != nil {
		return nil, err
	}
	defer t.close()
	t.spent.Opening = float64(time.Since(began).Microseconds()) / 1000
	if picture, err = t.look(task, reader, out); err != nil || sources == nil {
		return picture, t.explain(err)
	}
	if out.Source, err = sources.take(ctx, t); err != nil {
		return nil, &notKept{err}
	}
	return picture, nil
}

// look opens the page in this tab and reads what there is of it. What went wrong is read also when it fails.
func (t *tab) look(task site.PageTask, reader *httpcache.Reader, out *evidence.PageLook) (picture []byte, err error) {
	defer func() {
		if err != nil {
			out.Requests, out.Errors, out.Console, _ = t.snapshot()
		}
		out.Spent = t.spent
	}()
	if err := t.stopClock(task.Clock); err != nil {
		return nil, err
	}
	if err := t.request(task.Address()); err != nil {
		return nil, err
	}
	if err := t.unroll(quietLimit); err != nil {
		return nil, err
	}
	if err := t.age(lifetime, quietLimit); err != nil {
		return nil, err
	}
	if err := t.scroll(); err != nil {
		return nil, err
	}
	if err := t.toRest(); err != nil {
		return nil, err
	}
	out.Undecoded = t.decode()
	masks := make([]string, len(task.Page.Masks))
	for i, m := range task.Page.Masks {
		masks[i] = m.Selector
	}
	c, err := t.collect(masks)
	if err != nil {
		return nil, err
	}
	picture, err = t.shoot(c.Width, c.Height)
	if err != nil {
		return nil, err
	}
	reqs, errs, console, doc := t.snapshot()
	out.Address, out.Title = clip(c.Address), clip(c.Title)
	out.Status, out.Headers = doc.status, doc.headers
	var body []byte
	if reader.NeedsPage() {
		body = t.body(doc.id)
	}
	facts := reader.Read(VariantOf(task.Page.Path, task.Device), func(name string) []string { return headerValues(doc.headers, name) }, body)
	out.Served, out.CacheNote = facts.Served, clip(facts.Note)
	out.Outline, out.Styles, out.Lines, out.Masked = c.Outline, c.Styles, c.Lines, c.Masked
	out.Errors, out.Console, out.Requests = errs, console, reqs
	out.Timing = c.Timing
	out.Focus, out.Rules, out.Code, out.Late, out.Waits = c.Focus, c.Rules, c.Code, c.Late, c.Waits
	out.Listens, out.Facts, out.Links, out.Empty, out.Fonts = c.Listens, c.Facts, c.Links, c.Empty, c.Fonts
	out.Noted = t.noted(c, len(reqs))
	for _, s := range c.Shifts {
		out.Shifts = append(out.Shifts, vitals.Shift{At: time.Duration(s.At * float64(time.Millisecond)), Score: s.Score, Moved: s.Moved, Paths: s.Paths})
	}
	return picture, nil
}

// noted is what a person has to know of how the look was made: what limits left out, and what the browser could not do.
func (t *tab) noted(c collected, requests int) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := slices.Clone(t.troubles)
	if c.Height > tallest {
		out = append(out, fmt.Sprintf("The page is %d pixels tall; its first %d were looked at.", c.Height, tallest))
	}
	if n := len(c.Outline); c.Boxes > n {
		out = append(out, fmt.Sprintf("The page has %d elements; the outline has the first %d.", c.Boxes, n))
	}
	if n := len(c.Lines); c.Texts > n {
		out = append(out, fmt.Sprintf("The page has more than %d pieces of text; those were read.", n))
	}
	if requests >= manyRequests {
		out = append(out, fmt.Sprintf("The page made more than %d requests; those are listed.", requests))
	}
	return out
}

// noteTrouble notes something that the browser could not do.
func (t *tab) noteTrouble(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.troubles) < 20 && !slices.Contains(t.troubles, what) {
		t.troubles = append(t.troubles, what)
	}
}

// VariantOf names a page and the device that it is asked for with, as renderings of it
// are told apart.
func VariantOf(path, device string) string { return path + " " + device }

// body is what a request brought, as it came; nothing when the browser no longer has it.
func (t *tab) body(id proto.NetworkRequestID) []byte {
	res, err := proto.NetworkGetResponseBody{RequestID: id}.Call(t.page.Timeout(5 * time.Second))
	if err != nil {
		return nil
	}
	if res.Base64Encoded {
		raw, err := base64.StdEncoding.DecodeString(res.Body)
		if err != nil {
			return nil
		}
		return raw
	}
	return []byte(res.Body)
}

func headerValues(h map[string]string, name string) []string {
	if v, there := h[strings.ToLower(name)]; there {
		return []string{v}
	}
	return nil
}

func (t *tab) collect(masks []string) (collected, error) {
	var c collected
	res, err := t.page.Timeout(10 * time.Second).Evaluate(rod.Eval(collectJS, masks))
	if err != nil {
		return c, fmt.Errorf("the page could not be read: %w", t.explain(err))
	}
	raw, err := res.Value.MarshalJSON()
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(raw, &c); err != nil {
		return c, fmt.Errorf("the page gave something unreadable: %w", err)
	}
	return c, nil
}

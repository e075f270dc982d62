package browser

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/vitals"
	"tidemarker/internal/core/waterfall"
)

//go:embed js/measure.js
var measureJS string

// Profile is how slow a device and its line are made while pages are measured.
type Profile struct {
	Name    string
	CPU     float64       // how many times slower
	Latency time.Duration // of each request
	Down    float64       // octets a second
	Up      float64
}

// profiles are those of the two kinds of devices (common practice: a middling phone on a slow mobile
// line, a desktop on a household's).
var profiles = map[string]Profile{
	site.Phone:   {"4 times slower processor, 150 ms, 1.6 Mbit/s", 4, 150 * time.Millisecond, 1.6e6 / 8, 750e3 / 8},
	site.Desktop: {"processor as it is, 40 ms, 10 Mbit/s", 1, 40 * time.Millisecond, 10e6 / 8, 10e6 / 8},
}

// ProfileOf is how slow a kind of device is made.
func ProfileOf(device string) Profile { return profiles[device] }

// afterLoad is for how long a page is watched after it has loaded: what moves or blocks it then counts.
const afterLoad = time.Second

// measured is what the page says of its own load, in milliseconds since the navigation began.
type measured struct {
	Origin    float64      `json:"origin"` // of the navigation, in milliseconds since 1970
	FirstByte float64      `json:"firstByte"`
	FirstDraw float64      `json:"firstDraw"`
	Largest   float64      `json:"largest"`
	Drawn     float64      `json:"drawn"` // the document was read
	Loaded    float64      `json:"loaded"`
	Element   string       `json:"element"`
	Tasks     [][2]float64 `json:"tasks"`
	Shifts    []struct {
		At    float64  `json:"at"`
		Score float64  `json:"score"`
		Moved []string `json:"moved"`
	} `json:"shifts"`
	Blocking []string       `json:"blocking"`
	Marked   []measure.Mark `json:"marked"`
}

// Measuring is how a page is measured beyond one first load.
type Measuring struct {
	Repeat bool // it is loaded once more, with what the first load left in the browser
	Film   bool // how it comes into view
	Keep   Keep // of the frames; nil keeps none
}

// Measured is one load, with what it asked for.
type Measured struct {
	measure.Load
	Requests []waterfall.Fetch
}

// Measure loads a page in real time, in a browser that has nothing of it, slowed down by the device's profile,
// and then perhaps once more with what that left. What could not be measured says why in Dropped; an error
// is returned only when the context ended or a frame could not be kept.
func (b *Browser) Measure(ctx context.Context, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader, how Measuring) ([]Measured, error) {
	release, err := b.acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout)
	defer cancel()
	visits := []measure.Visit{measure.First}
	if how.Repeat {
		visits = append(visits, measure.Repeat)
	}
	var out []Measured
	private, err := b.context(env)
	if err == nil {
		defer private.dispose()
	}
	for _, visit := range visits {
		one := Measured{Load: measure.Load{Page: task.Page.Path, Case: measure.Case{Persona: task.Persona, Device: task.Device, Visit: visit}}}
		if err == nil {
			err = measureIn(ctx, private, env, task, state, reader, how, &one)
		}
		if lost, is := errors.AsType[*notKept](err); is {
			return nil, lost
		}
		if err != nil {
			if whole.Err() != nil {
				return nil, whole.Err()
			}
			one.Dropped = clip(err.Error())
		}
		out = append(out, one)
	}
	return out, nil
}

// measureIn loads the page once in a tab of its own.
func measureIn(ctx context.Context, private *private, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader, how Measuring, out *Measured) error {
	dev, known := devices[task.Device]
	if !known {
		return fmt.Errorf("there is no device %q", task.Device)
	}
	out.Width, out.Height = dev.width, dev.height
	t, err := openIn(ctx, private, env, dev, state, true)
	if err != nil {
		return err
	}
	defer t.close()
	if err := t.slowDown(profiles[task.Device]); err != nil {
		return err
	}
	t.mu.Lock()
	t.meter = newMeter()
	t.mu.Unlock()
	if how.Film {
		quality, width, height := 50, filmWidth, filmWidth*t.dev.height/t.dev.width
		if err := (proto.PageStartScreencast{Format: proto.PageStartScreencastFormatJpeg, Quality: &quality, MaxWidth: &width, MaxHeight: &height}).Call(t.page); err != nil {
			return err
		}
		defer func() { _ = proto.PageStopScreencast{}.Call(t.page) }()
	}
	if err := t.navigate(task.Address()); err != nil {
		return err
	}
	m, err := t.timings()
	if err != nil {
		return err
	}
	_, _, _, doc := t.snapshot()
	facts := reader.Read(VariantOf(task.Page.Path, task.Device), func(name string) []string { return headerValues(doc.headers, name) }, nil)
	out.Served, out.Element = string(facts.Served), clip(m.Element)
	if doc.status >= 400 {
		return fmt.Errorf("it answered %d", doc.status)
	}
	if m.FirstDraw == 0 || m.Largest == 0 {
		return fmt.Errorf("the browser did not say when it was painted")
	}
	out.Requests = t.metered().requests(m.Blocking)
	began := time.UnixMicro(int64(m.Origin * 1000)).UTC()
	out.Began, out.Read = &began, m.Drawn
	values(m, out)
	if how.Film {
		return t.develop(ctx, m.Origin/1000, how.Keep, out)
	}
	return nil
}

// metered is what notes the load that is under way; nil when nothing is measured.
func (t *tab) metered() *meter {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.meter
}

// develop says how the page came into view, and keeps the frames that tell the most.
func (t *tab) develop(ctx context.Context, began float64, keep Keep, out *Measured) error {
	shots, raw := t.metered().film(began)
	out.Film = measure.Develop(shots)
	if at := measure.CompleteAt(out.Film); at > 0 {
		out.Values[measure.Complete] = at
	}
	telling := measure.Telling(out.Film, keptFrames)
	for _, i := range telling {
		if keep == nil || raw[i] == nil {
			continue
		}
		sha, err := keep(ctx, "image/jpeg", raw[i])
		if err != nil {
			return &notKept{fmt.Errorf("keep a frame of %s: %w", out.Page, err)}
		}
		out.Film[i].Picture = sha
	}
	return nil
}

// slowDown makes the tab as slow as a profile says, and lets nothing be held back.
func (t *tab) slowDown(p Profile) error {
	t.mu.Lock()
	t.measuring = &p
	t.mu.Unlock()
	if err := (proto.NetworkEmulateNetworkConditions{Latency: float64(p.Latency.Milliseconds()), DownloadThroughput: p.Down, UploadThroughput: p.Up}).Call(t.page); err != nil {
		return err
	}
	if _, err := (proto.PageAddScriptToEvaluateOnNewDocument{Source: measureJS}).Call(t.page); err != nil {
		return err
	}
	return (proto.EmulationSetCPUThrottlingRate{Rate: p.CPU}).Call(t.page)
}

// timings waits until the page has been loaded for a while, and reads what it says of that.
func (t *tab) timings() (measured, error) {
	var m measured
	res, err := t.page.Timeout(10 * time.Second).Evaluate(rod.Eval(`(settle) => window.__tideMeasured(settle)`, afterLoad.Milliseconds()).ByPromise())
	if err != nil {
		return m, fmt.Errorf("the page could not be measured: %w", t.explain(err))
	}
	raw, err := res.Value.MarshalJSON()
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(raw, &m); err != nil {
		return m, fmt.Errorf("the page gave something unreadable: %w", err)
	}
	return m, nil
}

// values are the metrics of a load.
func values(m measured, out *Measured) {
	var shifts []vitals.Shift
	for _, s := range m.Shifts {
		shifts = append(shifts, vitals.Shift{At: time.Duration(s.At * float64(time.Millisecond)), Score: s.Score, Moved: s.Moved})
	}
	score, worst := vitals.CumulativeLayoutShift(shifts)
	if len(worst) > 0 {
		ms := func(s vitals.Shift) float64 { return min(max(0, float64(s.At.Microseconds())/1000), 1e9) }
		out.Window = &measure.ShiftWindow{From: ms(worst[0]), To: ms(worst[len(worst)-1]), Shifts: len(worst)}
	}
	for _, s := range worst {
		for _, name := range s.Moved {
			if name = clip(name); len(out.Moved) < 10 && !slices.Contains(out.Moved, name) {
				out.Moved = append(out.Moved, name)
			}
		}
	}
	for _, mark := range m.Marked {
		mark.Name = clip(mark.Name)
		if len(out.Marked) < 12 && (mark.Metric == measure.Largest || mark.Metric == measure.LayoutShift && slices.Contains(out.Moved, mark.Name)) {
			out.Marked = append(out.Marked, mark)
		}
	}
	transferred, content, count := 0, 0, 0
	for _, r := range out.Requests {
		if !r.Refused && !r.Cached {
			count++
			transferred += r.Transferred
		}
		content += r.Content
	}
	out.Values = map[measure.Metric]float64{measure.FirstByte: m.FirstByte, measure.FirstPaint: m.FirstDraw, measure.Largest: m.Largest, measure.LayoutShift: score,
		measure.Blocking: vitals.TotalBlockingTime(m.Tasks, m.FirstDraw), measure.Loaded: m.Loaded, measure.Transferred: float64(transferred), measure.Content: float64(content), measure.Requests: float64(count)}
	for metric, v := range out.Values { // a page can make the browser say anything
		out.Values[metric] = min(max(0, v), 1e9)
	}
}

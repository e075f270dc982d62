package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/vitals"
)

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
	FirstByte float64      `json:"firstByte"`
	FirstDraw float64      `json:"firstDraw"`
	Largest   float64      `json:"largest"`
	Loaded    float64      `json:"loaded"`
	Element   string       `json:"element"`
	Tasks     [][2]float64 `json:"tasks"`
	Shifts    []struct {
		At    float64  `json:"at"`
		Score float64  `json:"score"`
		Moved []string `json:"moved"`
	} `json:"shifts"`
}

// Measure loads a page once in real time, in a browser that has nothing of it, slowed down by the device's
// profile. What could not be measured says why in Dropped; an error is returned only when the
// context ended.
func (b *Browser) Measure(ctx context.Context, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader) (measure.Load, error) {
	out := measure.Load{Page: task.Page.Path, Persona: task.Persona, Device: task.Device}
	release, err := b.acquire(ctx)
	if err != nil {
		return out, err
	}
	defer release()
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout)
	defer cancel()
	if err := b.measureOnce(ctx, env, task, state, reader, &out); err != nil {
		if whole.Err() != nil {
			return out, whole.Err()
		}
		out.Dropped = clip(err.Error())
	}
	return out, nil
}

func (b *Browser) measureOnce(ctx context.Context, env site.Environment, task site.PageTask, state State, reader *httpcache.Reader, out *measure.Load) error {
	t, err := b.open(ctx, env, task.Device, state)
	if err != nil {
		return err
	}
	defer t.close()
	if err := t.slowDown(profiles[task.Device]); err != nil {
		return err
	}
	if err := t.navigate(task.Address()); err != nil {
		return err
	}
	m, err := t.timings()
	if err != nil {
		return err
	}
	reqs, _, _, doc := t.snapshot()
	facts := reader.Read(VariantOf(task.Page.Path, task.Device), func(name string) []string { return headerValues(doc.headers, name) }, nil)
	out.Served, out.Element = string(facts.Served), clip(m.Element)
	if doc.status >= 400 {
		return fmt.Errorf("it answered %d", doc.status)
	}
	if m.FirstDraw == 0 || m.Largest == 0 {
		return fmt.Errorf("the browser did not say when it was painted")
	}
	t.values(m, reqs, out)
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
	return (proto.EmulationSetCPUThrottlingRate{Rate: p.CPU}).Call(t.page)
}

// timings waits until the page has been loaded for a while, and reads what it says of that.
func (t *tab) timings() (measured, error) {
	var m measured
	res, err := t.page.Timeout(10 * time.Second).Evaluate(rod.Eval(`async (settle) => {
		await new Promise((done) => setTimeout(done, Math.max(0, performance.getEntriesByType("navigation")[0].loadEventEnd + settle - performance.now())));
		const n = performance.getEntriesByType("navigation")[0] || {}, a = window.__tideMarker;
		return { firstByte: n.responseStart || 0, loaded: n.loadEventEnd || 0, firstDraw: a.firstDraw, largest: a.largest, shifts: a.shifts, element: a.element, tasks: a.tasks };
	}`, afterLoad.Milliseconds()).ByPromise())
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
func (t *tab) values(m measured, reqs []evidence.Request, out *measure.Load) {
	var shifts []vitals.Shift
	for _, s := range m.Shifts {
		shifts = append(shifts, vitals.Shift{At: time.Duration(s.At * float64(time.Millisecond)), Score: s.Score, Moved: s.Moved})
	}
	score, worst := vitals.CumulativeLayoutShift(shifts)
	for _, s := range worst {
		for _, name := range s.Moved {
			if len(out.Moved) < 10 {
				out.Moved = append(out.Moved, clip(name))
			}
		}
	}
	transferred, count := 0, 0
	for _, r := range reqs {
		if !r.Blocked {
			count++
			transferred += r.Bytes
		}
	}
	out.Values = map[measure.Metric]float64{measure.FirstByte: m.FirstByte, measure.FirstPaint: m.FirstDraw, measure.Largest: m.Largest, measure.LayoutShift: score,
		measure.Blocking: vitals.TotalBlockingTime(m.Tasks, m.FirstDraw), measure.Loaded: m.Loaded, measure.Transferred: float64(transferred), measure.Requests: float64(count)}
	for metric, v := range out.Values { // a page can make the browser say anything
		out.Values[metric] = min(max(0, v), 1e9)
	}
}

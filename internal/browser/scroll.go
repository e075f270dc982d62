package browser

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/draw"
	"image/png"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
)

const (
	// tallest is the height, in pixels, up to which a page is scrolled through and pictured. What a page has below is reported.
	tallest = 30_000
	// tallestShot is the height, in pixels, that Chromium paints in one piece (a texture has at most 16,384). Taller pages are painted
	// in tiles of it.
	tallestShot = 15_000
	// maxStays is how often a visitor stays where they are because something was added there, and maxStaysAt how often in one place.
	maxStays, maxStaysAt = 36, 3
)

// extent is what a page says of its own size.
type extent struct {
	Height int `json:"height"`
	View   int `json:"view"`
	Added  int `json:"added"` // elements, since it began
}

// scroll scrolls through the page as a visitor does, and back to its top. At each place it waits for what that starts: a frame, in which
// observers see what is near; then a pause on the page's own clock, which waits for what the page asks for. Where elements or
// requests were added, it stays for another pause, since these may start something themselves. The page is [settled] old at the end.
func (t *tab) scroll() error {
	at, stays, staysAt := lifetime, 0, 0
	requests := t.requested()
	for y, n := 0, 0; n < maxScrolls; n++ {
		before, err := t.scrollTo(y)
		if err != nil {
			return err
		}
		at += scrollPause
		if err := t.age(at, quietLimit); err != nil {
			return err
		}
		now, err := t.extent()
		if err != nil {
			return err
		}
		asked := t.requested()
		if (now.Added != before.Added || asked != requests) && stays < maxStays && staysAt < maxStaysAt {
			requests, stays, staysAt = asked, stays+1, staysAt+1
			continue
		}
		requests, staysAt = asked, 0
		bottom := min(now.Height, tallest) - now.View
		if y >= bottom {
			break
		}
		y = min(y+max(200, now.View*9/10), bottom)
	}
	if _, err := t.scrollTo(0); err != nil {
		return err
	}
	return t.age(settled, quietLimit)
}

// requested is how many requests the page has made.
func (t *tab) requested() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.begun
}

// scrollTo scrolls to a place and waits for a frame.
func (t *tab) scrollTo(y int) (extent, error) {
	defer t.spend(&t.spent.Painting)()
	res, err := t.page.Timeout(frameLimit).Evaluate(rod.Eval(`(y) => (window.__tideMarker ? window.__tideMarker.scroll(y) : { height: 0, view: innerHeight, added: 0 })`, y).ByPromise())
	return extentOf(res, t.unpainted(err))
}

func (t *tab) extent() (extent, error) {
	defer t.spend(&t.spent.Reading)()
	res, err := t.page.Timeout(quietLimit).Evaluate(rod.Eval(`() => (window.__tideMarker ? window.__tideMarker.extent() : { height: 0, view: innerHeight, added: 0 })`))
	if err != nil {
		return extent{}, fmt.Errorf("the page could not be scrolled through: %w", t.explain(err))
	}
	return extentOf(res, nil)
}

// extentOf reads what a page says of its size; nothing when it gave no answer.
func extentOf(res *proto.RuntimeRemoteObject, err error) (extent, error) {
	var out extent
	if err != nil || res == nil {
		return out, err
	}
	raw, err := res.Value.MarshalJSON()
	if err != nil {
		return out, err
	}
	_ = json.Unmarshal(raw, &out) // what a page says is not to be relied upon
	return out, nil
}

// toRest brings the page into a state that can be repeated and seen as a whole: what moves to its end, or to its beginning when it has none;
// and sections that are rendered only while they are near what is visible (CSS Containment, content-visibility: auto) are rendered.
func (t *tab) toRest() error {
	_, err := t.page.Timeout(frameLimit).Evaluate(rod.Eval(`() => {
		for (const el of document.querySelectorAll("body *")) {
			if (getComputedStyle(el).contentVisibility === "auto") el.style.setProperty("content-visibility", "visible", "important");
		}
		for (const a of document.getAnimations ? document.getAnimations() : []) {
			try {
				const t = a.effect && a.effect.getComputedTiming();
				if (t && Number.isFinite(t.endTime)) a.finish();
				else { a.pause(); a.currentTime = 0; }
			} catch { /* an animation that cannot be ended stays */ }
		}
		return true;
	}`))
	if err != nil {
		return fmt.Errorf("the page could not be brought to rest: %w", t.explain(err))
	}
	return t.paint()
}

// decode waits, in real time and while the page's clock stands, until fonts and pictures that arrived can be painted. It returns the
// addresses of the pictures that cannot: Chromium paints as much as it can of one that is cut off or damaged and calls that decoded, but makes
// no bitmap of it.
func (t *tab) decode() []string {
	defer t.spend(&t.spent.Painting)()
	res, err := t.page.Timeout(frameLimit).Evaluate(rod.Eval(`async () => {
		if (document.fonts) await document.fonts.ready;
		const bad = new Set(), done = new Set();
		await Promise.all(Array.from(document.images).filter((i) => i.complete && i.naturalWidth && i.getClientRects().length).slice(0, 500).map(async (i) => {
			try {
				await i.decode();
				if (done.has(i.currentSrc) || /^data:|^blob:|\.svg(\?|$)/i.test(i.currentSrc)) return;
				done.add(i.currentSrc);
				(await createImageBitmap(i, { resizeWidth: 1, resizeHeight: 1 })).close();
			} catch { if (bad.size < 50) bad.add(i.currentSrc.slice(0, 1000)); }
		}));
		return [...bad].sort();
	}`).ByPromise())
	if err != nil {
		return nil
	}
	var out []string
	for _, address := range res.Value.Arr() {
		out = append(out, clip(address.Str()))
	}
	return out
}

// shoot takes a picture: of the page to a height when its size is given, else of what is visible. PNG.
func (t *tab) shoot(width, height int) ([]byte, error) {
	defer t.spend(&t.spent.Painting)()
	if height <= 0 {
		return t.tile(nil)
	}
	height = min(height, tallest)
	if height <= tallestShot {
		return t.tile(&proto.PageViewport{Width: float64(width), Height: float64(height), Scale: 1})
	}
	whole := image.NewNRGBA(image.Rect(0, 0, width, height))
	for y := 0; y < height; y += tallestShot {
		raw, err := t.tile(&proto.PageViewport{Y: float64(y), Width: float64(width), Height: float64(min(tallestShot, height-y)), Scale: 1})
		if err != nil {
			return nil, err
		}
		tile, err := png.Decode(bytes.NewReader(raw))
		if err != nil {
			return nil, fmt.Errorf("the page could not be pictured: %w", err)
		}
		draw.Draw(whole, image.Rect(0, y, width, min(y+tallestShot, height)), tile, tile.Bounds().Min, draw.Src)
	}
	var out bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := encoder.Encode(&out, whole); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// tile takes a picture of one part of the page, or of what is visible.
func (t *tab) tile(part *proto.PageViewport) ([]byte, error) {
	req := proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng, OptimizeForSpeed: true, CaptureBeyondViewport: part != nil, Clip: part}
	res, err := req.Call(t.page)
	if err != nil {
		return nil, t.explain(err)
	}
	return res.Data, nil
}

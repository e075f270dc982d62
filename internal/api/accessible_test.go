package api_test

import (
	"encoding/json"
	"io"
	"os"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// size is a window that views are checked in.
type size struct {
	name          string
	width, height int
	scale         float64
	other         bool // by night where the view is by day
	colours       bool // they are looked at; zoomed they are those of the first
}

// sizes are the windows in which views are checked, in CSS pixels: as most have it, a phone in the other light, and the first
// zoomed to 200 % (WCAG 2.2, 1.4.4 and 1.4.10).
var sizes = []size{
	{"1280 px", 1280, 800, 1, false, true},
	{"390 px, the other light", 390, 844, 1, true, true},
	{"200 %", 640, 400, 2, false, false},
}

// accessible runs axe-core on the view in each size, once what fades in or changes its colour has come to rest: with no violation,
// and nothing that is wider than the window.
func (d *desk) accessible(view string) {
	d.Helper()
	d.accessibleAt(view, sizes...)
}

func (d *desk) accessibleAt(view string, sizes ...size) {
	d.Helper()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(d, err)
	_, err = proto.RuntimeEvaluate{Expression: string(axe)}.Call(d.page) // the content security policy forbids eval; the browser itself may
	require.NoError(d, err)
	for _, s := range sizes {
		require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: s.width, Height: s.height, DeviceScaleFactor: s.scale}))
		res, err := d.page.Timeout(patience).Evaluate(rod.Eval(`async (other, colours) => {
			const root = document.documentElement;
			if (other) root.classList.toggle("night");
			await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
			const moving = () => document.getAnimations().filter((a) => a.playState !== "finished" && isFinite(a.effect.getComputedTiming().endTime));
			while (moving().length) await Promise.allSettled(moving().map((a) => a.finished));
			const found = (await axe.run(document, { resultTypes: ["violations"], rules: { "target-size": { enabled: true }, "color-contrast": { enabled: colours }, "link-in-text-block": { enabled: colours } } })).violations
				.map((v) => v.id + ": " + v.nodes.map((n) => n.target.join(" ") + " " + n.failureSummary).join("; "));
			const wider = root.scrollWidth - root.clientWidth;
			if (wider > 0) found.push("wider than the window by " + wider + " px: " + [...document.querySelectorAll("main *")]
				.filter((e) => e.getBoundingClientRect().right > root.clientWidth + 1).slice(0, 5).map((e) => e.outerHTML.slice(0, 80)).join("; "));
			if (other) root.classList.toggle("night");
			return JSON.stringify(found);
		}`, s.other, s.colours).ByPromise())
		require.NoError(d, err)
		var found []string
		require.NoError(d, json.Unmarshal([]byte(res.Value.Str()), &found))
		assert.Empty(d, found, "axe-core on %s, %s", view, s.name)
	}
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
}

// tap touches something with a finger.
func (d *desk) tap(selector, text string) {
	d.Helper()
	el := d.see(selector, text)
	require.NoError(d, el.Timeout(patience).ScrollIntoView())
	require.NoError(d, el.Timeout(patience).WaitStable(50*time.Millisecond))
	require.NoError(d, el.Timeout(patience).Tap())
}

// narrow does something on a screen that is as wide as a phone's, and is touched.
func (d *desk) narrow(do func()) {
	d.Helper()
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 390, Height: 844, DeviceScaleFactor: 2, Mobile: true}))
	require.NoError(d, proto.EmulationSetTouchEmulationEnabled{Enabled: true}.Call(d.page))
	do()
	require.NoError(d, proto.EmulationSetTouchEmulationEnabled{}.Call(d.page))
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
}

// printed checks what the view is like on paper, from a screen by night: without what can be pressed, in ink on white, nothing wider than
// the page and nothing that only a scrollbar would show.
func (d *desk) printed() {
	d.Helper()
	_, err := d.page.Eval(`() => document.documentElement.classList.add("night")`)
	require.NoError(d, err)
	require.NoError(d, proto.EmulationSetEmulatedMedia{Media: "print"}.Call(d.page))
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 688, Height: 1017, DeviceScaleFactor: 1})) // A4 less its margins, in CSS pixels
	res, err := d.page.Eval(`() => {
		const shown = (e) => e.checkVisibility() && e.getBoundingClientRect().width > 0;
		const cut = [...document.querySelectorAll("main *")].filter((e) => shown(e) && e.scrollHeight > e.clientHeight + 8 && ["auto", "scroll"].includes(getComputedStyle(e).overflowY));
		return JSON.stringify({
			pressed: [...document.querySelectorAll(".strip, .p-button")].filter(shown).map((e) => e.outerHTML.slice(0, 80)),
			paper: getComputedStyle(document.body).backgroundColor,
			wider: [...document.querySelectorAll("main *")].filter((e) => shown(e) && e.getBoundingClientRect().right > innerWidth + 1).slice(0, 5).map((e) => e.outerHTML.slice(0, 80)),
			cut: cut.map((e) => e.outerHTML.slice(0, 80)),
		});
	}`)
	require.NoError(d, err)
	assert.JSONEq(d, `{"pressed":[],"paper":"rgb(255, 255, 255)","wider":[],"cut":[]}`, res.Value.Str())
	pdf, err := d.page.PDF(&proto.PagePrintToPDF{})
	require.NoError(d, err)
	raw, err := io.ReadAll(pdf)
	require.NoError(d, err)
	assert.Equal(d, "%PDF-", string(raw[:min(5, len(raw))]))
	require.NoError(d, proto.EmulationSetEmulatedMedia{}.Call(d.page))
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
}

package browser

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
)

// lateWay is a way in which pages load something late: what stands in each section of the page, and what its script does.
type lateWay struct {
	name    string
	section string // %d is the section's number
	script  string
	style   string
}

// near is a script that does something with each element of a selector once it is near what is visible.
func near(selector, do string) string {
	return `const seen = new IntersectionObserver((list) => list.forEach((e) => { if (!e.isIntersecting) return; seen.unobserve(e.target); const el = e.target; ` + do + ` }), { rootMargin: "200px" });
		document.querySelectorAll("` + selector + `").forEach((el) => seen.observe(el));`
}

// onScroll is the same with a listener instead of an observer; how wraps the function that looks.
func onScroll(how string) string {
	return `const look = () => document.querySelectorAll("[data-src]").forEach((el) => { const b = el.getBoundingClientRect();
		if (b.top < innerHeight + 100 && b.bottom > -100) { el.src = el.dataset.src; el.removeAttribute("data-src"); } }); ` + how
}

const (
	placeholder = `<img data-src="/pictures/%d.png" width="240" height="160" alt="">`
	box         = `<div class="box" data-n="%d"></div>`
	setSource   = `el.src = el.dataset.src;`
	addPicture  = `el.innerHTML = '<img src="/pictures/' + el.dataset.n + '.png" width="240" height="160" alt="">';`
)

// lateWays are what sites do, from observation (common practice); the names say it.
var lateWays = []lateWay{
	{"an observer sets the source", placeholder, near("img", setSource), ""},
	{"an observer without a margin", placeholder, strings.Replace(near("img", setSource), "200px", "0px", 1), ""},
	{"an observer that wants half of it", placeholder, strings.Replace(near("img", setSource), `{ rootMargin: "200px" }`, `{ threshold: 0.5 }`, 1), ""},
	{"an observer made after a second", placeholder, `setTimeout(() => { ` + near("img", setSource) + ` }, 1000);`, ""},
	{"an observer that waits a moment", placeholder, near("img", `setTimeout(() => { `+setSource+` }, 120);`), ""},
	{"an observer and an idle callback", placeholder, near("img", `requestIdleCallback(() => { `+setSource+` });`), ""},
	{"an observer and the next frame", placeholder, near("img", `requestAnimationFrame(() => requestAnimationFrame(() => { `+setSource+` }));`), ""},
	{"an observer sets a set of sources", `<img data-srcset="/pictures/%[1]d.png 240w, /pictures/1%[1]d.png 480w" sizes="240px" width="240" height="160" alt="">`, near("img", `el.srcset = el.dataset.srcset;`), ""},
	{"an observer and a picture element", `<picture><source media="(max-width: 600px)" data-srcset="/pictures/1%[1]d.png"><img data-src="/pictures/%[1]d.png" width="240" height="160" alt=""></picture>`,
		near("img", `el.parentElement.querySelectorAll("source").forEach((s) => { s.srcset = s.dataset.srcset; }); `+setSource), ""},
	{"an observer and no dimensions", `<img data-src="/pictures/%d.png" alt="" style="min-height: 20px">`, near("img", setSource), ""},
	{"a background is set", box, near(".box", "el.style.backgroundImage = `url(/pictures/${el.dataset.n}.png)`;"), ".box { width: 240px; height: 160px; }"},
	{"a class brings a background", box, near(".box", `el.classList.add("in");`), ".box { width: 240px; height: 160px; } .box.in { background: url(/pictures/3.png); }"},
	{"a class brings a mask", box, near(".box", `el.classList.add("in");`), ".box { width: 240px; height: 160px; background: teal; } .box.in { mask-image: url(/pictures/leaf.svg); }"},
	{"the browser's own lazy loading", `<img loading="lazy" src="/pictures/%d.png" width="240" height="160" alt="">`, "", ""},
	{"the browser's own, without dimensions", `<img loading="lazy" src="/pictures/%d.png" alt="">`, "", ""},
	{"the browser's own, with a set of sources", `<img loading="lazy" srcset="/pictures/%[1]d.png 1x, /pictures/1%[1]d.png 2x" width="240" height="160" alt="">`, "", ""},
	{"the browser's own, in a picture element", `<picture><source media="(max-width: 600px)" srcset="/pictures/1%[1]d.png"><img loading="lazy" src="/pictures/%[1]d.png" width="240" height="160" alt=""></picture>`, "", ""},
	{"decoded apart", `<img loading="lazy" decoding="async" src="/pictures/%d.png" width="240" height="160" alt="">`, "", ""},
	{"a listener to scrolling", placeholder, onScroll(`addEventListener("scroll", look); look();`), ""},
	{"a listener that is held to ten times a second", placeholder, onScroll(`let last = 0, then; const at = () => { clearTimeout(then); const left = last + 100 - Date.now(); if (left > 0) { then = setTimeout(at, left); return; } last = Date.now(); look(); }; addEventListener("scroll", at); look();`), ""},
	{"a listener that waits for the end of scrolling", placeholder, onScroll(`let then; addEventListener("scroll", () => { clearTimeout(then); then = setTimeout(look, 150); }); look();`), ""},
	{"a frame loop", placeholder, onScroll(`const at = () => { look(); requestAnimationFrame(at); }; at();`), ""},
	{"a timer", placeholder, onScroll(`setInterval(look, 100);`), ""},
	{"all at the first scrolling", placeholder, `addEventListener("scroll", () => document.querySelectorAll("img").forEach((el) => { ` + setSource + ` }), { once: true });`, ""},
	{"a blurred picture first", `<img src="data:image/gif;base64,R0lGODlhAQABAIAAAAUEBAAAACwAAAAAAQABAAACAkQBADs=" data-src="/pictures/%d.png" width="240" height="160" alt="">`,
		near("img", `const full = new Image(); full.onload = () => { el.src = full.src; }; full.src = el.dataset.src;`), ""},
	{"faded in", placeholder, near("img", `el.onload = () => el.classList.add("in"); `+setSource), "img { opacity: 0; transition: opacity .6s; } img.in { opacity: 1; }"},
	{"decoded before it is added", box, near(".box", "const i = new Image(240, 160); i.src = `/pictures/${el.dataset.n}.png`; i.decode().then(() => el.append(i));"), ""},
	{"fetched as bytes", box, near(".box", "fetch(`/pictures/${el.dataset.n}.png`).then((r) => r.blob()).then((b) => { const i = new Image(240, 160); i.src = URL.createObjectURL(b); el.append(i); });"), ""},
	{"fetched as data, then shown", box, near(".box", "fetch(`/data?n=${el.dataset.n}`).then((r) => r.json()).then((d) => { const i = new Image(240, 160); i.src = d.picture; el.append(i); });"), ""},
	{"drawn on a canvas", `<canvas data-n="%d" width="240" height="160"></canvas>`, near("canvas", "const i = new Image(); i.onload = () => el.getContext('2d').drawImage(i, 0, 0); i.src = `/pictures/${el.dataset.n}.png`;"), ""},
	{"a drawing put into the page", box, near(".box", `fetch("/pictures/leaf.svg").then((r) => r.text()).then((t) => { el.innerHTML = t; });`), ""},
	{"out of a noscript element", `<div class="box"><noscript><img src="/pictures/%d.png" width="240" height="160" alt=""></noscript></div>`, near(".box", `el.innerHTML = el.querySelector("noscript").textContent;`), ""},
	{"a custom element", `<late-picture n="%d"></late-picture>`, `customElements.define("late-picture", class extends HTMLElement { connectedCallback() { const o = new IntersectionObserver((l) => { if (!l[0].isIntersecting) return; o.disconnect();
		const i = new Image(240, 160); i.src = "/pictures/" + this.getAttribute("n") + ".png"; this.append(i); }, { rootMargin: "200px" }); o.observe(this); } });`, "late-picture { display: block; min-height: 10px; }"},
	{"inside a shadow tree", `<div class="box" data-n="%d"></div>`, `document.querySelectorAll(".box").forEach((el) => { el.attachShadow({ mode: "open" }).innerHTML = '<img data-src="/pictures/' + el.dataset.n + '.png" width="240" height="160">';
		const i = el.shadowRoot.querySelector("img"), o = new IntersectionObserver((l) => { if (l[0].isIntersecting) i.src = i.dataset.src; }); o.observe(i); });`, ""},
	{"a section rendered when it is near", box, near(".box", addPicture), ".box { min-height: 10px; }"},
	{"a section whose pictures wait for an observer of their own", box, near(".box", `el.innerHTML = '<p>Section</p><img data-src="/pictures/' + el.dataset.n + '.png" width="240" height="160" alt="">'; const i = el.querySelector("img");
		const o = new IntersectionObserver((l) => { if (l[0].isIntersecting) { i.src = i.dataset.src; o.disconnect(); } }); o.observe(i);`), ".box { min-height: 10px; }"},
	{"three deep", box, near(".box", `fetch("/data?n=" + el.dataset.n).then((r) => r.json()).then((d) => { el.innerHTML = "<div class=inner></div>"; const inner = el.firstChild;
		const o = new IntersectionObserver((l) => { if (!l[0].isIntersecting) return; o.disconnect(); setTimeout(() => { inner.innerHTML = '<img loading="lazy" src="' + d.picture + '" width="240" height="160">'; }, 50); }); o.observe(inner); });`), ".box, .inner { min-height: 10px; }"},
	{"added after it has loaded", box, `addEventListener("load", () => setTimeout(() => document.querySelectorAll(".box").forEach((el) => { el.innerHTML = '<img data-src="/pictures/' + el.dataset.n + '.png" width="240" height="160" alt="">'; }), 300));
		const seen = new IntersectionObserver((l) => l.forEach((e) => { if (e.isIntersecting) { e.target.src = e.target.dataset.src; seen.unobserve(e.target); } }));
		new MutationObserver(() => document.querySelectorAll("img[data-src]:not([src])").forEach((i) => seen.observe(i))).observe(document.body, { childList: true, subtree: true });`, ""},
	{"content that is visible when it is near", `<div class="cv"><p>Section %[1]d</p><img src="/pictures/%[1]d.png" width="240" height="160" alt=""></div>`, "", ".cv { content-visibility: auto; contain-intrinsic-size: auto 240px; }"},
	{"such content with lazy pictures", `<div class="cv"><p>Section %[1]d</p><img loading="lazy" src="/pictures/%[1]d.png" width="240" height="160" alt=""></div>`, "", ".cv { content-visibility: auto; contain-intrinsic-size: auto 240px; }"},
	{"a slider whose slides wait to be seen", `<div class="track"><img data-src="/pictures/%[1]d.png" width="240" height="160" alt=""><img data-src="/pictures/1%[1]d.png" width="240" height="160" alt=""><img data-src="/pictures/2%[1]d.png" width="240" height="160" alt=""></div>`,
		near("img", setSource), ".track { display: flex; width: 260px; overflow-x: auto; scrollbar-width: none; } .track img { flex: none; }"},
	{"a slider that starts when it is near", `<div class="track" data-n="%d"></div>`, near(".track", "for (const n of [0, 1, 2]) { const i = new Image(240, 160); i.src = `/pictures/${n}${el.dataset.n}.png`; i.style.transform = 'translateX(' + -240 + 'px)'; el.append(i); }"),
		".track { display: flex; width: 240px; height: 160px; overflow: hidden; } .track img { flex: none; }"},
	{"frames that load late", `<iframe loading="lazy" src="/frame?n=%d" width="260" height="180"></iframe>`, "", "iframe { border: 0; }"},
	{"frames that an observer loads", `<iframe data-src="/frame?n=%d" width="260" height="180"></iframe>`, near("iframe", setSource), "iframe { border: 0; }"},
	{"a poster for a film", `<video data-poster="/pictures/%d.png" width="240" height="160"></video>`, near("video", `el.poster = el.dataset.poster;`), ""},
	{"a font that a section asks for", box, near(".box", `el.innerHTML = "<h2>Letters of another hand</h2>"; el.classList.add("in");`), `@font-face { font-family: Hand; src: url(/hand.woff2); } .box { min-height: 10px; } .box.in { font: 40px Hand, monospace; }`},
	{"a list that goes on, five times", `<p>Item %d</p>`, `let n = 0; const end = document.createElement("div"); end.style.height = "10px"; document.body.append(end);
		new IntersectionObserver((l, o) => { if (!l[0].isIntersecting) return; o.unobserve(end); if (n++ < 5) fetch("/data?n=" + n).then((r) => r.json()).then((d) => {
			const s = document.createElement("section"); s.innerHTML = '<img src="' + d.picture + '" width="240" height="160">'; end.before(s); o.observe(end); }); }, { rootMargin: "200px" }).observe(end);`, ""},
	{"a list that a listener makes go on", `<p>Item %d</p>`, `let n = 0; const more = () => { if (n < 5 && scrollY + innerHeight > document.body.scrollHeight - 150) { n++; const s = document.createElement("section"); s.innerHTML = '<img src="/pictures/' + n + '.png" width="240" height="160">'; document.body.append(s); } };
		addEventListener("scroll", more); more();`, ""},
}

// lateSite serves the ways, each on a page of its own, /0/ for the first.
func lateSite(t testing.TB) site.Environment {
	t.Helper()
	hand, err := os.ReadFile("../standin/fernhollow/assets/type/fern-serif.woff2")
	require.NoError(t, err)
	mux := http.NewServeMux()
	for i, way := range lateWays {
		var page strings.Builder
		fmt.Fprintf(&page, `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>%s</title><style>body { margin: 0 auto; max-width: 600px; font: 16px/1.5 "DejaVu Sans", sans-serif; }
			section { min-height: 480px; border-top: 1px solid #888; } %s</style><body><h1>%[1]s</h1>`, way.name, way.style)
		for n := range 7 {
			section := way.section
			if strings.Contains(section, "%") {
				section = fmt.Sprintf(section, n)
			}
			fmt.Fprintf(&page, "<section>%s</section>", section)
		}
		page.WriteString("<script>" + way.script + "</script>")
		mux.HandleFunc(fmt.Sprintf("/%d/{$}", i), func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(page.String()))
		})
	}
	answer := func(pattern, kind string, body func(r *http.Request) []byte) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			time.Sleep(15 * time.Millisecond) // a near server
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write(body(r))
		})
	}
	answer("/pictures/{name}", "image/png", func(r *http.Request) []byte { return numbered(r.PathValue("name")) })
	answer("/pictures/leaf.svg", "image/svg+xml", func(*http.Request) []byte {
		return []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="240" height="160"><path d="M10 150 Q 60 10 230 10 Q 180 140 10 150" fill="#357"/></svg>`)
	})
	answer("/data", "application/json", func(r *http.Request) []byte {
		return fmt.Appendf(nil, `{"picture": "/pictures/%s.png"}`, r.FormValue("n"))
	})
	answer("/frame", "text/html", func(r *http.Request) []byte {
		return fmt.Appendf(nil, `<!doctype html><body style="margin:0"><img src="/pictures/%s.png" width="240" height="160" alt="">`, r.FormValue("n"))
	})
	answer("/hand.woff2", "font/woff2", func(*http.Request) []byte { return hand })
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return site.Environment{Name: "staging", URL: s.URL}
}

// numbered is a picture that differs with its number.
func numbered(name string) []byte {
	n, _ := strconv.Atoi(strings.TrimSuffix(name, ".png"))
	m := image.NewNRGBA(image.Rect(0, 0, 240, 160))
	for y := range 160 {
		for x := range 240 {
			m.Set(x, y, color.NRGBA{uint8(40 + n*29), uint8(60 + x/2), uint8(90 + y/2), 255})
		}
	}
	var out bytes.Buffer
	_ = png.Encode(&out, m)
	return out.Bytes()
}

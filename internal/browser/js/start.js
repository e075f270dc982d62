(() => {
  const seen = { shifts: [], largest: 0, element: "", firstDraw: 0, changed: 0, added: 0, tasks: [] };
  Object.defineProperty(window, "__tideMarker", { value: seen, enumerable: false });
  // Two frames: in the first one observers see the page as it is, and by the second what they were told has been told.
  const frame = window.requestAnimationFrame.bind(window), scrollTo = window.scrollTo.bind(window);
  seen.painted = () => new Promise((done) => frame(() => frame(() => done(true))));
  const height = () => Math.max(document.documentElement ? document.documentElement.scrollHeight : 0, document.body ? document.body.scrollHeight : 0);
  // How tall the page is, how much of it shows, and how many elements were added to it since it began.
  seen.extent = () => ({ height: height(), view: innerHeight, added: seen.added });
  // One frame is enough here: observers see the page at the end of it, and are told while the page's clock goes on.
  seen.scroll = (top) => { scrollTo({ top, behavior: "instant" }); return new Promise((done) => frame(() => done(seen.extent()))); };
  // A look and a journey have one tab: what would open another stays in this one, or is refused.
  window.open = () => null;
  addEventListener("click", (e) => {
    const link = e.target instanceof Element && e.target.closest("a[target], area[target]");
    if (link && link.target !== "_self") link.target = "_self";
  }, { capture: true });
  // Who listens to what: what a page no longer reacts to does not show in its picture.
  seen.listening = new WeakMap();
  const add = EventTarget.prototype.addEventListener;
  EventTarget.prototype.addEventListener = function (type, listener, options) {
    const to = this == null ? window : this;
    if (listener && ["click", "submit", "change", "input", "keydown", "touchstart", "pointerdown", "mousedown"].includes(type)) {
      const types = seen.listening.get(to) || new Set();
      seen.listening.set(to, types.add(type));
    }
    return add.call(to, type, listener, options);
  };
  const name = (node) => {
    if (!node || node.nodeType !== 1) return "";
    const cls = typeof node.className === "string" && node.className.trim() ? "." + node.className.trim().split(/\s+/)[0] : "";
    return (node.tagName.toLowerCase() + (node.id ? "#" + node.id : cls)).slice(0, 80);
  };
  // A rectangle of the viewport as one of the page, in whole pixels.
  const whole = (n) => Math.max(-1e6, Math.min(1e6, Math.round(n) || 0));
  const box = (r) => ({ x: whole(r.x + scrollX), y: whole(r.y + scrollY), width: whole(r.width), height: whole(r.height) });
  const watch = (type, each) => {
    try {
      new PerformanceObserver((list) => list.getEntries().forEach(each)).observe({ type, buffered: true });
    } catch { /* not measured by this browser */ }
  };
  watch("layout-shift", (e) => {
    // A look gives no input. What says it had any followed a change of the viewport, which
    // a phone's page makes by itself when it loads, so those count too.
    if (seen.shifts.length > 500) return;
    const paths = seen.shifts.length < 50 ? (e.sources || []).slice(0, 5).map((s) => ({ from: box(s.previousRect), to: box(s.currentRect) })) : [];
    seen.shifts.push({ at: e.startTime, score: e.value, paths, moved: (e.sources || []).map((s) => name(s.node)).filter(Boolean).slice(0, 5) });
  });
  watch("largest-contentful-paint", (e) => { seen.largest = e.startTime; seen.element = name(e.element); });
  watch("longtask", (e) => { if (seen.tasks.length < 2000) seen.tasks.push([e.startTime, e.duration]); });
  watch("paint", (e) => { if (e.name === "first-contentful-paint") seen.firstDraw = e.startTime; });
  new MutationObserver((records) => {
    seen.changed = performance.now();
    for (const r of records) for (const n of r.addedNodes) if (n.nodeType === 1) seen.added++;
  }).observe(document, { childList: true, subtree: true, attributes: true, characterData: true });
})();

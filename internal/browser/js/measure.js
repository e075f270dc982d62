(() => {
  const a = window.__tideMarker;
  if (!a) return;
  const name = (node) => {
    if (!node || node.nodeType !== 1) return "";
    const cls = typeof node.className === "string" && node.className.trim() ? "." + node.className.trim().split(/\s+/)[0] : "";
    return (node.tagName.toLowerCase() + (node.id ? "#" + node.id : cls)).slice(0, 80);
  };
  const seen = [];
  const watch = (type, each, more) => {
    try {
      new PerformanceObserver((list) => list.getEntries().forEach(each)).observe({ type, buffered: true, ...more });
    } catch { /* not measured by this browser */ }
  };
  watch("largest-contentful-paint", (e) => { if (e.element) seen[0] = ["largest-contentful-paint", e.element]; });
  watch("layout-shift", (e) => (e.sources || []).forEach((s) => {
    if (s.node && s.node.nodeType === 1 && seen.length < 60) seen[Math.max(1, seen.length)] = ["layout-shift", s.node];
  }));
  // How long pages took to react: each at once, since the next step may lead away.
  watch("event", (e) => {
    if (e.interactionId && window.__tideReacted) window.__tideReacted(JSON.stringify({ of: e.interactionId, took: e.duration, name: name(e.target) }));
  }, { durationThreshold: 16 });
  const asked = performance.now.bind(performance), later = window.setTimeout.bind(window);
  Object.defineProperty(window, "__tideMeasured", { enumerable: false, value: async (settle) => {
    const n = performance.getEntriesByType("navigation")[0] || {};
    await new Promise((done) => later(done, Math.max(0, (n.loadEventEnd || 0) + settle - asked())));
    const marked = seen.filter((s) => s && s[1].isConnected).map(([metric, node]) => {
      const b = node.getBoundingClientRect();
      return { metric, name: name(node), box: [b.x, b.y, b.width, b.height] };
    });
    return { origin: performance.timeOrigin, firstByte: n.responseStart || 0, drawn: n.domContentLoadedEventEnd || 0, loaded: n.loadEventEnd || 0,
      firstDraw: a.firstDraw, largest: a.largest, shifts: a.shifts, element: a.element, tasks: a.tasks, marked,
      blocking: performance.getEntriesByType("resource").filter((r) => r.renderBlockingStatus === "blocking").map((r) => r.name).slice(0, 500) };
  } });
})();

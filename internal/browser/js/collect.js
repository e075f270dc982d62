(masks) => {
  const clip = (s, n) => (s.length > n ? s.slice(0, n) : s);
  const sx = scrollX, sy = scrollY;
  const outline = [], index = new Map();
  const skip = new Set(["SCRIPT", "STYLE", "LINK", "META", "NOSCRIPT", "TEMPLATE", "HEAD", "TITLE", "BR", "WBR", "SOURCE", "PATH", "G", "DEFS"]);
  const inline = new Set(["inline", "contents"]);
  const nameOf = (el) => {
    const cls = typeof el.className === "string" && el.className.trim() ? "." + el.className.trim().split(/\s+/)[0] : "";
    return clip(el.tagName.toLowerCase() + (el.id ? "#" + el.id : cls), 80);
  };
  const ids = new Map();
  for (const el of document.querySelectorAll("[id]")) ids.set(el.id, (ids.get(el.id) || 0) + 1);
  const step = (el) => {
    let n = 1;
    for (let p = el.previousElementSibling; p; p = p.previousElementSibling) if (p.tagName === el.tagName) n++;
    return el.tagName.toLowerCase() + ":nth-of-type(" + n + ")";
  };
  const walk = (el, parent, path) => {
    if (outline.length >= 4000 || skip.has(el.tagName.toUpperCase())) return;
    const r = el.getBoundingClientRect();
    const visible = r.width > 0 && r.height > 0 && (!el.checkVisibility || el.checkVisibility({ visibilityProperty: true, opacityProperty: true }));
    let at = parent;
    if (visible || el === document.body) {
      at = outline.length;
      outline.push({ path: clip(path, 2000), name: nameOf(el), parent, x: Math.round(r.left + sx), y: Math.round(r.top + sy), width: Math.round(r.width), height: Math.round(r.height) });
      index.set(el, at);
    }
    if (el.tagName === "svg") return;
    for (const c of el.children) {
      const own = c.id && ids.get(c.id) === 1 && /^[A-Za-z][\w-]*$/.test(c.id) ? "#" + c.id : path + ">" + step(c);
      walk(c, at, own);
    }
  };
  if (document.body) walk(document.body, -1, "body");
  const lines = [], pieces = new Map();
  if (document.body) {
    const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    for (let n = texts.nextNode(); n && lines.length < 3000; n = texts.nextNode()) {
      const text = n.data.replace(/\s+/g, " ").trim();
      if (!text || !n.parentElement || skip.has(n.parentElement.tagName)) continue;
      let el = n.parentElement;
      if (el.checkVisibility && !el.checkVisibility({ visibilityProperty: true })) continue;
      while (el && el !== document.body && inline.has(getComputedStyle(el).display)) el = el.parentElement;
      while (el && !index.has(el)) el = el.parentElement;
      const box = el ? index.get(el) : -1;
      if (!pieces.has(box)) { pieces.set(box, lines.length); lines.push({ text: clip(text, 500), box }); }
      else { const l = lines[pieces.get(box)]; l.text = clip(l.text + " " + text, 500); }
    }
  }
  const masked = [];
  for (const selector of masks) {
    let found = [];
    try { found = document.querySelectorAll(selector); } catch { /* reported by the caller: nothing is masked */ }
    for (const el of found) {
      const r = el.getBoundingClientRect();
      if (masked.length < 500) masked.push({ path: selector, parent: -1, x: Math.floor(r.left + sx), y: Math.floor(r.top + sy), width: Math.ceil(r.width) + 1, height: Math.ceil(r.height) + 1 });
    }
  }
  const nav = performance.getEntriesByType("navigation")[0];
  const seen = window.__tideMarker || { shifts: [], largest: 0, firstDraw: 0 };
  return {
    title: clip(document.title || "", 300), address: location.href,
    width: Math.max(innerWidth, document.documentElement.clientWidth),
    height: Math.max(document.documentElement.scrollHeight, document.body ? document.body.scrollHeight : 0, innerHeight),
    outline, lines, masked, shifts: seen.shifts,
    timing: { firstByte: nav ? nav.responseStart : 0, firstDraw: seen.firstDraw, largest: seen.largest, loaded: nav ? nav.loadEventEnd : 0 },
  };
}

(masks) => {
  const clip = (s, n) => (s.length > n ? s.slice(0, n) : s);
  const sx = scrollX, sy = scrollY;
  const outline = [], index = new Map();
  let boxes = 0, texts = 0; // beyond the limits
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
  const roles = { BUTTON: "button", SELECT: "combobox", TEXTAREA: "textbox", NAV: "navigation", MAIN: "main", HEADER: "banner", FOOTER: "contentinfo", ASIDE: "complementary", FORM: "form", IMG: "img", TABLE: "table", DIALOG: "dialog" };
  const inputs = { button: "button", submit: "button", reset: "button", image: "button", checkbox: "checkbox", radio: "radio", range: "slider", number: "spinbutton", search: "searchbox" };
  const roleOf = (el) => {
    const written = el.getAttribute("role");
    if (written) return clip(written.trim().split(/\s+/)[0], 30);
    if (el.tagName === "INPUT") return inputs[el.type] || "textbox";
    if (el.tagName === "A") return el.hasAttribute("href") ? "link" : "";
    return /^H[1-6]$/.test(el.tagName) ? "heading" : roles[el.tagName] || "";
  };
  const styles = [], styleIndex = new Map();
  const styleOf = (cs) => {
    const style = { font: clip(cs.fontSize + " " + cs.fontFamily + (cs.fontWeight === "400" ? "" : " " + cs.fontWeight), 120), colour: cs.color,
      background: cs.backgroundImage !== "none" ? clip(cs.backgroundImage, 120) : cs.backgroundColor === "rgba(0, 0, 0, 0)" ? "nothing" : cs.backgroundColor };
    const key = style.font + "|" + style.colour + "|" + style.background;
    if (!styleIndex.has(key)) { styles.push(style); styleIndex.set(key, styles.length); }
    return styleIndex.get(key);
  };
  const edge = Math.max(innerWidth, document.documentElement.clientWidth);
  const cutOff = (el, cs, r) => {
    if (r.right + sx > edge + 2 && r.left + sx < edge) return true;
    const clips = (v) => v === "hidden" || v === "clip";
    return clips(cs.overflowX) && el.scrollWidth > el.clientWidth + 2 || clips(cs.overflowY) && el.scrollHeight > el.clientHeight + 2;
  };
  const walk = (el, parent, path) => {
    if (skip.has(el.tagName.toUpperCase())) return;
    if (outline.length >= 4000) { boxes += 1 + el.getElementsByTagName("*").length; return; }
    const r = el.getBoundingClientRect();
    const visible = r.width > 0 && r.height > 0 && (!el.checkVisibility || el.checkVisibility({ visibilityProperty: true, opacityProperty: true }));
    let at = parent;
    if (visible || el === document.body) {
      at = outline.length;
      const cs = getComputedStyle(el);
      outline.push({ path: clip(path, 2000), name: nameOf(el), parent, x: Math.round(r.left + sx), y: Math.round(r.top + sy), width: Math.round(r.width), height: Math.round(r.height), role: roleOf(el), style: styleOf(cs), cut: cutOff(el, cs, r) });
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
    const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    for (let n = walker.nextNode(); n; n = walker.nextNode()) {
      if (lines.length >= 3000) { texts = 1; break; }
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
  const listens = [];
  const listening = (el, path) => {
    const types = new Set((window.__tideMarker && window.__tideMarker.listening && window.__tideMarker.listening.get(el)) || []);
    for (const t of ["click", "submit", "change", "input"]) if (el["on" + t]) types.add(t);
    for (const t of [...types].sort()) if (listens.length < 1000) listens.push(clip(path, 300) + " " + t);
  };
  listening(document, "document");
  for (const [el, i] of index) listening(el, outline[i].path);
  // The order in which the keyboard reaches elements: those with a positive tabindex first, in
  // its order, then the others as the document has them (HTML Living Standard §6.6.3).
  const reachable = [];
  for (const [el, i] of index) {
    if (el.tabIndex >= 0 && !el.disabled && !el.closest("[inert]") && (el.tagName !== "INPUT" || el.type !== "hidden")) reachable.push([el.tabIndex || Infinity, outline[i].path]);
  }
  const focus = reachable.sort((a, b) => (a[0] === b[0] ? 0 : a[0] - b[0])).slice(0, 500).map(([, path]) => clip(path, 300));
  const facts = {};
  const fact = (name, value) => { if (value) facts[name] = clip(String(value).replace(/\s+/g, " ").trim(), 500); };
  const meta = (name) => { const el = document.querySelector(`meta[name="${name}" i]`); return el && el.getAttribute("content"); };
  fact("title", document.title);
  fact("description", meta("description"));
  fact("robots", meta("robots"));
  const canonical = document.querySelector('link[rel="canonical" i]');
  fact("canonical", canonical && canonical.getAttribute("href"));
  const kinds = [];
  for (const el of document.querySelectorAll('script[type="application/ld+json" i]')) {
    try { for (const d of [].concat(JSON.parse(el.textContent))) kinds.push([].concat(d["@type"] || "?").join("+")); } catch { kinds.push("unreadable"); }
  }
  fact("structured data", kinds.sort().join(", "));
  const links = new Set();
  for (const el of document.querySelectorAll('a[href], link[rel="alternate" i][href]')) {
    try {
      const u = new URL(el.href);
      if (/^https?:$/.test(u.protocol) && links.size < 200) { u.hash = ""; links.add(clip(u.href, 1000)); }
    } catch { /* no address */ }
  }
  // How much of styles and scripts stands in the page itself: what is no longer a file may be here.
  let rules = 0, code = 0;
  for (const s of document.styleSheets) if (!s.href) try { rules += s.cssRules.length; } catch { /* not to be read */ }
  const runs = (s) => !s.type || /^(module|(text|application)\/(x-)?(java|ecma)script)$/i.test(s.type.trim());
  // Scripts and styles that wait: their addresses stand in the page, where nothing loads them.
  const waits = new Set();
  for (const s of document.scripts) if (!s.src && runs(s)) code += s.textContent.length;
  for (const el of document.querySelectorAll("script:not([src]), link:not([href])")) {
    for (const a of el.attributes) {
      if (waits.size < 100 && /^(https?:)?\/|\.(m?js|css)(\?|$)/.test(a.value)) try { waits.add(clip(new URL(a.value, location.href).href, 1000)); } catch { /* no address */ }
    }
  }
  // Styles that did not hold up the first drawing (Resource Timing, renderBlockingStatus).
  const blocking = new Map(performance.getEntriesByType("resource").map((e) => [e.name, e.renderBlockingStatus]));
  const late = [];
  for (const s of document.styleSheets) if (s.href && blocking.get(s.href) === "non-blocking" && late.length < 50) late.push(clip(s.href, 1000));
  const empty = [];
  for (const i of document.images) {
    if (i.complete && i.naturalWidth === 0 && i.currentSrc && empty.length < 50) empty.push(clip(i.currentSrc, 1000));
  }
  const fonts = [];
  if (document.fonts) document.fonts.forEach((f) => { if (f.status === "error" && fonts.length < 20) fonts.push(clip(f.family.replace(/["']/g, ""), 100)); });
  const nav = performance.getEntriesByType("navigation")[0];
  const seen = window.__tideMarker || { shifts: [], largest: 0, firstDraw: 0 };
  return {
    title: clip(document.title || "", 300), address: location.href,
    width: Math.max(innerWidth, document.documentElement.clientWidth),
    height: Math.max(document.documentElement.scrollHeight, document.body ? document.body.scrollHeight : 0, innerHeight),
    boxes: boxes && outline.length + boxes, texts: texts && lines.length + texts, outline, styles, lines, masked, listens, focus, facts, rules, code, late, waits: [...waits], links: [...links], empty, fonts: [...new Set(fonts)], shifts: seen.shifts,
    timing: { firstByte: nav ? nav.responseStart : 0, firstDraw: seen.firstDraw, largest: seen.largest, loaded: nav ? nav.loadEventEnd : 0 },
  };
}

function (target, among) {
  const fold = (s) => (s || "").replace(/\s+/g, " ").trim();
  const visible = (el) => {
    const r = el.getBoundingClientRect();
    return r.width > 0 && r.height > 0 && (!el.checkVisibility || el.checkVisibility({ visibilityProperty: true, opacityProperty: true }));
  };
  let list;
  if (among) list = among;
  else if (target.css) list = Array.from(document.querySelectorAll(target.css));
  else if (target.label) list = Array.from(document.querySelectorAll("input, select, textarea, button, [contenteditable]"));
  else list = Array.from(document.querySelectorAll("body, body *")).filter((el) => !["SCRIPT", "STYLE", "NOSCRIPT", "TEMPLATE"].includes(el.tagName));
  if (among && target.css) list = list.filter((el) => el.matches(target.css));
  if (target.label) {
    const want = fold(target.label);
    const labels = (el) => Array.from(el.labels || []).map((l) => {
      const c = l.cloneNode(true);
      c.querySelectorAll("input, select, textarea").forEach((x) => x.remove());
      return fold(c.textContent);
    }).concat(fold(el.getAttribute("aria-label")), (el.getAttribute("aria-labelledby") || "").split(/\s+/).filter(Boolean).map((id) => fold((document.getElementById(id) || {}).textContent)));
    const exact = list.filter((el) => labels(el).includes(want));
    list = exact.length ? exact : list.filter((el) => labels(el).some((l) => l && l.toLowerCase().includes(want.toLowerCase())));
  }
  if (target.text) {
    const want = fold(target.text).toLowerCase();
    const has = list.filter((el) => visible(el) && fold(el.innerText || el.value || "").toLowerCase().includes(want));
    list = target.css || target.label || among ? has : has.filter((el) => !has.some((other) => other !== el && el.contains(other)));
  }
  return list.filter(visible);
}

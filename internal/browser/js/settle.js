async () => {
  const frame = () => new Promise((done) => { const t = setTimeout(done, 100); requestAnimationFrame(() => { clearTimeout(t); done(); }); });
  const height = () => Math.max(document.documentElement.scrollHeight, document.body ? document.body.scrollHeight : 0);
  const limit = Math.min(height() + 20000, 40000);
  for (let y = 0; y < Math.min(height(), limit); y += Math.max(200, innerHeight * 0.9)) {
    scrollTo({ top: y, behavior: "instant" });
    await frame();
  }
  scrollTo({ top: height(), behavior: "instant" });
  await frame();
  scrollTo({ top: 0, behavior: "instant" });
  await frame();
  const pictures = Array.from(document.images).filter((i) => !i.complete && i.getClientRects().length);
  const patience = new Promise((done) => setTimeout(done, 4000));
  await Promise.race([patience, Promise.all(pictures.map((i) => new Promise((done) => { i.onload = i.onerror = done; if (i.complete) done(); })))]);
  if (document.fonts) await Promise.race([patience, document.fonts.ready]);
  await frame();
  for (const a of document.getAnimations ? document.getAnimations() : []) {
    try {
      const t = a.effect && a.effect.getComputedTiming();
      if (t && Number.isFinite(t.endTime)) a.finish();
      else { a.pause(); a.currentTime = 0; }
    } catch { /* an animation that cannot be ended stays */ }
  }
  return true;
}

// Waits until the document is complete and has not changed for a while, or until the
// patience is over; says when it was complete and how long it has been still.
async (still, patience) => {
  const seen = window.__tideMarker;
  const began = performance.now();
  const since = () => (seen ? performance.now() - seen.changed : 1e9);
  for (;;) {
    const ready = document.readyState;
    const left = ready === "complete" ? still - since() : 25;
    if (left <= 0 || performance.now() - began > patience) return { ready, since: since() };
    await new Promise((done) => setTimeout(done, Math.max(5, Math.min(left, 250))));
  }
}

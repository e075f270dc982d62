() => {
  const seen = window.__tideMarker;
  return { ready: document.readyState, since: seen ? performance.now() - seen.changed : 1e9 };
}

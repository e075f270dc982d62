Fern.ready(function () {
  var el = Fern.one("[data-clock]");
  function tick() { el.textContent = new Date().toISOString().slice(11, 19); }
  tick();
  setInterval(tick, 1000);
});

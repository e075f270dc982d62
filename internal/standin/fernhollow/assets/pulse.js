// Tells the mill now and then that somebody is here.
Fern.ready(function () {
  var every = Number(document.documentElement.dataset.pulse);
  if (every > 0) setInterval(function () { fetch("/api/pulse"); }, every * 1000);
});

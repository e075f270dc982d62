// A small library that everything else on the page uses as a global.
var Fern = (function () {
  var settings = {}, started = false, waiting = [];
  function start() {
    if (started) return;
    started = true;
    waiting.forEach(function (fn) { fn(); });
  }
  if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", start);
  else setTimeout(start, 0);
  return {
    config: function (more) { for (var k in more) settings[k] = more[k]; },
    get: function (key) { return settings[key]; },
    ready: function (fn) { if (started) fn(); else waiting.push(fn); },
    all: function (sel, root) { return Array.prototype.slice.call((root || document).querySelectorAll(sel)); },
    one: function (sel, root) { return (root || document).querySelector(sel); },
    on: function (el, type, fn) { if (el) el.addEventListener(type, fn); }
  };
})();

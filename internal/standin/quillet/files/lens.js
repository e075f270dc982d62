// A few helpers that the other scripts use as a global.
var Lens = (function () {
  var kept = {};
  return {
    set: function (more) { for (var k in more) kept[k] = more[k]; },
    get: function (k) { return kept[k]; },
    when: function (fn) { document.readyState === "loading" ? document.addEventListener("DOMContentLoaded", fn) : fn(); },
    first: function (s) { return document.querySelector(s); }
  };
})();

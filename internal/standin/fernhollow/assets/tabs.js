Fern.ready(function () {
  Fern.all("[data-tabs]").forEach(function (box) {
    var parts = Fern.all("[data-tab]", box), bar = Fern.one(".tab-bar", box);
    box.classList.add("tabs-ready");
    function show(n) {
      parts.forEach(function (p, i) { p.classList.toggle("is-shown", i === n); });
      Fern.all("button", bar).forEach(function (b, i) {
        b.setAttribute("aria-selected", String(i === n));
      });
    }
    parts.forEach(function (p, i) {
      var b = document.createElement("button");
      b.type = "button";
      b.setAttribute("role", "tab");
      b.textContent = p.getAttribute("data-tab");
      Fern.on(b, "click", function () { show(i); });
      bar.appendChild(b);
    });
    show(0);
  });
});

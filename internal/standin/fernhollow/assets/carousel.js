Fern.ready(function () {
  Fern.all("[data-carousel]").forEach(function (box) {
    var slides = Fern.all(".slide", box), dots = Fern.one(".carousel-dots", box), at = 0, timer;
    box.classList.add("carousel-live");
    function show(n) {
      at = (n + slides.length) % slides.length;
      slides.forEach(function (s, i) { s.classList.toggle("is-shown", i === at); });
      Fern.all("button", dots).forEach(function (d, i) { d.classList.toggle("is-shown", i === at); });
    }
    slides.forEach(function (s, i) {
      var d = document.createElement("button");
      d.type = "button";
      d.setAttribute("aria-label", "Slide " + (i + 1));
      Fern.on(d, "click", function () { clearInterval(timer); show(i); });
      dots.appendChild(d);
    });
    show(0);
    timer = setInterval(function () { show(at + 1); }, 7000);
  });
});

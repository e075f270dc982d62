Fern.ready(function () {
  var button = Fern.one(".menu-button"), menu = Fern.one(".menu");
  Fern.on(button, "click", function () {
    var open = menu.classList.toggle("is-open");
    button.setAttribute("aria-expanded", String(open));
  });
});

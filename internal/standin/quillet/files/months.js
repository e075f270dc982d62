Lens.when(function () {
  document.querySelectorAll("[data-months] a").forEach(function (a) { a.classList.toggle("here", a.search === location.search); });
});

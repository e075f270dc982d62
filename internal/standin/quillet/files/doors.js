Lens.when(function () {
  var b = Lens.first(".doors"), n = Lens.first("#rooms");
  b.addEventListener("click", function () { b.setAttribute("aria-expanded", String(n.classList.toggle("open"))); });
  Lens.first("[data-opens]").textContent = "The dome opens at " + Lens.get("opens");
});

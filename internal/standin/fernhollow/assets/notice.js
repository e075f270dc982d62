Fern.ready(function () {
  var el = Fern.one("[data-notice]");
  el.textContent = Fern.get("note");
  el.classList.add("notice-" + Fern.get("season"));
});

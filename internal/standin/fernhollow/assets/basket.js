Fern.ready(function () {
  var badge = Fern.one("[data-basket]");
  fetch("/api/cart").then(function (r) { return r.json(); }).then(function (cart) {
    badge.textContent = cart.count;
    badge.classList.toggle("has-items", cart.count > 0);
  });
});

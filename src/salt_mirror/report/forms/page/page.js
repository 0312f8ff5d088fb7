"use strict";
(function () {
  var form = document.getElementById("filter");
  var findings = Array.from(document.querySelectorAll("details.finding"));
  if (!findings.length) { return; }
  form.hidden = false;
  function shown() {
    var kinds = Array.from(form.querySelectorAll("[name=kind]:checked")).map(function (box) { return box.value; });
    var view = form.elements.view ? form.elements.view.value : "";
    var text = form.elements.text.value.trim().toLowerCase();
    var count = 0;
    findings.forEach(function (one) {
      var fits = kinds.includes(one.dataset.kind) && (!view || one.dataset.view === view) && one.textContent.toLowerCase().includes(text);
      one.hidden = !fits;
      count += fits ? 1 : 0;
    });
    document.querySelectorAll("[data-cause]").forEach(function (box) { box.hidden = !box.querySelector("details:not([hidden])"); });
    document.querySelectorAll("h3.kind").forEach(function (title) {
      title.hidden = !document.querySelector("details.finding." + title.dataset.kind + ":not([hidden])");
    });
    document.getElementById("count").textContent = count + " of " + findings.length + " findings shown";
  }
  form.addEventListener("input", shown);
  form.addEventListener("submit", function (event) { event.preventDefault(); });
  document.getElementById("open").addEventListener("click", function () { findings.forEach(function (one) { one.open = true; }); });
  document.getElementById("fold").addEventListener("click", function () { findings.forEach(function (one) { one.open = false; }); });
  window.addEventListener("beforeprint", function () { findings.forEach(function (one) { one.open = true; }); });
  shown();
})();

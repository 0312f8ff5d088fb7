"use strict";
(function () {
  var data = JSON.parse(document.getElementById("data").textContent);
  var form = document.getElementById("filter");
  var boxes = Array.from(document.querySelectorAll("details.fold"));
  var STEP = 100;
  var FIELDS = ["kind", "code", "place", "view", "since", "text", "repair", "remedy", "evidence"];
  var lowered = null;
  if (!boxes.length) { return; }
  form.hidden = false;

  function packed(number) {
    var row = data.rows[number];
    return data.templates[row[0]].map(function (part) {
      if (typeof part === "string") { return part; }
      var value = row[part + 1];
      return typeof value === "number" ? data.words[value] : value;
    }).join("");
  }
  function finding(number) {
    var found = {};
    packed(number).split("\u001e").forEach(function (text, at) { found[FIELDS[at]] = text; });
    return found;
  }
  function add(parent, tag, text, name) {
    var one = document.createElement(tag);
    if (text) { one.textContent = text; }
    if (name) { one.className = name; }
    parent.appendChild(one);
    return one;
  }
  function article(number, titled) {
    var one = finding(number), box = document.createElement("article"), told = data.codes[one.code];
    if (titled) {
      var head = add(box, "h4", told[0] + " ");
      add(head, "span", one.place, "name");
    }
    add(box, "p", one.text);
    var meaning = add(box, "p", told[1] + " ", "meaning");
    add(meaning, "code", one.code);
    if (one.since) { meaning.appendChild(document.createTextNode(" Open since " + one.since + ".")); }
    if (one.evidence) {
      add(box, "h5", "Answers");
      var list = add(box, "ul");
      one.evidence.split("\u001f").forEach(function (line) { add(list, "li", line); });
    }
    if (one.remedy) {
      add(box, "h5", one.repair);
      add(box, "pre", one.remedy);
    }
    return box;
  }
  var folds = boxes.map(function (box, at) {
    var first = data.folds[at][0], count = data.folds[at][1], all = [];
    for (var number = first; number < first + count; number++) { all.push(number); }
    return { box: box, rows: box.querySelector(".rows"), number: box.querySelector(".number"), all: all, fits: all, made: -1 };
  });
  function more(fold) {
    var old = fold.rows.querySelector("button"), piece = document.createDocumentFragment();
    if (old) { old.remove(); }
    var end = Math.min(fold.made + STEP, fold.fits.length), begin = fold.made;
    for (var at = begin; at < end; at++) { piece.appendChild(article(fold.fits[at], Boolean(fold.number))); }
    fold.made = end;
    var first = piece.firstChild;
    fold.rows.appendChild(piece);
    if (end < fold.fits.length) {
      var button = add(fold.rows, "button", Math.min(STEP, fold.fits.length - end) + " more of " + (fold.fits.length - end).toLocaleString("en"));
      button.type = "button";
      button.addEventListener("click", function () { more(fold); });
    }
    if (begin && first) { first.tabIndex = -1; first.focus(); }
  }
  function make(fold) {
    if (fold.made >= 0 || !fold.box.open) { return; }
    fold.rows.textContent = "";
    fold.made = 0;
    more(fold);
  }
  folds.forEach(function (fold) { fold.box.addEventListener("toggle", function () { make(fold); }); });

  function shown() {
    var kinds = Array.from(form.querySelectorAll("[name=kind]:checked")).map(function (box) { return box.value; });
    var view = form.elements.view ? form.elements.view.value : "";
    var text = form.elements.text.value.trim().toLowerCase();
    var count = 0, visible = {};
    if (text && !lowered) {
      lowered = data.rows.map(function (_, number) {
        var all = packed(number);
        return (all + " " + data.codes[all.split("\u001e", 2)[1]][0]).toLowerCase();
      });
    }
    folds.forEach(function (fold) {
      var fits = [];
      if (kinds.includes(fold.box.dataset.kind)) {
        fits = !text && !view ? fold.all : fold.all.filter(function (number) {
          return (!text || lowered[number].includes(text)) && (!view || finding(number).view === view);
        });
      }
      if (fits.length !== fold.fits.length || text || view) { fold.made = -1; }
      fold.fits = fits;
      fold.box.hidden = !fits.length;
      if (fold.number) {
        fold.number.textContent = (fits.length < fold.all.length ? fits.length.toLocaleString("en") + " of " : "") + fold.all.length.toLocaleString("en");
      }
      if (fits.length) { visible[fold.box.dataset.kind] = true; make(fold); }
      count += fits.length;
    });
    document.querySelectorAll("h3.kind").forEach(function (title) { title.hidden = !visible[title.dataset.kind]; });
    document.getElementById("count").textContent = count.toLocaleString("en") + " of " + data.rows.length.toLocaleString("en") + " findings shown";
  }
  var waiting;
  form.addEventListener("input", function () { clearTimeout(waiting); waiting = setTimeout(shown, 120); });
  form.addEventListener("submit", function (event) { event.preventDefault(); });
  function all(open) { folds.forEach(function (fold) { fold.box.open = open; }); }
  document.getElementById("open").addEventListener("click", function () { all(true); });
  document.getElementById("fold").addEventListener("click", function () { all(false); });
  window.addEventListener("beforeprint", function () { all(true); folds.forEach(make); });
  shown();
})();

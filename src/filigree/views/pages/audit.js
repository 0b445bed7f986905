"use strict";
(function () {
  var PAGE = 200;
  function text(cell) { return cell.dataset.key || cell.textContent; }
  function tools(chunks) {
    var section = chunks[0].closest("section");
    var first = chunks[0], body = first.querySelector("tbody"), heads = first.querySelectorAll("th");
    var rows = [];
    chunks.forEach(function (one) {
      one.querySelectorAll("tbody tr").forEach(function (row) { rows.push(row); });
    });
    var name = first.dataset.table, state = {page: 0, by: -1, up: true, words: ""}, shown = rows;
    var bar = document.createElement("div"), field = document.createElement("input");
    var told = document.createElement("span"), back = document.createElement("button");
    var on = document.createElement("button"), label = document.createElement("label");
    bar.className = "tools"; field.type = "search"; told.setAttribute("aria-live", "polite");
    label.textContent = "Only rows with "; label.appendChild(field);
    back.textContent = "Earlier rows"; on.textContent = "Later rows"; back.type = on.type = "button";
    [label, back, on, told].forEach(function (one) { bar.appendChild(one); });
    section.insertBefore(bar, first);
    chunks.slice(1).forEach(function (one) { one.remove(); });
    first.open = true;
    function show() {
      var begin = state.page * PAGE, part = shown.slice(begin, begin + PAGE);
      body.replaceChildren.apply(body, part);
      told.textContent = shown.length ? "Rows " + (begin + 1) + " to " + (begin + part.length) + " of " +
        shown.length + (shown.length < rows.length ? " (" + rows.length + " in all)" : "") : "No row has that";
      first.querySelector("summary").textContent = told.textContent;
      back.disabled = state.page === 0; on.disabled = begin + PAGE >= shown.length;
      back.hidden = on.hidden = shown.length <= PAGE;
    }
    function choose() {
      var words = state.words.toLowerCase();
      shown = rows.filter(function (row) { return !words || row.textContent.toLowerCase().indexOf(words) >= 0; });
      if (state.by >= 0) {
        shown = shown.map(function (row, at) { return [text(row.cells[state.by]), at, row]; });
        shown.sort(function (a, b) {
          var order = a[0] < b[0] ? -1 : a[0] > b[0] ? 1 : 0;
          return (state.up ? order : -order) || a[1] - b[1];
        });
        shown = shown.map(function (one) { return one[2]; });
      }
      state.page = 0; show();
    }
    heads.forEach(function (head, at) {
      var button = document.createElement("button");
      button.type = "button"; button.textContent = head.textContent;
      // On paper a button is told on the first page alone: there its name stands instead.
      head.dataset.name = head.textContent;
      head.replaceChildren(button);
      button.addEventListener("click", function () {
        state.up = state.by === at ? !state.up : true; state.by = at;
        heads.forEach(function (other) { other.removeAttribute("aria-sort"); });
        head.setAttribute("aria-sort", state.up ? "ascending" : "descending");
        choose(); note();
      });
    });
    field.addEventListener("input", function () { state.words = field.value; choose(); note(); });
    back.addEventListener("click", function () { state.page -= 1; show(); });
    on.addEventListener("click", function () { state.page += 1; show(); });
    function note() {
      var parts = new URLSearchParams(location.hash.slice(1).indexOf("=") > 0 ? location.hash.slice(1) : "");
      parts.set(name, (state.by < 0 ? "" : (state.up ? "+" : "-") + state.by) + "~" + state.words);
      history.replaceState(null, "", "#" + parts.toString());
    }
    var kept = new URLSearchParams(location.hash.slice(1)).get(name);
    if (kept) {
      var at = kept.indexOf("~"), order = kept.slice(0, at);
      field.value = state.words = kept.slice(at + 1);
      if (/^[+-]\d+$/.test(order) && +order.slice(1) < heads.length) {
        state.by = +order.slice(1); state.up = order[0] === "+";
        heads[state.by].setAttribute("aria-sort", state.up ? "ascending" : "descending");
      }
    }
    choose();
  }
  var tables = {};
  document.querySelectorAll("details.chunk").forEach(function (one) {
    (tables[one.dataset.table] = tables[one.dataset.table] || []).push(one);
  });
  Object.keys(tables).forEach(function (name) { tools(tables[name]); });
})();

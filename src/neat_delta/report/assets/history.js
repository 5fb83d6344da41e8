/* The changes of a ledger: unpacks them, and draws those that are asked for. All that comes from files is set as text,
   never as markup. */
"use strict";
(async () => {
  const byId = (id) => document.getElementById(id);
  const packed = Uint8Array.from(atob(byId("data").textContent), (c) => c.charCodeAt(0));
  const unpacked = new Blob([packed]).stream().pipeThrough(new DecompressionStream("gzip"));
  const cells = JSON.parse(await new Response(unpacked).text());
  byId("data").remove();
  const [ROUND, DAY, KEY, FIELD, BEFORE, AFTER, BY, STATE] = [0, 1, 2, 3, 4, 5, 6, 7];
  const AT_ONCE = 300;
  let fitting = cells, drawn = 0;

  function cell(row, text, kind, name) {
    const node = document.createElement(kind);
    node.textContent = text === "" ? "(blank)" : text === null ? "" : String(text);
    node.title = node.textContent;
    if (text === "") node.className = "blank";
    if (name) node.className = name;
    row.append(node);
    return node;
  }

  function changed(row, text, mark) {
    const node = document.createElement("td");
    if (text !== null) {
      const inner = document.createElement(mark);
      inner.textContent = text === "" ? "(blank)" : text;
      node.title = inner.textContent;
      node.append(inner);
    }
    row.append(node);
  }

  function draw() {
    const rows = byId("rows"), part = document.createDocumentFragment();
    for (const one of fitting.slice(drawn, drawn + AT_ONCE)) {
      const row = document.createElement("tr");
      cell(row, one[ROUND], "td");
      cell(row, one[DAY], "td", "day");
      cell(row, one[KEY], "th").scope = "row";
      cell(row, one[FIELD] || "(item)", "td", "field");
      changed(row, one[BEFORE], "del");
      changed(row, one[AFTER], "ins");
      cell(row, one[BY], "td", "by");
      cell(row, one[STATE], "td", ["landed", "sent", "written"].includes(one[STATE]) ? "why calm" : "why");
      part.append(row);
    }
    drawn = Math.min(drawn + AT_ONCE, fitting.length);
    rows.append(part);
    byId("more").hidden = drawn >= fitting.length;
    const number = (many) => many.toLocaleString("en");
    byId("status").textContent = `${number(fitting.length)} of ${number(cells.length)} changes`;
  }

  function narrow() {
    const text = byId("find").value.trim().toLowerCase(), field = byId("field").value;
    const state = byId("state").value, since = byId("since").value;
    fitting = cells.filter((one) =>
      (!field || one[FIELD] === field) && (!state || one[STATE] === state) && (!since || one[DAY] >= since) &&
      (!text || [KEY, BEFORE, AFTER, BY].some((n) => (one[n] || "").toLowerCase().includes(text))));
    drawn = 0;
    byId("rows").replaceChildren();
    draw();
  }

  for (const id of ["find", "field", "state", "since"]) {
    for (const event of ["input", "change"]) byId(id).addEventListener(event, narrow);
  }
  byId("more").addEventListener("click", draw);
  draw();
})();

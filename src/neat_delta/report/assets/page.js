/* The table of a page: unpacks the items, and draws those that are in sight. All that comes from files is set as text,
   never as markup. */
"use strict";
(async () => {
  const byId = (id) => document.getElementById(id);
  const make = (tag, props = {}, ...children) => {
    const node = Object.assign(document.createElement(tag), props);
    node.append(...children);
    return node;
  };

  // The items are packed (gzip, base64), so that the page stays small enough to be sent by mail.
  const packed = Uint8Array.from(atob(byId("data").textContent), (c) => c.charCodeAt(0));
  const unpacked = new Blob([packed]).stream().pipeThrough(new DecompressionStream("gzip"));
  const data = JSON.parse(await new Response(unpacked).text());
  byId("data").remove();
  const { fields, verdicts, reasons, flags, items } = data;
  const [KEY, NAME, VERDICT, LIVE, SHEET, WHY, CELLS, FLAGS, LINE, KEYS] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9];
  const [FIELD, BEFORE, AFTER, STEP, SHARE, STAYS, SAID, CLASH] = [0, 1, 2, 3, 4, 5, 6, 7];
  const [BASE, BOTH] = [0, 1];
  const [CHECK, LEVEL, WHAT, DONE] = [0, 1, 2, 3];
  const MOST_LINES = 4, AROUND = 900, MOST_PRINTED = 3000, COLUMNS = 9;

  // Words that differ: the tokens of two texts, and which of them are not in the longest common run of both.
  const TOKENS = /\s+|<[^<>\s]+>|[\p{L}\p{N}_]+|[^\p{L}\p{N}_\s]/gu;
  const MOST_TOKENS = 600;

  function pieces(field, before, after) {
    if (field.number || !before || !after) return [[[before, false]], [[after, false]]];
    if (field.list) return listPieces(before, after, field.list);
    const old = before.match(TOKENS) || [], now = after.match(TOKENS) || [];
    let from = 0, to = 0;
    while (from < old.length && from < now.length && old[from] === now[from]) from++;
    while (to < old.length - from && to < now.length - from && old.at(-1 - to) === now.at(-1 - to)) to++;
    const one = old.slice(from, old.length - to), other = now.slice(from, now.length - to);
    const kept = one.length <= MOST_TOKENS && other.length <= MOST_TOKENS ? common(one, other) : [new Set(), new Set()];
    const whole = (tokens, same) => joined(tokens.map((token, n) => {
      const inside = n - from;
      return [token, inside >= 0 && n < tokens.length - to && !same.has(inside)];
    }));
    const found = [whole(old, kept[0]), whole(now, kept[1])];
    return found.some((parts) => parts.some(([, differs]) => !differs)) ? found : [[[before, false]], [[after, false]]];
  }

  function common(one, other) {
    const wide = other.length + 1, best = new Uint16Array((one.length + 1) * wide);
    for (let a = one.length - 1; a >= 0; a--) {
      for (let b = other.length - 1; b >= 0; b--) {
        best[a * wide + b] = one[a] === other[b]
          ? best[(a + 1) * wide + b + 1] + 1
          : Math.max(best[(a + 1) * wide + b], best[a * wide + b + 1]);
      }
    }
    const kept = [new Set(), new Set()];
    for (let a = 0, b = 0; a < one.length && b < other.length;) {
      if (one[a] === other[b]) { kept[0].add(a++); kept[1].add(b++); }
      else if (best[(a + 1) * wide + b] >= best[a * wide + b + 1]) a++;
      else b++;
    }
    return kept;
  }

  function listPieces(before, after, separator) {
    const values = (text) => text.split(separator).map((value) => value.trim());
    const marked = (text, others) => text.split(separator).flatMap((value, n) => [
      [(n ? separator : "") + value.match(/^\s*/)[0], false], [value.trim(), !others.has(value.trim())],
    ]);
    return [joined(marked(before, new Set(values(after)))), joined(marked(after, new Set(values(before))))];
  }

  function joined(parts) {
    const found = [];
    for (const [text, differs] of parts) {
      if (text === "") continue;
      if (found.length && found.at(-1)[1] === differs) found.at(-1)[0] += text;
      else found.push([text, differs]);
    }
    return found;
  }

  const BLANK = () => make("span", { className: "blank", textContent: "(blank)" });

  // One side of a change. A short one begins a little before the first difference.
  function side(parts, tag, short) {
    const nodes = [];
    parts.forEach(([text, differs], n) => {
      if (text === null) return;
      let said = text;
      if (short) {
        said = said.replace(/\s+/g, " ");
        if (n === 0 && !differs && parts.length > 1 && said.length > 14) said = "…" + said.slice(-10);
      }
      if (said === "") { if (parts.length === 1) nodes.push(BLANK()); }
      else nodes.push(differs ? make(tag, { textContent: said }) : document.createTextNode(said));
    });
    return nodes;
  }

  const said = (cell) => [
    ...(cell[STAYS] < 0 ? [] : [`held: ${reasons[cell[STAYS]]}`]),
    ...cell[SAID].map((n) => flags[n]).filter((flag) => flag[DONE] !== "held").map((flag) => (flag[LEVEL] === "" ? flag[CHECK] : `${flag[LEVEL]}: ${flag[CHECK]}`)),
  ].join("; ");
  // Only rules are named there: nothing is held, and nothing was found wrong.
  const calm = (item, cell) => item[WHY] < 0 && cell[STAYS] < 0 && cell[SAID].every((n) => flags[n][LEVEL] === "");
  const stays = (item, cell) => item[WHY] >= 0 || cell[STAYS] >= 0;

  // What is shown: which items, in which order, and where each begins.
  const asked = { words: [], field: "", verdict: "", check: "", sent: "", answered: "", sort: "file", falling: false };
  const open = new Set();
  let shown = [], offsets = new Float64Array(1), lines = new Uint32Array(1), line = 28;
  const measured = new Map(), drawn = new Map();
  const table = byId("table");
  const space = () => make("tbody", { className: "space" }, make("tr", {}, make("td", { colSpan: COLUMNS })));
  const above = space(), below = space();
  for (const one of [above, below]) one.setAttribute("aria-hidden", "true");
  table.append(above, below);

  const cellsOf = (item) => item[CELLS].filter((cell) => (asked.field === "" || fields[cell[FIELD]].name === asked.field)
    && (asked.sent === "" || (asked.sent === "held") === stays(item, cell)));
  const linesOf = (item) => { const many = cellsOf(item).length; return Math.max(1, Math.min(many, MOST_LINES)); };

  // The answers: of each item yes, no or neither, a comment, and of its cells that clash whose value it is to be.
  const FORMAT = "neat-delta answers", VERSION = 1;
  const clashesOf = (item) => item[CELLS].filter((cell) => cell[CLASH]);
  const clashing = items.map((item) => clashesOf(item).length);
  const sendable = items.map((item) => item[WHY] < 0 && (!item[CELLS].length || item[CELLS].some((cell) => cell[STAYS] < 0)));
  const given = new Array(items.length).fill(null);
  const total = { items: sendable.filter(Boolean).length, clashes: clashing.reduce((sum, n) => sum + n, 0) };
  const counted = { yes: 0, no: 0, chosen: 0 };
  let unsaved = false;
  const of = (n) => given[n] ?? (given[n] = { answer: null, comment: "", clashes: new Map() });
  const chosen = (n) => given[n]?.clashes.size ?? 0;
  const isOpen = (n) => (sendable[n] && !given[n]?.answer) || chosen(n) < clashing[n];

  function say(n, answer) {
    if (!sendable[n] && !(answer === null && given[n])) return;
    const one = of(n);
    if (one.answer) counted[one.answer]--;
    one.answer = answer;
    if (answer) counted[answer]++;
  }

  // Where the choice is both, only numbers have it.
  function choosing(n, choice, only = null) {
    for (const cell of clashing[n] ? clashesOf(items[n]) : []) {
      if ((only !== null && cell[FIELD] !== only) || (choice === "both" && cell[CLASH][BOTH] === null)) continue;
      const one = of(n);
      if (choice === null ? one.clashes.delete(cell[FIELD]) : !one.clashes.has(cell[FIELD])) counted.chosen += choice === null ? -1 : 1;
      if (choice !== null) one.clashes.set(cell[FIELD], choice);
    }
  }

  function tell(changed = true) {
    unsaved = changed;
    const parts = [];
    if (counted.yes || counted.no) parts.push(`${counted.yes.toLocaleString("en")} yes`, `${counted.no.toLocaleString("en")} no`);
    if (counted.chosen) parts.push(`${counted.chosen.toLocaleString("en")} of ${total.clashes.toLocaleString("en")} clashes chosen`);
    const left = total.items - counted.yes - counted.no;
    byId("counted").textContent = parts.length ? `${parts.join(", ")}; ${left.toLocaleString("en")} items open` : "Nothing answered yet";
    byId("save").dataset.open = unsaved ? "yes" : "";
  }

  function answersFile() {
    const answers = [];
    given.forEach((one, n) => {
      if (!one || !(one.answer || one.comment || one.clashes.size)) return;
      const key = Object.fromEntries(data.key.map((name, place) => [name, items[n][KEYS][place]]));
      const clashes = Object.fromEntries([...one.clashes].map(([field, choice]) => [fields[field].name, choice]));
      answers.push({ line: items[n][LINE], key, answer: one.answer, comment: one.comment, clashes });
    });
    return JSON.stringify({ format: FORMAT, version: VERSION, changes: data.digest, fields: data.asked, answers }, null, 1) + "\n";
  }

  function trouble(text) {
    byId("trouble").textContent = text;
    byId("trouble").hidden = !text;
  }

  // Answers that were saved before, of this page or of another one of the same change set.
  function take(text, name) {
    let file;
    try { file = JSON.parse(text); } catch { return trouble(`${name} is no file of answers.`); }
    if (file?.format !== FORMAT || file.version !== VERSION || !Array.isArray(file.answers)) return trouble(`${name} is no file of answers.`);
    if (file.changes !== data.digest) return trouble(`${name} has answers for another change set; none was taken.`);
    const at = new Map(items.map((item, n) => [item[LINE], n])), numbers = new Map(fields.map((field, n) => [field.name, n]));
    let left = 0;
    for (const one of file.answers) {
      const n = at.get(one.line);
      if (n === undefined) { left++; continue; }
      if (one.answer === "yes" || one.answer === "no") say(n, one.answer);
      if (typeof one.comment === "string" && one.comment) of(n).comment = one.comment;
      for (const [field, choice] of Object.entries(one.clashes ?? {})) {
        if (["sheet", "store", "both"].includes(choice)) choosing(n, choice, numbers.get(field) ?? -1);
      }
    }
    trouble(left ? `${left.toLocaleString("en")} answers are for items that this page does not show; they were not taken.` : "");
    tell(false);
    choose();
  }

  let hay = null;
  const searched = (n) => {
    hay ??= items.map((item) => [item[KEY], item[NAME], ...item[CELLS].flatMap((cell) => [cell[BEFORE], cell[AFTER]])]
      .join("\n").toLowerCase());
    return hay[n];
  };
  const checksOf = (item) => new Set([
    ...[item[WHY], ...item[CELLS].map((cell) => cell[STAYS])].filter((n) => n >= 0).map((n) => reasons[n].replace(/^check: |: .*$/, "")),
    ...[...item[FLAGS], ...item[CELLS].flatMap((cell) => cell[SAID])].map((n) => flags[n][CHECK]),
  ]);
  const checks = items.map(checksOf);

  function fits(item, n) {
    if (asked.verdict !== "" && verdicts[item[VERDICT]] !== asked.verdict) return false;
    if (asked.check !== "" && !checks[n].has(asked.check)) return false;
    if (asked.answered === "open" ? !isOpen(n) : asked.answered !== "" && given[n]?.answer !== asked.answered) return false;
    if (item[CELLS].length ? !cellsOf(item).length : asked.field !== "" || asked.sent === "sent") return false;
    return asked.words.every((word) => searched(n).includes(word));
  }

  const sizes = items.map((item) => item[CELLS].reduce((most, cell) => Math.max(most, cell[SHARE] === ""
    ? (cell[STEP] === "" ? -1 : Infinity) : Math.abs(parseFloat(cell[SHARE].replace("−", "-").replaceAll(",", "")))), -1));
  const orders = new Map([["file", items.map((_, n) => n)]]);
  function order() {
    const name = asked.sort + (asked.sort !== "file" && asked.falling ? "-" : "");
    if (!orders.has(name)) {
      const way = asked.falling ? -1 : 1, by = asked.sort === "key" ? KEY : NAME;
      const compared = asked.sort === "size" ? (a, b) => sizes[a] - sizes[b]
        : (a, b) => (items[a][by] < items[b][by] ? -1 : items[a][by] > items[b][by] ? 1 : 0);
      const apart = asked.sort === "size" ? items.map((_, n) => n).filter((n) => sizes[n] < 0) : [];
      const some = items.map((_, n) => n).filter((n) => asked.sort !== "size" || sizes[n] >= 0);
      orders.set(name, some.sort((a, b) => { const c = compared(a, b); return (Number.isNaN(c) ? 0 : c) * way || a - b; }).concat(apart));
    }
    return orders.get(name);
  }

  function choose() {
    shown = order().filter((n) => fits(items[n], n));
    measured.clear();
    forget();
    lay();
    render();
    const cells = shown.reduce((sum, n) => sum + cellsOf(items[n]).length, 0);
    byId("status").textContent = `${shown.length.toLocaleString("en")} of ${items.length.toLocaleString("en")} items, ${cells.toLocaleString("en")} cells`;
  }

  function lay() {
    offsets = new Float64Array(shown.length + 1);
    lines = new Uint32Array(shown.length + 1);
    shown.forEach((n, at) => {
      const many = linesOf(items[n]);
      offsets[at + 1] = offsets[at] + (measured.get(n) ?? many * line);
      lines[at + 1] = lines[at] + many + (open.has(n) ? 1 : 0);
    });
    table.setAttribute("aria-rowcount", String(lines[shown.length] + 1));
  }

  function forget() {
    for (const body of drawn.values()) body.remove();
    drawn.clear();
  }

  // The first place that ends after y.
  function placeAt(y) {
    let low = 0, high = shown.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (offsets[middle + 1] <= y) low = middle + 1; else high = middle;
    }
    return low;
  }

  function render(everything = 0) {
    const top = -above.getBoundingClientRect().top;
    const from = everything ? 0 : placeAt(top - AROUND);
    const to = everything ? Math.min(shown.length, everything) : Math.min(shown.length, placeAt(top + innerHeight + AROUND) + 1);
    const wanted = new Set(shown.slice(from, to));
    for (const [n, body] of drawn) if (!wanted.has(n)) { body.remove(); drawn.delete(n); }
    let before = above;
    for (let at = from; at < to; at++) {
      const n = shown[at];
      if (!drawn.has(n)) drawn.set(n, draw(n));
      const body = drawn.get(n);
      if (before.nextSibling !== body) before.after(body);
      before = body;
      [...body.rows].forEach((row, extra) => row.setAttribute("aria-rowindex", String(lines[at] + extra + 2)));
    }
    let off = false;
    for (const n of wanted) {
      const height = drawn.get(n).offsetHeight;
      if (height !== (measured.get(n) ?? linesOf(items[n]) * line)) { measured.set(n, height); off = true; }
    }
    if (off && !everything) {
      if (measured.size && line === 28 && !open.size) {
        const n = shown[from];
        line = measured.get(n) !== undefined ? measured.get(n) / linesOf(items[n]) : line;
      }
      lay();
    }
    above.rows[0].cells[0].style.height = `${offsets[from]}px`;
    below.rows[0].cells[0].style.height = everything ? "0px" : `${offsets[shown.length] - offsets[to]}px`;
  }

  function draw(n) {
    const item = items[n], cells = cellsOf(item), many = linesOf(item), full = open.has(n);
    const body = make("tbody");
    body.dataset.n = String(n);
    const verdict = verdicts[item[VERDICT]];
    const button = make("button", { type: "button", textContent: item[KEY] });
    button.setAttribute("aria-expanded", String(full));
    const head = make("th", { scope: "rowgroup", rowSpan: many, className: "c-item" }, button);
    if (verdict !== "changed") head.append(make("span", { textContent: verdict }));
    const name = make("td", { rowSpan: many, className: "name", textContent: item[NAME], title: item[NAME] });
    const left = cells.length - many;
    for (let at = 0; at < many; at++) {
      const row = make("tr");
      if (at === 0) row.append(head, name);
      if (at === many - 1 && left > 0) {
        row.append(make("td", { colSpan: COLUMNS - 3, className: "more", textContent: `and ${left + 1} more cells` }));
      } else if (cells.length) {
        row.append(...columns(item, cells[at], n));
      } else {
        row.append(make("td", { colSpan: COLUMNS - 4, className: "more", textContent: `only in ${verdict === "gone" ? "live" : "the sheet"}` }),
          make("td", { className: "why", textContent: item[WHY] < 0 ? "" : `held: ${reasons[item[WHY]]}` }));
      }
      if (at === 0) {
        const picked = sendable[n] ? [pick(n, [["yes", "Yes"], ["no", "No"]], given[n]?.answer, `Answer for ${item[KEY]}`)] : [];
        row.append(make("td", { rowSpan: many, className: "answer" }, ...picked));
      }
      body.append(row);
    }
    if (full) body.append(inFull(item, cells, n));
    return body;
  }

  // Buttons of which one is pressed at most.
  function pick(n, words, said, label, field = null) {
    const group = make("span", { className: "pick" });
    group.setAttribute("role", "group");
    group.setAttribute("aria-label", label);
    for (const [word, text] of words) {
      const button = make("button", { type: "button", textContent: text });
      button.dataset.say = word;
      if (field !== null) button.dataset.field = String(field);
      button.setAttribute("aria-pressed", String(said === word));
      group.append(button);
    }
    return group;
  }

  function clashCell(item, cell, n) {
    const short = (text) => (text === "" || text === null ? "blank" : text.length > 14 ? `${text.slice(0, 13)}…` : text);
    const words = [["sheet", `Ours ${short(cell[AFTER])}`], ["store", `The store’s ${short(cell[BEFORE])}`],
      ...(cell[CLASH][BOTH] === null ? [] : [["both", `Both ${cell[CLASH][BOTH]}`]])];
    const name = fields[cell[FIELD]].name, label = `Whose value for ${item[KEY]}, ${name}`;
    const was = cell[CLASH][BASE] === "" ? "clash: there was none" : `clash: it was ${short(cell[CLASH][BASE])}`;
    return make("td", { className: "why clash", colSpan: 5 }, make("span", { className: "was", textContent: was }),
      pick(n, words, given[n]?.clashes.get(cell[FIELD]), label, cell[FIELD]));
  }

  function columns(item, cell, n) {
    const field = fields[cell[FIELD]], added = cell[BEFORE] === null;
    if (cell[CLASH]) return [make("td", { className: "field", textContent: field.name }), clashCell(item, cell, n)];
    const [old, now] = pieces(field, cell[BEFORE], cell[AFTER]);
    const why = [item[WHY] < 0 ? "" : `held: ${reasons[item[WHY]]}`, said(cell)].filter(Boolean).join("; ");
    const found = [
      make("td", { className: "field", textContent: field.name }),
      make("td", { className: "before" }, ...(added ? [] : side(old, "del", true))),
      make("td", { className: "after" }, ...side(now, "ins", true)),
      make("td", { className: "n step", textContent: cell[STEP] }),
      make("td", { className: "n share", textContent: cell[SHARE] }),
      make("td", { className: calm(item, cell) ? "why calm" : "why", textContent: why, title: why }),
    ];
    return found;
  }

  function inFull(item, cells, n) {
    const where = [["live", item[LIVE]], ["sheet", item[SHEET]]].filter(([, row]) => row).map(([file, row]) => `${file} row ${row.toLocaleString("en")}`);
    const heads = cells.length ? ["", "before", "after"].map((textContent, n) => make(n ? "dd" : "dt", { className: "head", textContent })) : [];
    const list = make("dl", {}, ...heads);
    for (const cell of cells) {
      const field = fields[cell[FIELD]];
      const [old, now] = pieces(field, cell[BEFORE], cell[AFTER]);
      const before = make("dd", {}, ...(cell[BEFORE] === null ? [] : side(old, "del", false)));
      list.append(make("dt", { textContent: field.name }), before, make("dd", {}, ...side(now, "ins", false)));
      const base = cell[CLASH] && cell[CLASH][BASE] !== "" ? `in the base: ${cell[CLASH][BASE]}` : "";
      const why = [said(cell), base, ...cell[SAID].map((n) => (flags[n][LEVEL] === "" ? "" : flags[n][WHAT]))].filter(Boolean).join("; ");
      if (why) list.append(make("dt", { textContent: "" }), make("dd", { className: "says", textContent: why }));
    }
    const about = item[FLAGS].map((n) => `${flags[n][CHECK]}: ${flags[n][WHAT]}`);
    const told = [item[NAME], where.join(", "), ...(item[WHY] < 0 ? [] : [`held: ${reasons[item[WHY]]}`]), ...about].filter(Boolean);
    const comment = make("input", { type: "text", value: given[n]?.comment ?? "", autocomplete: "off" });
    comment.dataset.comment = String(n);
    const remark = make("label", {}, "Comment ", comment);
    const row = make("tr", { className: "full" }, make("td", { colSpan: COLUMNS }, make("div", { textContent: told.join(" · ") }), list, remark));
    return row;
  }

  // The controls.
  function redraw(n, focus = "button") {
    const old = drawn.get(n), now = draw(n);
    old.replaceWith(now);
    drawn.set(n, now);
    measured.delete(n);
    render();
    (now.querySelector(focus) ?? now.querySelector("button")).focus({ preventScroll: true });
  }

  function toggle(n) {
    if (open.has(n)) open.delete(n); else open.add(n);
    redraw(n);
  }

  // An answer that is given again is taken back.
  function answer(n, word, field = null, focus = "button") {
    if (word === "yes" || word === "no") say(n, given[n]?.answer === word ? null : word);
    else if (field !== null) choosing(n, given[n]?.clashes.get(field) === word ? null : word, field);
    else choosing(n, word);
    tell();
    redraw(n, focus);
  }

  function answerAll(word) {
    for (const n of shown) {
      if (word === "") { say(n, null); choosing(n, null); }
      else if (word === "yes" || word === "no") say(n, word);
      else choosing(n, word);
    }
    tell();
    if (asked.answered) choose(); else { measured.clear(); forget(); lay(); render(); }
  }

  function go(at) {
    if (!shown.length) return;
    const place = Math.max(0, Math.min(shown.length - 1, at));
    const list = above.getBoundingClientRect().top + scrollY;
    const bar = byId("bar").offsetHeight + table.tHead.offsetHeight;
    for (let turn = 0, laid = NaN; turn < 4 && laid !== offsets[place]; turn++) {  // rows may turn out higher than was thought
      laid = offsets[place];
      const top = list + offsets[place] - bar, bottom = list + offsets[place + 1] - innerHeight;
      if (scrollY > top) scrollTo(0, top); else if (scrollY < bottom) scrollTo(0, bottom);
      render();
    }
    drawn.get(shown[place]).querySelector("button").focus({ preventScroll: true });
  }

  table.addEventListener("click", (event) => {
    const body = event.target.closest("tbody[data-n]"), said = event.target.closest("button[data-say]");
    if (body && said) {
      const field = said.dataset.field === undefined ? null : Number(said.dataset.field);
      const again = `button[data-say="${said.dataset.say}"]` + (field === null ? "" : `[data-field="${field}"]`);
      answer(Number(body.dataset.n), said.dataset.say, field, again);
    } else if (body && event.target.closest("th button, td.more")) toggle(Number(body.dataset.n));
  });
  table.addEventListener("input", (event) => {
    if (event.target.dataset.comment === undefined) return;
    of(Number(event.target.dataset.comment)).comment = event.target.value;
    tell();
  });
  for (const button of document.querySelectorAll("[data-all]")) button.addEventListener("click", () => answerAll(button.dataset.all));
  for (const one of document.querySelectorAll(".of-clashes")) one.hidden = !total.clashes;
  byId("save").addEventListener("click", () => {
    const url = URL.createObjectURL(new Blob([answersFile()], { type: "application/json" }));
    make("a", { href: url, download: "answers.json" }).click();
    setTimeout(() => URL.revokeObjectURL(url), 60000);
    tell(false);
  });
  byId("load").addEventListener("change", async (event) => {
    const [file] = event.target.files;
    if (file) take(await file.text(), file.name);
    event.target.value = "";
  });
  addEventListener("beforeunload", (event) => { if (unsaved) { event.preventDefault(); event.returnValue = "unsaved"; } });
  document.addEventListener("keydown", (event) => {
    const within = document.activeElement.closest("tbody[data-n]");
    if (event.key === "/" && !["INPUT", "SELECT"].includes(document.activeElement.tagName)) {
      event.preventDefault();
      byId("search").focus();
    } else if (document.activeElement.tagName === "INPUT" && document.activeElement !== byId("search")) {
      return;
    } else if (within && !event.ctrlKey && !event.metaKey && !event.altKey && "ynuosbc".includes(event.key)) {
      event.preventDefault();
      const n = Number(within.dataset.n);
      if (event.key === "c") { open.add(n); redraw(n, "input"); }
      else if (event.key === "u") { say(n, null); choosing(n, null); tell(); redraw(n); }
      else answer(n, { y: "yes", n: "no", o: "sheet", s: "store", b: "both" }[event.key]);
    } else if (within && ["ArrowDown", "ArrowUp", "Home", "End"].includes(event.key)) {
      event.preventDefault();
      const at = shown.indexOf(Number(within.dataset.n));
      go({ ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: shown.length - 1 }[event.key]);
    } else if (event.key === "ArrowDown" && document.activeElement === byId("search")) {
      event.preventDefault();
      go(0);
    }
  });

  const sorted = [...table.tHead.querySelectorAll("th[data-sort]")];
  sorted.forEach((head) => head.querySelector("button").addEventListener("click", () => {
    const name = head.dataset.sort, first = name === "size";
    if (asked.sort !== name) Object.assign(asked, { sort: name, falling: first });
    else if (asked.falling === first) asked.falling = !first;
    else asked.sort = "file";
    for (const one of sorted) one.removeAttribute("aria-sort");
    if (asked.sort !== "file") head.setAttribute("aria-sort", asked.falling ? "descending" : "ascending");
    choose();
  }));

  const fill = (id, values) => byId(id).append(...values.map((value) => make("option", { value, textContent: value })));
  fill("field", fields.map((field) => field.name));
  fill("verdict", verdicts);
  fill("check", [...new Set(checks.flatMap((some) => [...some]))].filter((one) => !verdicts.includes(one)).sort());
  byId("search").addEventListener("input", (event) => {
    asked.words = event.target.value.toLowerCase().split(/\s+/).filter(Boolean);
    choose();
  });
  for (const id of ["field", "verdict", "check", "sent", "answered"]) {
    byId(id).addEventListener("change", (event) => { asked[id] = event.target.value; choose(); });
  }
  byId("bar").addEventListener("submit", (event) => event.preventDefault());
  byId("bar").addEventListener("reset", () => {
    Object.assign(asked, { words: [], field: "", verdict: "", check: "", sent: "", answered: "" });
    open.clear();
    choose();
  });

  new ResizeObserver(() => {
    document.documentElement.style.setProperty("--bar", `${byId("bar").offsetHeight}px`);
  }).observe(byId("bar"));
  let waiting = false;
  addEventListener("scroll", () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; render(); });
  }, { passive: true });
  let width = innerWidth;
  addEventListener("resize", () => { if (innerWidth !== width) { width = innerWidth; measured.clear(); lay(); } render(); });
  addEventListener("beforeprint", () => {
    render(MOST_PRINTED);
    if (shown.length > MOST_PRINTED) byId("status").textContent += `; the first ${MOST_PRINTED.toLocaleString("en")} of them are printed`;
  });
  addEventListener("afterprint", choose);
  choose();
  (window.requestIdleCallback ?? setTimeout)(() => searched(0));  // so that the first search need not wait
})();

// Small behaviours: values under the pointer, sortable tables, keys on the reading page.
"use strict";

function nearest(xs, x) {
  let best = 0;
  for (let i = 1; i < xs.length; i++) if (Math.abs(xs[i] - x) < Math.abs(xs[best] - x)) best = i;
  return best;
}

function at(xs, ys, x) {
  if (xs[0] > xs[xs.length - 1]) { xs = xs.slice().reverse(); ys = ys.slice().reverse(); }
  if (x <= xs[0]) return ys[0];
  for (let i = 1; i < xs.length; i++) {
    if (x <= xs[i]) return ys[i - 1] + (ys[i] - ys[i - 1]) * (x - xs[i - 1]) / (xs[i] - xs[i - 1] || 1);
  }
  return ys[ys.length - 1];
}

function watchPlot(svg) {
  if (svg.dataset.watched) return;
  svg.dataset.watched = "1";
  const [left, top, width, height, low, high] = JSON.parse(svg.dataset.frame);
  const series = JSON.parse(svg.dataset.series);
  const box = document.createElement("div");
  box.className = "plot-box";
  svg.replaceWith(box);
  box.append(svg);
  const out = document.createElement("output");
  out.hidden = true;
  box.append(out);
  const line = svg.querySelector(".plot-pointer");
  let x = (low + high) / 2;
  function show() {
    x = Math.min(high, Math.max(low, x));
    const px = left + (x - low) / (high - low) * width;
    line.setAttribute("d", `M${px} ${top}v${height}`);
    out.hidden = false;
    out.textContent = [`${svg.dataset.xlabel} ${x.toFixed(1)}`,
      ...series.map(s => `${s.name.padEnd(9)} ${at(s.x, s.y, x).toFixed(2).padStart(7)}`)].join("\n");
  }
  function hide() { out.hidden = true; line.setAttribute("d", ""); }
  svg.addEventListener("pointermove", e => {
    const r = svg.getBoundingClientRect();
    const view = svg.viewBox.baseVal;
    x = low + ((e.clientX - r.left) / r.width * view.width - left) / width * (high - low);
    show();
  });
  svg.addEventListener("pointerleave", hide);
  svg.addEventListener("focus", show);
  svg.addEventListener("blur", hide);
  svg.addEventListener("keydown", e => {
    const step = (e.shiftKey ? 10 : 1) * (high - low) / 100;
    if (e.key === "ArrowLeft") x -= step; else if (e.key === "ArrowRight") x += step; else return;
    e.preventDefault();
    show();
  });
}

function sortable(table) {
  if (table.dataset.sortable) return;
  table.dataset.sortable = "1";
  table.querySelectorAll("thead th[data-sort]").forEach((head) => {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => {
      const column = [...head.parentNode.children].indexOf(head);
      const up = head.getAttribute("aria-sort") !== "ascending";
      head.parentNode.querySelectorAll("[aria-sort]").forEach(h => h.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const value = row => {
        const cell = row.children[column];
        const text = (cell.dataset.value ?? cell.textContent).trim().replace("−", "-");
        const number = parseFloat(text);
        return head.dataset.sort === "number" ? (isNaN(number) ? -Infinity : number) : text.toLowerCase();
      };
      const rows = [...table.tBodies[0].rows];
      rows.sort((a, b) => (value(a) > value(b) ? 1 : value(a) < value(b) ? -1 : 0) * (up ? 1 : -1));
      table.tBodies[0].append(...rows);
    });
  });
}

function prepare(root) {
  root.querySelectorAll("svg.plot[data-series]").forEach(watchPlot);
  root.querySelectorAll("table.list").forEach(sortable);
  root.querySelectorAll("[data-limits]").forEach(limitViews);
  root.querySelectorAll("circle.handle").forEach(curveHandle);
  showHandles();
  if (root.querySelector(".rows") || root.id === "reading") markRow();
}

// Ink limits: upright lines are dragged, the number below follows, and the server says what it costs.
function limitViews(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  const field = c => document.querySelector(`input[name="${box.dataset.limits}-${c}"]`);
  function show(c, value) {
    box.querySelectorAll(`svg.plot [data-mark="${c}"]`).forEach(line => {
      const [left, top, width, height, low, high] = JSON.parse(line.ownerSVGElement.dataset.frame);
      line.setAttribute("d", `M${left + (value - low) / (high - low) * width} ${top}v${height}`);
    });
    const dot = box.querySelector(`[data-dot="${c}"]`);
    if (!dot) return;
    const path = JSON.parse(dot.ownerSVGElement.dataset.paths)[c];
    dot.setAttribute("cx", at(path.inputs, path.x, value));
    dot.setAttribute("cy", at(path.inputs, path.y, value));
  }
  box.querySelectorAll("svg.plot").forEach(svg => {
    let held = null;
    const input = e => {
      const [left, , width, , low, high] = JSON.parse(svg.dataset.frame);
      const r = svg.getBoundingClientRect();
      const x = low + ((e.clientX - r.left) / r.width * svg.viewBox.baseVal.width - left) / width * (high - low);
      return Math.round(Math.min(100, Math.max(15, x)) * 2) / 2;
    };
    svg.addEventListener("pointerdown", e => {
      const x = input(e);
      const near = [...svg.querySelectorAll("[data-mark]")].map(m => m.dataset.mark).filter(c => field(c))
        .map(c => [Math.abs(parseFloat(field(c).value) - x), c]).sort((a, b) => a[0] - b[0])[0];
      if (!near || near[0] > 4) return;
      held = near[1];
      svg.setPointerCapture(e.pointerId);
      e.preventDefault();
    });
    svg.addEventListener("pointermove", e => {
      if (!held) return;
      field(held).value = input(e);
      show(held, input(e));
      field(held).dispatchEvent(new Event("input", {bubbles: true}));
    });
    for (const end of ["pointerup", "pointercancel"]) svg.addEventListener(end, () => { held = null; });
  });
  document.addEventListener("input", e => {
    const start = `${box.dataset.limits}-`;
    if (e.target.name && e.target.name.startsWith(start)) show(e.target.name.slice(start.length), parseFloat(e.target.value) || 0);
  });
}

// Handles of one ink at a time: those of the ink that the form below names.
function showHandles() {
  const form = document.getElementById("touch");
  if (form) document.querySelectorAll("circle.handle").forEach(h => {
    h.style.display = h.dataset.channel === form.channel.value ? "" : "none";
  });
}
document.addEventListener("change", e => { if (e.target.id === "touch-channel") showHandles(); });

// A handle of a curve is dragged up or down, or moved with the arrow keys; letting go sends it.
function curveHandle(dot) {
  const form = document.getElementById("touch");
  if (!form || dot.dataset.ready) return;
  dot.dataset.ready = "1";
  const svg = dot.ownerSVGElement;
  const [, top, , height] = JSON.parse(svg.dataset.frame);
  let value = parseFloat(dot.getAttribute("aria-valuenow"));
  let held = false;
  function show() {
    dot.setAttribute("cy", top + height - value / 100 * height);
    dot.setAttribute("aria-valuenow", value.toFixed(1));
    form.channel.value = dot.dataset.channel;
    form.input.value = dot.dataset.input;
    form.output.value = value.toFixed(1);
  }
  dot.addEventListener("pointerdown", e => { held = true; dot.setPointerCapture(e.pointerId); e.preventDefault(); dot.focus(); });
  dot.addEventListener("pointermove", e => {
    if (!held) return;
    const r = svg.getBoundingClientRect();
    const y = (e.clientY - r.top) / r.height * svg.viewBox.baseVal.height;
    value = Math.min(100, Math.max(0, (top + height - y) / height * 100));
    show();
  });
  dot.addEventListener("pointerup", () => { if (held) { held = false; form.requestSubmit(); } });
  dot.addEventListener("keydown", e => {
    const step = e.shiftKey ? 5 : 0.5;
    if (e.key === "ArrowUp") value = Math.min(100, value + step);
    else if (e.key === "ArrowDown") value = Math.max(0, value - step);
    else if (e.key === "Enter") { form.requestSubmit(); return; }
    else return;
    e.preventDefault();
    e.stopPropagation();
    show();
  });
}

// The row in hand is marked in the list, and heard: high for kept, low for trouble.
function markRow() {
  const page = document.getElementById("reading");
  if (!page) return;
  document.querySelectorAll(".rows .r.now").forEach(r => r.classList.remove("now"));
  const row = document.getElementById(`row-${page.dataset.now}`);
  if (!row) return;
  row.classList.add("now");
  const list = row.parentNode;  // the list scrolls, the page does not: the row in hand stays in sight above it
  list.scrollTop = row.offsetTop - list.clientHeight / 2;
}

let sounder = null;
function sound(kind) {
  const wanted = document.getElementById("sound");
  if (!kind || !wanted || !wanted.checked || !window.AudioContext) return;
  sounder = sounder || new AudioContext();
  const tone = sounder.createOscillator(), loud = sounder.createGain(), now = sounder.currentTime;
  tone.frequency.value = kind === "kept" ? 880 : 220;
  loud.gain.setValueAtTime(0.15, now);
  loud.gain.exponentialRampToValueAtTime(0.001, now + (kind === "kept" ? 0.12 : 0.45));
  tone.connect(loud).connect(sounder.destination);
  tone.start(now);
  tone.stop(now + 0.5);
}

// The dry-down clock runs on the page; when the sheet is dry the page is loaded again.
setInterval(() => {
  document.querySelectorAll("[data-dry]").forEach(clock => {
    const left = (new Date(clock.dataset.dry) - Date.now()) / 60000;
    const text = clock.querySelector("[data-left]");
    if (left <= 0) { if (!clock.dataset.over) { clock.dataset.over = "1"; location.reload(); } return; }
    text.textContent = left >= 1 ? `${Math.ceil(left)} min` : `${Math.ceil(left * 60)} s`;
  });
}, 1000);

let typed = "";
let busy = false;
const waiting = [];

// A key pressed while a row is on its way waits its turn: none is lost, none acts twice.
function readingKey(e) {
  const page = document.getElementById("reading");
  if (!page || e.ctrlKey || e.altKey || e.metaKey || e.target.closest("input, textarea, select")) return;
  if (e.key === "Enter" && e.target.closest("button, a, summary")) return;
  if (!/^([0-9]| |Enter|[wupgscWUPGSC])$/.test(e.key)) return;
  e.preventDefault();
  if (busy) waiting.push(e.key.toLowerCase()); else actOn(e.key.toLowerCase());
}

function actOn(key) {
  const page = document.getElementById("reading");
  if (!page) return;
  if (/^[0-9]$/.test(key)) {
    typed = (typed + key).slice(-4);
    page.querySelector("#typed").textContent = typed;
    return;
  }
  if (key === "g") {
    page.querySelector("#go-row").value = typed;
    typed = "";
  }
  const name = {" ": "read", enter: "read", w: "white", u: "undo", p: "pause", g: "go", s: "skip", c: "corner"}[key];
  const button = page.querySelector(`[data-key="${name}"]`);
  if (button) button.click();
}

document.addEventListener("htmx:beforeRequest", e => { if (e.target.closest("#reading")) busy = true; });
for (const done of ["htmx:afterSettle", "htmx:responseError", "htmx:sendError"]) {
  document.addEventListener(done, () => {
    busy = false;
    const page = document.getElementById("reading");
    if (done === "htmx:afterSettle" && page && page.dataset.sound) { sound(page.dataset.sound); page.dataset.sound = ""; }
    while (waiting.length && !busy) actOn(waiting.shift());
  });
}
document.addEventListener("keydown", readingKey);
document.addEventListener("DOMContentLoaded", () => {
  prepare(document);
  const target = location.hash && document.getElementById(location.hash.slice(1));
  if (target && target.tagName === "DETAILS") { target.open = true; target.scrollIntoView(); }
});
document.addEventListener("htmx:load", e => prepare(e.target));

// on the new-build page: what a printer and a media suggest
document.addEventListener("change", e => {
  const form = e.target.closest("form[data-suggest]");
  if (!form) return;
  const facts = JSON.parse(document.getElementById("suggestions").textContent);
  if (e.target.name === "printer") {
    const p = facts.printers[e.target.value];
    if (p) { form.ink_set.value = p.ink_set; form.passes.value = p.passes; }
  }
  if (e.target.name === "media" || e.target.name === "printer") {
    fetch(`${form.dataset.suggest}?printer=${form.printer.value}&media=${form.media.value}`).then(r => r.json()).then(held => {
      for (const [name, entry] of Object.entries(held)) {
        form[name].value = entry.value;
        const help = form[name].closest(".field").querySelector(".help");
        if (help) help.textContent = entry.source;
      }
    });
  }
  if (!form.name.dataset.own) {
    const word = n => form[n].selectedOptions[0].text.split(",")[0];
    form.name.value = `${word("media")}, ${word("printer")}, ${form.passes.value} pass`;
  }
});
document.addEventListener("input", e => { if (e.target.name === "name") e.target.dataset.own = "1"; });

// sliders say their value
function sayValue(input) {
  const out = input.parentElement.querySelector("output");
  if (out) out.textContent = input.value + (input.closest(".controls") ? " %" : "");
}
function watchSliders() { document.querySelectorAll(".slider input[type=range]").forEach(sayValue); }
document.addEventListener("input", e => { if (e.target.matches(".slider input[type=range]")) sayValue(e.target); });
document.addEventListener("DOMContentLoaded", watchSliders);

// side by side: only what differs
document.addEventListener("change", e => {
  if (e.target.id === "only-differing") document.querySelector("table.side").classList.toggle("only-differing", e.target.checked);
});

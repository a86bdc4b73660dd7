// Values of every curve under the pointer, or under the arrow keys.
import { frameOf, toDrawing, underPointer, valueAt, within } from "./scale.js";

/** The lines of the box that follows the pointer. */
export function readout(label, series, x) {
  const lines = series.map((s) => `${s.name.padEnd(9)} ${valueAt(s.x, s.y, x).toFixed(2).padStart(7)}`);
  return [`${label} ${x.toFixed(1)}`, ...lines].join("\n");
}

function boxOf(svg) {
  const box = document.createElement("div");
  box.className = "plot-box";
  svg.replaceWith(box);
  const out = document.createElement("output");
  out.hidden = true;
  box.append(svg, out);
  return out;
}

export function watchPlot(svg) {
  if (svg.dataset.watched) return;
  svg.dataset.watched = "1";
  const frame = frameOf(svg);
  const series = JSON.parse(svg.dataset.series);
  const out = boxOf(svg);
  const line = svg.querySelector(".plot-pointer");
  let x = (frame.low + frame.high) / 2;

  function show() {
    x = within(x, frame.low, frame.high);
    line.setAttribute("d", `M${toDrawing(frame, x)} ${frame.top}v${frame.height}`);
    out.hidden = false;
    out.textContent = readout(svg.dataset.xlabel, series, x);
  }

  function hide() {
    out.hidden = true;
    line.setAttribute("d", "");
  }

  svg.addEventListener("pointermove", (event) => {
    x = underPointer(svg, event);
    show();
  });
  svg.addEventListener("pointerleave", hide);
  svg.addEventListener("focus", show);
  svg.addEventListener("blur", hide);
  svg.addEventListener("keydown", (event) => {
    const step = ((event.shiftKey ? 10 : 1) * (frame.high - frame.low)) / 100;
    if (event.key === "ArrowLeft") x -= step;
    else if (event.key === "ArrowRight") x += step;
    else return;
    event.preventDefault();
    show();
  });
}

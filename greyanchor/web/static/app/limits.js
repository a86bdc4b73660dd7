// Ink limits: upright lines are dragged, the number below follows, and the server says what it costs.
import { frameOf, parseNumber, toDrawing, underPointer, valueAt, within } from "./scale.js";

const LEAST = 15;
const MOST = 100;
/** how near a line a pointer must be to take it, percent */
const REACH = 4;

/** A limit as it can be set: within its range, in steps of half a percent. */
export function limitFrom(value) {
  return Math.round(within(value, LEAST, MOST) * 2) / 2;
}

/** The channel whose limit is nearest to `x`; null where none is in reach. */
export function nearest(limits, x) {
  let best = null;
  for (const [channel, value] of limits) {
    const off = Math.abs(value - x);
    if (off <= REACH && (best === null || off < best.off)) best = { channel, off };
  }
  return best === null ? null : best.channel;
}

function fieldOf(stage, channel) {
  return document.querySelector(`input[name="${stage}-${channel}"]`);
}

function showLimit(box, channel, value) {
  for (const line of box.querySelectorAll(`svg.plot [data-mark="${channel}"]`)) {
    const frame = frameOf(line.ownerSVGElement);
    line.setAttribute("d", `M${toDrawing(frame, value)} ${frame.top}v${frame.height}`);
  }
  const dot = box.querySelector(`[data-dot="${channel}"]`);
  if (!dot) return;
  const path = JSON.parse(dot.ownerSVGElement.dataset.paths)[channel];
  dot.setAttribute("cx", valueAt(path.inputs, path.x, value));
  dot.setAttribute("cy", valueAt(path.inputs, path.y, value));
}

function limitsIn(svg, stage) {
  const channels = [...svg.querySelectorAll("[data-mark]")].map((mark) => mark.dataset.mark);
  return channels
    .filter((channel) => fieldOf(stage, channel))
    .map((channel) => [channel, parseNumber(fieldOf(stage, channel).value)]);
}

function watchLines(svg, box) {
  const stage = box.dataset.limits;
  let held = null;
  svg.addEventListener("pointerdown", (event) => {
    held = nearest(limitsIn(svg, stage), underPointer(svg, event));
    if (held === null) return;
    svg.setPointerCapture(event.pointerId);
    event.preventDefault();
  });
  svg.addEventListener("pointermove", (event) => {
    if (held === null) return;
    const field = fieldOf(stage, held);
    field.value = limitFrom(underPointer(svg, event));
    field.dispatchEvent(new Event("input", { bubbles: true }));
  });
  for (const end of ["pointerup", "pointercancel"]) {
    svg.addEventListener(end, () => {
      held = null;
    });
  }
}

/** The lines of the first view by keyboard: left and right move the one that has the focus. */
function watchKeys(svg, stage) {
  for (const line of svg.querySelectorAll("[data-mark]")) {
    const field = fieldOf(stage, line.dataset.mark);
    if (!field) continue;
    line.setAttribute("tabindex", "0");
    line.setAttribute("role", "slider");
    line.setAttribute("aria-label", `Limit of ${line.dataset.mark}, percent`);
    line.setAttribute("aria-valuemin", LEAST);
    line.setAttribute("aria-valuemax", MOST);
    line.setAttribute("aria-valuenow", parseNumber(field.value));
    line.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -0.5, ArrowDown: -0.5, ArrowRight: 0.5, ArrowUp: 0.5 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      field.value = limitFrom(parseNumber(field.value) + step * (event.shiftKey ? 10 : 1));
      line.setAttribute("aria-valuenow", field.value);
      field.dispatchEvent(new Event("input", { bubbles: true }));
    });
  }
}

export function watchLimits(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  const views = box.querySelectorAll("svg.plot");
  for (const svg of views) watchLines(svg, box);
  if (views.length) watchKeys(views[0], box.dataset.limits);
}

/** One listener for the whole page: whatever limit is typed is drawn in the views of its stage. */
export function followTyping() {
  document.addEventListener("input", (event) => {
    const name = event.target.name || "";
    for (const box of document.querySelectorAll("[data-limits]")) {
      const start = `${box.dataset.limits}-`;
      if (!name.startsWith(start)) continue;
      showLimit(box, name.slice(start.length), parseNumber(event.target.value) || 0);
    }
  });
}

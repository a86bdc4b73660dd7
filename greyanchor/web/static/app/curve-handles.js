// Handles of curves: dragged up or down, or moved with the arrow keys; letting go sends them.
import { frameOf, within } from "./scale.js";

/** A handle's next value for a key; null for a key that moves nothing. */
export function moved(value, key, far) {
  const step = far ? 5 : 0.5;
  if (key === "ArrowUp") return within(value + step, 0, 100);
  if (key === "ArrowDown") return within(value - step, 0, 100);
  return null;
}

function form() {
  return document.getElementById("touch");
}

/** Handles of one ink at a time: those of the ink that the form below names. */
export function showHandles() {
  if (!form()) return;
  for (const handle of document.querySelectorAll("circle.handle")) {
    handle.style.display = handle.dataset.channel === form().channel.value ? "" : "none";
  }
}

function show(handle, value) {
  const frame = frameOf(handle.ownerSVGElement);
  handle.setAttribute("cy", frame.top + frame.height - (value / 100) * frame.height);
  handle.setAttribute("aria-valuenow", value.toFixed(1));
  form().channel.value = handle.dataset.channel;
  form().input.value = handle.dataset.input;
  form().output.value = value.toFixed(1);
}

function valueUnder(handle, event) {
  const svg = handle.ownerSVGElement;
  const frame = frameOf(svg);
  const box = svg.getBoundingClientRect();
  const y = ((event.clientY - box.top) / box.height) * svg.viewBox.baseVal.height;
  return within(((frame.top + frame.height - y) / frame.height) * 100, 0, 100);
}

export function watchHandle(handle) {
  if (!form() || handle.dataset.ready) return;
  handle.dataset.ready = "1";
  let held = false;
  handle.addEventListener("pointerdown", (event) => {
    held = true;
    handle.setPointerCapture(event.pointerId);
    event.preventDefault();
    handle.focus();
  });
  handle.addEventListener("pointermove", (event) => {
    if (held) show(handle, valueUnder(handle, event));
  });
  handle.addEventListener("pointerup", () => {
    if (held) form().requestSubmit();
    held = false;
  });
  handle.addEventListener("keydown", (event) => {
    if (event.key === "Enter") {
      form().requestSubmit();
      return;
    }
    const value = moved(Number.parseFloat(handle.getAttribute("aria-valuenow")), event.key, event.shiftKey);
    if (value === null) return;
    event.preventDefault();
    event.stopPropagation();
    show(handle, value);
  });
}

export function followChannel() {
  document.addEventListener("change", (event) => {
    if (event.target.id === "touch-channel") showHandles();
  });
}

// Fields of numbers: comma and point alike, arrow keys in steps, and what is wrong said while it is typed.
import { parseNumber, within } from "./scale.js";

/** What is wrong with a typed number; an empty string where nothing is. */
export function faultOf(text, least, most) {
  if (text.trim() === "") return "";
  const value = parseNumber(text);
  if (Number.isNaN(value)) {
    return /^[-+]?\d{1,3},\d{3}$/.test(text.trim())
      ? "Write thousands without a comma, and decimals with a point."
      : "Write a number, such as 45.5.";
  }
  if (value < least) return `At least ${least}.`;
  return value > most ? `At most ${most}.` : "";
}

function rangeOf(field) {
  const { min, max } = field.dataset;
  return [min ? Number(min) : Number.NEGATIVE_INFINITY, max ? Number(max) : Number.POSITIVE_INFINITY];
}

/** The next value for an arrow key, on the grid of the step. */
export function stepped(value, step, up, least, most) {
  const next = Math.round((value + (up ? step : -step)) / step) * step;
  return Number(within(next, least, most).toFixed(6));
}

function onInput(event) {
  if (event.target.matches?.("[data-number]")) {
    event.target.setCustomValidity(faultOf(event.target.value, ...rangeOf(event.target)));
  }
}

function onKey(event) {
  const field = event.target;
  if (!field.matches?.("[data-number]") || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
  const value = parseNumber(field.value || "0");
  if (Number.isNaN(value)) return;
  event.preventDefault();
  const step = Number(field.dataset.step || 1) * (event.shiftKey ? 10 : 1);
  field.value = stepped(value, step, event.key === "ArrowUp", ...rangeOf(field));
  field.dispatchEvent(new Event("input", { bubbles: true }));
}

export function watchNumbers() {
  document.addEventListener("input", onInput);
  document.addEventListener("keydown", onKey);
}

// The dry-down clock runs on the page; when the sheet is dry the page shows it.
import { refresh } from "./requests.js";

/** Time left in words: minutes, and seconds in the last one. */
export function timeLeft(minutes) {
  return minutes >= 1 ? `${Math.ceil(minutes)} min` : `${Math.ceil(minutes * 60)} s`;
}

function tick() {
  const reading = document.querySelector("[data-white-until]");
  if (reading && new Date(reading.dataset.whiteUntil) < Date.now()) {
    delete reading.dataset.whiteUntil;
    refresh("The white calibration has expired.");
  }
  for (const clock of document.querySelectorAll("[data-dry]")) {
    const left = (new Date(clock.dataset.dry) - Date.now()) / 60000;
    if (left > 0) {
      clock.querySelector("[data-left]").textContent = timeLeft(left);
    } else if (!clock.dataset.over) {
      clock.dataset.over = "1";
      refresh("The sheet is dry.");
    }
  }
}

export function runClocks() {
  setInterval(tick, 1000);
}

// The reading page: keys, the row in hand, and sounds.
import { mayAct } from "./keys.js";

const KEYS = {
  " ": "read",
  enter: "read",
  w: "white",
  u: "undo",
  p: "pause",
  g: "go",
  s: "skip",
  c: "corner",
};
const ROW_DIGITS = 4;

/** The digits typed so far with one more; only the last few count. */
export function typedWith(typed, digit) {
  return (typed + digit).slice(-ROW_DIGITS);
}

/** What a key does on the reading page: a digit, the name of a button, or null. */
export function meaningOf(key) {
  const small = key.toLowerCase();
  if (/^[0-9]$/.test(small)) return { digit: small };
  return small in KEYS ? { button: KEYS[small] } : null;
}

let typed = "";
let busy = false;
let sounder = null;
const waiting = [];

function page() {
  return document.getElementById("reading");
}

/** The row in hand is marked in the list. The list scrolls, the page does not. */
export function markRow() {
  if (!page()) return;
  for (const row of document.querySelectorAll(".rows .r.now")) row.classList.remove("now");
  const row = document.getElementById(`row-${page().dataset.now}`);
  if (!row) return;
  row.classList.add("now");
  const list = row.parentNode;
  list.scrollTop = row.offsetTop - list.clientHeight / 2;
}

/** High for kept, low for trouble. */
function sound(kind) {
  const wanted = document.getElementById("sound");
  if (!kind || !wanted?.checked || !window.AudioContext) return;
  sounder = sounder || new AudioContext();
  const tone = sounder.createOscillator();
  const loudness = sounder.createGain();
  const now = sounder.currentTime;
  const kept = kind === "kept";
  tone.frequency.value = kept ? 880 : 220;
  loudness.gain.setValueAtTime(0.15, now);
  loudness.gain.exponentialRampToValueAtTime(0.001, now + (kept ? 0.12 : 0.45));
  tone.connect(loudness).connect(sounder.destination);
  tone.start(now);
  tone.stop(now + 0.5);
}

function act(meaning) {
  if (!page()) return;
  if (meaning.digit) {
    typed = typedWith(typed, meaning.digit);
    page().querySelector("#typed").textContent = typed;
    return;
  }
  if (meaning.button === "go") {
    page().querySelector("#go-row").value = typed;
    typed = "";
  }
  const main = meaning.button === "read" ? page().querySelector("[data-main]") : null;
  (main ?? page().querySelector(`[data-key="${meaning.button}"]`))?.click();
}

/** A key pressed while a row is on its way waits its turn: none is lost, none acts twice. */
function onKey(event) {
  if (!page() || !mayAct(event)) return;
  const meaning = meaningOf(event.key);
  if (meaning === null) return;
  event.preventDefault();
  if (busy) waiting.push(meaning);
  else act(meaning);
}

function onAnswer(event) {
  busy = false;
  if (event.type === "htmx:afterSettle" && page()?.dataset.sound) {
    sound(page().dataset.sound);
    page().dataset.sound = "";
  }
  while (waiting.length && !busy) act(waiting.shift());
}

/** A button that was clicked gives the focus back, so that the keys go on; one reached by Tab keeps it. */
function onClick(event) {
  const button = event.target.closest("#reading button");
  if (button && event.detail > 0) button.blur();
}

export function watchReading() {
  document.addEventListener("keydown", onKey);
  document.addEventListener("click", onClick);
  document.addEventListener("htmx:beforeRequest", (event) => {
    if (event.target.closest("#reading")) busy = true;
  });
  for (const name of ["htmx:afterSettle", "htmx:responseError", "htmx:sendError", "htmx:timeout"]) {
    document.addEventListener(name, onAnswer);
  }
}

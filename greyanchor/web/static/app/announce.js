// What a page says: quietly to a screen reader, or in a bar that stays until it is dealt with.

/** The live region stays in the page, so that readers of screens hear every change of it. */
export function announce(text) {
  const region = document.getElementById("announcer");
  if (!region || !text) return;
  region.textContent = "";
  setTimeout(() => {
    region.textContent = text;
  }, 30);
}

function bar() {
  return document.getElementById("problem");
}

/** Show what went wrong and what was kept; `action` may add a button: `{ label, run }`. */
export function showProblem(text, { kind = "refused", action = null } = {}) {
  if (bar().dataset.kind === kind && bar().querySelector("p").textContent === text) return;
  bar().dataset.kind = kind;
  bar().querySelector("p").textContent = text;
  const button = bar().querySelector("[data-action]");
  button.hidden = action === null;
  button.textContent = action?.label ?? "";
  button.onclick = () => {
    clearProblem(kind);
    action.run();
  };
  bar().hidden = false;
}

/** Take the bar away, where it shows a problem of this kind. */
export function clearProblem(kind) {
  if (bar()?.dataset.kind !== kind) return;
  bar().hidden = true;
  bar().dataset.kind = "";
}

let last = "";

/** A swap that brings something to say carries it in `data-announce`; what was just said is not repeated. */
export function announceWithin(root) {
  const said = root.matches?.("[data-announce]") ? root : root.querySelector("[data-announce]");
  const text = said?.dataset.announce || said?.textContent.trim();
  if (!text || text === last) return;
  last = text;
  announce(text);
}

export function watchProblems() {
  bar()
    ?.querySelector("[data-close]")
    .addEventListener("click", () => clearProblem(bar().dataset.kind));
}

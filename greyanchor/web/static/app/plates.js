/** Plates of a job: those that are ticked are seen, all where none is; what is typed while the page asks for
 * new figures stays. */
import { giveBack, heldFocus } from "./focus.js";

const asked = new WeakMap();
let later = null;

function show(form) {
  const picture = form.querySelector("[data-plates-picture]");
  if (!picture) return;
  const address = new URL(picture.dataset.all ?? picture.src, document.baseURI);
  picture.dataset.all ??= picture.src;
  address.searchParams.delete("ink");
  for (const box of form.querySelectorAll("[data-plate-seen]:checked")) {
    address.searchParams.append("ink", box.dataset.plateSeen);
  }
  picture.src = address.href;
}

const typed = (form) =>
  new Map([...form.querySelectorAll("input.form-control")].map((f) => [f.name, f.value]));

/** What was typed since the figures were asked for, where the focus is, and which plates are seen. */
function hold(form) {
  const before = asked.get(form) ?? new Map();
  const changed = [...typed(form)].filter(([name, value]) => before.get(name) !== value);
  const seen = [...form.querySelectorAll("[data-plate-seen]:checked")].map((b) => b.dataset.plateSeen);
  later = { changed, seen, focus: heldFocus(form) };
}

function giveHeldBack(form) {
  const { changed, seen, focus } = later;
  later = null;
  for (const [name, value] of changed) if (form[name]) form[name].value = value;
  for (const box of form.querySelectorAll("[data-plate-seen]"))
    box.checked = seen.includes(box.dataset.plateSeen);
  if (seen.length) show(form);
  giveBack(focus);
  if (changed.length) form.dispatchEvent(new Event("change"));
}

export function watchPlates() {
  document.addEventListener(
    "change",
    (event) => {
      const box = event.target.closest?.("[data-plate-seen]");
      if (!box) return;
      event.stopPropagation(); // nothing of the plates changes
      show(box.form);
    },
    true,
  );
  const within = (event) => event.target.closest?.("#plates-form") ?? null;
  document.addEventListener("htmx:beforeRequest", (event) => {
    const form = within(event);
    if (form) asked.set(form, typed(form));
  });
  document.addEventListener("htmx:beforeSwap", (event) => {
    const form = within(event);
    if (form) hold(form);
  });
  document.addEventListener("htmx:afterSettle", () => {
    const form = document.getElementById("plates-form");
    if (form && later) giveHeldBack(form);
  });
}

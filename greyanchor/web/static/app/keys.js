// Shortcuts act only when no control has the focus; they are listed under "?", and can be switched off there.

const CONTROLS = [
  "a[href], button, input, select, textarea, summary, dialog, [contenteditable]",
  "[tabindex]:not([tabindex='-1'])",
].join(", ");
const OFF = "shortcuts-off";

/** Whether a key may act as a shortcut: nothing else has the focus, and shortcuts are on. */
export function mayAct(event) {
  if (event.ctrlKey || event.altKey || event.metaKey || event.defaultPrevented) return false;
  if (localStorage.getItem(OFF) || event.target.closest?.(CONTROLS)) return false;
  return !document.querySelector("dialog[open]");
}

const NAMES = { " ": "space" };

/** The shortcuts of this page: `[key, what it does]`, from the keys that its buttons show. */
export function shortcutsOf(root) {
  const found = [];
  for (const key of root.querySelectorAll("#main [data-key] kbd")) {
    const text = key.parentElement.textContent.replace(key.textContent, "");
    found.push([key.textContent.trim(), text.replace(/\s+/g, " ").trim()]);
  }
  return found;
}

function fill(box) {
  const list = box.querySelector("dl");
  list.replaceChildren();
  const fixed = [
    ["?", "Show these shortcuts"],
    ["Escape", "Close what is open over the page"],
    ["← → ↑ ↓", "In a picture: move along its values, its steps or its patches"],
  ];
  for (const [key, text] of [...shortcutsOf(document), ...fixed]) {
    const [term, sense] = [document.createElement("dt"), document.createElement("dd")];
    const cap = document.createElement("kbd");
    cap.textContent = NAMES[key] ?? key;
    term.append(cap);
    sense.textContent = text;
    list.append(term, sense);
  }
}

export function showShortcuts() {
  const box = document.getElementById("shortcuts");
  if (!box || box.open) return;
  fill(box);
  box.querySelector("[name=shortcuts]").checked = !localStorage.getItem(OFF);
  box.showModal();
}

function closeMenu(event) {
  const open = document.querySelectorAll("details.menu[open]");
  for (const box of open) {
    if (event.type === "click" && box.contains(event.target)) continue;
    if (event.type === "keydown" && box.contains(document.activeElement))
      box.querySelector("summary").focus();
    box.open = false;
  }
}

export function watchKeys() {
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape") closeMenu(event);
    if (event.key === "?" && !event.target.closest("input, select, textarea")) {
      event.preventDefault();
      showShortcuts();
    }
    // pages whose buttons have a key each
    if (mayAct(event) && /^[a-z0-9]$/.test(event.key)) {
      const button = document.querySelector(`[data-keys] [data-key="${event.key}"]`);
      if (button) {
        event.preventDefault();
        button.click();
      }
    }
  });
  document.addEventListener("click", closeMenu);
  document.getElementById("shortcuts")?.addEventListener("change", (event) => {
    if (event.target.checked) localStorage.removeItem(OFF);
    else localStorage.setItem(OFF, "1");
  });
  document.querySelector("[data-show-shortcuts]")?.addEventListener("click", showShortcuts);
}

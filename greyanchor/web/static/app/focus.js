// Focus survives what is swapped; a refused form shows its error and has the focus there.

const FIELDS = "input, select, textarea";

/** Ways to find the element again that had the focus, surest first. */
function signs(element) {
  const tag = element.tagName.toLowerCase();
  const found = [];
  if (element.id) found.push(`#${CSS.escape(element.id)}`);
  if (element.dataset.same) found.push(`[data-same="${CSS.escape(element.dataset.same)}"]`);
  if (element.dataset.key) found.push(`[data-key="${element.dataset.key}"]`);
  if (element.name) {
    const value = element.matches("[type=checkbox], [type=radio], button")
      ? `[value="${CSS.escape(element.value)}"]`
      : "";
    found.push(`${tag}[name="${CSS.escape(element.name)}"]${value}`);
  }
  if (element.getAttribute("href")) found.push(`a[href="${CSS.escape(element.getAttribute("href"))}"]`);
  return found;
}

/** What is needed to give the focus back after a swap within `root`; null where it is elsewhere. */
export function heldFocus(root) {
  const element = document.activeElement;
  if (!element || element === document.body || !root?.contains(element)) return null;
  const text = element.textContent.trim();
  const place = [element.selectionStart, element.selectionEnd];
  return { signs: signs(element), tag: element.tagName, text, place };
}

export function giveBack(held) {
  if (!held || document.activeElement !== document.body) return;
  let element = null;
  for (const sign of held.signs) element = element ?? document.querySelector(`#main ${sign}`);
  if (!element && held.text) {
    element = [...document.querySelectorAll(`#main ${held.tag}`)].find(
      (e) => e.textContent.trim() === held.text,
    );
  }
  if (!element) return;
  element.focus({ preventScroll: true });
  if (held.place[0] != null && element.setSelectionRange) {
    try {
      element.setSelectionRange(...held.place);
    } catch {
      /* not a field of text */
    }
  }
}

/** Unfold what hides an element. */
export function reveal(element) {
  for (let box = element.closest("details"); box; box = box.parentElement.closest("details")) box.open = true;
}

/** Focus on an element that says something, and bring it into view. */
export function lead(element) {
  reveal(element);
  if (!element.matches(`${FIELDS}, a, button`)) element.tabIndex = -1;
  element.focus({ preventScroll: true });
  element.scrollIntoView({ block: "center" });
}

/** Lead to the first error within `root`: the field that was refused, or the sentence that says why. */
export function leadToError(root) {
  const found =
    root.querySelector("[aria-invalid=true]") ??
    root.querySelector("ul.errorlist")?.closest(".field")?.querySelector(FIELDS) ??
    root.querySelector("ul.errorlist, .message.error");
  if (found) lead(found);
  return Boolean(found);
}

/** Whether a person has typed, ticked or chosen something within `root` that was not sent yet. */
export function isEdited(root) {
  for (const field of root.querySelectorAll("form :is(input, textarea, select)")) {
    if (field.type === "hidden" || field.closest("[data-unkept]")) continue;
    if (field.type === "file" && field.files.length) return true;
    if (field.matches("[type=checkbox], [type=radio]")) {
      if (field.checked !== field.defaultChecked) return true;
    } else if (field.matches("select")) {
      const marked = [...field.options].some((o) => o.defaultSelected);
      const usual = marked ? null : field.options[0];
      for (const option of field.options) {
        const before = marked ? option.defaultSelected : option === usual && !field.multiple;
        if (option.selected !== before) return true;
      }
    } else if (field.type !== "file" && field.value !== field.defaultValue) return true;
  }
  return false;
}

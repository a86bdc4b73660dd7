// Pictures of several inks, one at a time: a row of choices stands above them.

export function oneAtATime(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  const parts = [...box.querySelectorAll("[data-part]")];
  if (parts.length < 2) return;
  const row = document.createElement("div");
  row.className = "actions mb-2";
  row.setAttribute("role", "group");
  row.setAttribute("aria-label", "What is looked at");
  const show = (chosen) => {
    parts.forEach((part, i) => {
      part.hidden = i !== chosen;
      row.children[i].setAttribute("aria-pressed", i === chosen);
    });
  };
  parts.forEach((part, i) => {
    const button = document.createElement("button");
    button.type = "button";
    button.className = "btn btn-plain";
    button.textContent = part.dataset.part;
    button.addEventListener("click", () => show(i));
    row.append(button);
  });
  parts[0].before(row);
  show(0);
}

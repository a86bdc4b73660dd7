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

// A strip of steps with a loupe under it: three steps enlarged, the one that is looked at in the middle.
// The pointer over the strip chooses it, or the arrow keys while the loupe has the focus.

export function underGlass(box) {
  const strip = box.querySelector("img");
  if (box.dataset.ready || !strip) return;
  box.dataset.ready = "1";
  const steps = box.dataset.glass.split(" ");
  const glass = document.createElement("div");
  glass.className = "glass";
  glass.tabIndex = 0;
  glass.setAttribute("role", "slider");
  glass.setAttribute("aria-label", "Step under the loupe, percent");
  glass.setAttribute("aria-valuemin", steps[0]);
  glass.setAttribute("aria-valuemax", steps.at(-1));
  glass.style.backgroundImage = `url("${strip.src}")`;
  glass.style.backgroundSize = `${(steps.length / 3) * 100}% 100%`;
  const mark = document.createElement("span");
  mark.className = "glass-mark";
  glass.append(mark);
  const at = document.createElement("p");
  at.className = "glass-at";
  box.append(glass, at);
  let now = 0;
  const look = (step) => {
    now = Math.min(Math.max(step, 0), steps.length - 1);
    const first = Math.min(Math.max(now - 1, 0), Math.max(steps.length - 3, 0));
    glass.style.backgroundPositionX = `${steps.length > 3 ? (first / (steps.length - 3)) * 100 : 0}%`;
    mark.style.left = `${((now - first) / 3) * 100}%`;
    glass.setAttribute("aria-valuenow", steps[now]);
    at.textContent = `Under the loupe: ${steps[now]} %, between ${steps[first]} and ${
      steps[Math.min(first + 2, steps.length - 1)]
    } %`;
  };
  strip.addEventListener("pointermove", (e) => {
    const area = strip.getBoundingClientRect();
    look(Math.floor(((e.clientX - area.left) / area.width) * steps.length));
  });
  glass.addEventListener("keydown", (e) => {
    const to = { ArrowRight: now + 1, ArrowLeft: now - 1, Home: 0, End: steps.length - 1 }[e.key];
    if (to === undefined) return;
    e.preventDefault();
    look(to);
  });
  look(Math.floor(steps.length * 0.6));
}

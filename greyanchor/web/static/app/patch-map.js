// Patch maps by keyboard: the arrow keys go from patch to patch, and its values are shown and read out.

const SIDE = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };

/** The nearest patch from `from` in a direction: straight on first, then the least aside. */
export function nextPatch(places, from, [across, down]) {
  let best = null;
  places.forEach(([x, y], i) => {
    const [dx, dy] = [x - places[from][0], y - places[from][1]];
    const on = dx * across + dy * down;
    if (on <= 0.5) return;
    const aside = Math.abs(dx * down) + Math.abs(dy * across);
    if (best === null || on + 4 * aside < best.cost) best = { i, cost: on + 4 * aside };
  });
  return best === null ? from : best.i;
}

export function watchMap(svg) {
  if (svg.dataset.watched) return;
  svg.dataset.watched = "1";
  const patches = [...svg.querySelectorAll("g")].filter((g) => g.querySelector("title"));
  if (!patches.length) return;
  const places = patches.map((g) => {
    const mark = g.querySelector("rect, circle");
    return [
      Number(mark.getAttribute("x") ?? mark.getAttribute("cx")),
      Number(mark.getAttribute("y") ?? mark.getAttribute("cy")),
    ];
  });
  const out = document.createElement("output");
  out.className = "map-value";
  out.setAttribute("role", "status");
  svg.after(out);
  svg.tabIndex = 0;
  svg.setAttribute("aria-label", `${svg.getAttribute("aria-label")}; arrow keys go from patch to patch`);
  let at = 0;
  const show = (i) => {
    patches[at].classList.remove("at");
    at = i;
    patches[at].classList.add("at");
    out.textContent = patches[at].querySelector("title").textContent;
  };
  svg.addEventListener("focus", () => show(at));
  svg.addEventListener("blur", () => {
    patches[at].classList.remove("at");
    out.textContent = "";
  });
  svg.addEventListener("pointermove", (event) => {
    const patch = patches.indexOf(event.target.closest("g"));
    if (patch >= 0) show(patch);
  });
  svg.addEventListener("keydown", (event) => {
    if (!(event.key in SIDE)) return;
    event.preventDefault();
    show(nextPatch(places, at, SIDE[event.key]));
  });
}

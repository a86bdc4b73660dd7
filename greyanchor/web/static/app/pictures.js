// Every picture leaves as SVG or PNG, and its values by the clipboard.
import { announce } from "./announce.js";
import { csvOf, fileName, saveFile } from "./table.js";

export const PICTURES = "#main svg:is(.plot, .patch-map, .path-plot, .gamut, .pattern)";
const STYLES = [
  "fill",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "font-family",
  "font-size",
  "font-weight",
  "opacity",
];
const DENSE = 2;

/** The picture by itself, in the light theme, with its styles in it. */
function alone(svg) {
  const root = document.documentElement;
  const theme = root.dataset.theme;
  root.dataset.theme = "light";
  const copy = svg.cloneNode(true);
  const [from, to] = [svg.querySelectorAll("*"), copy.querySelectorAll("*")];
  from.forEach((element, i) => {
    const style = getComputedStyle(element);
    for (const name of STYLES) to[i].style.setProperty(name, style.getPropertyValue(name));
  });
  root.dataset.theme = theme;
  const box = svg.viewBox.baseVal;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", box.width);
  copy.setAttribute("height", box.height);
  copy.removeAttribute("style");
  for (const name of ["data-series", "data-paths", "data-frame"]) copy.removeAttribute(name);
  return [new XMLSerializer().serializeToString(copy), box];
}

async function png(svg) {
  const [text, box] = alone(svg);
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [DENSE * box.width, DENSE * box.height];
  const pen = canvas.getContext("2d");
  pen.fillStyle = "#ffffff";
  pen.fillRect(0, 0, canvas.width, canvas.height);
  pen.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}

/** The values of a plot as rows: each line's name, input and value. */
export function valuesOf(label, series) {
  const rows = [["line", label, "value"]];
  for (const { name, x, y } of series) {
    for (let i = 0; i < x.length; i++) rows.push([name, String(x[i]), String(y[i])]);
  }
  return rows;
}

function textOf(svg) {
  if (svg.dataset.series) return csvOf(valuesOf(svg.dataset.xlabel, JSON.parse(svg.dataset.series)));
  return [...svg.querySelectorAll("title")].map((t) => t.textContent).join("\n");
}

function entry(menu, text, act) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "btn btn-plain";
  button.textContent = text;
  button.addEventListener("click", () => {
    menu.open = false;
    act();
  });
  return button;
}

export function offerPicture(svg) {
  if (svg.dataset.offered || svg.closest("[data-bare]")) return;
  svg.dataset.offered = "1";
  const box = svg.closest(".plot-box") ?? document.createElement("div");
  if (!box.isConnected) {
    svg.replaceWith(box);
    box.className = "plot-box";
    box.append(svg);
  }
  const title = svg.getAttribute("aria-label") ?? "picture";
  const menu = document.createElement("details");
  menu.className = "menu tools no-print";
  const summary = document.createElement("summary");
  summary.textContent = "Save";
  summary.setAttribute("aria-label", `Save: ${title}`);
  const list = document.createElement("div");
  list.className = "menu-box";
  const name = fileName(title).slice(0, 60);
  list.append(
    entry(menu, "As SVG", () =>
      saveFile(new Blob([alone(svg)[0]], { type: "image/svg+xml" }), `${name}.svg`),
    ),
    entry(menu, "As PNG", async () => saveFile(await png(svg), `${name}.png`)),
  );
  if (textOf(svg)) {
    list.append(
      entry(menu, "Copy its values", async () => {
        await navigator.clipboard.writeText(textOf(svg));
        announce("The values are on the clipboard.");
      }),
    );
  }
  menu.append(summary, list);
  box.append(menu);
}

// What runs on every page. Listeners on the document are added once, here; parts that a swap brings are
// prepared as they come.
import { runClocks } from "./clock.js";
import { followChannel, showHandles, watchHandle } from "./curve-handles.js";
import { offerWhatIsThere, showDriverOptions, showSliders, watchForms } from "./forms.js";
import { followTyping, watchLimits } from "./limits.js";
import { watchPlot } from "./plot.js";
import { markRow, watchReading } from "./reading.js";
import { makeSortable, offerCsv } from "./table.js";

function prepare(root) {
  for (const svg of root.querySelectorAll("svg.plot[data-series]")) watchPlot(svg);
  for (const table of root.querySelectorAll("table.list")) makeSortable(table);
  for (const table of root.querySelectorAll("table[data-csv]")) offerCsv(table);
  for (const box of root.querySelectorAll("[data-limits]")) watchLimits(box);
  for (const handle of root.querySelectorAll("circle.handle")) watchHandle(handle);
  for (const form of root.querySelectorAll("form.device")) showDriverOptions(form);
  showHandles();
  if (root.id === "reading" || root.querySelector(".rows")) markRow();
}

function openTarget() {
  const target = location.hash && document.getElementById(location.hash.slice(1));
  if (target?.tagName !== "DETAILS") return;
  target.open = true;
  target.scrollIntoView();
}

watchReading();
watchForms();
followTyping();
followChannel();
runClocks();
document.addEventListener("htmx:load", (event) => prepare(event.target));
prepare(document);
showSliders();
offerWhatIsThere();
openTarget();

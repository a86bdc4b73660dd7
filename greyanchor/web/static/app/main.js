// What runs on every page. Listeners on the document are added once, here; parts that a swap brings are
// prepared as they come.
import { announceWithin, watchProblems } from "./announce.js";
import { runClocks } from "./clock.js";
import { followChannel, showHandles, watchHandle } from "./curve-handles.js";
import { watchFaults } from "./faults.js";
import { lead, leadToError } from "./focus.js";
import { offerWhatIsThere, showDriverOptions, showSliders, watchForms } from "./forms.js";
import { watchKeys } from "./keys.js";
import { keepReadable } from "./lettering.js";
import { showFoot, watchDrops, watchLightTable } from "./light-table.js";
import { followTyping, watchLimits } from "./limits.js";
import { oneAtATime, underGlass } from "./loupes.js";
import { watchNumbers } from "./numbers.js";
import { watchMap } from "./patch-map.js";
import { offerPicture, PICTURES } from "./pictures.js";
import { watchPlates } from "./plates.js";
import { watchPlot } from "./plot.js";
import { markRow, watchReading } from "./reading.js";
import { watchRequests } from "./requests.js";
import { watchRoll } from "./roll.js";
import { watchRunTable } from "./run-table.js";
import { watchSignIn } from "./sign-in-again.js";
import { makeSortable, offerCsv } from "./table.js";

function prepare(root) {
  for (const svg of root.querySelectorAll("svg.plot[data-series]")) watchPlot(svg);
  for (const table of root.querySelectorAll("table.list")) makeSortable(table);
  for (const table of root.querySelectorAll("table.list")) offerCsv(table);
  for (const svg of root.querySelectorAll("svg.patch-map")) watchMap(svg);
  for (const svg of root.querySelectorAll(PICTURES)) {
    offerPicture(svg);
    keepReadable(svg);
  }
  for (const box of root.querySelectorAll("[data-limits]")) watchLimits(box);
  for (const handle of root.querySelectorAll("circle.handle")) watchHandle(handle);
  for (const box of root.querySelectorAll("[data-one-at-a-time]")) oneAtATime(box);
  for (const box of root.querySelectorAll("[data-glass]")) underGlass(box);
  for (const box of root.querySelectorAll("[data-light-table]")) watchLightTable(box);
  for (const box of root.querySelectorAll("[data-faults]")) watchFaults(box);
  for (const box of root.querySelectorAll("[data-roll]")) watchRoll(box);
  for (const box of root.querySelectorAll("[data-run-table]")) watchRunTable(box);
  for (const form of root.querySelectorAll("form[data-drop]")) watchDrops(form);
  showFoot(root);
  for (const field of root.querySelectorAll("[data-folder]")) field.webkitdirectory = true;
  for (const form of root.querySelectorAll("form.device")) showDriverOptions(form);
  showHandles();
  showSliders();
  announceWithin(root);
  if (root.id === "reading" || root.querySelector(".rows")) markRow();
}

/** Open and show what the address names, once: when one arrives there, not when the page is loaded again. */
function arrive() {
  const sent = sessionStorage.getItem("arrive");
  sessionStorage.removeItem("arrive");
  const target = document.getElementById(sent || location.hash.slice(1));
  if (!target) return;
  if (target.tagName === "DETAILS") target.open = true;
  if (sent) {
    lead(target.querySelector("h2, h3, summary") ?? target);
    target.scrollIntoView();
  } else if (performance.getEntriesByType("navigation")[0]?.type !== "reload") target.scrollIntoView();
}

watchProblems();
watchRequests();
watchSignIn();
watchKeys();
watchNumbers();
watchReading();
watchForms();
watchPlates();
followTyping();
followChannel();
runClocks();
document.addEventListener("htmx:load", (event) => prepare(event.target));
document.addEventListener("part-put", (event) => {
  prepare(event.detail);
  offerWhatIsThere();
});
prepare(document);
offerWhatIsThere();
if (!leadToError(document.getElementById("main"))) arrive();

// Forms that help: suggestions on a new build, sliders that show their value, and only what differs.

/** The usual name of a mode: media, printer and passes. */
export function usualName(media, printer, passes) {
  const first = (text) => text.split(",")[0];
  return `${first(media)}, ${first(printer)}, ${passes} pass`;
}

function chosenText(field) {
  return field.selectedOptions[0]?.text ?? "";
}

async function suggestHandling(form) {
  const query = new URLSearchParams({ printer: form.printer.value, media: form.media.value });
  const answer = await fetch(`${form.dataset.suggest}?${query}`);
  if (!answer.ok) return;
  for (const [name, entry] of Object.entries(await answer.json())) {
    form[name].value = entry.value;
    const help = form[name].closest(".field").querySelector(".help");
    if (help) help.textContent = entry.source;
  }
}

/** What the page knows of the printer that is chosen. */
function chosenPrinter(form) {
  const { printers } = JSON.parse(document.getElementById("suggestions").textContent);
  return printers[form.printer.value];
}

/** Only what the printer has can be chosen. */
function offer(form, has) {
  for (const [name, values] of Object.entries(has)) {
    for (const option of form[name].options) {
      option.hidden = option.disabled = !values.includes(option.value);
    }
  }
}

function suggestMachine(form) {
  const usual = chosenPrinter(form);
  if (!usual) return;
  offer(form, usual.has);
  for (const name of Object.keys(usual.has)) form[name].value = usual[name];
  for (const name of ["driver_media", "driver_quality"]) form[name].value = usual[name];
}

/** A driver is asked for where the chosen inks are parted by one, a screen where they print films. */
function showDriver(form) {
  const box = form.querySelector("[data-driver-settings]");
  const drives = chosenPrinter(form)?.parts_itself.includes(form.ink_set.value);
  if (box) box.hidden = !drives;
  const films = chosenPrinter(form)?.films.includes(form.ink_set.value);
  const screen = form.querySelector("[data-film-settings]");
  if (screen) screen.hidden = !films;
  const greys = form.querySelector("[data-greys]");
  if (greys) greys.hidden = Boolean(drives || films);
}

export function offerWhatIsThere() {
  for (const form of document.querySelectorAll("form[data-suggest]")) {
    const usual = chosenPrinter(form);
    if (usual) offer(form, usual.has);
    showDriver(form);
  }
}

function suggest(event) {
  const form = event.target.closest("form[data-suggest]");
  if (!form) return;
  const { name } = event.target;
  if (name === "printer") suggestMachine(form);
  if (name === "printer" || name === "ink_set") showDriver(form);
  if (name === "media" || name === "printer") suggestHandling(form);
  if (form.name.dataset.own) return;
  form.name.value = usualName(chosenText(form.media), chosenText(form.printer), form.passes.value);
}

function showSlider(input) {
  const out = input.parentElement.querySelector("output");
  if (out) out.textContent = input.value + (input.closest(".controls") ? " %" : "");
}

export function showSliders() {
  for (const input of document.querySelectorAll(".slider input[type=range]")) showSlider(input);
}

function onInput(event) {
  if (event.target.name === "name") event.target.dataset.own = "1";
  if (event.target.matches(".slider input[type=range]")) showSlider(event.target);
}

function onlyDiffering(event) {
  if (event.target.id !== "only-differing") return;
  document.querySelector("table.side").classList.toggle("only-differing", event.target.checked);
}

/** Only what the chosen driver asks for is shown. */
export function showDriverOptions(form) {
  for (const field of form.querySelectorAll("[data-driver]")) {
    field.hidden = field.dataset.driver !== form.driver.value;
  }
}

function onDriver(event) {
  if (event.target.matches("form.device [name=driver]")) showDriverOptions(event.target.form);
}

export function watchForms() {
  document.addEventListener("change", suggest);
  document.addEventListener("change", onDriver);
  document.addEventListener("change", onlyDiffering);
  document.addEventListener("input", onInput);
}

// Forms are sent without leaving the page: what is refused comes back with what was typed, and a lost line,
// a failure or an expired sign-in is said in a bar.
import { announce, clearProblem, showProblem } from "./announce.js";
import { giveBack, heldFocus, isEdited, lead, leadToError } from "./focus.js";
import { signInAgain } from "./sign-in-again.js";
import { saveFile } from "./table.js";

const LINE = "line";
const LOST = "The server does not answer. What you typed is kept; this goes on when the line is back.";
const AGAIN_MS = 2000;
const SLOW_MS = 700;
let asking = null;

export function token() {
  return document.cookie.match(/(?:^|; )csrftoken=([^;]+)/)?.[1] ?? "";
}

/** Say that the line is lost, and ask until it is back. */
export function lineIsLost() {
  showProblem(LOST, { kind: LINE });
  if (asking) return;
  asking = setInterval(async () => {
    try {
      await fetch("/healthz", { cache: "no-store" });
      lineIsBack();
    } catch {
      /* not yet */
    }
  }, AGAIN_MS);
}

function lineIsBack() {
  if (asking) clearInterval(asking);
  asking = null;
  if (document.getElementById("problem")?.dataset.kind !== LINE) return;
  clearProblem(LINE);
  announce("The server answers again.");
}

/** The sentence of a page that says why something was not done. */
export function sentenceOf(html) {
  const page = new DOMParser().parseFromString(html, "text/html");
  const notice = page.querySelector("#main [data-notice]");
  if (!notice) return "The program failed. What you typed is kept; try again.";
  return [...notice.querySelectorAll("h1, .lead-line")].map((e) => e.textContent.trim()).join(". ");
}

/** Lead to an address; to the page one is on, with its place, it is loaded again. */
export function go(address) {
  const target = new URL(address, location.href);
  if (target.hash) sessionStorage.setItem("arrive", target.hash.slice(1));
  if (target.pathname + target.search === location.pathname + location.search) {
    history.replaceState(null, "", target);
    location.reload();
  } else location.assign(target);
}

/** Put another main part of this page in place; what was unfolded, focused and scrolled to stays. */
export function putMain(html) {
  const page = new DOMParser().parseFromString(html, "text/html");
  const [before, after] = [document.getElementById("main"), page.getElementById("main")];
  if (!after) return null;
  const held = heldFocus(before);
  const key = (box) => box.id || box.querySelector("summary")?.textContent.trim();
  const unfolded = new Set([...before.querySelectorAll("details[open]")].map(key));
  const { scrollX, scrollY } = window;
  before.replaceWith(after);
  document.title = page.title || document.title;
  for (const box of after.querySelectorAll("details")) if (unfolded.has(key(box))) box.open = true;
  window.htmx.process(after);
  document.dispatchEvent(new CustomEvent("part-put", { detail: after }));
  window.scrollTo(scrollX, scrollY);
  giveBack(held);
  return after;
}

/** Something on the server changed: show it, unless that would wipe what a person is typing or marking. */
export async function refresh(said) {
  const main = document.getElementById("main");
  const now = async () => {
    try {
      const answer = await fetch(location.href, { headers: { "X-Page-Part": "main" } });
      if (answer.redirected) go(answer.url);
      else if (answer.ok) putMain(await answer.text());
      else if (answer.status === 401) signInAgain(now);
    } catch {
      lineIsLost();
    }
  };
  if (isEdited(main)) {
    const text = `${said} What you typed stays until you show it.`.trim();
    showProblem(text, { kind: "news", action: { label: "Show it now", run: now } });
    return;
  }
  await now();
  announce(said);
}

function sayRefused(form, html, stale) {
  const page = new DOMParser().parseFromString(html, "text/html");
  for (const old of form.ownerDocument.querySelectorAll("[data-refusal]")) old.remove();
  const box = document.createElement("div");
  box.className = "message error";
  box.dataset.refusal = "1";
  box.setAttribute("role", "alert");
  box.append(...page.body.childNodes);
  if (stale) {
    const link = document.createElement("a");
    link.href = location.href;
    link.textContent = "Load the page again";
    link.addEventListener("click", (event) => {
      event.preventDefault();
      location.reload();
    });
    box.append(link);
  }
  (form.closest(".actions") ?? form).before(box);
  lead(box);
}

function save(blob, answer) {
  saveFile(blob, answer.headers.get("Content-Disposition").match(/filename="?([^";]+)/)?.[1] ?? "file");
}

async function take(answer, form, submitter) {
  if (answer.status === 401) return signInAgain(() => send(form, submitter));
  const to = answer.headers.get("X-Location");
  if (to) return go(to);
  if (answer.headers.get("Content-Disposition")?.startsWith("attachment")) {
    return save(await answer.blob(), answer);
  }
  const html = await answer.text();
  const refused = answer.headers.get("X-Refused");
  if (refused) return sayRefused(form, html, refused === "stale");
  const page = new DOMParser().parseFromString(html, "text/html");
  if (answer.status >= 400 && !page.querySelector("#main form")) return showProblem(sentenceOf(html));
  if (page.querySelector("#main [data-notice]")) return showProblem(sentenceOf(html));
  const main = putMain(html);
  if (main) leadToError(main);
  return null;
}

/** Send a form; the page stays until the answer says where to. */
export async function send(form, submitter) {
  if (form.dataset.sending) return;
  form.dataset.sending = "1";
  const data = new FormData(form, submitter);
  data.set("csrfmiddlewaretoken", token());
  const slow = setTimeout(() => {
    submitter?.classList.add("busy");
    announce("Sending …");
  }, SLOW_MS);
  try {
    const to = submitter?.getAttribute("formaction") ?? form.getAttribute("action");
    const answer = await fetch(to || location.href, {
      method: "POST",
      body: data,
      headers: { "X-Page-Form": "1" },
    });
    lineIsBack();
    await take(answer, form, submitter);
  } catch (error) {
    if (error instanceof TypeError) lineIsLost();
    else throw error;
  } finally {
    clearTimeout(slow);
    submitter?.classList.remove("busy");
    delete form.dataset.sending;
  }
}

function onSubmit(event) {
  const form = event.target;
  // attributes, as a field of that name hides the property
  const method = event.submitter?.getAttribute("formmethod") ?? form.getAttribute("method") ?? "get";
  if (event.defaultPrevented || method.toLowerCase() !== "post") return;
  if (form.matches("[data-plain], [data-hx-post], [target]")) return;
  event.preventDefault();
  send(form, event.submitter);
}

function onFailure(event) {
  const { xhr } = event.detail;
  if (xhr?.status === 401) signInAgain();
  else if (!xhr?.status) lineIsLost();
  else showProblem(sentenceOf(xhr.responseText));
}

/** A page that answered a form in place keeps the address it was sent from. */
function keepAddress() {
  const from = document.querySelector("main[data-from]")?.dataset.from;
  if (from) history.replaceState(null, "", from);
}

export function watchRequests() {
  let held = null;
  keepAddress();
  document.addEventListener("submit", onSubmit);
  document.addEventListener("htmx:configRequest", (event) => {
    event.detail.headers["X-CSRFToken"] = token();
    delete event.detail.parameters.csrfmiddlewaretoken;
  });
  for (const name of ["htmx:responseError", "htmx:sendError", "htmx:timeout"]) {
    document.addEventListener(name, onFailure);
  }
  document.addEventListener("htmx:afterOnLoad", lineIsBack);
  document.addEventListener("htmx:beforeSwap", (event) => {
    held = heldFocus(event.detail.target);
  });
  document.addEventListener("htmx:afterSettle", () => {
    giveBack(held);
    held = null;
  });
  document.addEventListener("page-stale", (event) => refresh(event.detail?.value ?? ""));
}

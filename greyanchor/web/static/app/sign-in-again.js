// Signed out in the middle of work: sign in again in place, and what was being done goes on.
import { announce } from "./announce.js";

let after = null;

function dialog() {
  return document.getElementById("sign-in-again");
}

/** Ask for the password; `then` is done once it was right. */
export function signInAgain(then = null) {
  if (!dialog()) {
    location.reload();
    return;
  }
  after = then ?? after;
  if (dialog().open) return;
  dialog().querySelector("[role=alert]").hidden = true;
  dialog().showModal();
}

function refuse(text) {
  const box = dialog().querySelector("[role=alert]");
  box.hidden = false;
  box.querySelector("li").textContent = text;
  dialog().querySelector("[name=password]").focus();
}

async function onSubmit(event) {
  event.preventDefault();
  const form = event.target;
  try {
    const page = await fetch(form.action);
    const fresh = new DOMParser().parseFromString(await page.text(), "text/html");
    const data = new FormData(form);
    data.set("csrfmiddlewaretoken", fresh.querySelector("[name=csrfmiddlewaretoken]")?.value ?? "");
    const answer = await fetch(form.action, { method: "POST", body: data, headers: { "X-Page-Form": "1" } });
    if (answer.headers.get("X-Location")) {
      form.password.value = "";
      dialog().close();
      announce("Signed in again.");
      const then = after;
      after = null;
      then?.();
    } else if (answer.status === 200) refuse("That password does not fit. Try again.");
    else refuse("Too many wrong passwords. Wait a quarter of an hour, then try again.");
  } catch {
    refuse("The server does not answer. Try again when the line is back.");
  }
}

export function watchSignIn() {
  dialog()?.querySelector("form").addEventListener("submit", onSubmit);
}

// The roll of a machine: what waits is dragged into another order, what is held is lifted from the shelf onto
// the roll. The buttons below do the same by keys. While something is in hand, the roll is not drawn again.
import { token } from "./requests.js";

let inHand = null;

document.addEventListener("htmx:beforeRequest", (e) => {
  if (inHand && e.target.id === "roll") e.preventDefault();
});

export function watchRoll(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  box.addEventListener("pointerdown", (e) => take(e));
  box.addEventListener("pointermove", carry);
  box.addEventListener("pointerup", () => lay(box));
  box.addEventListener("pointercancel", () => {
    inHand = null;
  });
  box.addEventListener("dragstart", (e) => {
    const held = e.target.closest("[data-shelf]");
    if (!held) return;
    inHand = { act: held.dataset.act };
    e.dataTransfer.setData("text/plain", held.dataset.shelf);
  });
  box.addEventListener("dragover", (e) => {
    if (inHand && e.target.closest("svg.roll")) e.preventDefault();
  });
  box.addEventListener("drop", (e) => {
    if (!inHand || !e.target.closest("svg.roll")) return;
    e.preventDefault();
    send(box, inHand.act, {});
  });
  box.addEventListener("dragend", () => {
    inHand = null;
  });
}

function take(e) {
  const piece = e.target.closest(".movable");
  if (!piece) return;
  piece.setPointerCapture(e.pointerId);
  const space = piece.parentElement;
  inHand = { piece, space, from: along(space, e), moved: 0 };
  e.preventDefault();
}

function along(space, e) {
  return new DOMPoint(e.clientX, e.clientY).matrixTransform(space.getScreenCTM().inverse()).x;
}

function carry(e) {
  if (!inHand?.piece) return;
  inHand.moved = along(inHand.space, e) - inHand.from;
  inHand.piece.setAttribute("transform", `translate(${inHand.moved} 0)`);
}

function lay(box) {
  if (!inHand?.piece) return;
  const { piece, moved } = inHand;
  const middle = Number(piece.dataset.at) + Number(piece.dataset.long) / 2 + moved;
  const others = [...box.querySelectorAll(".movable")].filter((other) => other !== piece);
  const next = others.find((other) => Number(other.dataset.at) + Number(other.dataset.long) / 2 > middle);
  if (Math.abs(moved) < 5) {
    piece.removeAttribute("transform");
    inHand = null;
    return;
  }
  send(box, piece.dataset.act, { other: next?.dataset.print ?? "" });
}

/** What a button would send; then the roll is drawn again. */
async function send(box, address, values) {
  const body = new URLSearchParams({ ...values, csrfmiddlewaretoken: token() });
  try {
    await fetch(address, { method: "POST", body, redirect: "manual" });
  } finally {
    inHand = null;
    const roll = box.closest("#roll");
    window.htmx.ajax("GET", roll.dataset.hxGet, { target: "#roll", swap: "outerHTML" });
  }
}

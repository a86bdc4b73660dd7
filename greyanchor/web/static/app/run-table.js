// Pieces on the media of a run: dragged, or moved and turned by keys; they snap to edges and gaps, and are
// never laid over one another. What was moved is kept by the server, which looks at it again.
import { mayAct } from "./keys.js";

const SNAP_PIXELS = 9;
const KEPT_AFTER = 700;
let focused = null;
let table = null;

/** An answer that comes while somebody moves on does not take the piece out of their hand: its places are
    older. The next ones go with the version that it brought. */
document.addEventListener("htmx:beforeSwap", (e) => {
  if (e.detail.target?.id !== "run" || !table?.isBusy) return;
  const version = /data-version="(\d+)"/.exec(e.detail.xhr.responseText);
  if (!version) return;
  e.detail.shouldSwap = false;
  table.box.dataset.version = version[1];
});

export function watchRunTable(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  table = new RunTable(box);
}

class RunTable {
  constructor(box) {
    this.box = box;
    this.facts = JSON.parse(box.querySelector("#run-table").textContent);
    this.space = box.querySelector("[data-run-space]");
    this.svg = this.space.ownerSVGElement;
    this.said = box.querySelector("[data-run-said]");
    this.pieces = [...box.querySelectorAll("[data-piece]")].map((g) => new Piece(g, this.facts.around));
    if (focused) this.pieces.find((p) => p.key === focused)?.g.focus();
    if (!("open" in box.dataset)) return;
    for (const piece of this.pieces) this.listen(piece);
  }

  listen(piece) {
    const { g } = piece;
    g.addEventListener("focus", () => {
      focused = piece.key;
      this.place(piece);
    });
    g.addEventListener("pointerdown", (e) => {
      g.focus();
      g.setPointerCapture(e.pointerId);
      const at = this.local(e);
      this.held = { piece, from: [piece.x, piece.y], grip: [at.x - piece.x, at.y - piece.y] };
      e.preventDefault();
    });
    g.addEventListener("pointermove", (e) => {
      if (this.held?.piece !== piece) return;
      const at = this.local(e);
      this.move(piece, at.x - this.held.grip[0], at.y - this.held.grip[1], true);
    });
    for (const kind of ["pointerup", "pointercancel"])
      g.addEventListener(kind, () => {
        if (this.held?.piece === piece) this.drop(piece, ...this.held.from);
        this.held = null;
      });
    g.addEventListener("keydown", (e) => this.key(piece, e));
  }

  /** The screen has the media lying: right is along it, up is across it. */
  key(piece, e) {
    if (e.ctrlKey || e.altKey || e.metaKey) return;
    const step = e.shiftKey ? 10 : 1;
    const ways = {
      ArrowRight: [0, step],
      ArrowLeft: [0, -step],
      ArrowUp: [step, 0],
      ArrowDown: [-step, 0],
    };
    const from = [piece.x, piece.y, piece.turned];
    if (ways[e.key]) this.move(piece, piece.x + ways[e.key][0], piece.y + ways[e.key][1], false);
    else if (e.key === "t" && piece.mayTurn && mayAct(e)) this.turn(piece);
    else return;
    e.preventDefault();
    if (this.clash(piece)) {
      if (piece.turned !== from[2]) piece.turn();
      piece.put(from[0], from[1]);
      this.say("Something else lies there.");
    } else this.later();
    this.figures();
  }

  turn(piece) {
    piece.turn();
    this.move(piece, piece.x, piece.y, false);
  }

  local(e) {
    return new DOMPoint(e.clientX, e.clientY).matrixTransform(this.space.getScreenCTM().inverse());
  }

  /** Move a piece inside the media, to the nearest edge or gap where it `snaps`. */
  move(piece, x, y, snaps) {
    const { edge, around, advance, width } = this.facts;
    const own = piece.isStrip ? 0 : around;
    const low = [edge + own, advance + edge + own];
    const high = width - edge - own - piece.width;
    const near = SNAP_PIXELS / this.space.getScreenCTM().b / -1 || 5;
    let [left, top] = [x, y];
    if (snaps) {
      left = this.snapped(piece, x, 0, [low[0], high], Math.abs(near));
      top = this.snapped(piece, y, 1, [low[1]], Math.abs(near));
    }
    piece.put(Math.min(Math.max(left, low[0]), Math.max(high, low[0])), Math.max(top, low[1]));
    piece.g.classList.toggle("clash", this.clash(piece));
    this.figures();
    this.place(piece);
  }

  snapped(piece, value, axis, ends, near) {
    const size = axis ? piece.height : piece.width;
    const own = piece.isStrip ? 0 : this.facts.around;
    const places = [...ends];
    for (const other of this.pieces) {
      if (other === piece) continue;
      const [low, high] = other.span(axis, this.facts.gap);
      places.push(high + own, low - size - own, other.at(axis), other.at(axis) + other.size(axis) - size);
    }
    let best = value;
    for (const place of places)
      if (Math.abs(place - value) < Math.min(near, Math.abs(best - value) || near)) best = place;
    return best;
  }

  clash(piece) {
    const gap = this.facts.gap - 1e-3;
    return this.pieces.some((other) => other !== piece && piece.near(other, gap));
  }

  drop(piece, x, y) {
    piece.g.classList.remove("clash");
    if (piece.x === x && piece.y === y) return;
    if (this.clash(piece)) {
      piece.put(x, y);
      this.say("Something else lies there; it went back.");
      this.figures();
    } else this.keep();
  }

  figures() {
    const end = Math.max(...this.pieces.map((p) => p.y + p.height));
    const length = end + this.facts.tail;
    const area = this.pieces.reduce((sum, p) => sum + (p.isStrip ? 0 : p.width * p.height), 0);
    this.box.querySelector("[data-run-length]").textContent = (length / 1000).toFixed(3);
    const share = (100 * area) / (length * this.facts.width);
    this.box.querySelector("[data-run-share]").textContent = `${share.toFixed(1)} %`;
  }

  place(piece) {
    this.say(`${piece.title}: ${piece.x.toFixed(1)} mm across, ${piece.y.toFixed(1)} mm along.`);
  }

  say(words) {
    if (this.said) this.said.textContent = words;
  }

  /** Whether something is in hand, or was moved and is not sent yet. */
  get isBusy() {
    return this.box.isConnected && Boolean(this.held || this.waiting);
  }

  later() {
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.keep(), KEPT_AFTER);
  }

  keep() {
    clearTimeout(this.waiting);
    this.waiting = null;
    const places = this.pieces.map((p) => p.values());
    window.htmx.ajax("POST", this.box.dataset.places, {
      target: "#run",
      swap: "innerHTML",
      values: {
        csrfmiddlewaretoken: document.querySelector("[name=csrfmiddlewaretoken]").value,
        version: this.box.dataset.version,
        places: JSON.stringify(places),
      },
    });
  }
}

class Piece {
  constructor(g, around) {
    this.g = g;
    this.id = g.dataset.piece;
    this.copy = Number(g.dataset.copy);
    this.isStrip = this.id === "strip";
    this.around = this.isStrip ? 0 : around;
    for (const name of ["x", "y", "width", "height"]) this[name] = Number(g.dataset[name]);
    this.turned = g.dataset.turned === "1";
    this.first = { turned: this.turned, width: this.width, height: this.height };
    this.mayTurn = "turn" in g.dataset;
    this.title = g.querySelector("title").textContent;
  }

  get key() {
    return `${this.id} ${this.copy}`;
  }

  at(axis) {
    return axis ? this.y : this.x;
  }

  size(axis) {
    return axis ? this.height : this.width;
  }

  /** Where it begins and ends with its hem, marks and the gap. */
  span(axis, gap) {
    const more = this.around + gap;
    return [this.at(axis) - more, this.at(axis) + this.size(axis) + more];
  }

  near(other, gap) {
    return [0, 1].every((axis) => {
      const [low, high] = this.span(axis, 0);
      const [theirs, end] = other.span(axis, gap);
      return low < end && high > theirs;
    });
  }

  put(x, y) {
    this.x = x;
    this.y = y;
    const turn = this.turned === this.first.turned ? "" : ` translate(${this.width} 0) rotate(90)`;
    this.g.setAttribute("transform", `translate(${x} ${y})${turn}`);
  }

  turn() {
    this.turned = !this.turned;
    [this.width, this.height] = [this.height, this.width];
  }

  values() {
    return {
      id: this.id,
      copy: this.copy,
      x: this.x,
      y: this.y,
      width: this.width,
      height: this.height,
      turned: this.turned,
    };
  }
}

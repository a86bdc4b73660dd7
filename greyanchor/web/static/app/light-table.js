// The picture on the light table: tiles in levels, moved and enlarged by pointer, wheel and keys; what is
// shown, the loupe, and a rectangle.
import { mayAct } from "./keys.js";

const KEPT = 220;

export function watchLightTable(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  new LightTable(box);
}

class LightTable {
  constructor(box) {
    this.box = box;
    this.size = [Number(box.dataset.width), Number(box.dataset.height)];
    this.tile = Number(box.dataset.tile);
    this.levels = Number(box.dataset.levels);
    this.view = box.dataset.view;
    this.ink = box.dataset.ink;
    this.facts = JSON.parse(document.getElementById("page-facts").textContent);
    this.crop = JSON.parse(document.getElementById("page-crop").textContent);
    this.at = [0.5, 0.5];
    this.images = new Map();
    this.marks = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    this.marks.setAttribute("aria-hidden", "true");
    box.append(this.marks);
    this.place = document.querySelector("[data-place]");
    this.listen();
    this.fit();
    new ResizeObserver(() => this.draw()).observe(box);
    document.addEventListener("htmx:afterSettle", () => this.mark());
  }

  listen() {
    const { box } = this;
    box.addEventListener("wheel", (e) => {
      e.preventDefault();
      this.zoom(e.deltaY < 0 ? 1.25 : 0.8, this.local(e));
    });
    box.addEventListener("pointerdown", (e) => this.press(e));
    box.addEventListener("pointermove", (e) => this.move(e));
    box.addEventListener("pointerup", () => this.release());
    box.addEventListener("keydown", (e) => this.key(e));
    document.addEventListener("keydown", (e) => {
      if (mayAct(e) && e.target !== box) this.key(e);
    });
    for (const radio of document.querySelectorAll("input[name=shown]"))
      radio.addEventListener("change", () => this.show(radio.value));
    const inks = document.querySelector(".ink-choice");
    inks?.addEventListener("change", () => {
      this.ink = inks.value;
      this.show("plane");
    });
    document.querySelector("[data-nudge]")?.addEventListener("input", () => {
      clearTimeout(this.nudging);
      this.nudging = setTimeout(() => this.nudge(), 250);
    });
    for (const button of document.querySelectorAll("[data-zoom]"))
      button.addEventListener("click", () => this.act(button.dataset.zoom));
    document.querySelector("[data-loupe-switch]")?.addEventListener("click", () => this.switchLoupe());
    document.querySelector("[data-rectangle]")?.addEventListener("click", () => this.switchRectangle());
  }

  /** What a key does while the picture, or nothing, has the focus. */
  key(e) {
    const step = 60 / this.scale;
    const ways = {
      ArrowLeft: [-step, 0],
      ArrowRight: [step, 0],
      ArrowUp: [0, -step],
      ArrowDown: [0, step],
    };
    const radios = document.querySelectorAll("input[name=shown]");
    const radio = radios[Number(e.key) - 1];
    if (ways[e.key] && e.target === this.box) {
      if (this.cutting && e.shiftKey) this.stretch(ways[e.key]);
      else if (this.loupe && e.shiftKey)
        this.look([this.at[0] + ways[e.key][0] / this.size[0], this.at[1] + ways[e.key][1] / this.size[1]]);
      else this.pan(ways[e.key]);
    } else if (e.key === "+" || e.key === "=") this.act("in");
    else if (e.key === "-") this.act("out");
    else if (e.key === "0") this.act("all");
    else if (e.key === "l") this.switchLoupe();
    else if (e.key === "r") this.switchRectangle();
    else if (e.key === "n") document.querySelector("[data-nearest]:not([hidden])")?.click();
    else if (e.key === "u") document.querySelector("button[data-key=u]:not([disabled])")?.click();
    else if (radio && !e.ctrlKey && !e.altKey && !e.metaKey) {
      radio.checked = true;
      this.show(radio.value);
    } else return;
    e.preventDefault();
  }

  act(what) {
    if (what === "all") this.fit();
    else this.zoom(what === "in" ? 1.5 : 1 / 1.5, [this.box.clientWidth / 2, this.box.clientHeight / 2]);
  }

  local(e) {
    const area = this.box.getBoundingClientRect();
    return [e.clientX - area.left, e.clientY - area.top];
  }

  /** The place of a point of the window, in shares of the page. */
  share([x, y]) {
    return [(this.left + x / this.scale) / this.size[0], (this.top + y / this.scale) / this.size[1]];
  }

  fit() {
    const [w, h] = [this.box.clientWidth, this.box.clientHeight];
    this.scale = 0.94 * Math.min(w / this.size[0], h / this.size[1]);
    this.left = this.size[0] / 2 - w / 2 / this.scale;
    this.top = this.size[1] / 2 - h / 2 / this.scale;
    this.draw();
  }

  zoom(by, [x, y]) {
    const most = 12;
    const scale = Math.min(Math.max(this.scale * by, 20 / Math.max(...this.size)), most);
    this.left += x / this.scale - x / scale;
    this.top += y / this.scale - y / scale;
    this.scale = scale;
    this.draw();
  }

  pan([dx, dy]) {
    this.left += dx;
    this.top += dy;
    this.draw();
  }

  press(e) {
    this.box.focus();
    this.box.setPointerCapture(e.pointerId);
    this.held = this.local(e);
    if (this.cutting) this.start = this.share(this.held);
  }

  move(e) {
    const now = this.local(e);
    const place = this.share(now);
    if (this.held && this.cutting) this.cut(this.start, place);
    else if (this.held) {
      this.pan([(this.held[0] - now[0]) / this.scale, (this.held[1] - now[1]) / this.scale]);
      this.held = now;
    } else if (this.loupe) this.look(place);
  }

  release() {
    this.held = null;
  }

  show(view) {
    this.view = view;
    const address = new URL(location.href);
    address.searchParams.set("view", view);
    if (view === "plane") address.searchParams.set("ink", this.ink);
    history.replaceState(history.state, "", address);
    for (const field of document.querySelectorAll("input[type=hidden][name=view]")) field.value = view;
    const inks = document.querySelector(".ink-choice");
    if (inks) inks.hidden = view !== "plane";
    this.draw();
  }

  /** Shows what a nudge would do while it is being typed; the job has it once it is set. */
  nudge() {
    const fields = document.querySelectorAll("[data-nudge] input[data-number]");
    this.tried = new URLSearchParams([...fields].map((f) => [f.name, f.value])).toString();
    this.draw();
  }

  /** Tiles of the level that fits the scale, over what is there of others until they come. */
  draw() {
    const level = Math.min(Math.max(Math.floor(Math.log2(1 / this.scale)), 0), this.levels - 1);
    const span = this.tile * 2 ** level;
    const [w, h] = [this.box.clientWidth / this.scale, this.box.clientHeight / this.scale];
    const wanted = new Set();
    const across = [
      Math.max(Math.floor(this.left / span), 0),
      Math.min(Math.floor((this.left + w) / span), Math.ceil(this.size[0] / span) - 1),
    ];
    const down = [
      Math.max(Math.floor(this.top / span), 0),
      Math.min(Math.floor((this.top + h) / span), Math.ceil(this.size[1] / span) - 1),
    ];
    for (let y = down[0]; y <= down[1]; y++)
      for (let x = across[0]; x <= across[1]; x++) wanted.add(this.image(level, x, y));
    for (const [key, image] of this.images) {
      const [, l] = image.where;
      if (!wanted.has(image) && (this.images.size > KEPT || l < level || image.view !== this.shown)) {
        const settled = [...wanted].every((i) => i.complete);
        if (settled || this.images.size > KEPT) {
          image.remove();
          this.images.delete(key);
          continue;
        }
      }
      this.lay(image);
    }
    this.mark();
    this.say();
  }

  get shown() {
    return `${this.view}-${this.view === "plane" ? this.ink : ""}-${this.tried ?? ""}`;
  }

  image(level, x, y) {
    const key = `${this.shown}/${level}/${x}/${y}`;
    let image = this.images.get(key);
    if (image) return image;
    image = new Image();
    image.alt = "";
    image.where = [key, level, x, y];
    image.view = this.shown;
    image.addEventListener("load", () => this.draw());
    const kind = this.view;
    const address = this.box.dataset.tiles.replace("kind/0/0/0", `${kind}/${level}/${x}/${y}`);
    const ink = kind === "plane" ? `&ink=${encodeURIComponent(this.ink)}` : "";
    const tried = this.tried ? `&${this.tried}` : "";
    image.src = `${address}?v=${this.box.dataset.stamp}${ink}${tried}`;
    this.images.set(key, image);
    this.box.insertBefore(image, this.marks);
    return image;
  }

  lay(image) {
    const [, level, x, y] = image.where;
    const each = 2 ** level;
    const px = this.scale * each;
    image.style.left = `${(x * this.tile * each - this.left) * this.scale}px`;
    image.style.top = `${(y * this.tile * each - this.top) * this.scale}px`;
    image.style.width = `${(image.naturalWidth || this.tile) * px + 0.5}px`;
    image.style.height = `${(image.naturalHeight || this.tile) * px + 0.5}px`;
    image.style.zIndex = String(this.levels - level);
    image.classList.toggle("near", px > 2);
  }

  /** Lines over the picture: contours, pictures and their resolution, the part, the rectangle. */
  mark() {
    this.marks.replaceChildren();
    this.marks.style.zIndex = String(this.levels + 2);
    if (this.crop) this.outline(this.crop);
    if (this.piece) this.outline(this.piece);
    if (this.view === "difference")
      for (const [i, row] of document.querySelectorAll("[data-places]").entries())
        for (const place of JSON.parse(row.dataset.places)) {
          this.outline(place);
          this.label(place, String(i + 1));
        }
    if (this.view === "contours")
      for (const lines of Object.values(this.facts.contours ?? {}))
        for (const line of lines) this.line(line.map((p) => this.onScreen(p)));
    if (this.view === "resolution") {
      const larger = Number(this.box.dataset.mm) / this.facts.width_mm || 1;
      for (const [l, t, w, h, ppi] of this.facts.pictures ?? []) {
        this.outline([l, t, w, h]);
        this.label([l, t], `${Math.round(ppi / larger)} ppi`);
      }
    }
  }

  /** A word at the top left of a rectangle. */
  label([l, t], words) {
    const text = document.createElementNS("http://www.w3.org/2000/svg", "text");
    const [x, y] = this.onScreen([l, t]).map((v) => Math.max(v, 0));
    const taken = [...this.marks.querySelectorAll("text")].map((o) =>
      ["x", "y"].map((k) => +o.getAttribute(k)),
    );
    let across = x + 6;
    while (taken.some(([u, v]) => Math.abs(u - across) < 16 && Math.abs(v - y - 18) < 16)) across += 4;
    text.setAttribute("x", across);
    text.setAttribute("y", y + 18);
    text.textContent = words;
    this.marks.append(text);
  }

  onScreen([u, v]) {
    return [(u * this.size[0] - this.left) * this.scale, (v * this.size[1] - this.top) * this.scale];
  }

  outline([l, t, w, h]) {
    const corners = [
      [l, t],
      [l + w, t],
      [l + w, t + h],
      [l, t + h],
      [l, t],
    ];
    this.line(corners.map((p) => this.onScreen(p)));
  }

  line(points) {
    for (let i = 0; i < 2; i++) {
      const path = document.createElementNS("http://www.w3.org/2000/svg", "polyline");
      path.setAttribute("class", "outline");
      path.setAttribute("points", points.map((p) => p.map((n) => n.toFixed(1)).join(",")).join(" "));
      this.marks.append(path);
    }
  }

  switchRectangle() {
    this.cutting = !this.cutting;
    this.box.classList.toggle("cutting", this.cutting);
    document.querySelector("[data-rectangle]")?.setAttribute("aria-pressed", this.cutting);
    if (this.cutting && !this.piece) {
      const [a, b] = [
        this.share([this.box.clientWidth * 0.35, this.box.clientHeight * 0.35]),
        this.share([this.box.clientWidth * 0.65, this.box.clientHeight * 0.65]),
      ];
      this.cut(a, b);
    } else if (!this.cutting) {
      this.piece = null;
      document.getElementById("piece-form").hidden = true;
      this.draw();
    }
  }

  stretch([dx, dy]) {
    const [l, t, w, h] = this.piece;
    this.cut([l, t], [l + w + dx / this.size[0], t + h + dy / this.size[1]]);
  }

  cut(a, b) {
    const hold = (v) => Math.min(Math.max(v, 0), 1);
    const [l, r] = [hold(Math.min(a[0], b[0])), hold(Math.max(a[0], b[0]))];
    const [t, d] = [hold(Math.min(a[1], b[1])), hold(Math.max(a[1], b[1]))];
    if (r - l < 0.002 || d - t < 0.002) return;
    this.piece = [l, t, r - l, d - t];
    const form = document.getElementById("piece-form");
    form.hidden = false;
    const mm = Number(this.box.dataset.mm);
    const tall = (mm * this.size[1]) / this.size[0];
    for (const [i, name] of ["left", "top", "wide", "tall"].entries())
      form.elements[name].value = this.piece[i].toFixed(6);
    form.querySelector("[data-rectangle-size]").textContent =
      `${(this.piece[2] * mm).toFixed(1)} × ${(this.piece[3] * tall).toFixed(1)} mm`;
    this.draw();
  }

  switchLoupe() {
    const button = document.querySelector("[data-loupe-switch]");
    if (!button) return;
    if (this.loupe) {
      this.loupe.remove();
      this.loupe = null;
    } else {
      this.loupe = document.createElement("div");
      this.loupe.className = "loupe-window";
      this.loupe.innerHTML = '<img alt="A square centimetre of the print, with its dots"><p></p>';
      this.loupe.style.zIndex = String(this.levels + 3);
      this.box.append(this.loupe);
      this.look(this.at);
    }
    button.setAttribute("aria-pressed", Boolean(this.loupe));
    const nearest = document.querySelector("[data-nearest]");
    if (nearest) nearest.hidden = !this.loupe;
  }

  look(place) {
    this.at = place.map((v) => Math.min(Math.max(v, 0), 1));
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => {
      if (!this.loupe) return;
      const [x, y] = this.at.map((v) => v.toFixed(5));
      this.loupe.querySelector("img").src =
        `${this.box.dataset.loupe}?x=${x}&y=${y}&v=${this.box.dataset.stamp}`;
      const nearest = document.querySelector("[data-nearest]");
      if (nearest) nearest.search = `x=${x}&y=${y}`;
      this.loupe.querySelector("p").textContent =
        `10 × 10 mm, ${(100 * x).toFixed(1)} % from the left, ${(100 * y).toFixed(1)} % from the top`;
    }, 120);
  }

  say() {
    if (!this.place) return;
    const mm = Number(this.box.dataset.mm);
    const shown = (this.box.clientWidth / this.scale / this.size[0]) * mm;
    this.place.textContent = `${shown.toFixed(shown < 100 ? 1 : 0)} mm across`;
  }
}

/** Files dropped anywhere on a page that takes them in. */
export function watchDrops(form) {
  if (form.dataset.ready) return;
  form.dataset.ready = "1";
  const field = form.querySelector("input[type=file]");
  document.addEventListener("dragover", (e) => {
    if (![...(e.dataTransfer?.types ?? [])].includes("Files")) return;
    e.preventDefault();
    form.classList.add("over");
  });
  document.addEventListener("dragleave", () => form.classList.remove("over"));
  document.addEventListener("drop", (e) => {
    if (!e.dataTransfer?.files.length) return;
    e.preventDefault();
    field.files = e.dataTransfer.files;
    form.requestSubmit();
  });
}

/** The figures of the foot bar come with the outcome. */
export function showFoot(root) {
  const from = root.querySelector?.("[data-foot]") ?? document.querySelector("[data-foot]");
  const foot = document.getElementById("foot-figures");
  if (from && foot) foot.textContent = from.dataset.foot;
}

// Methods against noise side by side: the same piece at the same scale, moved together, picked by a key.
import { get } from "./api.js";
import { byId, el } from "./dom.js";
import { trying } from "./shell.js";
import { t, worded } from "./texts.js";

const NAMES = { none: t`As it was taken`, quick: t`Quick`, fine: t`Fine`, learned: t`Learned` };

export class Compare {
  // bench: {frame() the frame's id and name, pick(method), current() the method that is chosen}
  constructor(bench) {
    this.bench = bench;
    this.dialog = byId("compare");
    this.panes = byId("compare-panes");
    this.scale = 1;
    byId("compare-methods").addEventListener("click", () => this.open());
    byId("compare-dark").addEventListener("click", () => {
      [this.x, this.y] = this.first;
      this.load();
    });
    for (const b of this.dialog.querySelectorAll("[data-scale]")) b.addEventListener("click", () => this.zoom(Number(b.dataset.scale)));
    this.dialog.addEventListener("keydown", (event) => this.key(event));
    this.panes.addEventListener("pointerdown", (event) => this.drag(event));
    this.dialog.addEventListener("close", () => this.panes.replaceChildren());
  }

  async open() {
    const frame = this.bench.frame();
    const found = await trying(() => get(`/api/frames/${frame.id}/telling`));
    if (!found) return;
    Object.assign(this, { x: found.x, y: found.y, first: [found.x, found.y], full: found.full, methods: found.methods, id: frame.id });
    byId("compare-about").textContent = t`${frame.name}. Drag to another place; keys 1 to ${found.methods.length} pick.`;
    this.panes.style.gridTemplateColumns = found.methods.length > 1 ? "1fr 1fr" : "1fr";
    this.panes.replaceChildren(
      ...found.methods.map((method, n) =>
        el(
          "figure",
          { class: "compare-pane relative m-0 min-w-0 min-h-0 overflow-hidden bg-surround", "data-method": method },
          el("img", { alt: NAMES[method], draggable: "false", hidden: true }),
          el("figcaption", {}, el("kbd", { text: String(n + 1) }), el("button", { type: "button", text: NAMES[method], "aria-pressed": String(method === this.bench.current()), onclick: () => this.pick(method) }), el("span", { class: "dim" })),
        ),
      ),
    );
    this.dialog.showModal();
    this.load();
  }

  // One piece after the other, quickest method first; a newer wish ends the older one.
  async load() {
    const wish = (this.wish = Symbol());
    for (const pane of this.panes.children) pane.classList.add("waits");
    for (const pane of [...this.panes.children]) {
      const box = pane.querySelector("img").parentElement.getBoundingClientRect();
      const w = Math.max(64, Math.min(1600, Math.round(box.width / this.scale)));
      const h = Math.max(64, Math.min(1600, Math.round(box.height / this.scale)));
      this.shown = [w, h];
      const began = performance.now();
      const url = `/api/frames/${this.id}/piece?method=${pane.dataset.method}&x=${this.x.toFixed(5)}&y=${this.y.toFixed(5)}&w=${w}&h=${h}`;
      const data = await trying(async () => {
        const answer = await fetch(url);
        if (!answer.ok) throw new Error(worded((await answer.json()).error));
        return answer.blob();
      });
      if (wish !== this.wish || !data) return;
      const image = pane.querySelector("img");
      URL.revokeObjectURL(image.src);
      image.src = URL.createObjectURL(data);
      image.hidden = false;
      image.style.width = `${w * this.scale}px`;
      pane.classList.remove("waits");
      pane.querySelector(".dim").textContent = t`${((performance.now() - began) / 1000).toFixed(1)} s for this piece`;
    }
  }

  zoom(scale) {
    this.scale = scale;
    for (const b of this.dialog.querySelectorAll("[data-scale]")) b.setAttribute("aria-pressed", Number(b.dataset.scale) === scale);
    this.load();
  }

  drag(event) {
    if (event.target.closest("button")) return;
    const from = [event.clientX, event.clientY];
    const images = [...this.panes.querySelectorAll("img")];
    const shift = (e) => [e.clientX - from[0], e.clientY - from[1]];
    const move = (e) => {
      const [dx, dy] = shift(e);
      for (const image of images) image.style.transform = `translate(${dx}px, ${dy}px)`;
    };
    const up = (e) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      const [dx, dy] = shift(e);
      for (const image of images) image.style.transform = "";
      if (Math.abs(dx) + Math.abs(dy) > 3) this.by(-dx / this.scale, -dy / this.scale);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  }

  // Moves by px of the picture, as far as there is picture.
  by(dx, dy) {
    const inside = (at, px, size, shown) => Math.min(1 - shown / 2 / size, Math.max(shown / 2 / size, at + px / size));
    this.x = inside(this.x, dx, this.full[0], Math.min(this.full[0], this.shown[0]));
    this.y = inside(this.y, dy, this.full[1], Math.min(this.full[1], this.shown[1]));
    this.load();
  }

  key(event) {
    const method = this.methods[Number(event.key) - 1];
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (method) this.pick(method);
    else if (step) this.by(step[0] * this.shown[0] * 0.5, step[1] * this.shown[1] * 0.5);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  pick(method) {
    this.dialog.close();
    this.bench.pick(method);
  }
}

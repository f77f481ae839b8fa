// The histogram can be dragged: its five parts stand for black point, shadows, exposure, highlights and white point.
import { byId, el, number } from "../dom.js";
import { t } from "../texts.js";

const PARTS = [
  ["light.black_point", 0.08, t`black point`],
  ["light.shadows", 0.32, t`shadows`],
  ["light.exposure", 0.68, t`exposure`],
  ["light.highlights", 0.92, t`highlights`],
  ["light.white_point", 1.01, t`white point`],
];

export class ScopeDrag {
  // with: {shown(key), table, move(key, value), set(key, value), giveUp(key)}
  constructor(bench) {
    this.canvas = byId("histogram").querySelector("canvas");
    this.mark = el("div", { class: "scope-part", hidden: true });
    this.canvas.after(this.mark);
    this.bench = bench;
    this.canvas.addEventListener("pointermove", (event) => this.move(event));
    this.canvas.addEventListener("pointerleave", () => !this.held && (this.mark.hidden = true));
    this.canvas.addEventListener("pointerdown", (event) => this.begin(event));
    this.canvas.addEventListener("dblclick", (event) => bench.giveUp(this.part(event)[0]));
    for (const kind of ["pointerup", "pointercancel"]) this.canvas.addEventListener(kind, () => this.end());
  }

  share(event) {
    const box = this.canvas.getBoundingClientRect();
    return (event.clientX - box.left) / box.width;
  }

  part(event) {
    return PARTS.find(([, end]) => this.share(event) < end) || PARTS.at(-1);
  }

  // Which part, where it lies and what it is at: so that one sees which control moves.
  show([key, end, name]) {
    const at = PARTS.findIndex(([k]) => k === key);
    const from = at ? PARTS[at - 1][1] : 0;
    const about = this.bench.table[key];
    const value = this.bench.shown(key);
    this.mark.hidden = false;
    this.mark.style.left = `calc(8px + (100% - 16px) * ${from})`;
    this.mark.style.width = `calc((100% - 16px) * ${Math.min(end, 1) - from})`;
    this.mark.dataset.side = from > 0.6 ? "right" : "left";
    this.mark.textContent = `${name} ${value > 0 ? "+" : ""}${number(value, about.step < 1 ? 2 : 0)} ${about.unit}`;
  }

  begin(event) {
    if (event.button) return;
    const part = this.part(event);
    this.held = { part, from: event.clientX, value: this.bench.shown(part[0]), moved: false };
    this.canvas.setPointerCapture(event.pointerId);
  }

  move(event) {
    if (!this.held) return this.show(this.part(event));
    const [key] = this.held.part;
    const about = this.bench.table[key];
    const across = (event.clientX - this.held.from) / this.canvas.clientWidth;
    // The width of the histogram is two fifths of the range of exposure, and the whole of the others.
    const value = this.held.value + across * (about.max - about.min) * (key === "light.exposure" ? 0.4 : 1);
    this.held.now = Math.min(about.max, Math.max(about.min, Math.round(value / about.step) * about.step));
    this.held.moved ||= Math.abs(event.clientX - this.held.from) > 2;
    if (this.held.moved) this.bench.move(key, Number(this.held.now.toFixed(4)));
    return this.show(this.held.part);
  }

  end() {
    const { held } = this;
    this.held = null;
    if (held?.moved) this.bench.set(held.part[0], Number(held.now.toFixed(4)));
  }
}

// Levels: handles for black, middle and white under the histogram, of the channels whose tab is open; and their automatic ends.
import { post } from "../api.js";
import { byId, svg } from "../dom.js";
import { trying } from "../shell.js";
import { state } from "./state.js";

const WIDTH = 1000;
const FILLS = { All: ["#000", "#808080", "#fff"], Red: ["#300", "#a33", "#f77"], Green: ["#030", "#383", "#7d7"], Blue: ["#003", "#35a", "#8af"] };

export class LevelHandles {
  // bench: {shown(key), move(values), edit(values)}
  constructor(bench) {
    this.bench = bench;
    this.root = byId("level-handles");
    this.drawing = svg("svg", { viewBox: `-20 0 ${WIDTH + 40} 14`, preserveAspectRatio: "none", class: "h-3.5 w-full", "aria-hidden": "true" });
    this.root.append(this.drawing);
    this.handles = ["black", "middle", "white"].map(() => svg("rect", { width: 28, height: 14, stroke: "#e4e4e4", "stroke-width": 1.5, "vector-effect": "non-scaling-stroke", class: "cursor-ew-resize" }));
    this.drawing.append(...this.handles);
    this.handles.forEach((handle, n) => {
      handle.addEventListener("pointerdown", (event) => {
        handle.setPointerCapture(event.pointerId);
        this.held = n;
      });
      handle.addEventListener("pointermove", (event) => this.held === n && this.drag(event));
      for (const kind of ["pointerup", "pointercancel"]) handle.addEventListener(kind, () => this.drop());
    });
    byId("levels-auto").addEventListener("click", () => this.automatic());
  }

  get channel() {
    return document.querySelector('.group[data-group="levels"] [role=tab][aria-selected="true"]')?.dataset.tab || "All";
  }

  key(name) {
    return this.channel === "All" ? `levels.${name}` : `levels.${this.channel.toLowerCase()}_${name}`;
  }

  values() {
    return ["black", "middle", "white"].map((name) => this.bench.shown(this.key(name)));
  }

  draw() {
    this.root.hidden = state.group !== "levels" || !state.frame;
    if (this.root.hidden) return;
    const [black, middle, white] = this.values();
    const at = [black, black + ((white - black) * middle) / 100, white];
    this.handles.forEach((handle, n) => {
      handle.setAttribute("x", at[n] * 10 - 14);
      handle.setAttribute("fill", FILLS[this.channel][n]);
    });
  }

  drag(event) {
    const box = this.drawing.getBoundingClientRect();
    const at = Math.min(100, Math.max(0, ((event.clientX - box.left) / box.width) * ((100 * (WIDTH + 40)) / WIDTH) - 2));
    const [black, , white] = this.values();
    const value = [Math.min(at, white - 2), Math.min(95, Math.max(5, (100 * (at - black)) / (white - black))), Math.max(at, black + 2)][this.held];
    this.now = { [this.key(["black", "middle", "white"][this.held])]: Math.round(value * 2) / 2 };
    this.bench.move(this.now);
  }

  drop() {
    this.held = null;
    if (this.now) this.bench.edit(this.now);
    this.now = null;
  }

  async automatic() {
    const share = Number(byId("levels-share").value.replace(",", "."));
    const found = await trying(() => post(`/api/frames/${state.frame.id}/levels`, { channel: this.channel.toLowerCase(), share }));
    if (found) await this.bench.edit(found.values);
  }
}

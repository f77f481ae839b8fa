// The chosen corner of an outline: how soft the edge is there, whether it is curved; by number or by its ring on the picture.
import { byId, number } from "../dom.js";
import { t } from "../texts.js";

const SOFTEST = 0.1;

export class Corner {
  // areas: {shapes(), parts, changePart(values, final)}
  constructor(areas) {
    this.areas = areas;
    this.chosen = null; // which one of the chosen outline
    byId("corner-softness").addEventListener("input", (event) => this.soften(event.target.value / 1000, false));
    byId("corner-softness").addEventListener("change", (event) => this.soften(event.target.value / 1000, true));
    byId("corner-curved").addEventListener("change", (event) => this.set({ curved: event.target.checked }));
    byId("corner-as-all").addEventListener("click", () => this.set({ softness: undefined }));
    byId("corner-remove").addEventListener("click", () => {
      const points = this.points().toSpliced(this.chosen, 1);
      this.chosen = null;
      areas.changePart({ points });
    });
    byId("corner-before").addEventListener("click", () => this.step(-1));
    byId("corner-next").addEventListener("click", () => this.step(1));
  }

  shape() {
    const shape = this.areas.shapes()[this.areas.parts.chosen];
    return shape?.kind === "outline" ? shape : null;
  }

  points() {
    return structuredClone(this.shape()?.points || []);
  }

  one() {
    return this.shape()?.points[this.chosen] || null;
  }

  step(by) {
    const count = this.points().length;
    this.choose(this.chosen === null ? (by > 0 ? 0 : count - 1) : (this.chosen + by + count) % count);
  }

  choose(n) {
    this.chosen = n;
    this.fill();
    this.areas.bench.picture.draw();
  }

  set(values, final = true) {
    const points = this.points();
    const point = { ...points[this.chosen], ...values };
    if (point.softness === undefined) delete point.softness;
    points[this.chosen] = point;
    this.areas.changePart({ points }, final);
  }

  soften(softness, final) {
    this.set({ softness: Number(Math.min(Math.max(softness, 0), 0.5).toFixed(5)) }, final);
    this.text(softness);
  }

  text(softness) {
    byId("corner-softness-text").textContent = `${number(softness * 1000, 0)} ‰`;
  }

  fill() {
    const shape = this.shape();
    byId("part-corner").hidden = !shape || this.areas.followed();
    if (!shape) return;
    if (this.chosen !== null && this.chosen >= shape.points.length) this.chosen = null;
    const point = this.one();
    byId("corner-number").textContent = point ? t`${this.chosen + 1} of ${shape.points.length}` : t`none is chosen`;
    byId("corner-one").hidden = !point;
    if (!point) return;
    const softness = point.softness ?? shape.softness ?? 0.004;
    byId("corner-softness").value = Math.min(softness, SOFTEST) * 1000;
    this.text(softness);
    byId("corner-curved").checked = Boolean(point.curved);
    byId("corner-as-all").disabled = point.softness === undefined || point.softness === null;
    byId("corner-remove").disabled = shape.points.length <= 3;
  }

  // Its ring: where the edge has become nothing, outwards from the middle.
  handle(shape) {
    const point = shape.points[this.chosen];
    if (!point) return null;
    const middle = [0, 1].map((k) => shape.points.reduce((sum, p) => sum + p.at[k], 0) / shape.points.length);
    const way = [point.at[0] - middle[0], point.at[1] - middle[1]];
    const far = Math.hypot(...way) || 1;
    // A little off even where it is hard, so that it can be taken.
    const by = (point.softness ?? shape.softness ?? 0.004) + 0.012;
    return { what: "soft", n: this.chosen, at: [point.at[0] + (way[0] / far) * by, point.at[1] + (way[1] / far) * by] };
  }
}

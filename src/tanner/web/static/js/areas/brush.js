// The brush: painted in the page at once, kept as a stroke when the pointer is lifted.
import { byId, number } from "../dom.js";
import { simpler, written } from "./geometry.js";
import { t } from "../texts.js";

const KEEP = "tanner.brush";

export class BrushTool {
  // areas: the panel, for places, tint and what becomes of a stroke
  constructor(areas) {
    this.areas = areas;
    this.set = { size: 0.03, softness: 0.5, flow: 1, strength: 1, alike: 0, erase: false, ...JSON.parse(sessionStorage.getItem(KEEP) || "{}") };
    this.points = null;
    this.at = null;
    for (const name of ["size", "softness", "flow", "strength", "alike"]) {
      byId(`brush-${name}`).addEventListener("input", (event) => this.change({ [name]: this.from(name, Number(event.target.value)) }));
    }
    byId("brush-erase").addEventListener("change", (event) => this.change({ erase: event.target.checked }));
    this.show();
  }

  // Sizes are told in shares of the long edge, evenly spread over the eye's own scale.
  from(name, value) {
    return name === "size" ? Number((0.001 * 400 ** (value / 100)).toFixed(5)) : value / 100;
  }

  to(name) {
    return name === "size" ? (100 * Math.log(this.set.size / 0.001)) / Math.log(400) : this.set[name] * 100;
  }

  change(values) {
    Object.assign(this.set, values);
    this.set.size = Math.min(0.4, Math.max(0.001, this.set.size));
    this.set.softness = Math.min(1, Math.max(0, this.set.softness));
    sessionStorage.setItem(KEEP, JSON.stringify({ ...this.set, erase: false }));
    this.show();
    this.areas.bench.picture.draw();
  }

  show() {
    for (const name of ["size", "softness", "flow", "strength", "alike"]) {
      byId(`brush-${name}`).value = this.to(name);
      byId(`brush-${name}-text`).textContent = name === "size" ? `${number(this.set.size * 1000, this.set.size < 0.02 ? 1 : 0)} ‰` : name === "alike" && !this.set.alike ? t`off` : `${Math.round(this.set[name] * 100)} %`;
    }
    byId("brush-erase").checked = this.set.erase;
  }

  // px of the canvas for a share of the frame's long edge, around a place.
  scale(p) {
    const { places } = this.areas;
    const at = places.place(p);
    const there = places.canvas([at[0] + 0.01, at[1]]);
    return Math.hypot(there[0] - p[0], there[1] - p[1]) / 0.01;
  }

  hover(p) {
    this.at = p;
    this.areas.bench.picture.draw();
  }

  down(p) {
    this.points = [p];
    this.at = p;
    return true;
  }

  move(p, event) {
    this.at = p;
    // All that the pointer went through since the last frame of the screen.
    const passed = event?.getCoalescedEvents?.() || [];
    for (const e of passed.length ? passed : [null]) {
      const q = e ? this.areas.bench.picture.point(e) : p;
      const last = this.points.at(-1);
      if (Math.hypot(q[0] - last[0], q[1] - last[1]) >= 1.5) this.points.push(q);
    }
  }

  up() {
    const points = this.points.map((p) => this.areas.unplaced(this.areas.places.place(p)));
    this.pending = this.points;
    this.points = null;
    const { size, softness, flow, strength, alike, erase } = this.set;
    const stroke = { path: written(simpler(points, Math.max(0.0003, size * 0.04))), size };
    const usual = { softness: 0.5, flow: 1, strength: 1, alike: 0, erase: false };
    for (const [name, value] of Object.entries({ softness, flow, strength, alike, erase })) if (value !== usual[name]) stroke[name] = typeof value === "number" ? Number(value.toFixed(3)) : value;
    return stroke;
  }

  // What was painted and is not in the picture that came yet, and the brush itself.
  draw(c, ratio, tint) {
    for (const points of [this.pending, this.points]) {
      if (!points) continue;
      c.save();
      c.globalAlpha = 0.45 * this.set.flow;
      c.strokeStyle = this.set.erase ? "#222" : tint;
      c.lineWidth = 2 * this.set.size * this.scale(points[0]) * (1 - this.set.softness / 2);
      c.lineCap = "round";
      c.lineJoin = "round";
      c.filter = this.set.softness > 0.05 ? `blur(${Math.min(40, (c.lineWidth * this.set.softness) / 5)}px)` : "none";
      c.beginPath();
      points.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
      if (points.length === 1) c.lineTo(points[0][0] + 0.01, points[0][1]);
      c.stroke();
      c.restore();
    }
    if (!this.at) return;
    const radius = this.set.size * this.scale(this.at);
    c.save();
    for (const [colour, width] of [["#1b1b1b", 2.4], ["#ffffff", 1.1]]) {
      c.strokeStyle = colour;
      c.lineWidth = width * ratio;
      for (const share of [1, 1 - this.set.softness]) {
        if (radius * share < 1.5 * ratio) continue;
        c.setLineDash(share === 1 ? [] : [4 * ratio, 4 * ratio]);
        c.beginPath();
        c.arc(...this.at, radius * share, 0, 7);
        c.stroke();
      }
    }
    if (this.set.erase) {
      c.beginPath();
      c.moveTo(this.at[0] - 5 * ratio, this.at[1]);
      c.lineTo(this.at[0] + 5 * ratio, this.at[1]);
      c.stroke();
    }
    c.restore();
  }
}

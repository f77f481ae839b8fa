// Areas on the Bench: their list, the controls of the chosen one, and its mask on the picture.
// An area is nothing but names, "areas/ID/light.exposure": they are followed, given up and undone as all others are.
import { post } from "./api.js";
import { byId, el } from "./dom.js";
import { Places } from "./places.js";
import { Rule } from "./rule.js";
import { trying } from "./shell.js";

const WHOLE = [0, 0, 1, 0];
const rad = (degrees) => (degrees * Math.PI) / 180;

// A point of a mask's own coordinates where the area lies on this frame, and back.
export function placed([dx, dy, s, a], [x, y]) {
  const c = Math.cos(rad(a)) * s;
  const n = Math.sin(rad(a)) * s;
  return [c * x - n * y + dx, n * x + c * y + dy];
}
export function unplaced([dx, dy, s, a], [x, y]) {
  const c = Math.cos(rad(a)) / s;
  const n = Math.sin(rad(a)) / s;
  return [c * (x - dx) + n * (y - dy), -n * (x - dx) + c * (y - dy)];
}

export class Areas {
  // bench: {picture, frame(), shown(key), layer(key), draft(values), edit(values), commit(url, body), carry(ids), targets(), table}
  constructor(bench) {
    this.bench = bench;
    this.chosen = null;
    this.drawing = null; // the kind of a new one that is about to be drawn
    this.drag = null;
    this.controls = new Map();
    for (const root of document.querySelectorAll("#area-one .rule")) {
      const name = root.dataset.key.replace("areas/00000000/", "");
      const about = name === "areas.softness" ? { label: "Softness", unit: "%", min: 0, max: 100, step: 1, neutral: 50 } : { ...bench.table[root.dataset.key] };
      about.offset = null;
      this.controls.set(name, new Rule(root, about));
    }
    this.listen();
  }

  key(name) {
    return `areas/${this.chosen}/${name}`;
  }

  // Every area of the frame, in order: {id, kind, name, ...}.
  list() {
    const { values } = this.bench.frame();
    const found = new Map();
    for (const [key, value] of Object.entries(values)) {
      const [list, id, name] = key.split("/");
      if (list !== "areas") continue;
      if (!found.has(id)) found.set(id, { id });
      found.get(id)[name] = value;
    }
    return [...found.values()].filter((a) => a.kind).sort((a, b) => (a.order || 0) - (b.order || 0) || a.id.localeCompare(b.id));
  }

  one() {
    return this.list().find((a) => a.id === this.chosen) || null;
  }

  shapes() {
    return this.bench.shown(this.key("shapes")) || [];
  }

  place() {
    return this.bench.shown(this.key("place")) || WHOLE;
  }

  // Whether the mask belongs to the lead: then this frame only moves it.
  followed() {
    return this.bench.frame().follows && this.bench.layer(this.key("shapes")) === "lead";
  }

  fill() {
    const list = this.list();
    if (!list.some((a) => a.id === this.chosen)) this.chosen = list.at(-1)?.id ?? null;
    const { frame } = this.bench;
    byId("area-list").replaceChildren(
      ...list.map((a) => {
        const here = a.present !== false;
        const keys = Object.keys(frame().values).filter((k) => k.startsWith(`areas/${a.id}/`));
        const follows = frame().follows && keys.some((k) => frame().layers[k] === "lead");
        const own = follows && (keys.some((k) => frame().layers[k] === "own") || frame().offsets[`areas/${a.id}/place`]);
        const state = !here ? "not on this frame" : own ? "departs here" : follows ? "follows" : "";
        const on = el("input", { type: "checkbox", checked: a.enabled !== false, "aria-label": `${a.name} on` });
        on.addEventListener("change", () => this.bench.edit({ [`areas/${a.id}/enabled`]: on.checked }));
        return el(
          "li",
          { class: a.id === this.chosen ? "area-row chosen" : "area-row" },
          on,
          el("button", { type: "button", class: "area-name", "aria-pressed": String(a.id === this.chosen), text: a.name || "Area", onclick: () => this.choose(a.id) }),
          el("span", { class: `index-mark ${own || !here ? "mark-own" : follows ? "mark-follows" : ""}`, "aria-hidden": "true" }),
          el("span", { class: "dim", text: state }),
        );
      }),
    );
    const index = document.querySelector('#index [data-group="areas"]');
    index.querySelector(".index-state").textContent = list.length ? String(list.length) : "";
    const departs = list.some((a) => a.present === false || frame().offsets[`areas/${a.id}/place`] || (frame().follows && Object.entries(frame().layers).some(([k, l]) => l === "own" && k.startsWith(`areas/${a.id}/`))));
    const following = frame().follows && list.length && !departs;
    index.querySelector(".index-mark").className = `index-mark ${departs ? "mark-own" : following ? "mark-follows" : ""}`;
    const area = this.one();
    byId("area-one").hidden = !area;
    if (!area) return;
    const round = this.shapes().some((s) => s.kind === "round");
    for (const [name, control] of this.controls) {
      if (name === "areas.softness") {
        control.root.hidden = !round || this.followed();
        control.set((this.shapes().find((s) => s.kind === "round")?.softness ?? 0.5) * 100, { below: undefined, shown: 50, follows: false, own: false });
        continue;
      }
      const key = this.key(name);
      control.about.key = key;
      const below = frame().below[key] ?? control.about.neutral;
      const value = this.bench.shown(key) ?? control.about.neutral;
      control.set(value, { below, shown: below, follows: frame().follows, own: frame().ownKeys.includes(key) && value !== below, offset: false });
    }
    if (document.activeElement !== byId("area-name")) byId("area-name").value = area.name || "";
    byId("area-inverted").checked = Boolean(area.inverted);
    byId("area-here").checked = area.present !== false;
    byId("area-here-choice").hidden = !frame().follows;
    byId("area-follow").hidden = !frame().offsets[this.key("place")];
    byId("area-said").textContent = this.followed() ? "The mask is the lead’s: drag it to where it belongs on this frame." : "";
    byId("area-remove").textContent = this.followed() ? "Not on this frame" : "Remove";
  }

  choose(id) {
    this.chosen = id;
    this.fill();
    this.bench.picture.draw();
  }

  listen() {
    for (const kind of ["straight", "round"]) {
      byId(`area-${kind}`).addEventListener("click", () => this.begin(this.drawing === kind ? null : kind));
    }
    const root = byId("area-one");
    root.addEventListener("rule:move", (event) => this.moved(event, false), true);
    root.addEventListener("rule:set", (event) => this.moved(event, true), true);
    byId("area-name").addEventListener("change", (event) => this.bench.edit({ [this.key("name")]: event.target.value.trim() || "Area" }));
    byId("area-inverted").addEventListener("change", (event) => this.bench.edit({ [this.key("inverted")]: event.target.checked }));
    byId("area-here").addEventListener("change", (event) => this.bench.edit({ [this.key("present")]: event.target.checked }));
    byId("area-follow").addEventListener("click", () => this.bench.commit("/api/giveup", { frames: this.bench.targets(), keys: [this.key("place")] }));
    byId("area-carry").addEventListener("click", () => this.bench.carry([`areas/${this.chosen}`]));
    byId("area-remove").addEventListener("click", () => this.remove());
  }

  remove() {
    if (this.followed()) return this.bench.edit({ [this.key("present")]: false });
    return this.bench.commit("/api/areas/remove", { frames: this.bench.targets(), areas: [this.chosen] });
  }

  // Softness is a part of the mask, not an adjustment.
  moved(event, final) {
    if (event.target.dataset.key !== "areas.softness") return;
    event.stopPropagation();
    this.change(this.shapes().map((s) => (s.kind === "round" ? { ...s, softness: event.detail.value / 100 } : s)), final);
  }

  begin(kind) {
    this.drawing = kind;
    for (const k of ["straight", "round"]) byId(`area-${k}`).setAttribute("aria-pressed", String(this.drawing === k));
  }

  change(shapes, final) {
    const values = { [this.key("shapes")]: shapes };
    if (final) this.bench.edit(values);
    else this.bench.draft(values);
  }

  async create(shape) {
    this.begin(null);
    const made = await trying(() => post("/api/areas", { frames: this.bench.targets(), shapes: [shape] }));
    if (!made) return;
    this.chosen = made.area;
    await this.bench.refresh();
  }

  // --- on the picture --------------------------------------------------------------------------------

  // Handles on the canvas, in the frame's places: what each moves.
  handles() {
    const found = [];
    const at = this.place();
    this.shapes().forEach((s, i) => {
      if (s.kind === "straight") {
        found.push({ i, what: "start", at: placed(at, s.start) }, { i, what: "end", at: placed(at, s.end) });
        found.push({ i, what: "move", at: placed(at, [(s.start[0] + s.end[0]) / 2, (s.start[1] + s.end[1]) / 2]) });
      } else {
        const [c, n] = [Math.cos(rad(s.angle || 0)), Math.sin(rad(s.angle || 0))];
        found.push({ i, what: "wide", at: placed(at, [s.at[0] + c * s.radii[0], s.at[1] + n * s.radii[0]]) });
        found.push({ i, what: "high", at: placed(at, [s.at[0] - n * s.radii[1], s.at[1] + c * s.radii[1]]) });
        found.push({ i, what: "move", at: placed(at, s.at) });
      }
    });
    return found;
  }

  draw(c, rect, header, ratio) {
    this.places = header.places ? new Places(header, rect) : null;
    if (!this.places || !this.one()) return this.drawNew(c, ratio);
    const at = this.place();
    const line = (points, dash = []) => {
      for (const [colour, width] of [["#1b1b1b", 3], ["#ffffff", 1.3]]) {
        c.setLineDash(dash.map((d) => d * ratio));
        c.strokeStyle = colour;
        c.lineWidth = width * ratio;
        c.beginPath();
        points.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
        c.stroke();
      }
    };
    c.save();
    for (const s of this.shapes()) {
      if (s.kind === "straight") {
        const way = [s.end[0] - s.start[0], s.end[1] - s.start[1]];
        for (const [from, dash] of [[s.start, []], [s.end, [6, 5]]]) {
          line([-2, -1, 0, 1, 2].map((t) => this.places.canvas(placed(at, [from[0] - way[1] * t, from[1] + way[0] * t]))), dash);
        }
      } else {
        for (const [share, dash] of [[1, []], [1 - (s.softness ?? 0.5), [6, 5]]]) {
          const turn = Array.from({ length: 65 }, (_, k) => {
            const [p, q] = [Math.cos((k * Math.PI) / 32) * s.radii[0] * share, Math.sin((k * Math.PI) / 32) * s.radii[1] * share];
            const [co, si] = [Math.cos(rad(s.angle || 0)), Math.sin(rad(s.angle || 0))];
            return this.places.canvas(placed(at, [s.at[0] + co * p - si * q, s.at[1] + si * p + co * q]));
          });
          if (share > 0.03) line(turn, dash);
        }
      }
    }
    c.setLineDash([]);
    for (const handle of this.handles()) {
      const [x, y] = this.places.canvas(handle.at);
      c.beginPath();
      if (handle.what === "move") c.rect(x - 5 * ratio, y - 5 * ratio, 10 * ratio, 10 * ratio);
      else c.arc(x, y, 5.5 * ratio, 0, 7);
      c.fillStyle = "#fff";
      c.fill();
      c.strokeStyle = "#1b1b1b";
      c.lineWidth = 1.5 * ratio;
      c.stroke();
    }
    c.restore();
    this.drawNew(c, ratio);
    return undefined;
  }

  drawNew(c, ratio) {
    if (!this.drag?.fresh || !this.drag.to) return;
    c.strokeStyle = "#fff";
    c.lineWidth = 1.5 * ratio;
    c.beginPath();
    if (this.drawing === "round") c.arc(...this.drag.from, Math.hypot(this.drag.to[0] - this.drag.from[0], this.drag.to[1] - this.drag.from[1]), 0, 7);
    else {
      c.moveTo(...this.drag.from);
      c.lineTo(...this.drag.to);
    }
    c.stroke();
  }

  hit(p) {
    if (!this.places || !this.one()) return null;
    const near = 12 * this.bench.picture.ratio;
    return this.handles().find((h) => {
      const [x, y] = this.places.canvas(h.at);
      return Math.hypot(p[0] - x, p[1] - y) < near;
    });
  }

  cursor(p) {
    if (this.drawing) return "crosshair";
    const handle = this.hit(p);
    return handle ? (handle.what === "move" ? "move" : "pointer") : "";
  }

  down(p) {
    if (this.drawing && this.places) {
      this.drag = { fresh: true, from: p, to: null };
      return true;
    }
    const handle = this.hit(p);
    if (!handle) return false;
    this.drag = { ...handle, from: this.places.place(p), shapes: structuredClone(this.shapes()), was: [...this.place()] };
    return true;
  }

  move(p) {
    if (!this.drag) return;
    if (this.drag.fresh) {
      this.drag.to = p;
      return;
    }
    this.bench.draft(this.dragged(p));
  }

  up(p) {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    if (!drag.fresh) {
      const there = this.places.place(p);
      this.drag = drag;
      const values = this.dragged(p);
      this.drag = null;
      if (Math.hypot(there[0] - drag.from[0], there[1] - drag.from[1]) > 1e-4) this.bench.edit(values);
      return;
    }
    const [a, b] = [this.places.place(drag.from), this.places.place(p)];
    const far = Math.hypot(b[0] - a[0], b[1] - a[1]);
    if (far < 0.01) return;
    const fix = (v) => Number(v.toFixed(5));
    const kind = this.drawing;
    this.create(kind === "straight" ? { kind, start: a.map(fix), end: b.map(fix) } : { kind, at: a.map(fix), radii: [fix(far), fix(far)] });
  }

  // What a drag of a handle makes of the area: of the lead's only where it lies, else its shapes.
  dragged(p) {
    const { drag } = this;
    const there = this.places.place(p);
    const fix = (v) => Number(v.toFixed(5));
    if (this.followed()) return { [this.key("place")]: this.carried(drag, there).map(fix) };
    const shapes = structuredClone(drag.shapes);
    const s = shapes[drag.i];
    const to = unplaced(drag.was, there);
    const from = unplaced(drag.was, drag.from);
    const by = [to[0] - from[0], to[1] - from[1]];
    const add = (q) => [fix(q[0] + by[0]), fix(q[1] + by[1])];
    if (drag.what === "move") {
      if (s.kind === "straight") Object.assign(s, { start: add(s.start), end: add(s.end) });
      else s.at = add(s.at);
    } else if (s.kind === "straight") s[drag.what] = to.map(fix);
    else {
      const far = Math.max(0.005, Math.hypot(to[0] - s.at[0], to[1] - s.at[1]));
      const turn = (Math.atan2(to[1] - s.at[1], to[0] - s.at[0]) * 180) / Math.PI - (drag.what === "high" ? 90 : 0);
      s.radii[drag.what === "wide" ? 0 : 1] = fix(far);
      s.angle = Number(((((turn % 360) + 540) % 360) - 180).toFixed(2));
    }
    return { [this.key("shapes")]: shapes };
  }

  // The lead's mask moved, or scaled and turned about its middle.
  carried(drag, there) {
    const [dx, dy, s, a] = drag.was;
    if (drag.what === "move") return [dx + there[0] - drag.from[0], dy + there[1] - drag.from[1], s, a];
    const shape = drag.shapes[drag.i];
    const own = shape.kind === "round" ? shape.at : [(shape.start[0] + shape.end[0]) / 2, (shape.start[1] + shape.end[1]) / 2];
    const mid = placed(drag.was, own);
    const before = [drag.from[0] - mid[0], drag.from[1] - mid[1]];
    const after = [there[0] - mid[0], there[1] - mid[1]];
    const grown = Math.min(Math.max((s * Math.hypot(...after)) / Math.max(Math.hypot(...before), 1e-6), 0.02), 8);
    const turned = a + ((Math.atan2(after[1], after[0]) - Math.atan2(before[1], before[0])) * 180) / Math.PI;
    const at = placed([0, 0, grown, turned], own);
    return [mid[0] - at[0], mid[1] - at[1], grown, turned];
  }
}

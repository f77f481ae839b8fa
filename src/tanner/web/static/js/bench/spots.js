// Spots on the Bench: set by a click, or drawn along a scratch; moved, taken from elsewhere, walked one by one; found by themselves.
import { post } from "../api.js";
import { simpler } from "../areas/geometry.js";
import { byId, el, plural } from "../dom.js";
import { listed, newId } from "../listed.js";
import { Places } from "../places.js";
import { tell, trying } from "../shell.js";

const fix = (v) => Number(v.toFixed(6));
const WAYS = { heal: "heal", copy: "copy", fill: "fill" };

export class Spots {
  // bench: {picture, frame(), shown(key), edit(values), commit(url, body), targets(), view}
  constructor(bench) {
    this.bench = bench;
    this.chosen = null;
    this.found = []; // what was found and is not accepted yet
    this.size = Number(sessionStorage.getItem("tanner.spot") || 0.006);
    this.walked = -1;
    byId("spot-size").addEventListener("input", (event) => this.resize(0.0006 * 200 ** (event.target.value / 100)));
    byId("spot-find").addEventListener("click", () => this.find());
    byId("spot-limit").addEventListener("input", () => this.showFound());
    byId("spot-accept").addEventListener("click", () => this.accept());
    byId("spot-drop").addEventListener("click", () => {
      this.found = [];
      this.showFound();
    });
    byId("spot-see").addEventListener("change", (event) => {
      bench.picture.specks = event.target.checked;
      bench.picture.refresh(false);
    });
    byId("spot-next").addEventListener("click", () => this.walk(1));
    byId("spot-all").addEventListener("click", () => this.removeAll());
    this.resize(this.size);
  }

  resize(size) {
    this.size = Math.min(0.12, Math.max(0.0006, size));
    sessionStorage.setItem("tanner.spot", this.size);
    byId("spot-size").value = (100 * Math.log(this.size / 0.0006)) / Math.log(200);
    byId("spot-size-text").textContent = `${(this.size * 1000).toFixed(1)} ‰`;
    this.bench.picture.draw();
  }

  list() {
    return listed(this.bench.frame()?.values, "spots").filter((s) => s.present !== false);
  }

  fill() {
    const list = this.list();
    const index = document.querySelector('#index [data-group="spots"]');
    index.querySelector(".index-state").textContent = list.length ? String(list.length) : "";
    if (!list.some((s) => s.id === this.chosen)) this.chosen = null;
    byId("spot-none").hidden = list.length > 0;
    byId("spot-list").replaceChildren(...list.map((s, n) => this.row(s, n)));
    byId("spot-all").hidden = !list.length;
  }

  row(s, n) {
    const { frame } = this.bench;
    const name = s.name || (s.path.length > 1 ? "Line" : "Spot");
    const done = this.done?.[s.id];
    const way = el("select", { "aria-label": `How ${name} ${n + 1} is put right` }, ...Object.entries(WAYS).map(([value, text]) => el("option", { value, text, selected: value === (s.way || "heal") })));
    way.addEventListener("change", () => this.bench.edit({ [`spots/${s.id}/way`]: way.value }));
    const follows = frame().follows && frame().layers[`spots/${s.id}/path`] === "lead";
    return el(
      "li",
      { class: s.id === this.chosen ? "area-row chosen" : "area-row" },
      el("button", { type: "button", class: "area-name", "aria-pressed": String(s.id === this.chosen), text: `${name} ${n + 1}`, onclick: () => this.choose(s.id, true) }),
      el("span", { class: "dim", text: done?.said || (follows ? "follows" : "") }),
      way,
      el("button", { type: "button", class: "plain", "aria-label": `Another source for ${name} ${n + 1}`, title: "Another source", text: "↻", onclick: () => this.bench.edit({ [`spots/${s.id}/another`]: ((s.another || 0) + 1) % 8, [`spots/${s.id}/source`]: [] }) }),
      el("button", { type: "button", class: "plain", "aria-label": `Remove ${name} ${n + 1}`, title: follows ? "Not on this frame" : "Remove", text: "×", onclick: () => this.remove([s.id]) }),
    );
  }

  choose(id, go = false) {
    this.chosen = id;
    this.fill();
    const s = this.list().find((each) => each.id === id);
    if (go && s && this.places) this.bench.view.zoom(1, this.places.canvas(s.path[0]));
    else this.bench.picture.draw();
  }

  remove(ids) {
    return this.bench.commit("/api/spots/remove", { frames: this.bench.targets(), spots: ids });
  }

  removeAll() {
    return this.remove(this.list().map((s) => s.id));
  }

  put(things) {
    const values = {};
    let order = Math.max(0, ...this.list().map((s) => s.order || 0));
    for (const { path, size, name } of things) {
      const start = `spots/${newId()}/`;
      order += 1;
      Object.assign(values, { [`${start}kind`]: "spot", [`${start}name`]: name, [`${start}order`]: order, [`${start}path`]: path, [`${start}size`]: size });
    }
    return this.bench.edit(values);
  }

  // --- found by themselves -------------------------------------------------------------------------------

  async find() {
    byId("spot-find").disabled = true;
    const got = await trying(() => post(`/api/frames/${this.bench.frame().id}/spots/find`, { everywhere: byId("spot-everywhere").checked }));
    byId("spot-find").disabled = false;
    if (!got) return;
    this.found = got.spots;
    if (!got.spots.length) tell("Nothing was found on even ground.");
    this.showFound();
  }

  wanted() {
    const limit = Number(byId("spot-limit").value) / 100;
    return this.found.filter((f) => f.confidence >= limit);
  }

  showFound() {
    const n = this.wanted().length;
    byId("spot-found").hidden = !this.found.length;
    byId("spot-found-text").textContent = `${plural(n, "place")} of ${this.found.length}, from ${byId("spot-limit").value} % sure on`;
    byId("spot-accept").disabled = !n;
    this.bench.picture.draw();
  }

  // At most so many values go in one step.
  async accept() {
    const wanted = this.wanted().map((f) => ({ path: f.path, size: f.size, name: f.kind[0].toUpperCase() + f.kind.slice(1) }));
    this.found = [];
    this.showFound();
    for (let n = 0; n < wanted.length; n += 18) await this.put(wanted.slice(n, n + 18));
  }

  // One place after the other at 100 %, those that were found first.
  walk(by) {
    const places = this.found.length ? this.wanted().map((f) => f.path[0]) : this.list().map((s) => s.path[0]);
    if (!places.length || !this.places) return;
    this.walked = (this.walked + by + places.length) % places.length;
    this.bench.view.zoom(1, this.places.canvas(places[this.walked]));
  }

  // --- on the picture ------------------------------------------------------------------------------------

  came(header) {
    if (header.spots) {
      this.done = header.spots;
      this.fill();
    }
  }

  scale() {
    const a = this.places.canvas([0, 0]);
    const b = this.places.canvas([0.01, 0]);
    return Math.hypot(b[0] - a[0], b[1] - a[1]) / 0.01;
  }

  draw(c, rect, header, ratio) {
    this.places = header.places ? new Places(header, rect) : null;
    if (!this.places) return;
    const scale = this.scale();
    c.save();
    const ring = (path, size, strong, dash = []) => {
      for (const [colour, width] of [["#1b1b1b", strong ? 3 : 2.2], ["#ffffff", strong ? 1.6 : 1]]) {
        c.setLineDash(dash.map((d) => d * ratio));
        c.strokeStyle = colour;
        c.lineWidth = width * ratio;
        for (const place of path.length > 1 ? [path[0], path.at(-1)] : path) {
          c.beginPath();
          c.arc(...this.places.canvas(place), Math.max(size * scale, 3 * ratio), 0, 7);
          c.stroke();
        }
        if (path.length > 1) {
          c.beginPath();
          path.forEach((p, i) => (i ? c.lineTo(...this.places.canvas(p)) : c.moveTo(...this.places.canvas(p))));
          c.stroke();
        }
      }
      c.setLineDash([]);
    };
    for (const s of this.list()) ring(s.path, s.size ?? 0.005, s.id === this.chosen);
    for (const f of this.wanted()) ring(f.path, f.size * 1.3, false, [3, 3]);
    const from = this.from();
    if (from) {
      ring([from.at], from.size, false, [5, 3]);
      c.strokeStyle = "#fff";
      c.lineWidth = ratio;
      c.beginPath();
      c.moveTo(...this.places.canvas(from.spot));
      c.lineTo(...this.places.canvas(from.at));
      c.stroke();
    }
    if (this.drag?.points) ring(this.drag.points.map((p) => this.places.place(p)), this.size, true);
    if (this.at) ring([this.places.place(this.at)], this.size, false);
    c.restore();
  }

  // Where the chosen spot is taken from.
  from() {
    const s = this.list().find((each) => each.id === this.chosen);
    const by = s?.source?.length === 2 ? s.source : this.done?.[s?.id]?.source;
    if (!s || !by || s.way === "fill") return null;
    return { spot: s.path[0], at: [s.path[0][0] + by[0], s.path[0][1] + by[1]], size: s.size ?? 0.005, id: s.id };
  }

  near(p, place, size) {
    const [x, y] = this.places.canvas(place);
    return Math.hypot(p[0] - x, p[1] - y) < Math.max(size * this.scale(), 7 * this.bench.picture.ratio);
  }

  cursor(p) {
    this.at = p;
    this.bench.picture.draw();
    return "none";
  }

  down(p) {
    if (!this.places) return false;
    const from = this.from();
    if (from && this.near(p, from.at, from.size)) this.drag = { from };
    else {
      const hit = this.list().find((s) => s.path.some((q) => this.near(p, q, s.size ?? 0.005)));
      this.drag = hit ? { spot: hit, start: this.places.place(p) } : { points: [p] };
      if (hit) this.choose(hit.id);
    }
    return true;
  }

  move(p) {
    this.at = p;
    if (this.drag?.points) this.drag.points.push(p);
  }

  up(p) {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    const there = this.places.place(p);
    if (drag.from) {
      this.bench.edit({ [`spots/${drag.from.id}/source`]: [fix(there[0] - drag.from.spot[0]), fix(there[1] - drag.from.spot[1])] });
    } else if (drag.spot) {
      const by = [there[0] - drag.start[0], there[1] - drag.start[1]];
      if (Math.hypot(...by) > 2e-4) this.bench.edit({ [`spots/${drag.spot.id}/path`]: drag.spot.path.map((q) => [fix(q[0] + by[0]), fix(q[1] + by[1])]) });
    } else {
      const points = drag.points.map((q) => this.places.place(q));
      const long = points.some((q) => Math.hypot(q[0] - points[0][0], q[1] - points[0][1]) > this.size * 1.2);
      const path = (long ? simpler(points, this.size * 0.2).slice(0, 64) : [points[0]]).map((q) => q.map(fix));
      this.put([{ path, size: fix(this.size), name: long ? "Line" : "Spot" }]);
    }
  }
}

// Spots on the Bench: set by a click, drawn along a scratch or around a place; moved, taken from elsewhere, walked one by one.
import { simpler } from "../areas/geometry.js";
import { byId, el } from "../dom.js";
import { listed, newId } from "../listed.js";
import { Places } from "../places.js";
import { SpotFinding } from "./spot-finding.js";
import { SpotOne } from "./spot-one.js";
import { t } from "../texts.js";

const fix = (v) => Number(v.toFixed(6));

export class Spots {
  // bench: {picture, frame(), shown(key), edit(values), commit(url, body), targets(), view}
  constructor(bench) {
    this.bench = bench;
    this.chosen = null;
    this.size = Number(sessionStorage.getItem("tanner.spot") || 0.006);
    this.walked = -1;
    this.way = "heal";
    this.pictures = new Map(); // of each spot: what they depend on, and both
    this.asked = 0;
    this.finding = new SpotFinding(this);
    this.panel = new SpotOne(this);
    byId("spot-ways").addEventListener("click", (event) => {
      const { way } = event.target.closest("[data-way]")?.dataset || {};
      if (way) this.choosesWay(way);
    });
    this.choosesWay("heal");
    byId("spot-size").addEventListener("input", (event) => this.resize(0.0006 * 200 ** (event.target.value / 100)));
    byId("spot-see").addEventListener("change", (event) => {
      bench.picture.specks = event.target.checked;
      bench.picture.refresh(false);
    });
    byId("spot-next").addEventListener("click", () => this.walk(1));
    byId("spot-all").addEventListener("click", () => this.removeAll());
    // The chosen one, or all of them where none is.
    byId("spot-carry").addEventListener("click", () => bench.carry((this.chosen ? [this.chosen] : this.list().map((s) => s.id)).map((id) => `spots/${id}`)));
    this.resize(this.size);
  }

  // How the next one is put right.
  choosesWay(way) {
    this.way = way;
    for (const b of byId("spot-ways").children) b.setAttribute("aria-pressed", String(b.dataset.way === way));
  }

  resize(size) {
    this.size = Math.min(0.12, Math.max(0.0006, size));
    sessionStorage.setItem("tanner.spot", this.size);
    byId("spot-size").value = (100 * Math.log(this.size / 0.0006)) / Math.log(200);
    byId("spot-size-text").textContent = `${(this.size * 1000).toFixed(1)} ‰`;
    this.bench.picture.draw();
  }

  // All that are here, dust of the camera among them.
  all() {
    return listed(this.bench.frame()?.values, "spots").filter((s) => s.present !== false);
  }

  // Those of this frame and its lead.
  list() {
    return this.all().filter((s) => s.holds !== "sensor");
  }

  one() {
    return this.all().find((s) => s.id === this.chosen) || null;
  }

  // Where one lies on this frame: a follower's, where it was found.
  path(s) {
    return this.done?.[s.id]?.path?.length ? this.done[s.id].path : s.path;
  }

  fill() {
    const list = this.list();
    const dust = this.all().length - list.length;
    const index = document.querySelector('#index [data-group="spots"]');
    index.querySelector(".index-state").textContent = list.length + dust ? String(list.length + dust) : "";
    this.finding.fresh(this.bench.frame()?.id);
    if (!this.one()) this.chosen = null;
    byId("spot-none").hidden = list.length > 0;
    byId("spot-list").replaceChildren(...list.map((s, n) => this.row(s, n)));
    byId("spot-all").hidden = byId("spot-carry").hidden = !list.length;
    byId("spot-dust").hidden = !dust;
    byId("spot-dust").replaceChildren(t`And ${dust} of the dust on this camera’s sensor, from `, el("a", { href: "/kit#dust", text: t`Kit` }), ".");
    const left = list.filter((s) => this.done?.[s.id]?.left).length;
    byId("spot-left").hidden = !left;
    byId("spot-left").textContent = left === 1 ? t`One is left alone on this frame; the list says why.` : t`${left} are left alone on this frame; the list says why.`;
    this.panel.fill();
  }

  row(s, n) {
    const { frame } = this.bench;
    const name = `${s.name || (s.path.length > 1 ? t`Line` : t`Spot`)} ${n + 1}`;
    const done = this.done?.[s.id];
    const follows = frame().follows && frame().layers[`spots/${s.id}/path`] === "lead";
    return el(
      "li",
      { class: s.id === this.chosen ? "area-row chosen" : "area-row" },
      el("span", { class: "flex flex-none gap-px", title: t`Before and after`, "aria-hidden": "true" }, ...this.picturesOf(s)),
      el("button", { type: "button", class: "area-name", "aria-pressed": String(s.id === this.chosen), text: name, onclick: () => this.choose(s.id, true) }),
      el("span", { class: done?.left ? "dim shrink text-warn" : "dim shrink", text: done?.said || (follows ? t`follows` : "") }),
      el("button", { type: "button", class: "plain", "aria-label": t`Remove ${name}`, title: follows ? t`Not on this frame` : t`Remove`, text: "×", onclick: () => this.remove([s.id]) }),
    );
  }

  // Before and after, made anew when the spot or what is around it looks otherwise; a list that is built again costs none.
  picturesOf(s) {
    const { id, values } = this.bench.frame();
    const rest = Object.entries(values).filter(([key]) => !key.startsWith("spots/"));
    const stamp = JSON.stringify([id, { ...s, judged: undefined, name: undefined }, rest]);
    const known = this.pictures.get(s.id);
    if (known?.stamp === stamp) return known.nodes;
    const nodes = ["before", "after"].map((shown) => el("img", { class: "size-8 flex-none object-cover", loading: "lazy", alt: "", src: `/api/frames/${id}/spots/${s.id}/picture?shown=${shown}&size=64&v=${(this.asked += 1)}`, onerror: (event) => event.target.classList.add("invisible") }));
    this.pictures.set(s.id, { stamp, nodes });
    return nodes;
  }

  choose(id, go = false) {
    this.chosen = id;
    this.fill();
    const s = this.one();
    if (go && s && this.places) this.bench.view.zoom(1, this.places.canvas(this.path(s)[0]));
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
    for (const { path, size, name, way, closed } of things) {
      const start = `spots/${newId()}/`;
      order += 1;
      Object.assign(values, { [`${start}kind`]: "spot", [`${start}name`]: name, [`${start}order`]: order, [`${start}path`]: path, [`${start}size`]: size });
      if (way && way !== "heal") values[`${start}way`] = way;
      if (closed) values[`${start}closed`] = true;
      this.latest = start.split("/")[1];
    }
    return this.bench.edit(values);
  }

  // One after the other at 100 %, those that were found and are not accepted yet first.
  walk(by) {
    const { finding } = this;
    const places = finding.found.length ? finding.wanted().map((f) => f.path[0]) : this.list().map((s) => this.path(s)[0]);
    if (!places.length || !this.places) return;
    this.walked = (this.walked + by + places.length) % places.length;
    if (!finding.found.length) this.choose(this.list()[this.walked].id);
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
    const ring = (path, size, strong, dash = [], closed = false) => {
      for (const [colour, width] of [["#1b1b1b", strong ? 3 : 2.2], ["#ffffff", strong ? 1.6 : 1]]) {
        c.setLineDash(dash.map((d) => d * ratio));
        c.strokeStyle = colour;
        c.lineWidth = width * ratio;
        for (const place of closed ? [] : path.length > 1 ? [path[0], path.at(-1)] : path) {
          c.beginPath();
          c.arc(...this.places.canvas(place), Math.max(size * scale, 3 * ratio), 0, 7);
          c.stroke();
        }
        if (path.length > 1) {
          c.beginPath();
          path.forEach((p, i) => (i ? c.lineTo(...this.places.canvas(p)) : c.moveTo(...this.places.canvas(p))));
          if (closed) c.closePath();
          c.stroke();
        }
      }
      c.setLineDash([]);
    };
    for (const s of this.all()) ring(this.path(s), this.done?.[s.id]?.size || (s.size ?? 0.005), s.id === this.chosen, this.done?.[s.id]?.left ? [2, 4] : [], s.closed);
    for (const f of this.finding.wanted()) ring(f.path, f.size * 1.3, false, [3, 3]);
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
    const along = this.one()?.along;
    if (along?.length) ring(along, 0.0008, false, [6, 4]);
    if (this.drag?.points) ring(this.drag.points.map((p) => this.places.place(p)), this.size, true, [], byId("spot-outline").checked && this.drag.points.length > 2);
    if (this.at) ring([this.places.place(this.at)], this.size, false);
    c.restore();
  }

  // Where the chosen spot is taken from.
  from() {
    const s = this.one();
    const by = s?.source?.length === 2 ? s.source : this.done?.[s?.id]?.source;
    if (!s || !by || s.other || ["fill", "even"].includes(s.way)) return null;
    const [at] = this.path(s);
    return { spot: at, at: [at[0] + by[0], at[1] + by[1]], size: s.size ?? 0.005, id: s.id };
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
    if (this.panel.along && this.one()) this.drag = { points: [p], along: this.chosen };
    else if (from && this.near(p, from.at, from.size)) this.drag = { from };
    else {
      const hit = this.all().find((s) => this.path(s).some((q) => this.near(p, q, s.size ?? 0.005)));
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
      const moved = this.path(drag.spot).map((q) => [fix(q[0] + by[0]), fix(q[1] + by[1])]);
      // What is moved by hand lies where it was put, wherever it was found.
      if (Math.hypot(...by) > 2e-4) this.bench.edit({ [`spots/${drag.spot.id}/path`]: moved, [`spots/${drag.spot.id}/found`]: [] });
    } else {
      const points = drag.points.map((q) => this.places.place(q));
      if (drag.along) {
        this.panel.drawAlong(false);
        const along = simpler(points, this.size * 0.2).slice(0, 64).map((q) => q.map(fix));
        if (along.length > 1) this.bench.edit({ [`spots/${drag.along}/along`]: along });
        return;
      }
      const long = points.some((q) => Math.hypot(q[0] - points[0][0], q[1] - points[0][1]) > this.size * 1.2);
      const path = (long ? simpler(points, this.size * 0.2).slice(0, 64) : [points[0]]).map((q) => q.map(fix));
      const closed = byId("spot-outline").checked && path.length > 2;
      // An outline is drawn as wide as the place is; only its rim is soft.
      const size = closed ? Math.min(this.size, 0.003) : this.size;
      this.put([{ path, size: fix(size), name: closed ? "Outline" : long ? t`Line` : t`Spot`, way: this.way, closed }]).then(() => this.choose(this.latest));
    }
  }
}

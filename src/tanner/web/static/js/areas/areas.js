// Areas on the Bench: their list, the chosen one with its parts and controls, and its mask on the picture.
// An area is nothing but names, "areas/ID/light.exposure": they are followed, given up and undone as all others are.
import { get, post } from "../api.js";
import { Curve } from "../curve.js";
import { byId, el } from "../dom.js";
import { listed } from "../listed.js";
import { hear } from "../news.js";
import { Rule } from "../rule.js";
import { tell, trying } from "../shell.js";
import { BrushTool } from "./brush.js";
import { Corner } from "./corner.js";
import { WHOLE } from "./geometry.js";
import { BEGIN, DRAWN, KINDS } from "./kinds.js";
import { Parts } from "./parts.js";
import { AreaPointer } from "./pointer.js";
import { t } from "../texts.js";

export const TINTS = ["rgb(226 90 60)", "rgb(70 150 235)", "rgb(90 190 90)", "rgb(235 190 50)", "rgb(190 110 220)", "rgb(60 200 200)"];

export class Areas extends AreaPointer {
  // bench: {picture, frame(), shown(key), layer(key), draft(values), edit(values), commit(url, body), carry(ids), targets(), table}
  constructor(bench) {
    super();
    this.bench = bench;
    this.chosen = null;
    this.drawing = null; // {kind, into}: a part that is about to be drawn, and into which area
    this.drag = null;
    this.corners = null; // of an outline that is being drawn
    this.seen = false; // whether the mask is shown
    this.how = "tint";
    this.controls = new Map();
    for (const root of document.querySelectorAll("#area-one :is(.rule, .curve)")) {
      const name = root.dataset.key.replace("areas/00000000/", "");
      const about = { ...bench.table[root.dataset.key], offset: null };
      this.controls.set(name, root.classList.contains("curve") ? new Curve(root, { ...about, label: t`the area’s ${about.label}` }) : new Rule(root, about));
    }
    this.brush = new BrushTool(this);
    this.parts = new Parts(this);
    this.corner = new Corner(this);
    this.listen();
  }

  key(name) {
    return `areas/${this.chosen}/${name}`;
  }

  // Every area of the frame, in order: {id, kind, name, ...}.
  list() {
    return listed(this.bench.frame()?.values, "areas");
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

  found() {
    return this.bench.shown(this.key("found")) || [];
  }

  tint() {
    return TINTS[this.one()?.tint || 0];
  }

  // Whether the mask belongs to the lead: then this frame only moves it.
  followed() {
    return this.bench.frame().follows && this.bench.layer(this.key("shapes")) === "lead";
  }

  // --- the panel ---------------------------------------------------------------------------------------

  fill() {
    const list = this.list();
    if (!list.some((a) => a.id === this.chosen)) this.chosen = list.at(-1)?.id ?? null;
    byId("area-list").replaceChildren(...list.map((a) => this.row(a)));
    byId("area-none").hidden = list.length > 0;
    this.indexMark(list);
    const area = this.one();
    byId("area-one").hidden = !area;
    if (!area) return;
    const { frame } = this.bench;
    for (const [name, control] of this.controls) {
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
    byId("area-remove").textContent = this.followed() ? t`Not on this frame` : t`Remove`;
    byId("area-own").hidden = !this.followed();
    byId("area-again").hidden = !this.followed() || !this.shapes().some((s) => s.holds === "subject");
    this.say();
    this.parts.fill();
    this.corner.fill();
    byId("area-see").value = this.seen ? this.how : "none";
    [...byId("area-tints").children].forEach((b, i) => b.setAttribute("aria-pressed", String(i === (area.tint || 0))));
  }

  // What is known of where it lies on this frame.
  say() {
    const found = this.found();
    let said = "";
    if (this.off) said = this.off;
    else if (found.length) said = found[8] < 0 ? t`It is being looked for in this frame; until then it is off here.` : found[8] < 0.25 ? t`Its subject is not found in this frame, so it is off here. Make it this frame’s own, or look again.` : t`Found in this frame, ${Math.round(found[8] * 100)} % sure.`;
    else if (this.followed()) said = t`The mask is the lead’s: drag it to where it belongs on this frame.`;
    byId("area-said").textContent = said;
    byId("area-said").classList.toggle("text-warn", Boolean(this.off) || (found.length > 0 && found[8] < 0.25));
  }

  row(a) {
    const { frame } = this.bench;
    const here = a.present !== false;
    const keys = Object.keys(frame().values).filter((k) => k.startsWith(`areas/${a.id}/`) && !k.endsWith("/found"));
    const follows = frame().follows && keys.some((k) => frame().layers[k] === "lead");
    const own = follows && (keys.some((k) => frame().layers[k] === "own") || frame().offsets[`areas/${a.id}/place`]);
    const lost = a.found?.length && a.found[8] < 0.25;
    const state = !here ? t`not on this frame` : lost ? (a.found[8] < 0 ? t`looking for it` : t`not found here`) : own ? t`departs here` : follows ? t`follows` : "";
    const on = el("input", { type: "checkbox", checked: a.enabled !== false, "aria-label": t`${a.name} on` });
    on.addEventListener("change", () => this.bench.edit({ [`areas/${a.id}/enabled`]: on.checked }));
    // A name for what the mask depends on, so that the picture is asked for again when it changes.
    const stamp = JSON.stringify([a.shapes, a.place, a.found, a.inverted, a.grow, a.soften, a.refine, a.density, frame().values["crop.left"], frame().values["crop.top"], frame().values["crop.right"], frame().values["crop.bottom"]]);
    let hash = 0;
    for (let i = 0; i < stamp.length; i += 1) hash = (hash * 31 + stamp.charCodeAt(i)) | 0;
    const picture = el("span", { class: "area-mask grid place-items-center flex-none w-9 h-6 bg-black border-l-3 border-l-[var(--tint)] overflow-hidden", "aria-hidden": "true" });
    if (here && !lost) picture.append(el("img", { src: `/api/frames/${frame().id}/areas/${a.id}/mask?size=48&v=${hash}`, alt: "", onerror: (event) => event.target.remove() }));
    const item = el(
      "li",
      { class: a.id === this.chosen ? "area-row chosen" : "area-row" },
      on,
      picture,
      el("button", { type: "button", class: "area-name", "aria-pressed": String(a.id === this.chosen), text: a.name || t`Area`, onclick: () => this.choose(a.id) }),
      el("span", { class: `index-mark ${lost ? "mark-off" : own || !here ? "mark-own" : follows ? "mark-follows" : ""}`, "aria-hidden": "true" }),
      el("span", { class: "dim", text: state }),
    );
    item.style.setProperty("--tint", TINTS[a.tint || 0]);
    // Pointing at it shows where it is.
    item.addEventListener("pointerenter", () => this.hover(a.id));
    item.addEventListener("pointerleave", () => this.hover(null));
    return item;
  }

  indexMark(list) {
    const { frame } = this.bench;
    const index = document.querySelector('#index [data-group="areas"]');
    index.querySelector(".index-state").textContent = list.length ? String(list.length) : "";
    const lost = list.some((a) => a.present !== false && a.found?.length && a.found[8] < 0.25);
    const departs = list.some((a) => a.present === false || frame().offsets[`areas/${a.id}/place`] || (frame().follows && Object.entries(frame().layers).some(([k, l]) => l === "own" && k.startsWith(`areas/${a.id}/`) && !k.endsWith("/found"))));
    const following = frame().follows && list.length && !departs;
    index.querySelector(".index-mark").className = `index-mark ${lost ? "mark-off" : departs ? "mark-own" : following ? "mark-follows" : ""}`;
    index.title = lost ? t`An area is not found in this frame` : "";
  }

  hover(id) {
    clearTimeout(this.hovering);
    this.hovering = setTimeout(() => {
      this.pointed = id;
      this.showMask();
    }, id ? 120 : 60);
  }

  choose(id) {
    this.stop();
    this.chosen = id;
    this.off = "";
    this.parts.chosen = 0;
    this.fill();
    this.showMask();
  }

  // Which mask the picture comes with.
  showMask(quick = false) {
    const { picture } = this.bench;
    const area = this.pointed && this.pointed !== this.chosen ? this.pointed : this.pointed || this.seen || this.drawing?.kind === "brush" || this.painting() ? this.chosen : "";
    const how = this.seen ? this.how : "tint";
    if (picture.area !== (area || "") || picture.shown !== how) {
      picture.area = area || "";
      picture.shown = how;
      picture.refresh(quick);
    } else picture.draw();
  }

  see(how) {
    this.seen = how !== "none";
    if (this.seen) this.how = how;
    this.fill();
    this.showMask();
  }

  // Why the mask of the view that came is not there.
  came(header) {
    const off = header.areaOff || "";
    if (this.off !== off && this.bench.picture.area === this.chosen) {
      this.off = off;
      this.say();
    }
    this.brush.pending = null;
  }

  listen() {
    const root = byId("area-one");
    byId("area-new").addEventListener("click", () => this.parts.menu(byId("area-new"), (kind) => this.begin(kind, null)));
    byId("area-name").addEventListener("change", (event) => this.bench.edit({ [this.key("name")]: event.target.value.trim() || t`Area` }));
    byId("area-inverted").addEventListener("change", (event) => this.bench.edit({ [this.key("inverted")]: event.target.checked }));
    byId("area-here").addEventListener("change", (event) => this.bench.edit({ [this.key("present")]: event.target.checked }));
    byId("area-follow").addEventListener("click", () => this.bench.commit("/api/giveup", { frames: this.bench.targets(), keys: [this.key("place")] }));
    byId("area-own").addEventListener("click", () => this.makeOwn());
    byId("area-again").addEventListener("click", () => this.lookAgain());
    byId("area-carry").addEventListener("click", () => this.bench.carry([`areas/${this.chosen}`]));
    byId("area-remove").addEventListener("click", () => this.remove());
    byId("area-see").addEventListener("change", (event) => this.see(event.target.value));
    byId("area-tints").append(...TINTS.map((tint, i) => {
      const b = el("button", { type: "button", class: "tint-choice", "aria-label": t`Colour ${i + 1} of its mask`, onclick: () => this.bench.edit({ [this.key("tint")]: i }) });
      b.style.background = tint;
      return b;
    }));
    document.addEventListener("keydown", (event) => {
      if (event.key === "Enter" && this.corners?.length >= 3) this.closeOutline();
      else if (event.key === "Escape" && (this.drawing || this.corners)) {
        event.stopImmediatePropagation();
        this.stop();
      }
    }, true);
    root.addEventListener("rule:move", () => this.controlMoved());
  }

  // Controls of the mask itself are seen while they move.
  controlMoved() {
    if (this.seen) this.showMask(true);
  }

  remove() {
    if (this.followed()) return this.bench.edit({ [this.key("present")]: false });
    return this.bench.commit("/api/areas/remove", { frames: this.bench.targets(), areas: [this.chosen] });
  }

  // The lead's mask, where it lies here, as this frame's own.
  makeOwn() {
    return this.bench.edit({ [this.key("shapes")]: structuredClone(this.shapes()), [this.key("found")]: this.found()[8] >= 0.25 ? this.found() : [] });
  }

  async lookAgain() {
    const line = hear("work", "frames");
    const done = await trying(() => post("/api/areas/find", { frames: this.bench.targets(), areas: [this.chosen] }));
    if (done) tell(t`Looking for it again.`);
    for (let n = 0; n < 40; n += 1) {
      await line.next(300);
      const { work } = await get("/api/work");
      if (!work.some((w) => w.kind === "areas" && !w.over)) break;
    }
    this.off = "";
    await this.bench.refresh();
  }

  // --- new parts ----------------------------------------------------------------------------------------

  // kind null: nothing is drawn any more. into: an area that gets the part, or none for a new area.
  begin(kind, into = null) {
    this.stop();
    if (!kind) return undefined;
    if (BEGIN[kind]) return this.put(BEGIN[kind](), into);
    if (kind === "area") return this.put({ kind: "area", area: this.list().find((a) => a.id !== into)?.id }, into);
    this.drawing = { kind: kind === "edges" ? "brush" : kind, into };
    if (kind === "edges") this.brush.change({ alike: this.brush.set.alike || 0.4 });
    if (kind === "brush") this.brush.change({ alike: 0 });
    byId("area-drawing").textContent = `${KINDS[kind].name}: ${KINDS[kind].help}.`;
    byId("area-drawing").hidden = false;
    byId("brush-controls").hidden = this.drawing.kind !== "brush";
    this.bench.picture.draw();
    return undefined;
  }

  stop() {
    this.drawing = null;
    this.corners = null;
    this.drag = null;
    byId("area-drawing").hidden = true;
    if (!this.painting()) byId("brush-controls").hidden = true;
    this.bench.picture.draw();
  }

  // Whether strokes go into the chosen part.
  painting() {
    return this.one() && !this.followed() && this.shapes()[this.parts.chosen]?.kind === "brush";
  }

  async put(shape, into) {
    if (DRAWN.has(shape.kind) && shape.kind !== "straight" && shape.kind !== "round") shape.holds = "subject";
    if (into) {
      const shapes = [...this.shapes(), shape];
      this.parts.chosen = shapes.length - 1;
      return this.change(shapes, true);
    }
    const tint = this.list().length % TINTS.length;
    const made = await trying(() => post("/api/areas", { frames: this.bench.targets(), shapes: [shape], ...(tint ? { tint } : {}) }));
    if (!made) return undefined;
    this.chosen = made.area;
    this.parts.chosen = 0;
    await this.bench.refresh();
    // What was found is shown, so that one sees whether it is right.
    if (!DRAWN.has(shape.kind)) this.see("tint");
    this.fill();
    return undefined;
  }

  change(shapes, final) {
    const values = { [this.key("shapes")]: shapes };
    if (final) return this.bench.edit(values);
    return this.bench.draft(values);
  }

  changePart(values, final = true) {
    return this.change(this.shapes().map((s, i) => (i === this.parts.chosen ? { ...s, ...values } : s)), final);
  }

  async closeOutline() {
    const points = this.corners.map((p) => ({ at: p.map((v) => Number(v.toFixed(5))) }));
    const { into } = this.drawing || {};
    this.stop();
    await this.put({ kind: "outline", points }, into);
  }

  async sample(p) {
    const [x, y] = this.places.place(p);
    const got = await trying(() => post(`/api/frames/${this.bench.frame().id}/areas/sample`, { x: Math.min(0.5, Math.max(-0.5, x)), y: Math.min(0.5, Math.max(-0.5, y)) }));
    if (!got) return;
    const { into, more } = this.drawing || {};
    const shape = this.shapes()[this.parts.chosen];
    if (more && shape?.kind === "colour") await this.changePart({ samples: [...shape.samples, got.lab] });
    else {
      this.stop();
      await this.put({ kind: "colour", samples: [got.lab] }, into);
    }
  }
}

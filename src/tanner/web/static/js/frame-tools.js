// The controls of crop, turns, upright lines and projection on the Bench; the crop's handles are in crop.js.
import { post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { GUIDES, LineTool } from "./guides.js";
import { tell, trying } from "./shell.js";
import { t } from "./texts.js";

const EDGES = ["left", "top", "right", "bottom"];

export class FrameTools {
  // bench: {frame(), shown(key), edit(values), commit(url, body), targets(), others(), picture, crop, size()}
  constructor(bench) {
    this.bench = bench;
    this.lines = null;
    this.guide = { kind: "thirds", columns: 4, rows: 4, colour: "#ffffff", flip: 0, ...JSON.parse(localStorage.getItem("tanner.guide") || "{}") };
    bench.crop.guide = this.guide;
    for (const [key, label] of Object.entries(GUIDES)) byId("guide").append(el("option", { value: key, text: label }));
    this.listen();
    this.showGuide();
  }

  listen() {
    const { bench } = this;
    const on = (id, kind, run) => byId(id).addEventListener(kind, run);
    for (const by of ["90", "270", "mirror"]) on(`turn-${by}`, "click", () => bench.commit("/api/turn", { frames: bench.targets(), by }));
    on("ratio", "change", (event) => this.ratio(event.target.value));
    on("ratio-own", "change", () => this.ownRatio());
    on("ratio-swap", "click", () => this.swap());
    on("outside", "change", (event) => bench.edit({ "crop.outside": event.target.value, ...(event.target.value === "never" ? this.inside() : {}) }));
    on("crop-whole", "click", () => bench.commit("/api/giveup", { frames: bench.targets(), keys: bench.cropKeys }));
    on("crop-same", "click", () => this.sameCrop());
    on("frame-still", "change", (event) => {
      bench.crop.still = event.target.checked;
      bench.picture.draw();
    });
    for (const id of ["crop-w", "crop-h"]) on(id, "change", () => this.sized(id));
    for (const id of ["crop-unit", "crop-ppi"]) on(id, "change", () => this.showSize(this.header));
    on("guide", "change", (event) => this.setGuide({ kind: event.target.value }));
    for (const [id, key] of [["guide-columns", "columns"], ["guide-rows", "rows"]]) {
      on(id, "change", (event) => this.setGuide({ [key]: Math.min(40, Math.max(1, Math.round(Number(event.target.value)) || 1)) }));
    }
    on("guide-colour", "change", (event) => this.setGuide({ colour: event.target.value }));
    on("guide-flip", "click", () => this.setGuide({ flip: (this.guide.flip + 1) % 4 }));
    on("straighten-draw", "click", (event) => this.draw(event.currentTarget, 1));
    on("upright-draw", "click", (event) => this.draw(event.currentTarget, 4));
    on("upright-use", "click", () => this.use());
    on("upright-auto", "click", () => this.automatic());
    on("lens-make", "click", () => this.makeLens());
  }

  fill() {
    const { shown } = this.bench;
    const ratio = shown("crop.ratio");
    const listed = [...byId("ratio").options].some((o) => o.value === ratio);
    byId("ratio").value = listed ? ratio : "own";
    byId("ratio-own").hidden = listed;
    if (!listed) byId("ratio-own").value = ratio;
    byId("outside").value = shown("crop.outside");
  }

  // --- ratio and size ---------------------------------------------------------------------------

  ratio(value) {
    if (value === "own") {
      byId("ratio-own").hidden = false;
      byId("ratio-own").focus();
      return;
    }
    this.put(value);
  }

  ownRatio() {
    const match = /^\s*(\d+(?:[.,]\d+)?)\s*[:x×/]\s*(\d+(?:[.,]\d+)?)\s*$/.exec(byId("ratio-own").value);
    const [a, b] = match ? [match[1], match[2]].map((v) => Number(v.replace(",", "."))) : [0, 0];
    if (!a || !b || a / b > 20 || b / a > 20) return tell(t`Write a ratio as two numbers, for example 5:7.`, true);
    return this.put(`${a}:${b}`);
  }

  put(ratio) {
    const box = this.header ? this.bench.crop.fitted(ratio, this.header) : {};
    this.bench.edit({ "crop.ratio": ratio, ...this.named(box) });
  }

  swap() {
    const ratio = this.bench.shown("crop.ratio");
    if (!ratio.includes(":")) return tell(t`Choose a ratio first.`);
    return this.put(ratio.split(":").reverse().join(":"));
  }

  named(box) {
    return Object.fromEntries(Object.entries(box).map(([k, v]) => [`crop.${k}`, v]));
  }

  inside() {
    const values = EDGES.map((k) => this.bench.shown(`crop.${k}`));
    const held = values.map((v) => Math.min(1, Math.max(0, v)));
    return this.named(Object.fromEntries(EDGES.map((k, i) => [k, held[i]])));
  }

  perUnit(side) {
    // How many px one of the chosen unit is.
    const unit = byId("crop-unit").value;
    if (unit === "cm") return (Number(byId("crop-ppi").value) || 300) / 2.54;
    return unit === "%" ? this.header.upright[side] / 100 : 1;
  }

  showSize(header) {
    if (!header) return;
    this.header = header;
    const unit = byId("crop-unit").value;
    for (const id of ["crop-ppi", "crop-ppi-label"]) byId(id).hidden = unit !== "cm";
    const [, , w, h] = header.kept;
    const digits = unit === "px" ? 0 : 1;
    for (const [id, px, side] of [["crop-w", w * header.upright[0], 0], ["crop-h", h * header.upright[1], 1]]) {
      if (document.activeElement !== byId(id)) byId(id).value = number(px / this.perUnit(side), digits);
    }
    byId("crop-size").textContent = t`Keeps ${number(w * header.upright[0], 0)} × ${number(h * header.upright[1], 0)} px of ${header.upright[0]} × ${header.upright[1]}`;
  }

  sized(id) {
    const value = Number(byId(id).value.replace(",", ".").replace("−", "-"));
    if (!this.header || !(value > 0)) return tell(t`Write a size greater than 0.`, true);
    const { crop } = this.bench;
    const [cx, cy, kw, kh] = this.header.kept;
    const up = this.header.upright;
    const ratio = crop.ratio(this.header);
    const side = id === "crop-w" ? 0 : 1;
    const share = (value * this.perUnit(side)) / up[side];
    let [w, h] = side ? [kw, share] : [share, kh];
    if (ratio && side) w = (h * up[1] * ratio) / up[0];
    if (ratio && !side) h = (w * up[0]) / ratio / up[1];
    const reach = crop.reach();
    const shrink = Math.min(1, (2 * reach) / w, (2 * reach) / h);
    [w, h] = [w * shrink, h * shrink];
    const x = Math.min(Math.max(cx - w / 2, -reach), reach - w);
    const y = Math.min(Math.max(cy - h / 2, -reach), reach - h);
    return this.bench.edit(this.named(crop.shares(x, y, x + w, y + h)));
  }

  // Moves the crop's frame by shares of the picture: with keys, from frame to frame of a walk.
  nudge(dx, dy) {
    if (!this.header) return;
    const { crop } = this.bench;
    const [cx, cy, w, h] = this.header.kept;
    const reach = crop.reach();
    const x = Math.min(Math.max(cx - w / 2 + dx, -reach), reach - w);
    const y = Math.min(Math.max(cy - h / 2 + dy, -reach), reach - h);
    this.bench.commit("/api/edit", { frames: [this.bench.frame().id], values: this.named(crop.shares(x, y, x + w, y + h)) });
  }

  async sameCrop() {
    const frames = this.bench.others();
    if (!frames.length) return tell(t`There is no other frame in this set.`);
    const result = await this.bench.commit("/api/carry", { source: this.bench.frame().id, frames, keys: this.bench.cropKeys });
    if (result) tell(result.done ? t`The crop went to ${result.changed} frames. Walk on with the arrow keys; Shift and arrows move a frame's crop.` : t`All of them have this crop already.`);
    return undefined;
  }

  // --- guides -------------------------------------------------------------------------------------

  setGuide(values) {
    Object.assign(this.guide, values);
    localStorage.setItem("tanner.guide", JSON.stringify(this.guide));
    this.showGuide();
    this.bench.picture.draw();
  }

  showGuide() {
    byId("guide").value = this.guide.kind;
    byId("guide-colour").value = this.guide.colour;
    byId("guide-columns").value = this.guide.columns;
    byId("guide-rows").value = this.guide.rows;
    byId("guide-cells").hidden = this.guide.kind !== "grid";
  }

  // --- lines ----------------------------------------------------------------------------------------

  draw(button, most) {
    if (this.lines) {
      const same = this.button === button;
      this.stop();
      if (same) return;
    }
    const { picture } = this.bench;
    this.button = button;
    this.kept = picture.tool;
    this.lines = new LineTool(picture, most, (lines) => {
      if (most === 1) this.use();
      else byId("upright-use").disabled = lines.length < 1;
    });
    picture.tool = this.lines;
    button.setAttribute("aria-pressed", "true");
    byId("upright-use").disabled = true;
    tell(most === 1 ? t`Draw along an edge that should be upright or level.` : t`Draw two to four lines along edges that should be upright or level, then press Make upright.`);
  }

  stop() {
    if (!this.lines) return;
    const { picture } = this.bench;
    if (picture.tool === this.lines) picture.tool = this.kept;
    this.button.setAttribute("aria-pressed", "false");
    byId("upright-use").disabled = true;
    this.lines = null;
    picture.draw();
  }

  async use() {
    const lines = this.lines?.lines || [];
    if (!lines.length) return;
    const m = this.header?.margin || 0;
    const values = this.bench.picture.whole ? { "crop.left": -m, "crop.top": -m, "crop.right": 1 + m, "crop.bottom": 1 + m, "crop.straighten": 0 } : {};
    this.stop();
    const found = await trying(() => post(`/api/frames/${this.bench.frame().id}/upright`, { lines, values }));
    if (found) await this.bench.commit("/api/edit", { frames: [this.bench.frame().id], values: found.values });
  }

  async automatic() {
    this.stop();
    const many = this.bench.targets();
    if (many.length > 1) {
      const result = await this.bench.commit("/api/upright", { frames: many });
      if (result) tell([t`${result.changed} of ${many.length} frames made upright.`, ...result.trouble].join(" "), result.trouble.length > 0);
      return;
    }
    const found = await trying(() => post(`/api/frames/${this.bench.frame().id}/upright`, {}));
    if (!found) return;
    await this.bench.commit("/api/edit", { frames: [this.bench.frame().id], values: found.values });
    tell(t`${found.used} of ${found.of} lines agree.`);
  }

  async makeLens() {
    const button = byId("lens-make");
    button.disabled = true;
    tell(t`Measuring the lens from the edges in the picture …`);
    const found = await trying(() => post("/api/lens/make", { frames: this.bench.targets() }));
    button.disabled = false;
    if (!found) return;
    const d = found.distortion;
    const c = found.lateral_colour;
    byId("lens-report").hidden = false;
    byId("lens-report").textContent = t`Measured from ${d.lines} edges: ${number(d.before, 2)} px off straight before, ${number(d.after, 2)} px after. ${c.left_out || t`Colours ${number(c.before, 2)} px apart before, ${number(c.after, 2)} px after.`} It is in Kit, and in use here.`;
    const full = { "optics.distortion": 100, "optics.lateral_colour": c.left_out ? 0 : 100 };
    await this.bench.edit({ "optics.chosen_lens": found.key, ...full });
  }
}

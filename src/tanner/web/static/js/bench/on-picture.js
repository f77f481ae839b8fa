// Hue ranges and curves worked in the picture itself: pointed at, a place shows which range it is or where it lies on the curve;
// dragged up and down, that is what changes.
import { byId } from "../dom.js";
import { state } from "./state.js";
import { t } from "../texts.js";

// Middles of the named ranges, as `core.colour.ranges` declares them: given with the page.
const HUES = JSON.parse(byId("hues").textContent);
const NAMES = Object.keys(HUES);
const MIDDLES = Object.values(HUES);
const PER_PX = 0.5; // % a px of dragging

const linear = (v) => (v <= 10.31475 ? v / 3294.6 : ((v / 255 + 0.055) / 1.055) ** 2.4);

// sRGB from 0 to 255 to Oklab's lightness, chroma and hue in degrees.
function oklab([r8, g8, b8]) {
  const [r, g, b] = [r8, g8, b8].map(linear);
  const l = Math.cbrt(0.4122214708 * r + 0.5363325363 * g + 0.0514459929 * b);
  const m = Math.cbrt(0.2119034982 * r + 0.6806995451 * g + 0.1073969566 * b);
  const s = Math.cbrt(0.0883024619 * r + 0.2817188376 * g + 0.6299787005 * b);
  const a = 1.9779984951 * l - 2.428592205 * m + 0.4505937099 * s;
  const c = 0.0259040371 * l + 0.7827717662 * m - 0.808675766 * s;
  const light = 0.2104542553 * l + 0.793617785 * m - 0.0040720468 * s;
  return { light, chroma: Math.hypot(a, c), hue: ((Math.atan2(c, a) * 180) / Math.PI + 360) % 360 };
}

// How much each range has of a hue, as the core computes it.
function shares(hue) {
  return MIDDLES.map((middle, k) => {
    const away = ((hue - middle + 540) % 360) - 180;
    const next = MIDDLES[(k + (away >= 0 ? 1 : MIDDLES.length - 1)) % MIDDLES.length];
    const span = Math.abs(((next - middle + 540) % 360) - 180);
    const u = Math.max(0, Math.min(1, 1 - Math.abs(away) / span));
    return u * u * (3 - 2 * u);
  });
}

const soft = (u) => Math.max(0, Math.min(1, u)) ** 2 * (3 - 2 * Math.max(0, Math.min(1, u)));

// How much a picked range has of a colour, by hue and lightness, as the core computes it.
function shareOf(range, { light, hue }) {
  const away = Math.abs(((hue - range.middle[2] + 540) % 360) - 180);
  const lies = 100 * light >= range.darkest && 100 * light <= range.lightest;
  return lies ? soft((range.width - away) / Math.max(range.width * (range.softness / 100), 0.01)) : 0;
}

const openTab = (group) => document.querySelector(`.group[data-group="${group}"] [role=tab][aria-selected="true"]`)?.dataset.tab;

export class OnPicture {
  // bench: {picture, shown(key), move(values), edit(values), curve(key), picked()}
  constructor(bench) {
    this.bench = bench;
    this.buttons = [byId("ranges-pick"), byId("curve-pick"), byId("picked-drag")];
    for (const button of this.buttons) button.addEventListener("click", () => this.toggle(button));
  }

  toggle(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    this.stop();
    if (!on) return;
    this.bench.picture.tool = this;
    button.setAttribute("aria-pressed", "true");
  }

  stop() {
    for (const button of this.buttons) button.setAttribute("aria-pressed", "false");
    if (this.bench.picture.tool === this) this.bench.picture.tool = null;
    this.held = null;
    this.say("");
  }

  say(text) {
    for (const id of ["ranges-under", "curve-under", "picked-under"]) byId(id).textContent = text;
  }

  // The colour that is shown around a place: a mean of 5 x 5 px of the screen.
  colour([x, y]) {
    const { canvas } = this.bench.picture;
    const ratio = canvas.width / canvas.clientWidth;
    const { data } = canvas.getContext("2d").getImageData(Math.round(x * ratio) - 2, Math.round(y * ratio) - 2, 5, 5);
    return [0, 1, 2].map((c) => data.filter((_, i) => i % 4 === c).reduce((sum, v) => sum + v, 0) / 25);
  }

  cursor(p) {
    if (!this.held) this.hover(p);
    return "ns-resize";
  }

  // The picked range that has most of the colour at a place.
  range(p) {
    const seen = oklab(this.colour(p));
    const found = this.bench.picked().list().map((range, n) => {
      const of = (name) => this.bench.shown(`picked/${range.id}/${name}`) ?? this.bench.picked().neutral(name);
      const whole = { middle: range.middle, ...Object.fromEntries(["width", "softness", "darkest", "lightest"].map((k) => [k, of(k)])) };
      return { id: range.id, number: n + 1, share: seen.chroma < 0.02 ? 0 : shareOf(whole, seen) };
    });
    return found.filter((f) => f.share > 0.05).sort((a, b) => b.share - a.share)[0];
  }

  hover(p) {
    if (state.group === "picked") {
      const found = this.range(p);
      this.say(found ? t`range ${found.number} has ${Math.round(100 * found.share)} % of this` : t`in none of the ranges`);
    } else if (state.group === "ranges") {
      const { chroma, hue } = oklab(this.colour(p));
      const found = shares(hue).map((w, k) => [NAMES[k], w]).filter(([, w]) => w > 0.1).sort((a, b) => b[1] - a[1]);
      this.say(chroma < 0.02 ? t`nearly grey here` : found.map(([name, w]) => `${name} ${Math.round(100 * w)} %`).join(", "));
    } else {
      const at = this.onCurve(p);
      this.bench.curve(this.curveKey())?.point(at.x);
      this.say(t`${Math.round(100 * at.x)} % becomes ${Math.round(100 * at.y)} %`);
    }
  }

  curveKey() {
    return { Tone: "curve.points", Lightness: "curve.lightness", RGB: "curve.channels", Red: "curve.red", Green: "curve.green", Blue: "curve.blue" }[openTab("curve")];
  }

  // What is shown is behind the curve: where on the curve it comes from.
  onCurve(p) {
    const [r, g, b] = this.colour(p).map((v) => v / 255);
    const key = this.curveKey();
    const y = { "curve.red": r, "curve.green": g, "curve.blue": b }[key] ?? (key === "curve.lightness" ? 0.2126 * r + 0.7152 * g + 0.0722 * b : Math.max(r, g, b));
    return { x: this.bench.curve(key).inverse(y), y };
  }

  down(p) {
    const y = p[1];
    if (state.group === "picked") {
      const found = this.range(p);
      if (!found) return true;
      this.bench.picked().choose(found.id);
      const key = `picked/${found.id}/${byId("picked-what").value}`;
      this.held = { y, parts: [[key, 1]], from: [this.bench.shown(key) ?? 0] };
    } else if (state.group === "ranges") {
      const weights = shares(oklab(this.colour(p)).hue);
      const top = Math.max(...weights);
      const what = openTab("ranges").toLowerCase();
      const parts = NAMES.map((name, k) => [`ranges.${name}_${what}`, weights[k] / top]).filter(([, w]) => w > 0.15);
      this.held = { y, parts, from: parts.map(([key]) => this.bench.shown(key)) };
    } else {
      const key = this.curveKey();
      const { x } = this.onCurve(p);
      this.held = { y, key, ...this.bench.curve(key).grab(x) };
    }
    return true;
  }

  move(p) {
    if (!this.held) return;
    const up = this.held.y - p[1];
    if (this.held.parts) {
      this.now = Object.fromEntries(this.held.parts.map(([key, w], n) => [key, Math.round(Math.min(100, Math.max(-100, this.held.from[n] + PER_PX * up * w)))]));
    } else {
      const { points, at, key } = this.held;
      this.now = { [key]: points.map(([x, v], n) => [x, n === at ? Math.min(1, Math.max(0, Number((v + up / 400).toFixed(4)))) : v]) };
    }
    this.bench.move(this.now);
  }

  up() {
    if (this.held && this.now) this.bench.edit(this.now);
    this.held = null;
    this.now = null;
  }
}

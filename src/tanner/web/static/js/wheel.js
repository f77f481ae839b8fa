// A wheel of colour: the angle is the hue of Oklab, the distance from the middle the strength. The rules below it say the same
// by number; arrow keys turn it and move it in and out, Home puts it back.
import { el, svg } from "./dom.js";
import { t } from "./texts.js";

const SIZE = 132;
const R = 52;
const STEPS = 48;

// Oklab at one lightness and chroma to sRGB: only for the ring of the wheel.
function css(hue) {
  const [l, a, b] = [0.74, 0.12 * Math.cos(hue), 0.12 * Math.sin(hue)];
  const cones = [l + 0.3963377774 * a + 0.2158037573 * b, l - 0.1055613458 * a - 0.0638541728 * b, l - 0.0894841775 * a - 1.291485548 * b].map((v) => v ** 3);
  const rows = [[4.0767416621, -3.3077115913, 0.2309699292], [-1.2684380046, 2.6097574011, -0.3413193965], [-0.0041960863, -0.7034186147, 1.707614701]];
  const code = (v) => Math.round(255 * (v <= 0.0031308 ? 12.92 * Math.max(0, v) : 1.055 * Math.min(1, v) ** (1 / 2.4) - 0.055));
  return `rgb(${rows.map((m) => code(m[0] * cones[0] + m[1] * cones[1] + m[2] * cones[2])).join(" ")})`;
}

export class Wheel {
  // names: the keys of hue and strength; emits wheel:move and wheel:set with {values}
  constructor(root, label, hue, strength) {
    Object.assign(this, { root, hue, strength, label });
    this.at = [0, 0];
    const middle = SIZE / 2;
    const ring = Array.from({ length: STEPS }, (_, i) => {
      const [from, to] = [i - 0.03, i + 1.03].map((v) => (2 * Math.PI * v) / STEPS);
      const point = (angle, r) => `${middle + r * Math.cos(angle)} ${middle - r * Math.sin(angle)}`;
      return svg("path", { d: `M${point(from, R + 3)}A${R + 3} ${R + 3} 0 0 0 ${point(to, R + 3)}L${point(to, R + 11)}A${R + 11} ${R + 11} 0 0 1 ${point(from, R + 11)}Z`, fill: css((2 * Math.PI * (i + 0.5)) / STEPS) });
    });
    const circle = (r, name) => svg("circle", { cx: middle, cy: middle, r, class: name });
    this.arm = svg("line", { x1: middle, y1: middle, class: "arm" });
    this.handle = svg("circle", { r: 6, class: "handle" });
    this.drawing = svg("svg", { viewBox: `0 0 ${SIZE} ${SIZE}`, width: SIZE, height: SIZE, "aria-hidden": "true" }, ...ring, circle(R, "dish"), circle(R / 2, "half"), this.arm, this.handle);
    this.pad = el("div", { class: "cursor-crosshair touch-none rounded-full", role: "slider", tabindex: 0, "aria-label": label, "aria-valuemin": "0", "aria-valuemax": "100" }, this.drawing);
    root.append(this.pad);
    this.listen();
    this.draw();
  }

  set(hue, strength) {
    if (this.dragging) return;
    this.at = [hue, strength];
    this.draw();
  }

  draw() {
    const [hue, strength] = this.at;
    const angle = (hue * Math.PI) / 180;
    const [x, y] = [SIZE / 2 + (strength / 100) * R * Math.cos(angle), SIZE / 2 - (strength / 100) * R * Math.sin(angle)];
    this.arm.setAttribute("x2", x);
    this.arm.setAttribute("y2", y);
    this.handle.setAttribute("cx", x);
    this.handle.setAttribute("cy", y);
    this.handle.setAttribute("fill", strength ? css(angle) : "#ececec");
    this.pad.setAttribute("aria-valuenow", String(Math.round(strength)));
    this.pad.setAttribute("aria-valuetext", t`${Math.round(strength)} % towards ${Math.round(hue)}°`);
  }

  emit(kind) {
    const [hue, strength] = this.at.map((v) => Number(v.toFixed(1)));
    this.root.dispatchEvent(new CustomEvent(`wheel:${kind}`, { bubbles: true, detail: { values: { [this.hue]: hue, [this.strength]: strength } } }));
  }

  listen() {
    const place = (event) => {
      const box = this.drawing.getBoundingClientRect();
      const [x, y] = [event.clientX - box.left - box.width / 2, box.top + box.height / 2 - event.clientY];
      const strength = Math.min(100, (100 * Math.hypot(x, y)) / R);
      // Near the middle the hue stays: it would jump about.
      this.at = [strength < 3 ? this.at[0] : ((Math.atan2(y, x) * 180) / Math.PI + 360) % 360, strength < 3 ? 0 : strength];
      this.draw();
    };
    this.pad.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      this.dragging = true;
      this.pad.setPointerCapture(event.pointerId);
      place(event);
      this.emit("move");
    });
    this.pad.addEventListener("pointermove", (event) => {
      if (!this.dragging) return;
      place(event);
      this.emit("move");
    });
    const end = () => {
      if (!this.dragging) return;
      this.dragging = false;
      this.emit("set");
    };
    this.pad.addEventListener("pointerup", end);
    this.pad.addEventListener("pointercancel", end);
    this.pad.addEventListener("dblclick", () => this.put(this.at[0], 0));
    this.pad.addEventListener("keydown", (event) => {
      const by = event.shiftKey ? 10 : 2;
      const [hue, strength] = this.at;
      const to = { ArrowLeft: [hue + by, strength], ArrowRight: [hue - by, strength], ArrowUp: [hue, strength + by], ArrowDown: [hue, strength - by], Home: [hue, 0] }[event.key];
      if (!to) return;
      event.preventDefault();
      event.stopPropagation();
      this.put((to[0] + 360) % 360, Math.min(100, Math.max(0, to[1])));
    });
  }

  put(hue, strength) {
    this.at = [hue, strength];
    this.draw();
    this.emit("move");
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.emit("set"), 450);
  }
}

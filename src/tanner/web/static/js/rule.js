// The rule: one adjustment as a scale with real units, a tick for neutral, a notch for the lead's value and
// the handle of this frame. Emits "rule:move" while it moves and "rule:set" when a value is chosen.
import { digitsOf, number, svg } from "./dom.js";
import { t } from "./texts.js";

const TICKS_K = [2000, 2500, 3000, 4000, 5000, 6500, 10000, 50000];

// Temperature is spread by mired, in which equal steps look equal; all else is even.
function scaleOf(about) {
  if (about.offset === "mired") {
    const a = 1e6 / about.min;
    const b = 1e6 / about.max;
    return { to: (v) => (a - 1e6 / v) / (a - b), from: (p) => 1e6 / (a - p * (a - b)), ticks: TICKS_K };
  }
  const span = about.max - about.min;
  const ticks = Array.from({ length: 11 }, (_, i) => about.min + (span * i) / 10);
  return { to: (v) => (v - about.min) / span, from: (p) => about.min + p * span, ticks };
}

const PAD = 7;

export class Rule {
  constructor(root, about) {
    this.root = root;
    this.about = about;
    this.scale = scaleOf(about);
    this.bar = root.querySelector(".rule-scale");
    this.input = root.querySelector(".rule-number");
    this.reset = root.querySelector(".rule-reset");
    this.mark = root.querySelector(".rule-mark");
    this.digits = digitsOf(about.step);
    this.value = about.neutral ?? about.min;
    this.info = { layer: "neutral", below: about.neutral, isLead: false };
    this.build();
    this.listen();
    this.resizer = new ResizeObserver(() => this.draw());
    this.resizer.observe(this.bar);
  }

  build() {
    this.bar.setAttribute("aria-valuemin", this.about.min);
    this.bar.setAttribute("aria-valuemax", this.about.max);
    this.ticks = svg("g", { class: "ticks" });
    this.base = svg("line", { class: "base", y1: 15, y2: 15 });
    this.neutral = svg("line", { class: "neutral", y1: 9, y2: 21 });
    this.span = svg("line", { class: "span", y1: 15, y2: 15 });
    this.lead = svg("path", { class: "lead" });
    this.handle = svg("path", { class: "handle" });
    this.bar.append(svg("svg", { "aria-hidden": "true" }, this.base, this.ticks, this.neutral, this.span, this.lead, this.handle));
  }

  x(value) {
    const width = this.bar.clientWidth - 2 * PAD;
    return PAD + Math.min(Math.max(this.scale.to(value), 0), 1) * width;
  }

  // value null: as shot; info: {layer, below, shown, follows}
  set(value, info) {
    if (this.dragging) return;
    this.info = info;
    this.unset = value === null || value === undefined;
    this.value = this.unset ? info.shown : value;
    this.draw();
  }

  draw() {
    const a = this.about;
    const width = this.bar.clientWidth;
    if (!width) return;
    this.base.setAttribute("x1", PAD);
    this.base.setAttribute("x2", width - PAD);
    this.ticks.replaceChildren(
      ...this.scale.ticks.map((t) => svg("line", { x1: this.x(t), x2: this.x(t), y1: 12, y2: 18 })),
    );
    const start = a.neutral ?? this.info.shown;
    this.neutral.setAttribute("x1", this.x(start));
    this.neutral.setAttribute("x2", this.x(start));
    const at = this.x(this.value);
    this.span.setAttribute("x1", this.x(start));
    this.span.setAttribute("x2", at);
    this.handle.setAttribute("d", `M${at - 4} 7h8v12l-4 4l-4 -4z`);
    const below = this.info.below ?? this.info.shown;
    const notch = this.info.follows && below !== undefined ? this.x(below) : null;
    this.lead.setAttribute("d", notch === null ? "" : `M${notch - 4} 2h8l-4 6z`);
    const own = this.info.own;
    this.root.classList.toggle("own", Boolean(own));
    this.root.classList.toggle("follows", Boolean(this.info.follows) && !own);
    this.root.classList.toggle("unset", Boolean(this.unset));
    this.mark.className = own ? "rule-mark mark-own" : this.info.follows ? "rule-mark mark-follows" : "rule-mark";
    this.reset.hidden = !own;
    const word = this.info.offset ? t`offset` : this.info.follows ? t`give up` : t`reset`;
    this.reset.textContent = word;
    // What is announced begins with the word that is seen.
    this.reset.setAttribute("aria-label", `${word} ${this.about.title || this.about.label}`);
    this.reset.title = this.info.follows ? t`Give this departure up and follow the lead` : t`Back to the start`;
    const text = number(this.value, this.digits);
    if (document.activeElement !== this.input) this.input.value = this.signed(text);
    this.bar.setAttribute("aria-valuenow", this.value);
    this.bar.setAttribute("aria-valuetext", `${this.unset ? t`as shot, ` : ""}${text} ${a.unit}`.trim());
  }

  signed(text) {
    return this.about.min < 0 && this.value > 0 ? `+${text}` : text;
  }

  limit(value) {
    const { min, max, step } = this.about;
    const snapped = Math.round(value / step) * step;
    return Number(Math.min(Math.max(snapped, min), max).toFixed(6));
  }

  move(value, final) {
    this.value = this.limit(value);
    this.unset = false;
    this.draw();
    const detail = { key: this.about.key, value: this.value };
    this.root.dispatchEvent(new CustomEvent(final ? "rule:set" : "rule:move", { bubbles: true, detail }));
  }

  listen() {
    const bar = this.bar;
    const at = (event) => {
      const box = bar.getBoundingClientRect();
      return this.scale.from(Math.min(Math.max((event.clientX - box.left - PAD) / (box.width - 2 * PAD), 0), 1));
    };
    bar.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      bar.setPointerCapture(event.pointerId);
      bar.focus();
      this.dragging = true;
      // Near the handle it is taken as it lies; elsewhere it jumps there.
      const grab = Math.abs(event.clientX - bar.getBoundingClientRect().left - this.x(this.value)) < 9;
      this.grabbed = grab ? this.scale.to(this.value) - this.scale.to(at(event)) : 0;
      this.before = this.value;
      if (!grab) this.move(at(event), false);
    });
    bar.addEventListener("pointermove", (event) => {
      if (!this.dragging) return;
      const box = bar.getBoundingClientRect();
      const p = (event.clientX - box.left - PAD) / (box.width - 2 * PAD) + this.grabbed;
      const value = this.scale.from(Math.min(Math.max(p, 0), 1));
      if (this.limit(value) !== this.value) this.move(value, false);
    });
    const end = () => {
      if (!this.dragging) return;
      this.dragging = false;
      if (this.value !== this.before) this.move(this.value, true);
    };
    bar.addEventListener("pointerup", end);
    bar.addEventListener("pointercancel", end);
    bar.addEventListener("dblclick", () => this.giveUp());
    bar.addEventListener("keydown", (event) => this.key(event));
    bar.addEventListener("blur", () => this.settle());
    this.reset.addEventListener("click", () => this.giveUp());
    this.input.addEventListener("keydown", (event) => {
      if (event.key === "Enter") {
        this.type();
        this.bar.focus();
      }
      if (event.key === "Escape") {
        this.input.value = number(this.value, this.digits);
        this.bar.focus();
      }
      if (event.key === "ArrowUp" || event.key === "ArrowDown") this.key(event);
    });
    this.input.addEventListener("focus", () => this.input.select());
    this.input.addEventListener("change", () => this.type());
  }

  key(event) {
    const way = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (!way || event.ctrlKey || event.altKey) return;
    event.preventDefault();
    event.stopPropagation();
    const by = way * this.about.step * (event.shiftKey ? 10 : 1);
    // Temperature moves by mired, in which equal steps look equal.
    const mired = this.about.offset === "mired" ? 1e6 / (1e6 / this.value - way * (event.shiftKey ? 10 : 2)) : null;
    this.move(mired ?? this.value + by, false);
    // Several presses in a row are one step of the history.
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.settle(), 450);
    this.pending = true;
  }

  settle() {
    clearTimeout(this.timer);
    if (!this.pending) return;
    this.pending = false;
    this.move(this.value, true);
  }

  type() {
    const text = this.input.value.replace("\u2212", "-").replace(",", ".").replace(/[^\d.+-]/g, "");
    const value = Number.parseFloat(text);
    if (!Number.isFinite(value)) {
      this.input.value = number(this.value, this.digits);
      return;
    }
    if (this.limit(value) !== this.value || this.unset) this.move(value, true);
    this.input.value = this.signed(number(this.value, this.digits));
  }

  giveUp() {
    this.root.dispatchEvent(new CustomEvent("rule:giveup", { bubbles: true, detail: { key: this.about.key } }));
  }

  destroy() {
    this.resizer.disconnect();
    this.bar.replaceChildren();
  }
}

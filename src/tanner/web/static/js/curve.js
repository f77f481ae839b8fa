// The tone curve: points that are dragged, added by a click and taken away by a double click or Delete.
// The line between them is drawn as the core computes it (the server sends no picture of it): a monotone
// cubic by Fritsch and Carlson's slopes.
import { el, number, svg } from "./dom.js";
import { t } from "./texts.js";

const SIZE = 230;
const R = 6;

function slopes(points) {
  const n = points.length;
  const h = [];
  const d = [];
  for (let i = 0; i < n - 1; i += 1) {
    h.push(points[i + 1][0] - points[i][0]);
    d.push((points[i + 1][1] - points[i][1]) / h[i]);
  }
  if (n === 2) return [d[0], d[0]];
  const m = new Array(n).fill(0);
  for (let i = 1; i < n - 1; i += 1) {
    if (d[i - 1] * d[i] <= 0) continue;
    const a = 2 * h[i] + h[i - 1];
    const b = h[i] + 2 * h[i - 1];
    m[i] = (a + b) / (a / d[i - 1] + b / d[i]);
  }
  const edge = (h0, h1, d0, d1) => {
    let s = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1);
    if (s * d0 <= 0) s = 0;
    else if (d0 * d1 <= 0 && Math.abs(s) > 3 * Math.abs(d0)) s = 3 * d0;
    return s;
  };
  m[0] = edge(h[0], h[1], d[0], d[1]);
  m[n - 1] = edge(h[n - 2], h[n - 3], d[n - 2], d[n - 3]);
  return m;
}

export function pathOf(points) {
  const m = slopes(points);
  const at = ([x, y]) => `${(x * SIZE).toFixed(1)} ${((1 - y) * SIZE).toFixed(1)}`;
  let path = `M0 ${((1 - points[0][1]) * SIZE).toFixed(1)}L${at(points[0])}`;
  for (let i = 0; i < points.length - 1; i += 1) {
    const [x0, y0] = points[i];
    const [x1, y1] = points[i + 1];
    const h = (x1 - x0) / 3;
    path += `C${at([x0 + h, y0 + m[i] * h])} ${at([x1 - h, y1 - m[i + 1] * h])} ${at([x1, y1])}`;
  }
  return `${path}L${SIZE} ${((1 - points.at(-1)[1]) * SIZE).toFixed(1)}`;
}

export class Curve {
  constructor(root, about) {
    this.root = root;
    this.about = about;
    this.points = about.neutral.map((p) => [...p]);
    this.chosen = null;
    this.line = svg("path", { fill: "none", stroke: "#1b1b1b", "stroke-width": 1.5 });
    this.lead = svg("path", { fill: "none", stroke: "#1f6650", "stroke-width": 1, "stroke-dasharray": "4 3" });
    this.dots = svg("g");
    this.spot = svg("circle", { r: 4, fill: "none", stroke: "#7a3420", "stroke-width": 2, visibility: "hidden" });
    const grid = svg("path", { stroke: "#bdbdbd", d: [1, 2, 3].map((i) => `M${(i * SIZE) / 4} 0V${SIZE}M0 ${(i * SIZE) / 4}H${SIZE}`).join("") });
    const even = svg("path", { stroke: "#9a9a9a", d: `M0 ${SIZE}L${SIZE} 0` });
    this.frame = svg("svg", { viewBox: `0 0 ${SIZE} ${SIZE}`, role: "group", tabindex: 0, "aria-label": about.label }, grid, even, this.lead, this.line, this.spot, this.dots);
    root.append(this.frame);
    this.text = el("span", { class: "dim" });
    this.fields = [t`In`, t`Out`].map((name, axis) => el("input", { class: "w-14", inputmode: "decimal", autocomplete: "off", "aria-label": t`${name}, % of the chosen point of ${about.label}`, onchange: (event) => this.number(axis, event.target) }));
    this.numbers = el("span", { class: "flex items-center gap-1" }, this.fields[0], el("span", { text: t`% to` }), this.fields[1], el("span", { text: "%" }));
    this.reset = el("button", { type: "button", class: "rule-reset", text: t`reset`, onclick: () => this.emit("giveup") });
    this.foot = el("div", { class: "flex justify-between mt-1 min-h-7 items-center" }, this.text, this.numbers, this.reset);
    root.after(this.foot);
    this.listen();
    this.draw();
  }

  set(points, info) {
    if (this.dragging) return;
    this.points = points.map((p) => [...p]);
    this.info = info;
    if (this.chosen !== null && this.chosen >= this.points.length) this.chosen = null;
    this.draw();
  }

  draw() {
    this.line.setAttribute("d", pathOf(this.points));
    this.lead.setAttribute("d", this.info?.follows && this.info.own && this.info.below ? pathOf(this.info.below) : "");
    this.dots.replaceChildren(
      ...this.points.map(([x, y], i) =>
        svg("circle", { cx: x * SIZE, cy: (1 - y) * SIZE, r: R, fill: i === this.chosen ? "#7a3420" : "#f4f4f4", stroke: "#1b1b1b" }),
      ),
    );
    this.reset.hidden = !this.info?.own;
    const p = this.points[this.chosen];
    this.text.textContent = p ? "" : t`${this.points.length} points`;
    this.numbers.hidden = !p;
    if (p) this.fields.forEach((field, axis) => document.activeElement !== field && (field.value = number(p[axis] * 100, 1)));
  }

  // The curve at x, as it is drawn: a cubic by its slopes at both ends of the piece.
  at(x) {
    const p = this.points;
    if (x <= p[0][0]) return p[0][1];
    if (x >= p.at(-1)[0]) return p.at(-1)[1];
    const i = p.findIndex(([px]) => px > x) - 1;
    const m = slopes(p);
    const h = p[i + 1][0] - p[i][0];
    const t = (x - p[i][0]) / h;
    return (2 * t ** 3 - 3 * t ** 2 + 1) * p[i][1] + (t ** 3 - 2 * t ** 2 + t) * h * m[i] + (3 * t ** 2 - 2 * t ** 3) * p[i + 1][1] + (t ** 3 - t ** 2) * h * m[i + 1];
  }

  // Where a result comes from: the nearest place of 256.
  inverse(y) {
    let best = 0;
    for (let k = 1; k < 256; k += 1) if (Math.abs(this.at(k / 255) - y) < Math.abs(this.at(best / 255) - y)) best = k;
    return best / 255;
  }

  // A mark on the curve, for a place in the picture.
  point(x) {
    this.spot.setAttribute("cx", x * SIZE);
    this.spot.setAttribute("cy", (1 - this.at(x)) * SIZE);
    this.spot.setAttribute("visibility", "visible");
  }

  // The points with one at x that may be moved: the nearest, or a new one.
  grab(x) {
    const points = this.points.map((p) => [...p]);
    let at = points.findIndex(([px]) => Math.abs(px - x) < 0.05);
    if (at < 0 && points.length < 16) {
      at = points.findIndex(([px]) => px > x);
      if (at < 0) at = points.length;
      points.splice(at, 0, [Number(x.toFixed(4)), Number(this.at(x).toFixed(4))]);
    }
    return { points, at };
  }

  // The chosen point by number: from 0 to 100, between its neighbours.
  number(axis, field) {
    const value = Number(field.value.replace(",", ".").replace("−", "-"));
    const p = this.points[this.chosen];
    if (p && Number.isFinite(value)) {
      this.place(this.chosen, axis ? p[0] : value / 100, axis ? value / 100 : p[1]);
      this.emit("set");
    }
    field.value = number(this.points[this.chosen][axis] * 100, 1);
    this.draw();
  }

  emit(kind) {
    const value = this.points.map(([x, y]) => [Number(x.toFixed(4)), Number(y.toFixed(4))]);
    this.root.dispatchEvent(new CustomEvent(`rule:${kind}`, { bubbles: true, detail: { key: this.about.key, value } }));
  }

  place(i, x, y) {
    const low = i > 0 ? this.points[i - 1][0] + 0.005 : 0;
    const high = i < this.points.length - 1 ? this.points[i + 1][0] - 0.005 : 1;
    this.points[i] = [Math.min(Math.max(x, low), high), Math.min(Math.max(y, 0), 1)];
  }

  take(i) {
    if (this.points.length <= 2) return;
    this.points.splice(i, 1);
    this.chosen = null;
    this.draw();
    this.emit("set");
  }

  listen() {
    const at = (event) => {
      const box = this.frame.getBoundingClientRect();
      return [(event.clientX - box.left) / box.width, 1 - (event.clientY - box.top) / box.height];
    };
    const nearest = ([x, y]) => {
      let best = null;
      this.points.forEach((p, i) => {
        const d = Math.hypot(p[0] - x, p[1] - y);
        if (d < 0.06 && (!best || d < best.d)) best = { d, i };
      });
      return best?.i ?? null;
    };
    this.frame.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      const [x, y] = at(event);
      let i = nearest([x, y]);
      if (i === null && this.points.length < 16) {
        i = this.points.findIndex((p) => p[0] > x);
        if (i < 0) i = this.points.length;
        this.points.splice(i, 0, [x, y]);
        this.place(i, x, y);
      }
      if (i === null) return;
      this.chosen = i;
      this.dragging = true;
      this.frame.setPointerCapture(event.pointerId);
      this.draw();
      this.emit("move");
    });
    this.frame.addEventListener("pointermove", (event) => {
      if (!this.dragging) return;
      this.place(this.chosen, ...at(event));
      this.draw();
      this.emit("move");
    });
    const end = () => {
      if (!this.dragging) return;
      this.dragging = false;
      this.emit("set");
    };
    this.frame.addEventListener("pointerup", end);
    this.frame.addEventListener("pointercancel", end);
    this.frame.addEventListener("dblclick", (event) => {
      const i = nearest(at(event));
      if (i !== null) this.take(i);
    });
    this.frame.addEventListener("keydown", (event) => {
      if (event.key === "Tab" || event.ctrlKey) return;
      if (event.key === "Delete" && this.chosen !== null) this.take(this.chosen);
      else if (event.key === "PageDown" || event.key === "PageUp") {
        const n = this.points.length;
        this.chosen = ((this.chosen ?? -1) + (event.key === "PageDown" ? 1 : -1) + n) % n;
        this.draw();
      } else if (event.key.startsWith("Arrow") && this.chosen !== null) {
        const by = event.shiftKey ? 0.05 : 0.005;
        const [x, y] = this.points[this.chosen];
        const dx = { ArrowLeft: -by, ArrowRight: by }[event.key] || 0;
        const dy = { ArrowDown: -by, ArrowUp: by }[event.key] || 0;
        this.place(this.chosen, x + dx, y + dy);
        this.draw();
        this.emit("move");
        clearTimeout(this.timer);
        this.timer = setTimeout(() => this.emit("set"), 450);
      } else return;
      event.preventDefault();
      event.stopPropagation();
    });
  }

  destroy() {
    this.root.replaceChildren();
    this.foot.remove();
  }
}

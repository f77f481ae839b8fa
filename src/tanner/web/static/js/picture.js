// The picture on the Bench: shows views as they come, zoom and pan, before and after, overlays.
// The last good picture stays until the next is there.

import { drawGrid } from "./guides.js";

export class Picture {
  // ask(view) sends a wish; tools may draw on top and take the pointer.
  constructor(host, canvas, ask) {
    this.host = host;
    this.canvas = canvas;
    this.ask = ask;
    this.context = canvas.getContext("2d");
    this.zoom = 0;
    this.x = 0.5;
    this.y = 0.5;
    this.whole = false;
    this.marks = false;
    this.outside = false;
    this.rebuilt = false; // where the colour of clipped places was rebuilt
    this.places = false; // where px lie on the frame comes along, for masks
    this.spots = false; // what became of spots comes along
    this.specks = false; // what is fine, in grey
    this.area = ""; // id of an area whose mask is shown; shown: how
    this.shown = "tint";
    this.proof = "";
    this.paper = true;
    this.sharpening = false;
    this.holding = false;
    this.split = null; // {at: [x, y] in shares of the canvas, angle}
    this.after = null;
    this.before = null;
    this.tool = null;
    this.grid = false; // an even grid over the view, while geometry is changed
    this.resizer = new ResizeObserver(() => this.resize());
    this.resizer.observe(host);
    this.listen();
  }

  get ratio() {
    return window.devicePixelRatio || 1;
  }

  resize() {
    const w = Math.max(16, Math.round(this.host.clientWidth * this.ratio));
    const h = Math.max(16, Math.round(this.host.clientHeight * this.ratio));
    if (this.canvas.width === w && this.canvas.height === h) return;
    Object.assign(this.canvas, { width: w, height: h });
    this.draw();
    this.refresh(false);
  }

  view(draft, before = false) {
    // A margin keeps the picture off the edges when it is shown whole.
    const pad = this.zoom === 0 ? Math.round(14 * this.ratio) * 2 : 0;
    return {
      width: Math.max(16, this.canvas.width - pad),
      height: Math.max(16, this.canvas.height - pad),
      zoom: this.zoom,
      x: this.x,
      y: this.y,
      draft,
      whole: this.whole,
      marks: this.marks,
      outside: this.outside,
      rebuilt: this.rebuilt,
      places: this.places && !before,
      sharpening: this.sharpening && !before,
      spots: this.spots && !before && !draft,
      specks: this.specks,
      area: before ? "" : this.area,
      shown: this.shown,
      proof: this.proof,
      paper: this.paper,
      before,
    };
  }

  refresh(draft) {
    if (this.canvas.width <= 16) return;
    this.ask(this.view(draft));
    if (!draft && (this.split || this.holding)) this.ask(this.view(false, true));
  }

  // A view that came: kept unless the place has changed since.
  show(header, bitmap) {
    const slot = { header, bitmap, zoom: this.zoom };
    if (header.before) this.before = slot;
    else {
      const moved = !this.after || this.after.header.frame !== header.frame;
      if (moved) this.before = null;
      this.after = slot;
    }
    this.draw();
  }

  forget() {
    this.before = null;
  }

  // Where a view lies on the canvas, in device px.
  rect(slot) {
    const { header } = slot;
    const W = this.canvas.width;
    const H = this.canvas.height;
    if (header.whole && this.zoom === 0) {
      const pad = Math.round(14 * this.ratio) * 2;
      const scale = Math.min((W - pad) / header.full[0], (H - pad) / header.full[1], 2400 / Math.max(...header.full), 1);
      const w = Math.max(1, Math.round(header.full[0] * scale));
      const h = Math.max(1, Math.round(header.full[1] * scale));
      const at = [Math.round((W - w) / 2), Math.round((H - h) / 2), w, h];
      const by = this.tool?.shift?.(at, header, W, H) || [0, 0];
      return [at[0] + by[0], at[1] + by[1], w, h];
    }
    const enlarge = this.zoom > 1 ? this.zoom : 1;
    const [l, t, r, b] = header.region;
    const w = (r - l) * enlarge;
    const h = (b - t) * enlarge;
    // While panning the part that was sent lies off the centre that is wanted now.
    const cx = ((l + r) / 2 / header.size[0] - this.clampedX(header)) * header.size[0] * enlarge;
    const cy = ((t + b) / 2 / header.size[1] - this.clampedY(header)) * header.size[1] * enlarge;
    return [Math.round((W - w) / 2 + cx), Math.round((H - h) / 2 + cy), w, h];
  }

  clampedX(header) {
    return this.clamp(this.x, header.size[0], header.region[2] - header.region[0]);
  }

  clampedY(header) {
    return this.clamp(this.y, header.size[1], header.region[3] - header.region[1]);
  }

  clamp(share, size, part) {
    const half = part / size / 2;
    return Math.min(Math.max(share, half), 1 - half);
  }

  draw() {
    const c = this.context;
    c.clearRect(0, 0, this.canvas.width, this.canvas.height);
    if (!this.after) return;
    const both = this.before && this.before.header.frame === this.after.header.frame;
    if (this.holding && both) this.paint(this.before);
    else {
      this.paint(this.after);
      if (this.split && both) this.paintSplit();
    }
    if (this.grid) drawGrid(c, this.rect(this.after), this.ratio);
    this.tool?.draw?.(c, this.rect(this.after), this.after.header, this.ratio);
  }

  paint(slot) {
    const c = this.context;
    c.imageSmoothingEnabled = !(this.zoom > 1);
    c.imageSmoothingQuality = "high";
    c.drawImage(slot.bitmap, ...this.rect(slot));
  }

  splitLine() {
    const x = this.split.at[0] * this.canvas.width;
    const y = this.split.at[1] * this.canvas.height;
    const reach = Math.hypot(this.canvas.width, this.canvas.height);
    return { x, y, dx: Math.sin(this.split.angle) * reach, dy: -Math.cos(this.split.angle) * reach };
  }

  // Before lies to the left of the line.
  paintSplit() {
    const c = this.context;
    const { x, y, dx, dy } = this.splitLine();
    c.save();
    c.beginPath();
    c.moveTo(x + dx, y + dy);
    c.lineTo(x - dx, y - dy);
    c.lineTo(x - dx + dy * 2, y - dy - dx * 2);
    c.lineTo(x + dx + dy * 2, y + dy - dx * 2);
    c.clip();
    this.paint(this.before);
    c.restore();
    c.lineWidth = this.ratio;
    for (const [colour, width] of [["#1b1b1b", 3], ["#ffffff", 1.2]]) {
      c.strokeStyle = colour;
      c.lineWidth = width * this.ratio;
      c.beginPath();
      c.moveTo(x + dx, y + dy);
      c.lineTo(x - dx, y - dy);
      c.stroke();
    }
    const turn = this.turnPoint();
    for (const [px, py, r] of [[x, y, 7], [turn[0], turn[1], 5]]) {
      c.beginPath();
      c.arc(px, py, r * this.ratio, 0, 7);
      c.fillStyle = "#fff";
      c.fill();
      c.strokeStyle = "#1b1b1b";
      c.lineWidth = 1.5 * this.ratio;
      c.stroke();
    }
  }

  turnPoint() {
    const { x, y } = this.splitLine();
    const far = Math.min(this.canvas.height, this.canvas.width) * 0.3;
    return [x + Math.sin(this.split.angle) * far, y - Math.cos(this.split.angle) * far];
  }

  setSplit(on) {
    this.split = on ? { at: [0.5, 0.5], angle: 0 } : null;
    if (on && !this.before) this.ask(this.view(false, true));
    this.draw();
  }

  // Where the development sharpens, while a key is held.
  showSharpening(on) {
    if (this.sharpening === on) return;
    this.sharpening = on;
    this.refresh(false);
  }

  hold(on) {
    this.holding = on;
    if (on && !this.before) this.ask(this.view(false, true));
    this.draw();
  }

  setZoom(zoom, at = null) {
    if (at && this.after) {
      const share = this.share(at);
      if (share) [this.x, this.y] = share;
    }
    this.zoom = zoom;
    this.before = null;
    this.refresh(false);
  }

  point(event) {
    const box = this.canvas.getBoundingClientRect();
    return [(event.clientX - box.left) * this.ratio, (event.clientY - box.top) * this.ratio];
  }

  // A canvas position in shares of the whole picture; null outside it.
  share([px, py]) {
    if (!this.after) return null;
    const [x, y, w, h] = this.rect(this.after);
    const u = (px - x) / w;
    const v = (py - y) / h;
    if (u < 0 || u > 1 || v < 0 || v > 1) return null;
    const [l, t, r, b] = this.after.header.region;
    const [sw, sh] = this.after.header.size;
    return [(l + u * (r - l)) / sw, (t + v * (b - t)) / sh, u, v];
  }

  listen() {
    const near = (a, b, far) => Math.hypot(a[0] - b[0], a[1] - b[1]) < far * this.ratio;
    let drag = null;
    this.canvas.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      const p = this.point(event);
      this.canvas.setPointerCapture(event.pointerId);
      if (this.split) {
        const { x, y } = this.splitLine();
        if (near(p, this.turnPoint(), 12)) drag = "turn";
        else if (near(p, [x, y], 14) || this.nearLine(p)) drag = "line";
        if (drag) return;
      }
      if (this.tool?.down?.(p, event)) {
        drag = "tool";
        return;
      }
      if (this.zoom > 0) drag = { from: p, x: this.x, y: this.y };
    });
    this.canvas.addEventListener("pointermove", (event) => {
      const p = this.point(event);
      if (!drag) {
        this.onHover?.(this.share(p));
        this.canvas.style.cursor = this.tool?.cursor?.(p) || (this.zoom > 0 ? "grab" : "default");
        return;
      }
      if (drag === "tool") this.tool?.move?.(p, event);
      else if (drag === "line") this.split.at = [p[0] / this.canvas.width, p[1] / this.canvas.height];
      else if (drag === "turn") {
        const { x, y } = this.splitLine();
        this.split.angle = Math.atan2(p[0] - x, y - p[1]);
      } else this.pan(drag, p);
      this.draw();
    });
    const end = (event) => {
      if (drag === "tool") this.tool?.up?.(this.point(event), event);
      else if (drag && typeof drag === "object") this.refresh(false);
      drag = null;
    };
    this.canvas.addEventListener("pointerup", end);
    this.canvas.addEventListener("pointercancel", end);
    this.canvas.addEventListener("pointerleave", () => this.onHover?.(null));
    this.canvas.addEventListener("dblclick", (event) => {
      if (!this.tool) this.onZoom?.(this.zoom ? 0 : 1, this.point(event));
    });
  }

  nearLine(p) {
    const { x, y, dx, dy } = this.splitLine();
    const length = Math.hypot(dx, dy);
    return Math.abs((p[0] - x) * dy - (p[1] - y) * dx) / length < 5 * this.ratio;
  }

  pan(drag, p) {
    const { header } = this.after;
    const enlarge = this.zoom > 1 ? this.zoom : 1;
    const part = [header.region[2] - header.region[0], header.region[3] - header.region[1]];
    this.x = this.clamp(drag.x - (p[0] - drag.from[0]) / enlarge / header.size[0], header.size[0], part[0]);
    this.y = this.clamp(drag.y - (p[1] - drag.from[1]) / enlarge / header.size[1], header.size[1], part[1]);
    this.before = null;
    this.ask(this.view(false));
  }

  destroy() {
    this.resizer.disconnect();
  }
}

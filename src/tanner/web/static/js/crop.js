// The crop on the picture: the frame stays still, the crop lies and turns over it. The rectangle that is
// really kept (never with empty corners) comes from the server with every view.

import { drawGuide } from "./guides.js";

const EDGES = [
  [-1, -1], [0, -1], [1, -1], [1, 0], [1, 1], [0, 1], [-1, 1], [-1, 0],
];

export class CropTool {
  // values() gives {left, top, right, bottom, straighten, ratio}; change(values, final)
  constructor(values, change) {
    this.values = values;
    this.change = change;
    this.drag = null;
    this.guide = { kind: "thirds", flip: 0, colour: "#ffffff" };
    this.still = false; // the frame stays in the middle and the picture moves under it
  }

  // How far from the middle the crop may go, in shares of the frame.
  reach() {
    return this.values().outside === "never" ? 0.5 : 1.1;
  }

  // Where the whole frame lies in a view that may show more than it.
  frameIn([x, y, w, h], header) {
    const m = header.margin || 0;
    const fw = w / (1 + 2 * m);
    const fh = h / (1 + 2 * m);
    return [x + fw * m, y + fh * m, fw, fh];
  }

  // By how much the picture is moved so that the crop stays in the middle of the canvas.
  shift(rect, header, width, height) {
    if (!this.still) return [0, 0];
    const s = this.shapeIn(this.frameIn(rect, header), header);
    return [Math.round(width / 2 - s.cx), Math.round(height / 2 - s.cy)];
  }

  ratio(header) {
    const { ratio } = this.values();
    if (ratio === "original") return header.upright[0] / header.upright[1];
    const match = /^(\d+(?:\.\d+)?):(\d+(?:\.\d+)?)$/.exec(ratio);
    return match ? Number(match[1]) / Number(match[2]) : null;
  }

  // The kept rectangle on the canvas: centre, half sizes, angle.
  shape() {
    return this.shapeIn(this.rect, this.header);
  }

  shapeIn([x, y, w, h], header) {
    const [cx, cy, kw, kh] = header.kept;
    const a = (header.straighten * Math.PI) / 180;
    const px = cx * w;
    const py = cy * h;
    return {
      a,
      cx: x + w / 2 + Math.cos(a) * px + Math.sin(a) * py,
      cy: y + h / 2 + Math.cos(a) * py - Math.sin(a) * px,
      hw: (kw * w) / 2,
      hh: (kh * h) / 2,
    };
  }

  corner(s, i, j) {
    const dx = i * s.hw;
    const dy = j * s.hh;
    return [s.cx + Math.cos(s.a) * dx + Math.sin(s.a) * dy, s.cy + Math.cos(s.a) * dy - Math.sin(s.a) * dx];
  }

  draw(c, rect, header, ratio) {
    this.rect = this.frameIn(rect, header);
    this.header = header;
    this.ratioPx = ratio;
    const s = this.shape();
    const corners = [[-1, -1], [1, -1], [1, 1], [-1, 1]].map(([i, j]) => this.corner(s, i, j));
    c.save();
    c.beginPath();
    c.rect(...rect);
    corners.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
    c.closePath();
    c.fillStyle = "rgb(60 60 60 / 0.62)";
    c.fill("evenodd");
    c.strokeStyle = "#fff";
    c.lineWidth = 1.5 * ratio;
    c.beginPath();
    corners.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
    c.closePath();
    c.stroke();
    drawGuide(c, (i, j) => this.corner(s, i, j), this.guide, ratio);
    c.fillStyle = "#fff";
    c.strokeStyle = "#1b1b1b";
    c.lineWidth = ratio;
    for (const [i, j] of EDGES) {
      const [x, y] = this.corner(s, i, j);
      const r = (i && j ? 5 : 4) * ratio;
      c.fillRect(x - r, y - r, 2 * r, 2 * r);
      c.strokeRect(x - r, y - r, 2 * r, 2 * r);
    }
    c.restore();
  }

  hit(p) {
    if (!this.header) return null;
    const s = this.shape();
    for (const [i, j] of EDGES) {
      const [x, y] = this.corner(s, i, j);
      if (Math.hypot(p[0] - x, p[1] - y) < 13 * this.ratioPx) return { i, j };
    }
    const d = this.local(s, p);
    return Math.abs(d[0]) < s.hw && Math.abs(d[1]) < s.hh ? { i: 0, j: 0 } : null;
  }

  // A canvas position along the crop's own axes, from its centre.
  local(s, p) {
    const dx = p[0] - s.cx;
    const dy = p[1] - s.cy;
    return [Math.cos(s.a) * dx - Math.sin(s.a) * dy, Math.sin(s.a) * dx + Math.cos(s.a) * dy];
  }

  cursor(p) {
    const hit = this.hit(p);
    if (!hit) return "";
    if (!hit.i && !hit.j) return "move";
    if (!hit.i) return "ns-resize";
    if (!hit.j) return "ew-resize";
    return hit.i === hit.j ? "nwse-resize" : "nesw-resize";
  }

  down(p) {
    const hit = this.hit(p);
    if (!hit) return false;
    const [cx, cy, w, h] = this.header.kept;
    this.drag = { ...hit, from: p, shape: this.shape(), box: [cx - w / 2, cy - h / 2, cx + w / 2, cy + h / 2] };
    return true;
  }

  move(p) {
    if (this.drag) this.change(this.moved(p), false);
  }

  up(p) {
    if (!this.drag) return;
    const moved = Math.hypot(p[0] - this.drag.from[0], p[1] - this.drag.from[1]) > 1;
    const result = this.moved(p);
    this.drag = null;
    if (moved) this.change(result, true);
  }

  moved(p) {
    const { i, j, shape, from } = this.drag;
    const [, , w, h] = this.rect;
    const a = this.local(shape, p);
    const b = this.local(shape, from);
    let [l, t, r, m] = this.drag.box;
    const far = this.reach();
    // Under a frame that stays the picture is what is dragged.
    const way = this.still && !i && !j ? -1 : 1;
    const dx = ((a[0] - b[0]) / w) * way;
    const dy = ((a[1] - b[1]) / h) * way;
    const least = 0.03;
    if (!i && !j) {
      const sx = Math.min(Math.max(dx, -far - l), far - r);
      const sy = Math.min(Math.max(dy, -far - t), far - m);
      return this.shares(l + sx, t + sy, r + sx, m + sy);
    }
    if (i < 0) l = Math.min(Math.max(l + dx, -far), r - least);
    if (i > 0) r = Math.max(Math.min(r + dx, far), l + least);
    if (j < 0) t = Math.min(Math.max(t + dy, -far), m - least);
    if (j > 0) m = Math.max(Math.min(m + dy, far), t + least);
    const ratio = this.ratio(this.header);
    if (ratio) [l, t, r, m] = this.held([l, t, r, m], i, j, (ratio * this.header.upright[1]) / this.header.upright[0]);
    return this.shares(l, t, r, m);
  }

  // Keeps width / height (in shares) by shrinking what is too long, from the side that moves.
  held([l, t, r, m], i, j, ratio) {
    let w = r - l;
    let h = m - t;
    if (!j) h = w / ratio;
    else if (!i) w = h * ratio;
    else if (w / h > ratio) w = h * ratio;
    else h = w / ratio;
    const far = this.reach();
    const most = Math.min(1, (2 * far) / w, (2 * far) / h);
    w *= most;
    h *= most;
    const cx = (l + r) / 2;
    const cy = (t + m) / 2;
    const box = [i < 0 ? r - w : i > 0 ? l : cx - w / 2, j < 0 ? m - h : j > 0 ? t : cy - h / 2];
    const x = Math.min(Math.max(box[0], -far), far - w);
    const y = Math.min(Math.max(box[1], -far), far - h);
    return [x, y, x + w, y + h];
  }

  // The largest crop of a ratio around the present centre.
  fitted(ratioText, header) {
    const [cx, cy, kw, kh] = header.kept;
    if (ratioText === "free") return {};
    const saved = this.values;
    this.values = () => ({ ...saved(), ratio: ratioText });
    const ratio = (this.ratio(header) * header.upright[1]) / header.upright[0];
    this.values = saved;
    let w = kw;
    let h = kh;
    if (w / h > ratio) w = h * ratio;
    else h = w / ratio;
    return this.shares(cx - w / 2, cy - h / 2, cx + w / 2, cy + h / 2);
  }

  shares(l, t, r, m) {
    const far = this.reach();
    const fix = (v) => Number((Math.min(Math.max(v, -far), far) + 0.5).toFixed(5));
    return { left: fix(l), top: fix(t), right: fix(r), bottom: fix(m) };
  }
}

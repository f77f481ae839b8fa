// Lines over the picture: a grid while geometry is changed, and guides inside the crop. All places go through
// at(i, j), from -1 to 1 across and down, so that they turn with the crop.
import { t } from "./texts.js";

export const GUIDES = { thirds: t`thirds`, golden: t`golden section`, spiral: t`spiral`, diagonals: t`diagonals`, centre: t`centre`, grid: t`own grid`, none: t`none` };
const PHI = (1 + Math.sqrt(5)) / 2;

function line(c, at, from, to) {
  c.moveTo(...at(...from));
  c.lineTo(...at(...to));
}

function cross(c, at, xs, ys) {
  for (const x of xs) line(c, at, [x, -1], [x, 1]);
  for (const y of ys) line(c, at, [-1, y], [1, y]);
}

const parts = (n) => Array.from({ length: Math.max(0, n - 1) }, (_, k) => ((k + 1) / n) * 2 - 1);

// Quarter arcs in ever smaller squares of a golden rectangle, stretched to the frame.
function spiral(c, at) {
  let [x, y, w, h] = [0, 0, PHI, 1];
  let begun = false;
  for (let k = 0; k < 9; k += 1) {
    const side = Math.min(w, h);
    const turn = k % 4;
    const centre = [[x + side, y + side], [x, y + side], [x + w - side, y], [x + side, y + h - side]][turn];
    if (turn === 1) centre[0] = x + w - side;
    if (turn === 2) centre[1] = y + h - side;
    const first = [Math.PI, -Math.PI / 2, 0, Math.PI / 2][turn];
    const middle = [[x + side, y + side], [x, y + side], [x + w - side, y + h - side], [x + side, y + h - side]][turn];
    for (let t = 0; t <= 16; t += 1) {
      const a = first + ((Math.PI / 2) * t) / 16;
      const px = middle[0] + Math.cos(a) * side;
      const py = middle[1] + Math.sin(a) * side;
      const p = at((px / PHI) * 2 - 1, py * 2 - 1);
      if (begun) c.lineTo(...p);
      else c.moveTo(...p);
      begun = true;
    }
    if (turn === 0) [x, w] = [x + side, w - side];
    else if (turn === 1) [y, h] = [y + side, h - side];
    else if (turn === 2) w -= side;
    else h -= side;
  }
}

// choice: {kind, columns, rows, colour, flip}; ratio: device px per CSS px.
export function drawGuide(c, at, choice, ratio) {
  if (choice.kind === "none") return;
  const sx = choice.flip & 1 ? -1 : 1;
  const sy = choice.flip & 2 ? -1 : 1;
  const flipped = (i, j) => at(i * sx, j * sy);
  c.save();
  for (const [width, colour] of [[2.2, "rgb(0 0 0 / 0.35)"], [0.8, choice.colour]]) {
    c.beginPath();
    if (choice.kind === "thirds") cross(c, flipped, [-1 / 3, 1 / 3], [-1 / 3, 1 / 3]);
    if (choice.kind === "golden") cross(c, flipped, [1 - 2 / PHI, 2 / PHI - 1], [1 - 2 / PHI, 2 / PHI - 1]);
    if (choice.kind === "centre") cross(c, flipped, [0], [0]);
    if (choice.kind === "grid") cross(c, flipped, parts(choice.columns), parts(choice.rows));
    if (choice.kind === "diagonals") {
      line(c, flipped, [-1, -1], [1, 1]);
      line(c, flipped, [-1, 1], [1, -1]);
    }
    if (choice.kind === "spiral") spiral(c, flipped);
    c.strokeStyle = colour;
    c.lineWidth = width * ratio;
    c.stroke();
  }
  c.restore();
}

// An even grid over the whole view, for judging what is upright and straight.
export function drawGrid(c, [x, y, w, h], ratio) {
  const step = Math.max(w, h) / 16;
  const at = (i, j) => [x + ((i + 1) / 2) * w, y + ((j + 1) / 2) * h];
  c.save();
  c.beginPath();
  for (let k = 1; k * step < w; k += 1) line(c, at, [((k * step) / w) * 2 - 1, -1], [((k * step) / w) * 2 - 1, 1]);
  for (let k = 1; k * step < h; k += 1) line(c, at, [-1, ((k * step) / h) * 2 - 1], [1, ((k * step) / h) * 2 - 1]);
  for (const [width, colour] of [[2, "rgb(0 0 0 / 0.25)"], [0.8, "rgb(255 255 255 / 0.75)"]]) {
    c.strokeStyle = colour;
    c.lineWidth = width * ratio;
    c.stroke();
  }
  c.restore();
}

// Lines that the user draws along edges.
export class LineTool {
  // picture gives shares; done(lines) is told after each line
  constructor(picture, most, done) {
    Object.assign(this, { picture, most, done });
    this.lines = [];
    this.now = null;
  }

  cursor() {
    return "crosshair";
  }

  down(p) {
    const s = this.picture.share(p);
    if (!s || this.lines.length >= this.most) return false;
    this.now = [s[0], s[1], s[0], s[1]];
    return true;
  }

  move(p) {
    const s = this.picture.share(p);
    if (this.now && s) [this.now[2], this.now[3]] = s;
  }

  up(p) {
    this.move(p);
    const line = this.now;
    this.now = null;
    if (!line || Math.hypot(line[2] - line[0], line[3] - line[1]) < 0.02) return;
    this.lines.push(line);
    this.done(this.lines);
  }

  draw(c, [x, y, w, h], header, ratio) {
    const [l, t, r, b] = header.region;
    const [sw, sh] = header.size;
    const at = (u, v) => [x + ((u * sw - l) / (r - l)) * w, y + ((v * sh - t) / (b - t)) * h];
    c.save();
    for (const line of [...this.lines, ...(this.now ? [this.now] : [])]) {
      const a = at(line[0], line[1]);
      const e = at(line[2], line[3]);
      for (const [width, colour] of [[4, "#1b1b1b"], [1.8, "#fff"]]) {
        c.strokeStyle = colour;
        c.lineWidth = width * ratio;
        c.beginPath();
        c.moveTo(...a);
        c.lineTo(...e);
        c.stroke();
      }
      for (const p of [a, e]) {
        c.beginPath();
        c.arc(p[0], p[1], 4 * ratio, 0, 7);
        c.fillStyle = "#fff";
        c.fill();
        c.strokeStyle = "#1b1b1b";
        c.lineWidth = ratio;
        c.stroke();
      }
    }
    c.restore();
  }
}

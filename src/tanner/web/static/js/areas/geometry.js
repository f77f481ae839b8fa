// Where a mask lies on this frame: found again by a perspective map, then moved, scaled and turned by hand.

export const WHOLE = [0, 0, 1, 0];
const rad = (degrees) => (degrees * Math.PI) / 180;

// A point of a mask's own coordinates where the area lies on this frame, and back.
export function placed([dx, dy, s, a], [x, y]) {
  const c = Math.cos(rad(a)) * s;
  const n = Math.sin(rad(a)) * s;
  return [c * x - n * y + dx, n * x + c * y + dy];
}
export function unplaced([dx, dy, s, a], [x, y]) {
  const c = Math.cos(rad(a)) / s;
  const n = Math.sin(rad(a)) / s;
  return [c * (x - dx) + n * (y - dy), -n * (x - dx) + c * (y - dy)];
}

// found: nine numbers, or none.
export function again(found, [x, y]) {
  if (!found?.length) return [x, y];
  const d = found[6] * x + found[7] * y + 1;
  return [(found[0] * x + found[1] * y + found[2]) / d, (found[3] * x + found[4] * y + found[5]) / d];
}

// Centripetal Catmull-Rom from p[1] to p[2], as the core draws it.
function curve(p, steps) {
  const knots = [0];
  for (let i = 1; i < 4; i += 1) knots.push(knots[i - 1] + Math.max(Math.sqrt(Math.hypot(p[i][0] - p[i - 1][0], p[i][1] - p[i - 1][1])), 1e-9));
  const mix = (a, b, i, j, x) => [0, 1].map((k) => ((knots[j] - x) * a[k] + (x - knots[i]) * b[k]) / (knots[j] - knots[i]));
  return Array.from({ length: steps }, (_, n) => {
    const x = knots[1] + (n / steps) * (knots[2] - knots[1]);
    const [a1, a2, a3] = [mix(p[0], p[1], 0, 1, x), mix(p[1], p[2], 1, 2, x), mix(p[2], p[3], 2, 3, x)];
    return mix(mix(a1, a2, 0, 2, x), mix(a2, a3, 1, 3, x), 1, 2, x);
  });
}

// The closed line of an outline as points.
export function lineOf(points) {
  const count = points.length;
  return points.flatMap((corner, i) => {
    const next = points[(i + 1) % count];
    if (!corner.curved && !next.curved) return [corner.at];
    const four = [-1, 0, 1, 2].map((k) => points[(i + k + count) % count].at);
    if (!corner.curved) four[0] = [2 * four[1][0] - four[2][0], 2 * four[1][1] - four[2][1]];
    if (!next.curved) four[3] = [2 * four[2][0] - four[1][0], 2 * four[2][1] - four[1][1]];
    return curve(four, 12);
  });
}

// Paths of strokes: base64 of 16-bit steps, see `core.areas.strokes`.
const STEP = 16384;
export function written(points) {
  const bytes = new Uint8Array(points.length * 4);
  const data = new DataView(bytes.buffer);
  let before = [0, 0];
  points.forEach((p, i) => {
    const now = p.map((v) => Math.round(v * STEP));
    data.setInt16(4 * i, now[0] - before[0], true);
    data.setInt16(4 * i + 2, now[1] - before[1], true);
    before = now;
  });
  return btoa(String.fromCharCode(...bytes));
}

// Fewer points: those that lie less than `far` from a straight line between their neighbours go (Ramer, Douglas and Peucker).
export function simpler(points, far) {
  if (points.length < 3) return points;
  const [a, b] = [points[0], points.at(-1)];
  const [dx, dy] = [b[0] - a[0], b[1] - a[1]];
  const long = Math.hypot(dx, dy);
  let worst = 0;
  let at = 0;
  for (let i = 1; i < points.length - 1; i += 1) {
    const [x, y] = [points[i][0] - a[0], points[i][1] - a[1]];
    const off = long ? Math.abs(x * dy - y * dx) / long : Math.hypot(x, y);
    if (off > worst) [worst, at] = [off, i];
  }
  if (worst <= far) return [a, b];
  return [...simpler(points.slice(0, at + 1), far).slice(0, -1), ...simpler(points.slice(at), far)];
}

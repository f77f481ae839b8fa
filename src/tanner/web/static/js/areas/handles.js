// Gradients and outlines on the picture: their lines, their handles, and what a drag of one makes of them.
import { again, lineOf, placed } from "./geometry.js";

const rad = (degrees) => (degrees * Math.PI) / 180;
const fix = (v) => Number(v.toFixed(5));

// Handles of a part, in its own places: what each moves.
export function handlesOf(shape) {
  if (shape.kind === "straight") {
    const middle = [(shape.start[0] + shape.end[0]) / 2, (shape.start[1] + shape.end[1]) / 2];
    return [{ what: "start", at: shape.start }, { what: "end", at: shape.end }, { what: "move", at: middle }];
  }
  if (shape.kind === "round") {
    const [c, n] = [Math.cos(rad(shape.angle || 0)), Math.sin(rad(shape.angle || 0))];
    return [
      { what: "wide", at: [shape.at[0] + c * shape.radii[0], shape.at[1] + n * shape.radii[0]] },
      { what: "high", at: [shape.at[0] - n * shape.radii[1], shape.at[1] + c * shape.radii[1]] },
      { what: "move", at: shape.at },
    ];
  }
  if (shape.kind === "outline") {
    const middle = [0, 1].map((k) => shape.points.reduce((sum, p) => sum + p.at[k], 0) / shape.points.length);
    return [...shape.points.map((p, n) => ({ what: "corner", n, at: p.at, round: p.curved })), { what: "move", at: middle }];
  }
  return [];
}

// The middle that a mask is scaled and turned about.
export function middleOf(shapes) {
  const moves = shapes.flatMap(handlesOf).filter((h) => h.what === "move");
  if (!moves.length) return [0, 0];
  return [0, 1].map((k) => moves.reduce((sum, m) => sum + m.at[k], 0) / moves.length);
}

// A shape after a handle was dragged from a place to another, both in its own places.
export function dragged(shape, handle, from, to) {
  const s = structuredClone(shape);
  const by = [to[0] - from[0], to[1] - from[1]];
  const add = (q) => [fix(q[0] + by[0]), fix(q[1] + by[1])];
  if (handle.what === "move") {
    if (s.kind === "straight") Object.assign(s, { start: add(s.start), end: add(s.end) });
    else if (s.kind === "outline") s.points.forEach((p) => (p.at = add(p.at)));
    else s.at = add(s.at);
  } else if (s.kind === "straight") s[handle.what] = to.map(fix);
  else if (handle.what === "soft") {
    const { at } = s.points[handle.n];
    s.points[handle.n].softness = fix(Math.min(0.5, Math.max(0, Math.hypot(to[0] - at[0], to[1] - at[1]) - 0.012)));
  } else if (s.kind === "outline") s.points[handle.n].at = to.map(fix);
  else {
    const far = Math.max(0.005, Math.hypot(to[0] - s.at[0], to[1] - s.at[1]));
    const turn = (Math.atan2(to[1] - s.at[1], to[0] - s.at[0]) * 180) / Math.PI - (handle.what === "high" ? 90 : 0);
    s.radii[handle.what === "wide" ? 0 : 1] = fix(far);
    s.angle = Number(((((turn % 360) + 540) % 360) - 180).toFixed(2));
  }
  return s;
}

// The lead's mask moved by hand on a follower, or scaled and turned about its middle.
export function carried(was, handle, middle, from, there) {
  const [dx, dy, s, a] = was;
  if (handle.what === "move") return [dx + there[0] - from[0], dy + there[1] - from[1], s, a];
  const mid = placed(was, middle);
  const before = [from[0] - mid[0], from[1] - mid[1]];
  const after = [there[0] - mid[0], there[1] - mid[1]];
  const grown = Math.min(Math.max((s * Math.hypot(...after)) / Math.max(Math.hypot(...before), 1e-6), 0.02), 8);
  const turned = a + ((Math.atan2(after[1], after[0]) - Math.atan2(before[1], before[0])) * 180) / Math.PI;
  const at = placed([0, 0, grown, turned], middle);
  return [mid[0] - at[0], mid[1] - at[1], grown, turned];
}

// A fresh shape from where it was drawn.
export function drawnAs(kind, a, b) {
  const far = Math.hypot(b[0] - a[0], b[1] - a[1]);
  if (far < 0.01) return null;
  return kind === "straight" ? { kind, start: a.map(fix), end: b.map(fix) } : { kind, at: a.map(fix), radii: [fix(far), fix(far)] };
}

const LINE = [["#1b1b1b", 3], ["#ffffff", 1.3]];

// to: a place of the shape to the canvas.
export function drawShape(c, shape, to, ratio, strong) {
  const line = (points, dash = [], closed = false) => {
    for (const [colour, width] of LINE) {
      c.setLineDash(dash.map((d) => d * ratio));
      c.strokeStyle = colour;
      c.lineWidth = width * ratio * (strong ? 1 : 0.6);
      c.beginPath();
      points.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
      if (closed) c.closePath();
      c.stroke();
    }
    c.setLineDash([]);
  };
  if (shape.kind === "straight") {
    const way = [shape.end[0] - shape.start[0], shape.end[1] - shape.start[1]];
    for (const [from, dash] of [[shape.start, []], [shape.end, [6, 5]]]) {
      line([-2, -1, 0, 1, 2].map((t) => to([from[0] - way[1] * t, from[1] + way[0] * t])), dash);
    }
  } else if (shape.kind === "round") {
    const [co, si] = [Math.cos(rad(shape.angle || 0)), Math.sin(rad(shape.angle || 0))];
    for (const [share, dash] of [[1, []], [1 - (shape.softness ?? 0.5), [6, 5]]]) {
      if (share <= 0.03) continue;
      line(Array.from({ length: 65 }, (_, k) => {
        const [p, q] = [Math.cos((k * Math.PI) / 32) * shape.radii[0] * share, Math.sin((k * Math.PI) / 32) * shape.radii[1] * share];
        return to([shape.at[0] + co * p - si * q, shape.at[1] + si * p + co * q]);
      }), dash);
    }
  } else if (shape.kind === "outline") line(lineOf(shape.points).map(to), [], true);
}

export function drawHandles(c, handles, to, ratio) {
  for (const handle of handles) {
    const [x, y] = to(handle.at);
    c.beginPath();
    if (handle.what === "move") c.rect(x - 5 * ratio, y - 5 * ratio, 10 * ratio, 10 * ratio);
    else if (handle.what === "corner" && !handle.round) c.rect(x - 4 * ratio, y - 4 * ratio, 8 * ratio, 8 * ratio);
    else c.arc(x, y, (handle.what === "soft" ? 6.5 : 5.5) * ratio, 0, 7);
    // A ring is softness, and the chosen corner is dark.
    c.fillStyle = handle.strong ? "#1b1b1b" : "#fff";
    if (handle.what !== "soft") c.fill();
    if (handle.what === "soft" || handle.strong) {
      c.strokeStyle = "#fff";
      c.lineWidth = 3.5 * ratio;
      c.stroke();
    }
    c.strokeStyle = "#1b1b1b";
    c.lineWidth = 1.5 * ratio;
    c.stroke();
  }
}

// From a part's own places to the frame's: found again where it holds to the subject, then put by hand.
export const forth = (shape, place, found) => (p) => placed(place, shape.holds === "subject" ? again(found, p) : p);

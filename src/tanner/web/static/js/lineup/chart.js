// The Line-up's chart: lightness and colour of each frame over the tolerance around the reference.
import { number, svg } from "../dom.js";
import { t } from "../texts.js";

const AXES = [
  { name: "L*", index: 0, low: t`darker`, high: t`lighter` },
  { name: "a*", index: 1, low: t`greener`, high: t`redder` },
  { name: "b*", index: 2, low: t`bluer`, high: t`yellower` },
];

// root: the SVG; f: the figures of a line (see the Line-up's data); chosen: ids of frames that are marked
export function drawChart(root, f, chosen) {
  const W = root.clientWidth || 800;
  const H = root.clientHeight || 380;
  const left = 46;
  const right = 14;
  const rowH = (H - 26) / AXES.length;
  const n = f.frames.length;
  const x = (i) => left + ((W - left - right) * (i + 0.5)) / Math.max(1, n);
  const parts = [];
  for (const [row, axis] of AXES.entries()) {
    const top = row * rowH + 8;
    const bottom = (row + 1) * rowH - 6;
    const values = f.frames.filter((r) => r.lab).map((r) => r.lab[axis.index]);
    const middle = f.reference ? f.reference[axis.index] : 0;
    const reach = Math.max(f.tolerance * 2.2, ...values.map((v) => Math.abs(v - middle) * 1.12));
    const y = (v) => (top + bottom) / 2 - ((v - middle) / reach) * ((bottom - top) / 2);
    parts.push(svg("rect", { class: "band", x: left, width: W - left - right, y: y(middle + f.tolerance), height: Math.max(2, y(middle - f.tolerance) - y(middle + f.tolerance)) }));
    parts.push(svg("line", { class: "middle", x1: left, x2: W - right, y1: y(middle), y2: y(middle) }));
    parts.push(svg("line", { class: "edge", x1: left, x2: left, y1: top, y2: bottom }));
    parts.push(text(axis.name, left - 30, (top + bottom) / 2 + 4, "axis"));
    parts.push(text(f.reference ? number(middle, 1) : "", left - 4, (top + bottom) / 2 + 18, "tick"));
    parts.push(text(axis.high, left + 4, top + 9, "way"), text(axis.low, left + 4, bottom - 1, "way"));
    const line = f.frames.map((r, i) => (r.lab ? `${x(i).toFixed(1)},${y(r.lab[axis.index]).toFixed(1)}` : null)).filter(Boolean);
    parts.push(svg("polyline", { class: "trace", points: line.join(" ") }));
    f.frames.forEach((r, i) => {
      if (!r.lab) return;
      const cy = y(r.lab[axis.index]);
      const mark = r.frame === f.lead ? svg("rect", { class: "point lead", x: x(i) - 5, y: cy - 5, width: 10, height: 10 }) : r.outside ? svg("path", { class: "point outside", d: `M${x(i)} ${cy - 7}L${x(i) + 7} ${cy}L${x(i)} ${cy + 7}L${x(i) - 7} ${cy}Z` }) : svg("circle", { class: "point", cx: x(i), cy, r: 4 });
      mark.dataset.id = r.frame;
      if (chosen.has(r.frame)) mark.classList.add("chosen");
      mark.append(svg("title", {}, `${r.name}: ${r.words || t`as the reference`}`));
      parts.push(mark);
    });
  }
  f.frames.forEach((r, i) => {
    if (n <= 24 || i % Math.ceil(n / 24) === 0) parts.push(text(r.name.replace(/\.[^.]+$/, ""), x(i), H - 6, "name"));
    if (!r.lab) parts.push(text("?", x(i), rowH / 2, "unknown"));
  });
  root.setAttribute("viewBox", `0 0 ${W} ${H}`);
  root.replaceChildren(...parts);
}

function text(words, x, y, kind) {
  const node = svg("text", { x, y, class: kind });
  node.textContent = words;
  return node;
}

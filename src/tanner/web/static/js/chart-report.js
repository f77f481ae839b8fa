// What a camera profile does to the chart it was made from: patches, neutral axis, figures.
import { el, number, svg } from "./dom.js";
import { t } from "./texts.js";

const figure = (f) => `${number(f.mean)} / ${number(f.p95)} / ${number(f.max)}`;

// L*a*b* (D50) to sRGB, for the small squares only; the figures come from the server.
function css([l, a, b]) {
  const fy = (l + 16) / 116;
  const back = (f) => (f > 6 / 29 ? f ** 3 : (3 * 36 * (f - 4 / 29)) / 841);
  const [x, y, z] = [0.9642 * back(fy + a / 500), back(fy), 0.8249 * back(fy - b / 200)];
  const linear = [3.1339 * x - 1.6169 * y - 0.4906 * z, -0.9788 * x + 1.9161 * y + 0.0335 * z, 0.0719 * x - 0.229 * y + 1.4052 * z];
  const coded = linear.map((v) => Math.round(255 * Math.min(1, Math.max(0, v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055))));
  return `rgb(${coded.join(" ")})`;
}

function patches(part) {
  const columns = part.patches.length === 24 ? 6 : Math.ceil(Math.sqrt(part.patches.length * 1.5));
  const rows = Math.ceil(part.patches.length / columns);
  const size = 44;
  const root = svg("svg", { class: "patches", viewBox: `0 0 ${columns * size} ${rows * size}`, role: "img", "aria-label": t`Reference above, measured below, for every patch` });
  for (const [i, p] of part.patches.entries()) {
    const [x, y] = [(i % columns) * size, Math.floor(i / columns) * size];
    const words = svg("title", {});
    words.textContent = `${p.name}: ${p.refused ? t`left out, ${p.refused}` : t`${number(p.difference)} now, ${number(p.difference_before)} by the file`}`;
    const text = svg("text", { x: x + size / 2, y: y + size - 5, class: p.reference[0] > 60 ? "on-light" : "on-dark" });
    text.textContent = p.refused ? t`out` : number(p.difference, 1);
    root.append(
      svg("g", {}, words,
        svg("rect", { x: x + 1, y: y + 1, width: size - 2, height: size / 2 - 1, fill: css(p.reference) }),
        svg("rect", { x: x + 1, y: y + size / 2, width: size - 2, height: size / 2 - 1, fill: css(p.measured) }),
        text),
    );
  }
  return root;
}

// The grey patches: how far a* (solid) and b* (dashed) lie from neutral, dark to light.
function greys(part) {
  const [w, h, reach] = [264, 78, Math.max(1, ...part.neutral_axis.flatMap((n) => [Math.abs(n.a), Math.abs(n.b)]))];
  const root = svg("svg", { class: "greys", viewBox: `0 0 ${w} ${h}`, role: "img", "aria-label": t`Neutral axis` });
  const x = (l) => 26 + (l / 100) * (w - 34);
  const y = (v) => h / 2 - (v / reach) * (h / 2 - 8);
  root.append(svg("line", { class: "axis", x1: 26, x2: w - 8, y1: h / 2, y2: h / 2 }));
  for (const [value, word] of [[reach, `+${number(reach, 1)}`], [0, "0"], [-reach, number(-reach, 1)]]) {
    const text = svg("text", { x: 22, y: y(value) + 4, class: "tick" });
    text.textContent = word;
    root.append(text);
  }
  const points = [...part.neutral_axis].reverse();
  for (const key of ["a", "b"]) root.append(svg("polyline", { class: `axis-${key}`, points: points.map((n) => `${x(n.lightness)},${y(n[key])}`).join(" ") }));
  return root;
}

// data: {lights, sets, chart}; a list of elements.
export function chartReport(data) {
  const sets = data.sets.map((s) => el("tr", {}, el("td", { text: s.title }), el("td", { class: "num", text: number(s.mean) })));
  const fits = sets.length ? [el("h2", { text: t`Chart: ${data.chart}` }), el("table", { class: "figures" }, el("thead", {}, el("tr", {}, el("th", { text: t`Published set` }), el("th", { text: t`CIEDE2000 by a plain matrix` }))), el("tbody", {}, ...sets))] : [];
  return [
    ...data.lights.flatMap((part) => {
      const rows = [[t`by the file’s matrix`, part.before], [t`by this profile`, part.after], [t`leaving one out`, part.leave_one_out]];
      const left = part.patches.filter((p) => p.refused);
      const slope = part.slope_ev.some((v) => v) ? t`Uneven light was taken out: ${number(part.slope_ev[0])} EV to the right, ${number(part.slope_ev[1])} EV downwards.` : "";
      return [
        el("h2", { text: `${part.light}, ${number(part.kelvin, 0)} K` }),
        el("p", { class: "dim", text: t`${part.used} of ${part.patches.length} patches used. ${slope}` }),
        ...left.map((p) => el("p", { class: "note", text: t`${p.name}: left out, ${p.refused}` })),
        el("table", { class: "figures" }, el("thead", {}, el("tr", {}, el("th", { text: "CIEDE2000" }), el("th", { text: t`mean / 95 % / max` }))), el("tbody", {}, ...rows.map(([word, f]) => el("tr", {}, el("td", { text: word }), el("td", { class: "num", text: figure(f) }))))),
        el("p", { class: "dim", text: t`Above: reference. Below: as measured, with CIEDE2000.` }),
        patches(part),
        el("p", { class: "dim", text: t`Neutral axis from dark to light: a* solid, b* dashed.` }),
        greys(part),
      ];
    }),
    ...fits,
  ];
}


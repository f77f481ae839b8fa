// Makes a camera profile: the chart on the picture with corners to drag, and the report beside it.
import { get, post } from "./api.js";
import { byId, el, number, svg } from "./dom.js";
import { shootId, tell, trying } from "./shell.js";

const start = byId("start").dataset;
const shots = [{ frame: Number(start.frame), name: start.name, corners: null }];
let at = 0;
let chart = null;
let made = null;
let chosen = 0;

// The nearest common light to what the camera recorded.
function guess(kelvin) {
  const k = parseFloat(kelvin);
  if (!k) return "D55";
  const known = { A: 2856, D50: 5003, D55: 5503, D65: 6504, D75: 7504 };
  const [name, value] = Object.entries(known).sort((a, b) => Math.abs(1e6 / a[1] - 1e6 / k) - Math.abs(1e6 / b[1] - 1e6 / k))[0];
  return Math.abs(1e6 / value - 1e6 / k) < 25 ? name : `${Math.round(k / 50) * 50}K`;
}
byId("light-0").value = guess(start.kelvin);
byId("profile-name").value = `${start.camera}, ${byId("light-0").value}`;

// --- the picture and its corners ---

const image = el("img", { alt: "The frame with the chart", draggable: "false" });
const overlay = svg("svg", { class: "corners", "aria-hidden": "true" });
const handles = [0, 1, 2, 3].map((i) => el("button", { type: "button", class: "corner", text: String(i + 1), "aria-label": `Corner ${i + 1} of the chart`, onfocus: () => (chosen = i) }));
const frameBox = el("div", { class: "maker-frame" }, image, overlay, ...handles);
byId("stage").append(frameBox);

function draw() {
  const corners = shots[at].corners;
  const box = image.getBoundingClientRect();
  overlay.setAttribute("viewBox", `0 0 ${box.width || 1} ${box.height || 1}`);
  overlay.replaceChildren();
  for (const [i, handle] of handles.entries()) {
    handle.hidden = !corners;
    if (!corners) continue;
    handle.style.left = `${corners[i][0] * 100}%`;
    handle.style.top = `${corners[i][1] * 100}%`;
  }
  if (!corners || !box.width) return;
  const px = corners.map(([x, y]) => [x * box.width, y * box.height]);
  overlay.append(svg("polygon", { points: px.map((p) => p.join(",")).join(" ") }));
  if (chart) return; // the grid of an own chart is not known on this side
  const along = (a, b, t) => [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t];
  const line = (a, b) => overlay.append(svg("line", { x1: a[0], y1: a[1], x2: b[0], y2: b[1] }));
  for (let c = 1; c < 6; c++) line(along(px[0], px[1], c / 6), along(px[3], px[2], c / 6));
  for (let r = 1; r < 4; r++) line(along(px[0], px[3], r / 4), along(px[1], px[2], r / 4));
}

function changed() {
  made = null;
  byId("keep").disabled = true;
}

for (const [i, handle] of handles.entries()) {
  handle.addEventListener("pointerdown", (event) => {
    handle.setPointerCapture(event.pointerId);
    handle.dataset.held = "yes";
  });
  handle.addEventListener("pointermove", (event) => {
    if (handle.dataset.held !== "yes") return;
    const box = image.getBoundingClientRect();
    const clip = (v) => Math.min(1, Math.max(0, v));
    shots[at].corners[i] = [clip((event.clientX - box.left) / box.width), clip((event.clientY - box.top) / box.height)];
    changed();
    draw();
  });
  for (const end of ["pointerup", "pointercancel"]) handle.addEventListener(end, () => delete handle.dataset.held);
  handle.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    const size = event.shiftKey ? 0.005 : 0.0008;
    const corner = shots[at].corners[chosen];
    shots[at].corners[chosen] = [corner[0] + step[0] * size, corner[1] + step[1] * size];
    changed();
    draw();
  });
}
image.addEventListener("load", draw);
new ResizeObserver(draw).observe(byId("stage"));

async function find() {
  const shot = shots[at];
  byId("chart-state").textContent = "Looking for the chart …";
  try {
    shot.corners = (await post(`/api/frames/${shot.frame}/chart`)).corners;
    byId("chart-state").textContent = `Chart found in ${shot.name}.`;
  } catch (error) {
    shot.corners ||= [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]];
    byId("chart-state").textContent = error.message;
  }
  changed();
  draw();
}

async function show(index) {
  at = index;
  byId("which").replaceChildren(...shots.map((s, i) => el("button", { type: "button", text: s.name, "aria-pressed": String(i === at), onclick: () => show(i) })));
  image.src = `/api/frames/${shots[at].frame}/chart/picture`;
  if (!shots[at].corners) await find();
  draw();
}

byId("find").addEventListener("click", find);
byId("second").addEventListener("change", (event) => {
  const option = event.target.selectedOptions[0];
  const two = Boolean(event.target.value);
  for (const node of document.querySelectorAll(".second-only")) node.hidden = !two;
  shots.length = 1;
  if (two) {
    shots.push({ frame: Number(event.target.value), name: option.dataset.name, corners: null });
    byId("light-1").value = guess(option.dataset.kelvin);
  }
  changed();
  show(two ? 1 : 0);
});
byId("chart-file").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  if (!file) return;
  chart = await file.text();
  byId("chart-name").textContent = file.name;
  byId("chart-set").hidden = true;
  changed();
  draw();
});

// --- the report ---

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
  const root = svg("svg", { class: "patches", viewBox: `0 0 ${columns * size} ${rows * size}`, role: "img", "aria-label": "Reference above, measured below, for every patch" });
  for (const [i, p] of part.patches.entries()) {
    const [x, y] = [(i % columns) * size, Math.floor(i / columns) * size];
    const words = svg("title", {});
    words.textContent = `${p.name}: ${p.refused ? `left out, ${p.refused}` : `${number(p.difference)} now, ${number(p.difference_before)} by the file`}`;
    const text = svg("text", { x: x + size / 2, y: y + size - 5, class: p.reference[0] > 60 ? "on-light" : "on-dark" });
    text.textContent = p.refused ? "out" : number(p.difference, 1);
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
  const root = svg("svg", { class: "greys", viewBox: `0 0 ${w} ${h}`, role: "img", "aria-label": "Neutral axis" });
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

function report(data) {
  const sets = data.sets.map((s) => el("tr", {}, el("td", { text: s.title }), el("td", { class: "num", text: number(s.mean) })));
  const fits = sets.length ? [el("h2", { text: `Chart: ${data.chart}` }), el("table", { class: "figures" }, el("thead", {}, el("tr", {}, el("th", { text: "Published set" }), el("th", { text: "CIEDE2000 by a plain matrix" }))), el("tbody", {}, ...sets))] : [];
  byId("report").replaceChildren(
    ...data.lights.flatMap((part) => {
      const rows = [["by the file’s matrix", part.before], ["by this profile", part.after], ["leaving one out", part.leave_one_out]];
      const left = part.patches.filter((p) => p.refused);
      const slope = part.slope_ev.some((v) => v) ? `Uneven light was taken out: ${number(part.slope_ev[0])} EV to the right, ${number(part.slope_ev[1])} EV downwards.` : "";
      return [
        el("h2", { text: `${part.light}, ${number(part.kelvin, 0)} K` }),
        el("p", { class: "dim", text: `${part.used} of ${part.patches.length} patches used. ${slope}` }),
        ...left.map((p) => el("p", { class: "note", text: `${p.name}: left out, ${p.refused}` })),
        el("table", { class: "figures" }, el("thead", {}, el("tr", {}, el("th", { text: "CIEDE2000" }), el("th", { text: "mean / 95 % / max" }))), el("tbody", {}, ...rows.map(([word, f]) => el("tr", {}, el("td", { text: word }), el("td", { class: "num", text: figure(f) }))))),
        el("p", { class: "dim", text: "Above: reference. Below: as measured, with CIEDE2000." }),
        patches(part),
        el("p", { class: "dim", text: "Neutral axis from dark to light: a* solid, b* dashed." }),
        greys(part),
      ];
    }),
    ...fits,
  );
}

byId("make").addEventListener("click", async () => {
  if (!byId("maker").reportValidity()) return;
  const button = byId("make");
  button.disabled = true;
  byId("maker-error").textContent = "";
  byId("chart-state").textContent = "Making the profile …";
  try {
    const body = { name: byId("profile-name").value, table: byId("with-table").checked, chart, chart_set: chart ? "" : byId("chart-set").value, aim: byId("aim").value, shots: shots.map((s, i) => ({ frame: s.frame, light: byId(`light-${i}`).value, corners: s.corners })) };
    made = await post("/api/profiles/make", body);
    report(made.report);
    byId("keep").disabled = false;
    byId("chart-state").textContent = "The profile is made. Keep it to use it.";
  } catch (error) {
    byId("maker-error").textContent = error.message;
    byId("chart-state").textContent = "";
  }
  button.disabled = false;
});

byId("keep").addEventListener("click", async () => {
  const kept = await trying(() => post("/api/profiles/keep", { made: made.made }));
  if (!kept) return;
  byId("keep").disabled = true;
  const used = await trying(() => post("/api/edit", { frames: shots.map((s) => s.frame), values: { "profile.camera": kept.key } }));
  if (used) {
    tell("The profile is kept and used for this frame.");
    byId("chart-state").replaceChildren("Kept. ", el("a", { href: `/shoots/${shootId}/bench?frame=${start.frame}`, text: "Back to the Bench" }));
  }
});

show(0);

// Makes a camera profile: the chart on the picture with corners to drag, and the report beside it.
import { post } from "./api.js";
import { chartReport } from "./chart-report.js";
import { byId, el, svg } from "./dom.js";
import { shootId, tell, trying } from "./shell.js";
import { t } from "./texts.js";

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

const image = el("img", { alt: t`The frame with the chart`, draggable: "false" });
const overlay = svg("svg", { class: "corners absolute inset-0 w-full h-full pointer-events-none", "aria-hidden": "true" });
const handles = [0, 1, 2, 3].map((i) => el("button", { type: "button", class: "corner absolute w-5.5 h-5.5 -mt-2.75 mr-0 -ml-2.75 p-0! rounded-full bg-ink text-white border-2 border-[#f4f4f4] text-fine leading-[1] cursor-move touch-none", text: String(i + 1), "aria-label": t`Corner ${i + 1} of the chart`, onfocus: () => (chosen = i) }));
const frameBox = el("div", { class: "maker-frame relative inline-block max-w-full max-h-full" }, image, overlay, ...handles);
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
  byId("chart-state").textContent = t`Looking for the chart …`;
  try {
    shot.corners = (await post(`/api/frames/${shot.frame}/chart`)).corners;
    byId("chart-state").textContent = t`Chart found in ${shot.name}.`;
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

const report = (data) => byId("report").replaceChildren(...chartReport(data));

byId("make").addEventListener("click", async () => {
  if (!byId("maker").reportValidity()) return;
  const button = byId("make");
  button.disabled = true;
  byId("maker-error").textContent = "";
  byId("chart-state").textContent = t`Making the profile …`;
  try {
    const body = { name: byId("profile-name").value, table: byId("with-table").checked, chart, chart_set: chart ? "" : byId("chart-set").value, aim: byId("aim").value, shots: shots.map((s, i) => ({ frame: s.frame, light: byId(`light-${i}`).value, corners: s.corners })) };
    made = await post("/api/profiles/make", body);
    report(made.report);
    byId("keep").disabled = false;
    byId("chart-state").textContent = t`The profile is made. Keep it to use it.`;
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
    tell(t`The profile is kept and used for this frame.`);
    byId("chart-state").replaceChildren(t`Kept. `, el("a", { href: `/shoots/${shootId}/bench?frame=${start.frame}`, text: t`Back to the Bench` }));
  }
});

show(0);

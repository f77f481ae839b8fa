// The Bench: one frame and its set. Controls write into the frame's own layer; nothing needs saving.
import { get, post } from "./api.js";
import { Areas } from "./areas/areas.js";
import { openAutomatic } from "./automatic.js";
import { benchCommands } from "./bench/commands.js";
import * as follows from "./bench/follow.js";
import { changed, infoOf, relativeKeys, shown, state, subscribe, table, titles } from "./bench/state.js";
import * as grading from "./bench/grading.js";
import { LevelHandles } from "./bench/level-handles.js";
import { OnPicture } from "./bench/on-picture.js";
import { ScopeDrag } from "./bench/scope-drag.js";
import { Exact } from "./bench/exact.js";
import { Picked } from "./bench/picked.js";
import { Spots } from "./bench/spots.js";
import { Tabs } from "./bench/tabs.js";
import { View } from "./bench/view.js";
import * as white from "./bench/white.js";
import { carryOver } from "./carry.js";
import { Compare } from "./compare.js";
import { CropTool } from "./crop.js";
import { FrameTools } from "./frame-tools.js";
import { Curve } from "./curve.js";
import { byId, el, number, plural } from "./dom.js";
import { Fresh } from "./fresh.js";
import { Histogram } from "./histogram.js";
import { hear } from "./news.js";
import { Picture } from "./picture.js";
import { followMatch } from "./jobs.js";
import { Presets } from "./presets.js";
import { resetFrames } from "./reset.js";
import { Profiles } from "./profiles.js";
import { Ribbon } from "./ribbon.js";
import { Rule } from "./rule.js";
import { keepPlace, shootId, tell, trying, useKeys } from "./shell.js";
import { LensChoice } from "./lens.js";
import { Wheel } from "./wheel.js";
import { Line } from "./socket.js";

const controls = new Map();
const histogram = new Histogram(byId("histogram"));

// --- a file that is not the one that came in ------------------------------------------------------

for (const [button, call] of [["find-file", "find"], ["take-file", "file"]]) {
  byId(button).addEventListener("click", async () => {
    const done = await trying(() => post(`/api/frames/${state.frame.id}/${call}`));
    if (!done) return;
    tell(`${done.done}.`);
    location.reload();
  });
}

// --- the picture ---------------------------------------------------------------------------------

const timings = (window.tannerTimings = []);
let settle = null;
const line = new Line({
  onView(header, bitmap, asked) {
    const error = byId("picture-error");
    error.hidden = !header.error || header.frame !== state.frame?.id;
    if (header.error) {
      if (header.frame === state.frame?.id) {
        byId("picture-error-text").textContent = header.error;
        byId("replaced").hidden = !header.replaced;
      }
      return;
    }
    if (header.frame !== state.frame?.id || (asked && asked.view.zoom !== picture.zoom) || (asked && asked.view.whole !== picture.whole)) return;
    picture.show(header, bitmap);
    if (line.idle && !header.draft) byId("canvas").setAttribute("aria-busy", "false");
    if (header.before) return;
    histogram.set(header.histogram);
    byId("refining").hidden = !header.draft;
    tools.showSize(header);
    noteLine(header.notes);
    areas.came(header);
    spots.came(header);
    if (header.quieting) follow(header.quieting);
    // Counted until the browser draws its next frame.
    if (asked?.sent) requestAnimationFrame(() => timings.push(performance.now() - asked.sent));
  },
  onProbe: (values) => showProbe(values),
  onState: (open) => (open ? null : tell("Tanner does not answer; trying again.", true)),
});

const picture = new Picture(byId("picture"), byId("canvas"), (view) => {
  if (!state.frame) return;
  const message = { frame: state.frame.id, values: state.draft, relative: relativeKeys(), view };
  if (state.trial) Object.assign(message, { values: {}, preset: state.trial.key, amount: state.trial.amount, leave: state.trial.leave });
  byId("canvas").setAttribute("aria-busy", "true");
  // The time of the event goes along on this side only.
  const sent = performance.now();
  line.ask(Object.defineProperty(message, "sent", { value: sent }));
});

function noteLine(notes = []) {
  byId("picture-note").hidden = !notes.length;
  byId("picture-note").textContent = notes.join(" ");
}

// A method that takes seconds is worked out behind the scenes: how far it is, is told until the picture is drawn anew.
let following = 0;
async function follow(number) {
  if (following === number) return;
  following = number;
  const id = state.frame.id;
  const line = hear("work");
  while (following === number && state.frame.id === id) {
    const job = await trying(() => get(`/api/quiet/${number}`));
    if (!job || job.over) {
      if (following !== number) return;
      following = 0;
      noteLine(job?.failed.map((f) => f.message));
      if (job?.done) {
        picture.forget();
        redraw(false);
      }
      return;
    }
    const left = job.left_s === null ? "" : `, ${job.left_s} s left`;
    noteLine([`Noise: ${shown("noise.method")} is being worked out, ${percent(job.share)}${left}. Until then quick is shown.`]);
    await line.next(300);
  }
  if (following === number) following = 0;
}
const percent = (share) => `${Math.round(share * 100)} %`;

// A grid lies over the picture while its geometry is changed, and a little longer.
const GRIDDED = /^(perspective\.|crop\.straighten|optics\.(distortion|own_distortion|projection))/;
let gridding = null;
function grid(key) {
  if (!GRIDDED.test(key)) return;
  picture.grid = true;
  clearTimeout(gridding);
  gridding = setTimeout(() => {
    picture.grid = false;
    picture.draw();
  }, 1500);
}

function redraw(quick) {
  picture.refresh(quick);
  clearTimeout(settle);
  if (quick) settle = setTimeout(() => picture.refresh(false), 180);
}

function showProbe(values) {
  byId("probe").textContent = values
    ? `RGB ${values.rgb.map((v) => number(v, 0)).join(" ")}   L* ${number(values.lab[0], 1)} a* ${number(values.lab[1], 1)} b* ${number(values.lab[2], 1)}`
    : "";
}
let probeWait = 0;
picture.onHover = (share) => {
  if (!share) return showProbe(null);
  const now = performance.now();
  if (now - probeWait < 40) return undefined;
  probeWait = now;
  return line.probe(share[2], share[3]);
};
const view = new View(picture, (quick) => redraw(quick));

// --- the frame's state -----------------------------------------------------------------------------

const loadSheet = () => trying(() => state.sheet.read());

// quiet: nothing is said of a frame that is gone; sent: what was being changed when a change was sent: it is the frame's own by now.
async function loadFrame(id, quiet = false, sent = {}) {
  const asked = () => get(`/api/frames/${id}`);
  const next = await (quiet ? asked().catch(() => null) : trying(asked));
  if (!next) return false;
  const other = state.frame?.id !== next.id;
  state.frame = next;
  // What was changed since is under way, and stays.
  for (const [key, value] of Object.entries(sent)) if (state.draft[key] === value) delete state.draft[key];
  if (other) {
    state.draft = {};
    state.trial = null;
    presets.stale = true;
    history.replaceState(null, "", `/shoots/${shootId}/bench?frame=${id}`);
    keepPlace(id);
    byId("picture-error").hidden = true;
  }
  changed();
  return true;
}

function fill() {
  for (const [key, control] of controls) control.set(shown(key), infoOf(key));
  turn();
  for (const box of document.querySelectorAll(".switch input")) box.checked = shown(box.dataset.key);
  for (const list of document.querySelectorAll("select[data-key]")) list.value = shown(list.dataset.key);
  tools.fill();
  areas.fill();
  spots.fill();
  exact.fill();
  picked.fill();
  for (const button of document.querySelectorAll("#index [data-group]")) {
    const name = button.dataset.group;
    if (!titles[name] || !table[`${name}.enabled`]) continue;
    const keys = Object.keys(table).filter((k) => k.startsWith(`${name}.`));
    const off = shown(`${name}.enabled`) === false;
    const own = keys.some((k) => infoOf(k).own);
    const follows = state.frame.follows && keys.some((k) => state.frame.layers[k] === "lead");
    const mark = button.querySelector(".index-mark");
    mark.className = `index-mark ${off ? "mark-off" : own ? "mark-own" : follows ? "mark-follows" : ""}`;
    // The mark says what is the frame's own; beside a long name there is no room for the word.
    button.querySelector(".index-state").textContent = off ? "off" : "";
    button.title = off ? "switched off" : own ? "this frame departs here" : follows ? "follows the lead" : "";
  }
  const f = state.frame.facts;
  const shutter = f.exposure_s ? (f.exposure_s < 0.5 ? `1/${number(1 / f.exposure_s, 0)} s` : `${number(f.exposure_s, 1)} s`) : "";
  const parts = [state.frame.name, f.focal_length_mm ? `${number(f.focal_length_mm, 0)} mm` : "", f.aperture ? `f/${number(f.aperture, 1)}` : "", shutter, f.iso ? `ISO ${f.iso}` : ""];
  byId("frame-data").textContent = parts.filter(Boolean).join("   ");
  byId("frame-data").title = [f.make, f.model, f.lens, ...(f.warnings || []), state.frame.seen?.damage].filter(Boolean).join(", ");
  lensChoice.say(shown("optics.chosen_lens"), f);
  byId("look").value = shown("profile.look");
  byId("give-look").href = `/api/frames/${state.frame.id}/look.cube`;
  byId("profile-make").href = `/shoots/${shootId}/profile?frame=${state.frame.id}`;
}
subscribe(fill);

// Which frames a change reaches; the ribbon says it, always.
function targets() {
  const where = byId("goes-to").value;
  if (where === "chosen") return [...ribbon.chosen];
  if (where === "all") {
    const mine = state.sheet.frames.filter((f) => f.set === state.frame.set && f.set && (f.lead || f.follows)).map((f) => f.id);
    return mine.length ? mine : [state.frame.id];
  }
  return [state.frame.id];
}
function goes(moved = false) {
  const choice = byId("goes-to");
  const many = ribbon.chosen.size > 1;
  // Choosing several frames is meant; one alone is not several.
  if (moved && many && choice.value === "one") choice.value = "chosen";
  if (!many && choice.value === "chosen") choice.value = "one";
  choice.querySelector("[value=chosen]").disabled = !many;
  const n = targets().length;
  byId("goes-count").textContent = n === 1 ? state.frame.name : plural(n, "frame");
  choice.closest("p").classList.toggle("many", n > 1);
}
byId("goes-to").addEventListener("change", () => goes());

// Sends a change and brings everything that shows it up to date.
// Changes are sent one after the other, in the order in which they were made: the program works on several requests at once.
let sending = Promise.resolve();
async function commit(url, body) {
  byId("canvas").setAttribute("aria-busy", "true");
  const draft = { ...state.draft };
  sending = sending.then(() => trying(() => post(url, body)));
  const result = await sending;
  await refresh(draft);
  return result;
}

async function refresh(sent = state.draft) {
  const [, there] = await Promise.all([loadSheet(), loadFrame(state.frame.id, true, { ...sent })]);
  if (!there) {
    // What was undone may have been this alternate itself.
    const here = [(f) => f.id === state.frame.id, (f) => f.set === state.frame.set, () => true].map((fits) => state.sheet.frames.find(fits)).find(Boolean);
    if (!here) return void (location.href = `/shoots/${shootId}/sheet`);
    await loadFrame(here.id);
  }
  drawRibbon();
  picture.forget();
  redraw(false);
  presets.stale = true;
  if (state.group === "presets") presets.pictures();
  if (state.group === "profile") profiles.load();
}

const edit = (values) => {
  Object.assign(state.draft, values);
  return commit("/api/edit", { frames: targets(), values, relative: relativeKeys() });
};

new Compare({
  frame: () => ({ id: state.frame.id, name: state.frame.name }),
  current: () => shown("noise.method"),
  pick: (method) => edit({ "noise.method": method }),
});

// --- controls ---------------------------------------------------------------------------------------

for (const root of document.querySelectorAll(".group:not([data-group=areas], [data-group=picked]) :is(.rule, .curve)")) {
  const about = table[root.dataset.key];
  controls.set(about.key, root.classList.contains("curve") ? new Curve(root, about) : new Rule(root, about));
}
const panel = byId("groups");
const tabs = [...panel.querySelectorAll(".group-tabs")].map((root) => new Tabs(root));
subscribe(() => tabs.forEach((t) => t.marks()));
const wheels = [...panel.querySelectorAll(".wheel")].map((root) => {
  const { zone } = root.dataset;
  const group = root.closest(".group").dataset.group;
  const [hue, strength] = (root.dataset.names || `${zone}_hue ${zone}_strength`).split(" ").map((n) => `${group}.${n}`);
  return new Wheel(root, `Wheel of ${zone}`, hue, strength);
});
const moving = (values) => {
  Object.assign(state.draft, values);
  for (const key of Object.keys(values)) controls.get(key)?.set(shown(key), infoOf(key));
  handles.draw();
  redraw(true);
};
byId("mono-auto").addEventListener("click", async () => {
  const found = await trying(() => post(`/api/frames/${state.frame.id}/mono`));
  if (found) await edit(found.values);
});
const handles = new LevelHandles({ shown, move: moving, edit: (values) => edit(values) });
subscribe(() => handles.draw());
panel.addEventListener("click", (event) => event.target.closest(".group-tabs") && handles.draw());
new ScopeDrag({ shown, table, move: (key, value) => moving({ [key]: value }), set: (key, value) => edit({ [key]: value }), giveUp: (key) => commit("/api/giveup", { frames: targets(), keys: [key] }) });
const onPicture = new OnPicture({ picture, shown, move: moving, edit: (values) => edit(values), curve: (key) => controls.get(key), picked: () => picked });
grading.begin(refresh);
byId("light-automatic").addEventListener("click", () => openAutomatic(targets(), refresh));
panel.addEventListener("wheel:move", (event) => moving(event.detail.values));
panel.addEventListener("wheel:set", (event) => edit(event.detail.values));
panel.addEventListener("rule:move", (event) => {
  state.draft[event.detail.key] = event.detail.value;
  grid(event.detail.key);
  turn();
  handles.draw();
  redraw(true);
});
const turn = () => wheels.forEach((w) => w.set(shown(w.hue), shown(w.strength)));
panel.addEventListener("rule:set", (event) => {
  state.draft[event.detail.key] = event.detail.value;
  grid(event.detail.key);
  edit({ [event.detail.key]: event.detail.value });
});
panel.addEventListener("rule:giveup", (event) => commit("/api/giveup", { frames: targets(), keys: [event.detail.key] }));
panel.addEventListener("change", (event) => {
  if (event.target.matches(".switch input")) edit({ [event.target.dataset.key]: event.target.checked });
  if (event.target.matches("select[data-key]")) {
    grid(event.target.dataset.key);
    edit({ [event.target.dataset.key]: event.target.value });
  }
});

function open(name) {
  state.group = titles[name] ? name : "light";
  sessionStorage.setItem("tanner.group", state.group);
  for (const b of document.querySelectorAll("#index [data-group]")) b.setAttribute("aria-pressed", b.dataset.group === state.group);
  for (const s of document.querySelectorAll(".group[data-group]")) s.hidden = s.dataset.group !== state.group;
  handles.draw();
  onPicture.stop();
  white.stopPick();
  tools.stop();
  areas.begin(null);
  exact.pick.stop();
  picked.pick.stop();
  const spotting = state.group === "spots";
  const placing = state.group === "areas" || spotting;
  const placer = spotting ? spots : areas;
  const before = picture.tool;
  if (picture.places !== placing || (placing && picture.tool !== placer) || picture.specks) {
    picture.places = placing;
    picture.spots = spotting;
    picture.specks = spotting && byId("spot-see").checked;
    picture.area = "";
    if (placing) picture.tool = placer;
    else if (before === areas || before === spots) picture.tool = null;
    redraw(false);
  }
  const cropping = state.group === "crop";
  if (picture.whole !== cropping) {
    picture.whole = cropping;
    picture.tool = cropping ? crop : placing ? placer : null;
    picture.forget();
    if (cropping) view.zoom(0);
    else redraw(false);
  }
  if (state.group === "presets" && state.frame && presets.stale) presets.pictures();
  if (state.group === "profile") profiles.load();
}
byId("index").addEventListener("click", (event) => {
  const name = event.target.closest("[data-group]")?.dataset.group;
  if (name) open(name);
});

// Crop.
white.begin({ picture, edit: (values) => edit(values) });
follows.begin({ commit: (url, body) => commit(url, body), targets: () => targets(), ribbon: () => ribbon, presets: () => presets });
subscribe(follows.followLine);
subscribe(follows.historyList);
const cropValues = () => Object.fromEntries(["left", "top", "right", "bottom", "straighten", "ratio", "outside"].map((n) => [n, shown(`crop.${n}`)]));
const crop = new CropTool(cropValues, (values, final) => {
  const named = Object.fromEntries(Object.entries(values).map(([k, v]) => [`crop.${k}`, v]));
  Object.assign(state.draft, named);
  if (final) commit("/api/edit", { frames: [state.frame.id], values: named });
  else redraw(true);
});
const cropKeys = Object.keys(table).filter((k) => k.startsWith("crop."));
const tools = new FrameTools({
  picture,
  crop,
  cropKeys,
  shown,
  edit: (values) => edit(values),
  commit: (url, body) => commit(url, body),
  frame: () => state.frame,
  targets: () => targets(),
  others: () => (ribbon.chosen.size > 1 ? [...ribbon.chosen] : state.sheet.frames.filter((f) => f.set === state.frame.set).map((f) => f.id)).filter((id) => id !== state.frame.id),
});

const areas = new Areas({
  picture,
  table,
  frame: () => state.frame,
  shown,
  layer: (key) => state.frame.layers[key],
  draft(values) {
    Object.assign(state.draft, values);
    redraw(true);
  },
  edit: (values) => edit(values),
  commit: (url, body) => commit(url, body),
  refresh: () => refresh(),
  targets: () => targets(),
  carry: (keys) => carryHere(keys),
});

const spots = new Spots({ picture, view, frame: () => state.frame, shown, edit: (values) => edit(values), commit: (url, body) => commit(url, body), targets: () => targets() });
const picked = new Picked({ picture, table, frame: () => state.frame, shown, edit: (values) => edit(values), commit: (url, body) => commit(url, body), targets: () => targets() });
const exact = new Exact({ picture, frame: () => state.frame, edit: (values) => edit(values), commit: (url, body) => commit(url, body), targets: () => targets(), set: () => state.sheet.frames.filter((f) => (state.frame.set ? f.set === state.frame.set : f.id === state.frame.id)).map((f) => f.id) });

// --- presets, ribbon, tools -----------------------------------------------------------------------------

const presets = new Presets({
  current: () => state.frame?.id,
  hover(preset, amount, leave) {
    state.trial = preset ? { key: preset.key, amount, leave } : null;
    redraw(false);
  },
  titles,
  async apply(key, amount, name, leave) {
    state.trial = null;
    const result = await commit("/api/apply", { frames: targets(), key, amount, leave });
    if (result) tell(result.done ? `${name} at ${amount} % applied.` : "It is applied already.");
    if (result?.match) followMatch(result.match, refresh);
  },
  wear: (keys) => commit("/api/worn", { frames: targets(), keys }),
  changes: (preset, amount, leave) =>
    Object.entries(preset.values)
      .filter(([key]) => table[key] && !leave.includes(key.split(".")[0]))
      .map(([key, value]) => {
        const { label, unit } = table[key];
        const said = (v) => (v === null ? "as shot" : typeof v === "number" ? number(v) : Array.isArray(v) ? "curve" : typeof v === "object" ? `by ${v.by === "iso" ? "ISO" : v.by}` : typeof v === "boolean" ? (v ? "on" : "off") : v || "none");
        const neutral = table[key].neutral;
        const then = typeof value === "number" && typeof neutral === "number" ? neutral + (value - neutral) * (amount / 100) : value;
        return said(shown(key)) === said(then) ? null : `${label}: ${said(shown(key))} to ${said(then)} ${typeof then === "number" ? unit : ""}`;
      })
      .filter(Boolean),
});

const lensChoice = new LensChoice({ edit: (values) => edit(values), starting: () => state.frame.starting });
const profiles = new Profiles({ current: () => state.frame?.id, choose: (key) => edit({ "profile.camera": key }) });
byId("profile-carry").addEventListener("click", async () => {
  const others = state.sheet.frames.filter((f) => f.id !== state.frame.id).map((f) => f.id);
  if (!others.length) return tell("This frame is the only one of its shoot.");
  const result = await commit("/api/carry", { source: state.frame.id, frames: others, keys: ["profile.camera"] });
  if (result) tell(result.done ? `The camera profile went to ${result.changed} frames. Undo takes it back.` : "All frames have it already.");
  return undefined;
});

function marks(f) {
  const parts = [];
  if (f.lead) parts.push(el("span", { class: "lead-mark", text: "lead" }));
  parts.push(el("span", { class: "cell-name", text: f.name.replace(/\.[^.]+$/, "") }));
  const o = f.offsets;
  if (o.ev) parts.push(el("span", { class: "own-mark", text: `${o.ev > 0 ? "+" : ""}${number(o.ev)}`, title: "Offset in EV" }));
  else if (o.mired || o.tint) parts.push(el("span", { class: "own-mark", text: "WB", title: "Offset of the white balance" }));
  if (f.own.length) parts.push(el("span", { class: "mark-own index-mark", title: `Own: ${f.own.join(", ")}` }));
  return parts;
}
const ribbon = new Ribbon(byId("ribbon"), byId("ribbon-head"), { marks, onOpen: (id) => go(id), onChoice: () => state.frame && (goes(true), follows.followLine()) });
let fresh = null;

function drawRibbon() {
  const mine = state.sheet.frames.filter((f) => f.set === state.frame.set);
  ribbon.set(state.sheet.sets.find((s) => s.id === state.frame.set), mine, state.frame.id);
  goes();
  fresh ||= new Fresh(shootId, state.sheet.counter, (ready) => ribbon.refresh(Object.keys(ready)));
  const order = ribbon.frames.map((f) => f.id);
  const here = order.indexOf(state.frame.id);
  fresh.want(order.toSorted((a, b) => Math.abs(order.indexOf(a) - here) - Math.abs(order.indexOf(b) - here)));
}

async function go(id) {
  if (!id) return;
  if (!(await loadFrame(id))) return;
  drawRibbon();
  redraw(false);
  if (state.group === "presets") presets.pictures();
  if (state.group === "profile") profiles.load();
}

function nextSet(by) {
  const ids = [...new Set(state.sheet.frames.map((f) => f.set))];
  const set = ids[ids.indexOf(state.frame.set) + by];
  const there = state.sheet.frames.filter((f) => f.set === set);
  return (there.find((f) => f.lead) || there[0])?.id ?? null;
}

async function alternate() {
  const made = await commit("/api/alternates", { frames: [state.frame.id] });
  if (made) await go(made.made[0]);
}

async function carryHere(only = null) {
  const others = state.sheet.frames.filter((f) => f.id !== state.frame.id);
  const done = await carryOver(state.frame.id, titles, {
    chosen: [...ribbon.chosen].filter((id) => id !== state.frame.id),
    set: others.filter((f) => f.set === state.frame.set).map((f) => f.id),
    shoot: others.map((f) => f.id),
  }, only);
  if (done) refresh();
}

document.querySelector('.ribbon-tools [data-do="carry"]').addEventListener("click", () => carryHere());
byId("look").addEventListener("change", (event) => edit({ "profile.look": event.target.value }));
document.addEventListener("tanner:changed", refresh);

function toSheet() {
  if (white.isPicking()) white.stopPick();
  else if (areas.drawing) areas.stop();
  else if (tools.lines) tools.stop();
  else location.href = `/shoots/${shootId}/sheet`;
}
useKeys("bench", benchCommands({ go, ribbon, nextSet, picture, view, commit, targets, alternate, carry: carryHere, reset: () => resetFrames(targets(), refresh), automatic: () => openAutomatic(targets(), refresh), open, tools, areas, spots, toSheet }));

await loadSheet();
view.kitFiles().then(() => state.frame && fill());
await presets.load();
await go(Number(byId("start").dataset.frame));
open(state.group);

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
import { goesTo, nextSet } from "./bench/goes-to.js";
import { grid } from "./bench/grid.js";
import { frameData, indexMarks } from "./bench/index-marks.js";
import "./bench/lost-file.js";
import { followQuiet, noteLine } from "./bench/notes.js";
import { presetChanges } from "./bench/preset-changes.js";
import { probe, showProbe } from "./bench/probe.js";
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
import { byId } from "./dom.js";
import { Fresh } from "./fresh.js";
import { Histogram } from "./histogram.js";
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
import { t, worded } from "./texts.js";

const controls = new Map();
const histogram = new Histogram(byId("histogram"));

// --- the picture ---------------------------------------------------------------------------------

const timings = (window.tannerTimings = []);
let settle = null;
const line = new Line({
  onView(header, bitmap, asked) {
    const error = byId("picture-error");
    error.hidden = !header.error || header.frame !== state.frame?.id;
    if (header.error) {
      if (header.frame === state.frame?.id) {
        byId("picture-error-text").textContent = worded(header.error);
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
    noteLine(header.notes?.map(worded));
    areas.came(header);
    spots.came(header);
    if (header.quieting) followQuiet(header.quieting, drawAnew);
    // Counted until the browser draws its next frame.
    if (asked?.sent) requestAnimationFrame(() => timings.push(performance.now() - asked.sent));
  },
  onProbe: showProbe,
  onState: (open) => (open ? null : tell(t`Tanner does not answer; trying again.`, true)),
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

function drawAnew() {
  picture.forget();
  redraw(false);
}

function redraw(quick) {
  picture.refresh(quick);
  clearTimeout(settle);
  if (quick) settle = setTimeout(() => picture.refresh(false), 180);
}

probe(picture, line);
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
  indexMarks();
  frameData();
  lensChoice.say(shown("optics.chosen_lens"), state.frame.facts);
  byId("look").value = shown("profile.look");
  byId("give-look").href = `/api/frames/${state.frame.id}/look.cube`;
  byId("profile-make").href = `/shoots/${shootId}/profile?frame=${state.frame.id}`;
}
subscribe(fill);

const { targets, goes } = goesTo(() => ribbon);

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
  drawAnew();
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

for (const root of document.querySelectorAll(".group:not([data-group=areas], [data-group=picked], [data-group=spots]) :is(.rule, .curve)")) {
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
  return new Wheel(root, t`Wheel of ${zone}`, hue, strength);
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
const handles = new LevelHandles({ shown, move: moving, edit });
subscribe(() => handles.draw());
panel.addEventListener("click", (event) => event.target.closest(".group-tabs") && handles.draw());
new ScopeDrag({ shown, table, move: (key, value) => moving({ [key]: value }), set: (key, value) => edit({ [key]: value }), giveUp: (key) => commit("/api/giveup", { frames: targets(), keys: [key] }) });
const onPicture = new OnPicture({ picture, shown, move: moving, edit, curve: (key) => controls.get(key), picked: () => picked });
grading.begin(refresh);
byId("light-automatic").addEventListener("click", () => openAutomatic(targets(), refresh));
panel.addEventListener("wheel:move", (event) => moving(event.detail.values));
panel.addEventListener("wheel:set", (event) => edit(event.detail.values));
panel.addEventListener("rule:move", (event) => {
  state.draft[event.detail.key] = event.detail.value;
  grid(picture, event.detail.key);
  turn();
  handles.draw();
  redraw(true);
});
const turn = () => wheels.forEach((w) => w.set(shown(w.hue), shown(w.strength)));
panel.addEventListener("rule:set", (event) => {
  state.draft[event.detail.key] = event.detail.value;
  grid(picture, event.detail.key);
  edit({ [event.detail.key]: event.detail.value });
});
panel.addEventListener("rule:giveup", (event) => commit("/api/giveup", { frames: targets(), keys: [event.detail.key] }));
panel.addEventListener("change", (event) => {
  if (event.target.matches(".switch input")) edit({ [event.target.dataset.key]: event.target.checked });
  if (event.target.id === "look") edit({ "profile.look": event.target.value });
  if (event.target.matches("select[data-key]")) {
    grid(picture, event.target.dataset.key);
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
white.begin({ picture, edit });
follows.begin({ commit, targets, ribbon: () => ribbon, presets: () => presets });
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
// What the tools know of the Bench, and what they may ask of it.
const mine = () => state.sheet.frames.filter((f) => f.set === state.frame.set).map((f) => f.id);
const bench = {
  picture,
  view,
  table,
  frame: () => state.frame,
  shown,
  layer: (key) => state.frame.layers[key],
  draft(values) {
    Object.assign(state.draft, values);
    redraw(true);
  },
  edit,
  commit,
  refresh: () => refresh(), targets,
  carry: (keys) => carryHere(keys),
  set: () => (state.frame.set ? mine() : [state.frame.id]),
  frames: () => state.sheet.frames.filter((f) => state.frame.set && f.set === state.frame.set),
  others: () => (ribbon.chosen.size > 1 ? [...ribbon.chosen] : mine()).filter((id) => id !== state.frame.id),
};
const tools = new FrameTools({ ...bench, crop, cropKeys });
const areas = new Areas(bench);
const spots = new Spots(bench);
const picked = new Picked(bench);
const exact = new Exact(bench);

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
    if (result) tell(result.done ? t`${name} at ${amount} % applied.` : t`It is applied already.`);
    if (result?.match) followMatch(result.match, refresh);
  },
  keep: (keys) => commit("/api/worn", { frames: targets(), keys }),
  changes: presetChanges,
});

const lensChoice = new LensChoice({ edit, starting: () => state.frame.starting });
const profiles = new Profiles({ current: () => state.frame?.id, choose: (key) => edit({ "profile.camera": key }), commit, frames: () => state.sheet.frames });
const ribbon = new Ribbon(byId("ribbon"), byId("ribbon-head"), { onOpen: (id) => go(id), onChoice: () => state.frame && (goes(true), follows.followLine()) });
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

// listed: what else has to be there before more than the picture is shown.
async function go(id, listed = null) {
  if (!id || !(await loadFrame(id))) return;
  redraw(false);
  await listed;
  drawRibbon();
  if (state.group === "presets") presets.pictures();
  if (state.group === "profile") profiles.load();
}

async function alternate() {
  const made = await commit("/api/alternates", { frames: [state.frame.id] });
  if (made) await go(made.made[0]);
}

async function carryHere(only = null) {
  const others = state.sheet.frames.filter((f) => f.id !== state.frame.id);
  const done = await carryOver(state.frame.id, {
    chosen: [...ribbon.chosen].filter((id) => id !== state.frame.id),
    set: others.filter((f) => f.set === state.frame.set).map((f) => f.id),
    shoot: others.map((f) => f.id),
  }, only);
  if (done) refresh();
}

document.querySelector('.ribbon-tools [data-do="carry"]').addEventListener("click", () => carryHere());
document.addEventListener("tanner:changed", refresh);

function toSheet() {
  if (white.isPicking()) white.stopPick();
  else if (areas.drawing) areas.stop();
  else if (tools.lines) tools.stop();
  else location.href = `/shoots/${shootId}/sheet`;
}
useKeys("bench", benchCommands({ go, ribbon, nextSet, picture, view, commit, targets, alternate, carry: carryHere, reset: () => resetFrames(targets(), refresh), automatic: () => openAutomatic(targets(), refresh), open, tools, areas, spots, toSheet }));
view.kitFiles().then(() => state.frame && fill());
// The picture waits neither for the list of its shoot nor for the presets.
await go(Number(byId("start").dataset.frame), Promise.all([loadSheet(), presets.load()]));
open(state.group);

// The Sheet: contact sheet in rows by set. Only what is near the window is in the page.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { opens } from "./commands.js";
import { openDropped } from "./dropped.js";
import { Fresh } from "./fresh.js";
import { cellOf, marks, picture } from "./frame-cell.js";
import { followMatch } from "./jobs.js";
import { join } from "./joining.js";
import { KeywordPanel } from "./keyword-panel.js";
import { Match } from "./match.js";
import { Quiet } from "./quiet.js";
import { Roster } from "./roster.js";
import { scrolled, sized } from "./roll.js";
import { sheetActions } from "./sheet-actions.js";
import { sheetCommands } from "./sheet-commands.js";
import { Filter } from "./sheet-filter.js";
import { Dragging, followChoice, Proposal } from "./sheet-sets.js";
import { Sidecars } from "./sidecars.js";
import { place } from "./sheet-layout.js";
import { ask, shootId, tell, trying, useKeys } from "./shell.js";
import { View } from "./sheet-view.js";
import { plural, shippedWords, t } from "./texts.js";

const roll = byId("roll");
const inner = byId("roll-inner");
const state = { frames: new Map(), sets: [], order: [], items: [], chosen: new Set(), active: null, anchor: null, columns: 1 };
const shown = new Map();
const filter = new Filter(() => arrange());
const view = new View({ changed: () => arrange(), frames: () => state.frames, sets: () => state.sets });
let fresh;

const cellSize = () => Number(byId("size").value);

const FIRST = Number(roll.dataset.first); // frames that are asked for before all others, by the page itself
const roster = new Roster(shootId);
async function load() {
  if (!(await trying(() => roster.read(fresh ? 0 : FIRST)))) return;
  fresh ||= new Fresh(shootId, roster.counter, ready);
  if (!roster.known) {
    take();
    arrange();
    if (!(await trying(() => roster.read()))) return;
  }
  take();
  fresh.watch();
  await filter.look(true);
  await view.read();
  arrange();
}

function take() {
  state.frames = roster.byId;
  state.sets = roster.sets;
  state.total = roster.total;
  state.preset = roster.preset?.name || "";
  shootPreset();
  for (const id of [...state.chosen]) if (!state.frames.has(id)) state.chosen.delete(id);
}

const again = new Set();
function ready(pictures) {
  for (const id of Object.keys(pictures)) {
    const cell = shown.get(`f${id}`);
    const frame = state.frames.get(Number(id));
    // A frame that was tried again may have failed again: the words for it come with the list.
    if (again.delete(Number(id))) return void load();
    if (cell && frame && !view.faces) picture(cell, frame, `&n=${Date.now()}`);
  }
}

// Frames in rows by set, the lead first, or all in one.
function inRows(passing) {
  if (!view.bySet) return [{ set: null, cells: view.folded(view.sorted(view.values.order === "time" ? view.inTime(passing) : passing)) }];
  const groups = state.sets.map((s) => ({ set: s, frames: [] }));
  const bySet = new Map(groups.map((g) => [g.set.id, g]));
  const rest = { set: { id: 0, name: t`No set yet`, reason: "", lead: null }, frames: [] };
  for (const frame of passing) (bySet.get(frame.set) || rest).frames.push(frame);
  const visible = [...groups, rest].filter((g) => g.frames.length);
  for (const g of visible) {
    g.begins = g.frames[0].taken || "9";
    g.frames = view.sorted(g.frames).sort((a, b) => (b.id === g.set.lead) - (a.id === g.set.lead));
  }
  visible.sort((a, b) => a.begins.localeCompare(b.begins));
  return visible.map((g) => ({ set: g.set, cells: view.folded(g.frames) }));
}

function arrange() {
  const passing = [...state.frames.values()].filter((frame) => filter.passes(frame));
  const count = passing.length;
  const layout = place(inRows(passing), inner.clientWidth || roll.clientWidth - 16, cellSize(), view.list);
  state.items = layout.items;
  state.order = layout.order;
  state.columns = layout.columns;
  inner.style.height = `${layout.height}px`;
  const { total } = state;
  if (view.faces) byId("count").textContent = t`${plural(layout.order.length, "face")} in ${plural(count, "frame")}`;
  else byId("count").textContent = count === total ? plural(total, "frame") : t`${count} of ${plural(total, "frame")}`;
  if (state.active && !state.order.includes(state.active)) state.active = null;
  for (const node of shown.values()) node.remove();
  shown.clear();
  draw();
  told();
}

// Brings the page's elements in step with what is near the window.
function draw() {
  const top = roll.scrollTop - 500;
  const bottom = roll.scrollTop + roll.clientHeight + 500;
  const wanted = new Set();
  const missing = [];
  for (const item of state.items) {
    if (item.y + item.h < top || item.y > bottom) continue;
    wanted.add(item.key);
    if (shown.has(item.key)) continue;
    const node = item.set ? head(item) : cell(item, missing);
    shown.set(item.key, node);
    inner.append(node);
  }
  for (const [key, node] of shown) {
    if (wanted.has(key)) continue;
    node.remove();
    shown.delete(key);
  }
  if (missing.length) fresh?.want(nearest(missing));
  if (!state.items.length) {
    if (!fresh) return; // nothing is known yet
    inner.querySelector(".empty")?.remove();
    const text = view.faces && state.frames.size ? view.withoutFaces : state.frames.size ? t`No frame passes what is chosen above.` : t`No frames yet. Bring files in on the Import page.`;
    inner.append(el("p", { class: "empty", text }));
  } else if (state.items.length) inner.querySelector(".empty")?.remove();
}

// The nearest to the frame that is chosen first, else in their order.
function nearest(ids) {
  const here = state.order.indexOf(state.active);
  const far = (id) => Math.abs(state.order.indexOf(id) - here);
  return here < 0 ? ids : [...ids].sort((a, b) => far(a) - far(b));
}

function head(item) {
  const set = item.set;
  const node = el(
    "div",
    { class: "set-head absolute flex items-center gap-2.5 py-0 px-2.5 whitespace-nowrap overflow-hidden text-white h-8.5 bg-surround-low", "data-set": String(set.id) },
    el("b", { text: set.name, title: set.reason ? t`${set.name}. Begins here: ${set.reason}` : set.name }),
    item.w > 260 ? el("span", { text: plural(item.count, "frame") }) : null,
    item.w > 560 ? el("span", { class: "reason", text: set.reason ? t`Begins here: ${set.reason}` : "" }) : null,
    el("span", { class: "bar-fill" }),
  );
  const under = state.sets.find((s) => s.id === set.under);
  if (set.id && item.w > 760) node.append(followChoice(set, state.sets, load));
  else if (under) node.append(el("span", { class: "reason", text: t`follows ${under.name}` }));
  if (set.id && item.w > 400) {
    node.append(
      el("button", { type: "button", class: "plain", text: t`Choose all`, onclick: () => choose(state.order.filter((id) => state.frames.get(id).set === set.id)) }),
      el("button", { type: "button", class: "plain", text: t`Rename`, onclick: () => rename(set) }),
    );
  }
  node.style.left = `${item.x}px`;
  node.style.top = `${item.y}px`;
  node.style.width = `${item.w}px`;
  node.addEventListener("dblclick", () => set.id && rename(set));
  return node;
}

async function rename(set) {
  const name = await ask({ title: t`Rename the set`, label: t`Name`, value: set.name });
  if (name && name !== set.name && (await trying(() => post(`/api/sets/${set.id}/name`, { name })))) load();
}

function cell(item, missing) {
  missing.push(item.frame.id);
  const node = cellOf(item.frame, item, { list: view.list, faces: view.faces });
  const figure = view.figure(item.frame);
  if (figure) node.append(el("span", { class: "absolute top-2 left-2 z-1 bg-panel px-1.5 text-small text-ink", text: figure, title: t`Difference from its lead, as the Line-up measures it` }));
  if (item.more || item.folds) {
    const title = item.more ? t`${plural(item.more, "near-alike")} behind this one; F shows them` : t`One of several near-alikes; F folds them`;
    node.append(el("span", { class: "absolute top-2 right-2 z-1 bg-panel px-1.5 text-small text-ink", text: item.more ? `+${item.more}` : t`of several`, title }));
  }
  look(node, item.frame);
  return node;
}

function look(node, frame) {
  node.setAttribute("aria-pressed", state.chosen.has(frame.id));
  node.classList.toggle("active", state.active === frame.id);
  node.classList.toggle("dropped", frame.verdict === "drop");
}

function told() {
  for (const [key, node] of shown) {
    if (key[0] === "f") look(node, state.frames.get(Number(key.slice(1))));
  }
  const n = state.chosen.size;
  byId("chosen-text").textContent = n ? t`${plural(n, "frame")} chosen` : t`Nothing chosen`;
  for (const button of document.querySelectorAll("#chosen [data-do]")) {
    const what = button.dataset.do;
    button.disabled = n === 0;
    if (what === "keep" || what === "drop") button.setAttribute("aria-pressed", String(n > 0 && [...state.chosen].every((id) => state.frames.get(id)?.verdict === what)));
    if (what === "profile") button.hidden = n !== 1 || !state.frames.get([...state.chosen][0])?.seen.chart;
    if (what === "again") button.hidden = ![...state.chosen].some((id) => state.frames.get(id)?.error);
    if (what === "match") {
      const only = state.frames.get([...state.chosen][0]);
      button.disabled = n === 0 || (n === 1 && (only?.lead || !only?.set));
    }
  }
}

function choose(ids, active = ids[0]) {
  state.chosen = new Set(ids);
  state.active = active ?? null;
  state.anchor = state.active;
  told();
}

function reach(id) {
  const a = state.order.indexOf(state.anchor ?? id);
  const b = state.order.indexOf(id);
  state.chosen = new Set(state.order.slice(Math.min(a, b), Math.max(a, b) + 1));
  state.active = id;
  told();
}

function show(id) {
  const item = state.items.find((i) => i.frame?.id === id);
  if (!item) return;
  if (item.y < roll.scrollTop) roll.scrollTop = item.y - 40;
  if (item.y + item.h > roll.scrollTop + roll.clientHeight) roll.scrollTop = item.y + item.h - roll.clientHeight + 8;
}

function walk(by, extend) {
  if (!state.order.length) return;
  const at = state.order.indexOf(state.active);
  const next = state.order[Math.min(Math.max(at < 0 ? 0 : at + by, 0), state.order.length - 1)];
  if (extend) reach(next);
  else choose([next]);
  show(next);
}

// Up and down go to the nearest picture in the row above or below, across sets too.
function walkRow(way, extend) {
  const here = state.items.find((i) => i.frame?.id === state.active);
  if (!here) return walk(0, extend);
  let best = null;
  for (const item of state.items) {
    if (!item.frame || (item.y - here.y) * way <= 0) continue;
    const score = Math.abs(item.y - here.y) * 10 + Math.abs(item.x - here.x);
    if (!best || score < best.score) best = { score, id: item.frame.id };
  }
  if (!best) return undefined;
  if (extend) reach(best.id);
  else choose([best.id]);
  return show(best.id);
}

const ids = () => state.order.filter((id) => state.chosen.has(id));

// By hand: in front of a frame, or at the end of all.
async function putBefore(frames, before) {
  if (await trying(() => post(`/api/shoots/${shootId}/place`, { frames, before }))) load();
}
function putOn(by) {
  const chosen = ids();
  const at = by < 0 ? state.order.indexOf(chosen[0]) - 1 : state.order.indexOf(chosen.at(-1)) + 2;
  if (at < 0 || at > state.order.length) return;
  putBefore(chosen, state.order[at] ?? null);
}

async function change(url, body, needs = true) {
  if (needs && !state.chosen.size) return;
  const result = await trying(() => post(url, body));
  if (result) await load();
}

// A preset may begin a match to the reference that it stores.
async function apply(url, body) {
  const result = await trying(() => post(url, body));
  if (!result) return;
  await load();
  followMatch(result.match, load);
}

let writing = Promise.resolve();
async function marking(fields, next = false) {
  const chosen = ids();
  if (!chosen.length) return;
  // Shown and walked on at once, so that keys can be pressed as fast as one sees; a refusal loads the truth.
  for (const id of chosen) Object.assign(state.frames.get(id), fields);
  for (const id of chosen) {
    const node = shown.get(`f${id}`);
    if (node) node.querySelector(".cell-line").replaceChildren(...marks(state.frames.get(id)));
  }
  if (next && chosen.length === 1) walk(1, false);
  told();
  const kept = writing.then(() => trying(() => post("/api/marks", { frames: chosen, ...fields })));
  writing = kept;
  if (await kept) return;
  roster.forget(); // what was refused changed nothing, and would not be told again
  load();
}

const actions = sheetActions({ state, ids, load, change, apply, marking, choose, show, again, view, matched: (reference, frames) => match.open(reference, frames) });

byId("chosen").addEventListener("click", (event) => {
  const what = event.target.closest("button")?.dataset.do;
  if (what) actions[what]?.();
});
// The preset that lies under the whole shoot: shown by its name, which is what the shoot keeps of it.
function shootPreset() {
  const select = byId("shoot-preset");
  const known = [...select.options].find((o) => o.dataset.name === state.preset);
  if (state.preset && !known) select.append(el("option", { value: "?", "data-name": state.preset, text: state.preset }));
  byId("shoot-text").textContent = state.preset ? t`Whole shoot: ${state.preset}` : t`Whole shoot`;
  select.value = state.preset ? [...select.options].find((o) => o.dataset.name === state.preset).value : "";
}
byId("shoot-preset").addEventListener("change", (event) => {
  if (event.target.value !== "?") apply(`/api/shoots/${shootId}/preset`, { key: event.target.value || null });
});
const keywords = new KeywordPanel({
  chosen: () => ({ ids: ids(), have: [...new Set(ids().flatMap((id) => state.frames.get(id).keywords))].sort() }),
  done: load,
  at: () => byId("commands"),
});
new Proposal(load);
new Sidecars(load);
new Dragging({ roll, frame: (id) => state.frames.get(id), ids, choose, done: load, byHand: () => view.byHand, next: (id) => state.order[state.order.indexOf(id) + 1] ?? null, putBefore });
const match = new Match(load);
const quiet = new Quiet({ chosen: ids, done: load });
async function joined(frame) {
  await load();
  choose([frame]);
  show(frame);
}
opens(byId("shoot-menu"), byId("shoot-choices"));
for (const id of ["propose", "sidecars"]) byId(id).addEventListener("click", () => byId("shoot-choices").hidePopover());
roll.addEventListener("click", (event) => {
  const node = event.target.closest(".cell");
  if (!node) return;
  const id = Number(node.dataset.id);
  if (event.shiftKey) reach(id);
  else if (event.ctrlKey || event.metaKey) {
    if (state.chosen.has(id)) state.chosen.delete(id);
    else state.chosen.add(id);
    state.active = id;
    state.anchor = id;
    told();
  } else choose([id]);
});
roll.addEventListener("dblclick", (event) => {
  if (event.target.closest(".cell")) actions.bench();
});
scrolled(roll, draw);
sized(arrange);
new ResizeObserver(() => arrange()).observe(roll);
document.addEventListener("tanner:changed", load);

let presets = [];
useKeys("sheet", sheetCommands({ state, ids, actions, byHand: () => view.byHand, putOn, walk, walkRow, choose, marking, presets: () => presets, quiet, dropped: () => openDropped(load), keywords: () => keywords.open(), join: (kind) => join(kind, ids(), joined) }));

// The frames do not wait for the presets.
const loading = load();
const found = await trying(() => get("/api/presets"));
presets = (found?.presets || []).map(shippedWords);
byId("shoot-preset").querySelector('[value="?"]')?.remove();
for (const p of presets) byId("shoot-preset").append(el("option", { value: p.key, "data-name": p.name, text: `${p.folder}: ${p.name}` }));
shootPreset();
for (const problem of found?.problems || []) tell(problem, true);
await loading;

// Choose: one frame large and the near-alikes around it; two to six side by side; keys for every decision.
import { get, post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { Large } from "./large.js";
import { keepPlace, shootId, tell, trying, useKeys } from "./shell.js";
import { plural, t, worded } from "./texts.js";

const MOST = 6;
const SMALL = "flex h-full w-44 flex-none flex-col gap-0.5 border-2 border-transparent p-1 not-aria-pressed:bg-panel aria-pressed:bg-raised aria-pressed:text-ink aria-pressed:border-white";
const LABELS = ["none", "red", "yellow", "green", "blue", "violet"];
const state = { frames: new Map(), order: [], groups: [], at: 0, side: false };
const switches = Object.fromEntries(["on", "hints", "alike"].map((id) => [id, byId(`choose-${id}`)]));

const on = (name) => switches[name].getAttribute("aria-pressed") === "true";
const here = () => state.frames.get(state.order[state.at]);
const groupOf = (id) => state.groups.find((g) => g.includes(id)) || [id];

const large = new Large({
  rows: () => state.order.map((id) => ({ frame: id, ...state.frames.get(id) })),
  most: MOST,
  quick: (id) => `/api/frames/${id}/quick?c=${state.frames.get(id).content}`,
  middle: (id) => {
    const box = state.frames.get(id)?.measured?.box;
    return box ? [box[0] + box[2] / 2, box[1] + box[3] / 2] : [0.5, 0.5];
  },
  caption,
});

// What was measured, in small words: against the sharpest of the group, and only what is worth a word.
function words(frame) {
  const m = frame.measured;
  if (!m || !on("hints")) return [];
  const found = [];
  const measured = groupOf(frame.id).map((id) => state.frames.get(id)?.measured).filter(Boolean);
  const sharpest = measured.reduce((a, b) => (b.sharp > a.sharp ? b : a), m);
  const share = sharpest.sharp ? (100 * m.sharp) / sharpest.sharp : 100;
  found.push([t`sharp ${number(share, 0)} %`, t`How sharp the ${{ face: t`eyes are`, focus: t`focused area is` }[m.where] || t`${m.where} is`}, against the sharpest of its group`, share < 85]);
  if (share < 85 && m.along < state.moved && m.along < 0.75 * sharpest.along) found.push([t`moved`, t`Blurred along one direction: ${number(100 * m.along, 0)} % of the detail across it`, true]);
  if (m.eyes !== null && m.eyes < state.shut) found.push([t`eyes closed`, t`Lids open to ${number(100 * m.eyes, 0)} %`, true]);
  if (m.clipped > 0.01) found.push([t`skin clipped ${number(100 * m.clipped, 0)} %`, t`Share of the face that is white in a channel`, true]);
  if (frame.copy) found.push([t`copy of ${state.frames.get(frame.copy)?.name.replace(/\.[^.]+$/, "")}`, t`The same moment and the same look`, true]);
  return found;
}

// In the strip below there is room for what is amiss alone.
function caption(row, short = false) {
  const frame = state.frames.get(row.frame ?? row.id);
  return [
    el("b", { text: frame.name.replace(/\.[^.]+$/, "") }),
    ...(frame.verdict === "undecided" ? [] : [el("span", { class: `ml-1.5 font-semibold ${frame.verdict === "keep" ? "text-follow" : "text-trouble"}`, text: worded(frame.verdict) })]),
    ...(frame.stars ? [el("span", { class: "ml-1.5", text: "★".repeat(frame.stars), role: "img", "aria-label": plural(frame.stars, "star") })] : []),
    ...(frame.label === "none" ? [] : [el("span", { class: `label-mark label-${frame.label}`, title: t`Label ${frame.label}` })]),
    ...words(frame).filter(([, , bad]) => bad || !short).map(([text, title, bad]) => el("span", { class: `ml-1.5 text-small ${bad ? "font-semibold text-look" : "text-soft"}`, text, title })),
  ];
}

async function load() {
  const at = here()?.id;
  const found = await trying(() => get(`/api/shoots/${shootId}/choosing?gap_s=${byId("choose-gap").value}&unlike=${byId("choose-unlike").value}`));
  if (!found) return;
  state.frames = new Map(found.frames.map((f) => [f.id, f]));
  state.order = found.frames.map((f) => f.id);
  state.groups = found.groups;
  state.moved = found.moved;
  state.shut = found.shut;
  state.at = Math.max(0, state.order.indexOf(at));
  byId("choose-none").hidden = state.order.length > 0;
  byId("choose-main").hidden = !state.order.length;
  if (state.order.length) show();
}

function show() {
  const frame = here();
  const group = groupOf(frame.id);
  const side = state.side && group.length > 1;
  // Side by side: those of the group that are not dropped, the present one among them.
  const beside = group.filter((id) => id === frame.id || state.frames.get(id).verdict !== "drop");
  const from = Math.max(0, Math.min(beside.indexOf(frame.id) - 2, beside.length - MOST));
  large.show(side ? beside.slice(from, from + MOST) : [frame.id]);
  strip(group);
  told();
  ahead();
  hints();
  keepPlace();
}

function strip(group) {
  byId("choose-strip").replaceChildren(
    ...group.map((id) => {
      const frame = state.frames.get(id);
      return el("button", { type: "button", class: SMALL, "aria-pressed": String(id === here().id), "data-id": String(id), title: frame.name, onclick: () => to(state.order.indexOf(id)) },
        el("img", { src: `/api/frames/${id}/picture?v=0`, alt: frame.name, draggable: "false", class: `min-h-0 flex-1 object-contain ${frame.verdict === "drop" ? "opacity-30" : ""}` }),
        el("span", { class: "flex max-w-full items-baseline gap-1 overflow-hidden text-small" }, ...caption(frame, true)),
      );
    }),
  ); // prettier-ignore
  byId("choose-strip").querySelector('[aria-pressed="true"]')?.scrollIntoView({ block: "nearest", inline: "nearest" });
}

function told() {
  const all = [...state.frames.values()];
  const kept = all.filter((f) => f.verdict === "keep").length;
  const dropped = all.filter((f) => f.verdict === "drop").length;
  const group = groupOf(here().id);
  byId("choose-where").textContent = t`Frame ${state.at + 1} of ${all.length}, group ${state.groups.indexOf(group) + 1} of ${state.groups.length}`;
  byId("choose-count").textContent = t`${kept + dropped} decided: ${kept} kept, ${dropped} dropped; ${all.length - kept - dropped} left`;
  const bar = byId("choose-bar");
  bar.max = all.length;
  bar.value = kept + dropped;
  for (const verdict of ["keep", "drop"]) document.querySelector(`[data-verdict="${verdict}"]`).setAttribute("aria-pressed", String(here().verdict === verdict));
  byId("choose-others").disabled = group.length < 2;
  byId("choose-side").disabled = group.length < 2;
}

// Pictures of the next frames are fetched while one looks at this one.
const fetched = new Set();
function ahead() {
  for (const by of [1, 2, 3, -1]) {
    const id = state.order[state.at + by];
    if (id === undefined || fetched.has(id)) continue;
    fetched.add(id);
    const image = new Image();
    image.src = `/api/frames/${id}/quick?c=${state.frames.get(id).content}`;
  }
}

let asking = null;
async function hints() {
  clearTimeout(asking);
  if (!on("hints")) return;
  const near = [...groupOf(here().id), ...state.order.slice(state.at, state.at + 24)];
  const wanted = [...new Set(near)].filter((id) => !state.frames.get(id).measured && !state.frames.get(id).error).slice(0, 60);
  if (!wanted.length) return;
  const found = await post(`/api/shoots/${shootId}/hints`, { frames: wanted }).catch(() => null);
  if (!found) return;
  const some = Object.entries(found.measured);
  for (const [id, measured] of some) state.frames.get(Number(id)).measured = measured;
  if (some.length) {
    large.captions();
    strip(groupOf(here().id));
  }
  if (found.left) asking = setTimeout(hints, 700);
}

function to(at) {
  const next = Math.min(Math.max(at, 0), state.order.length - 1);
  if (next === state.at) return;
  state.at = next;
  show();
}

function toGroup(by) {
  const at = state.groups.indexOf(groupOf(here().id)) + by;
  if (state.groups[at]) to(state.order.indexOf(state.groups[at][0]));
}

const undecided = (from) => state.order.findIndex((id, k) => k > from && state.frames.get(id).verdict === "undecided");

let writing = Promise.resolve();
function mark(ids, fields) {
  for (const id of ids) Object.assign(state.frames.get(id), fields);
  // In the order of the keys; a refusal loads the truth.
  writing = writing.then(() => trying(() => post("/api/marks", { frames: ids, ...fields }))).then((kept) => kept || load());
  large.captions();
  strip(groupOf(here().id));
  told();
}

function decide(verdict) {
  mark([here().id], { verdict: here().verdict === verdict ? "undecided" : verdict });
  if (on("on") && here().verdict === verdict) to(state.at + 1);
}

// This one, and not the others of its group: one step, so that undo takes it back as one.
async function onlyThis() {
  const group = groupOf(here().id);
  const others = group.filter((id) => id !== here().id);
  if (!others.length) return;
  for (const id of others) state.frames.get(id).verdict = "drop";
  here().verdict = "keep";
  const body = { keep: here().id, drop: others };
  writing = writing.then(() => trying(() => post(`/api/shoots/${shootId}/only-this`, body))).then((kept) => kept || load());
  if (on("on") && state.groups.at(-1) !== group) toGroup(1);
  else show();
}

function side(on = !state.side) {
  state.side = on;
  byId("choose-side").setAttribute("aria-pressed", String(on));
  show();
}

const zoom = () => large.zoomTo(large.zoom ? 0 : 1);
const press = (button, then) => {
  button.setAttribute("aria-pressed", String(button.getAttribute("aria-pressed") !== "true"));
  localStorage.setItem(`tanner.${button.id}`, button.getAttribute("aria-pressed"));
  then?.();
};
for (const [button, then] of [[switches.on], [switches.hints, () => show()]]) {
  button.setAttribute("aria-pressed", localStorage.getItem(`tanner.${button.id}`) || button.getAttribute("aria-pressed"));
  button.addEventListener("click", () => press(button, then));
}
document.querySelector("#choose-tools").addEventListener("click", (event) => {
  const verdict = event.target.closest("[data-verdict]")?.dataset.verdict;
  if (verdict) decide(verdict);
});
byId("choose-others").addEventListener("click", onlyThis);
byId("choose-side").addEventListener("click", () => side());
byId("large-panes").addEventListener("click", (event) => {
  const id = Number(event.target.closest(".large-pane")?.dataset.id);
  if (id && id !== here().id && !large.zoom) to(state.order.indexOf(id));
});
for (const id of ["choose-gap", "choose-unlike"]) byId(id).addEventListener("change", load);
switches.alike.addEventListener("click", () => press(switches.alike, () => (byId("choose-limits").hidden = !on("alike"))));
document.addEventListener("tanner:changed", load);

const commands = [
  { id: "next", key: "ArrowRight", label: t`Next frame`, run: () => to(state.at + 1) },
  { id: "before", key: "ArrowLeft", label: t`Frame before`, run: () => to(state.at - 1) },
  { id: "group-next", key: "ArrowDown", label: t`Next group`, run: () => toGroup(1) },
  { id: "group-before", key: "ArrowUp", label: t`Group before`, run: () => toGroup(-1) },
  { id: "undecided-next", key: "u", label: t`Next that is not decided`, run: () => (undecided(state.at) < 0 ? tell(t`All after this one are decided.`) : to(undecided(state.at))) },
  { id: "keep", key: "k", label: t`Keep; again: undecided`, run: () => decide("keep") },
  { id: "drop", key: "d", label: t`Drop; again: undecided`, run: () => decide("drop") },
  { id: "undecided", key: "n", label: t`Undecided`, run: () => mark([here().id], { verdict: "undecided" }) },
  { id: "only", key: "o", label: t`This one, not the others of its group`, run: onlyThis },
  ...[0, 1, 2, 3, 4, 5].map((n) => ({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : t`No stars`, run: () => mark([here().id], { stars: n }) })),
  { id: "label", key: "l", label: t`Next colour label`, run: () => mark([here().id], { label: LABELS[(LABELS.indexOf(here().label) + 1) % LABELS.length] }) },
  { id: "side", key: "s", label: t`Side by side, or one`, run: () => side() },
  { id: "zoom", key: "z", label: t`The subject at 100 %, or the whole`, run: zoom },
  { id: "hints", key: "h", label: t`Hints, or none`, run: () => press(switches.hints, () => show()) },
  { id: "onwards", key: "a", label: t`Go on by itself after a decision`, run: () => press(switches.on) },
  { id: "bench", key: "Enter", label: t`Open on the Bench`, run: () => (location.href = `/shoots/${shootId}/bench?frame=${here().id}`) },
];
// Of a shoot without frames there is nothing to choose.
useKeys("choose", commands.map((command) => ({ ...command, run: () => here() && command.run() })));
await load();

// The Line-up: a set's frames in order, the colour of what matters in each, and what stands out of the tolerance.
import { get, post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { Fresh } from "./fresh.js";
import { followMatch } from "./jobs.js";
import { Large, outlines } from "./large.js";
import { areaChoice } from "./lineup/area-choice.js";
import { drawChart } from "./lineup/chart.js";
import { hear } from "./news.js";
import { listOwnAreas } from "./own-areas.js";
import { Roster } from "./roster.js";
import { ask, shootId, trying, useKeys } from "./shell.js";
import { plural, t } from "./texts.js";

const state = { frames: new Map(), sets: [], figures: null, set: null, kind: "backdrop", box: null, chosen: new Set(), active: null };
const roster = new Roster(shootId);
let fresh = null;
let asking = 0;
let listed = null; // the lead whose areas can be chosen

async function load() {
  if (!(await trying(() => roster.read()))) return;
  const { frames } = roster;
  state.frames = roster.byId;
  state.sets = roster.sets;
  fresh ||= new Fresh(shootId, roster.counter, pictures);
  if (!state.sets.some((s) => s.id === state.set)) {
    const kept = Number(sessionStorage.getItem(`tanner.lineup.${shootId}`));
    const size = (s) => frames.filter((f) => f.set === s.id).length;
    state.set = (state.sets.find((s) => s.id === kept) || [...state.sets].sort((a, b) => size(b) - size(a))[0])?.id ?? null;
  }
  byId("which-set").replaceChildren(...state.sets.map((s) => el("option", { value: String(s.id), text: s.name, selected: s.id === state.set })));
  if (!state.set) {
    byId("summary").textContent = t`There are no sets yet.`;
    return;
  }
  await figures();
}

// Asked again while frames are being measured; a newer question ends the older one.
async function figures() {
  const mine = ++asking;
  const box = `&kind=${state.kind}${state.box ? `&box=${boxText()}` : ""}`;
  const tolerance = Math.min(20, Math.max(0.1, Number(byId("tolerance").value) || 1));
  const line = hear("lineup");
  let known = "";
  while (mine === asking) {
    const found = await trying(() => get(`/api/shoots/${shootId}/lineup?set=${state.set}&tolerance=${tolerance}${box}&known=${known}`));
    if (!found || mine !== asking) return;
    known = found.known;
    // After the first answer only rows that changed are told.
    const changed = found.whole ? null : new Map(found.frames.map((row) => [row.frame, row]));
    if (changed) found.frames = state.figures.frames.map((row) => changed.get(row.frame) || row);
    state.figures = found;
    if (listed !== found.lead) {
      listed = found.lead;
      const known = await listOwnAreas(byId("by-area"), listed);
      // An area of another set's lead means nothing here.
      if (!known.has(state.kind)) {
        state.kind = "backdrop";
        byId("by-area").value = state.kind;
        return void figures();
      }
      if (!state.box) byId("by-area").value = state.kind;
    }
    const there = new Set(found.frames.map((f) => f.frame));
    state.chosen = new Set([...state.chosen].filter((id) => there.has(id)));
    draw(changed);
    if (!found.pending) return;
    await line.next(400);
  }
}

const boxText = () => (state.box ? state.box.map((v) => v.toFixed(4)).join(",") : "");

// changed: rows by frame where the others are as they were
function draw(changed = null) {
  const f = state.figures;
  chart(f);
  words(f);
  if (changed) for (const row of changed.values()) byId("strip").querySelector(`[data-id="${row.frame}"]`).replaceWith(thumb(f, row));
  else strip(f);
  told();
  if (!byId("large").hidden) large.captions();
  const waits = f.pending ? t`, ${f.pending} being measured` : "";
  const against = f.by === "frame" ? t`the lead` : t`the median`;
  byId("summary").textContent = f.spread === null ? t`nothing measured${waits}` : t`${f.outside ? t`${f.outside} of ${f.frames.length} outside` : t`all within`} ${number(f.tolerance, 1)} of ${against}; farthest ${number(f.spread, 1)}, mean ${number(f.mean, 1)}${waits}`;
}

const chart = (f) => drawChart(byId("chart"), f, state.chosen);

function words(f) {
  const odd = f.frames.filter((r) => r.outside || r.accepted || !r.lab);
  byId("words").replaceChildren(
    ...odd.map((r) => el("li", {}, el("button", { type: "button", onclick: () => choose([r.frame]) }, el("b", { text: r.name.replace(/\.[^.]+$/, "") }), el("span", { text: ` ${r.words}${r.lab ? ` (${number(r.difference, 1)})` : ""}${r.accepted ? t`. Accepted: ${r.accepted}` : ""}` })))),
    ...(odd.length ? [] : [el("li", { class: "dim", text: f.pending ? t`Being measured …` : t`Nothing: all frames are within the tolerance.` })]),
  );
}

function thumb(f, r) {
  const frame = state.frames.get(r.frame);
  return el(
    "div",
    { class: `lineup-cell${r.outside ? " outside" : ""}`, role: "option", "data-id": String(r.frame), "aria-selected": String(state.chosen.has(r.frame)) },
    el("span", { class: "h-29.5 grid place-items-center" }, el("span", { class: "lineup-frame relative block" }, el("img", { alt: "", draggable: "false", loading: "lazy", src: `/api/frames/${r.frame}/picture?v=${frame?.v || ""}`, onload: (event) => outlined(event.target, r) }))),
    el("div", { class: "cell-line" }, r.frame === f.lead ? el("span", { class: "lead-mark", text: t`lead` }) : null, el("span", { class: "cell-name overflow-hidden text-ellipsis", text: r.name.replace(/\.[^.]+$/, "") }), el("span", { text: r.difference === null ? "?" : number(r.difference, 1) })),
  );
}

function strip(f) {
  byId("strip").replaceChildren(...f.frames.map((r) => thumb(f, r)));
  const order = f.frames.map((r) => r.frame);
  const here = Math.max(0, order.indexOf(state.active));
  fresh.want(order.toSorted((a, b) => Math.abs(order.indexOf(a) - here) - Math.abs(order.indexOf(b) - here)));
}

// Drawn once the picture is there: of a long set only what is looked at has to be.
function outlined(image, row) {
  image.parentElement.querySelector(".area-lines")?.remove();
  if (byId("outlined").checked && row.outline.length) image.after(outlines(row.outline));
}

function pictures(ready) {
  for (const [id, v] of Object.entries(ready)) {
    const image = byId("strip").querySelector(`[data-id="${id}"] img`);
    if (image) image.src = `/api/frames/${id}/picture?v=${v}&n=${Date.now()}`;
  }
}

const accepted = (id) => state.figures?.frames.find((f) => f.frame === id)?.accepted;

function told() {
  for (const node of byId("strip").children) node.setAttribute("aria-selected", state.chosen.has(Number(node.dataset.id)));
  for (const node of byId("chart").querySelectorAll(".point")) node.classList.toggle("chosen", state.chosen.has(Number(node.dataset.id)));
  const here = targets();
  const n = here.length;
  const one = n === 1 ? state.figures?.frames.find((f) => f.frame === here[0])?.name.replace(/\.[^.]+$/, "") : "";
  byId("chosen-text").textContent = n ? one || plural(n, "frame") : t`nothing chosen`;
  byId("bring-chosen").disabled = !here.some((id) => id !== state.figures?.lead);
  // Not before all are measured: else some that are outside would be left.
  byId("bring-outside").disabled = !state.figures?.outside || state.figures.pending > 0;
  for (const b of document.querySelectorAll("[data-nudge]")) b.disabled = !n;
  if (!byId("large").hidden) enlarge();
}

// The frames that a change goes to, in the order of the line.
function targets() {
  const order = state.figures?.frames.map((f) => f.frame) || [];
  const where = byId("goes-to").value;
  if (where === "all") return order.filter((id) => state.figures.followers.includes(id));
  if (where === "one") return state.active ? [state.active] : [];
  return order.filter((id) => state.chosen.has(id));
}
byId("goes-to").addEventListener("change", () => told());

// --- large ---------------------------------------------------------------------------------------

const large = new Large({ rows: () => state.figures?.frames || [], outlined: () => byId("outlined").checked });
let enlarged = "";
// Up to four chosen frames; one alone is shown beside the lead.
function enlarge() {
  const order = state.figures?.frames.map((f) => f.frame) || [];
  let ids = order.filter((id) => state.chosen.has(id));
  const lead = state.figures?.lead;
  if (ids.length === 1 && lead && ids[0] !== lead) ids = [lead, ...ids];
  if (!ids.length && order.length) ids = [lead || order[0]];
  byId("large-about").textContent = ids.length > 4 ? t`The first four of ${ids.length} chosen frames` : ids.length === 2 && state.chosen.size === 1 ? t`The lead, and the chosen frame` : t`Drag to another place`;
  const key = ids.slice(0, 4).map((id) => `${id}${state.frames.get(id)?.v}`).join();
  if (key === enlarged) return;
  enlarged = key;
  large.show(ids);
}
function see(what) {
  byId("large").hidden = what !== "large";
  byId("middle").hidden = what === "large";
  byId("see-large").setAttribute("aria-pressed", String(what === "large"));
  byId("see-chart").setAttribute("aria-pressed", String(what !== "large"));
  enlarged = "";
  if (what === "large") enlarge();
  else if (state.figures) chart(state.figures);
}
byId("see-large").addEventListener("click", () => see("large"));
byId("see-chart").addEventListener("click", () => see("chart"));
byId("outlined").addEventListener("change", () => {
  if (!state.figures) return;
  strip(state.figures);
  if (!byId("large").hidden) large.draw();
});

// --- the others like it ---------------------------------------------------------------------------

let like = null;
async function alike() {
  if (!state.active) return;
  const within = Number(byId("alike-within").value) || 1.5;
  const found = await trying(() => post("/api/alike", { frame: state.active, box: boxText(), kind: state.kind, within }));
  if (!found) return;
  like = found;
  const said = Object.entries(found.moved).map(([k, v]) => `${v > 0 ? "+" : ""}${number(v, k === "ev" ? 2 : 0)} ${k === "ev" ? "EV" : k}`);
  byId("alike-about").textContent = t`${found.name} was moved by ${said.join(", ")}. These frames look as it did before.`;
  byId("alike-list").replaceChildren(
    ...found.frames.map((row) => el("label", { class: "alike-cell w-37.5 flex flex-col bg-surround p-0.75" }, el("img", { alt: "", src: `/api/frames/${row.frame}/picture?v=${state.frames.get(row.frame)?.v || ""}` }), el("span", {}, el("input", { type: "checkbox", checked: true, value: String(row.frame), onchange: count }), ` ${row.name.replace(/\.[^.]+$/, "")} `, el("span", { class: "dim", text: number(row.difference, 1) })))),
    ...(found.frames.length ? [] : [el("p", { class: "dim", text: t`No other frame of the set looks like it did.` })]),
  );
  count();
  if (!byId("alike").open) byId("alike").showModal();
}
const ticked = () => [...byId("alike-list").querySelectorAll("input:checked")].map((b) => Number(b.value));
function count() {
  byId("alike-count").textContent = plural(ticked().length, "frame");
  byId("alike-go").disabled = !ticked().length;
}
byId("alike-within").addEventListener("change", alike);
byId("alike-go").addEventListener("click", async () => {
  if (await trying(() => post("/api/nudge", { frames: ticked(), ...like.moved }))) {
    byId("alike").close();
    load();
  }
});

function choose(ids, active = ids[0]) {
  state.chosen = new Set(ids);
  state.active = active ?? null;
  told();
  byId("strip").querySelector(`[data-id="${state.active}"]`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
}

function click(event) {
  const id = Number(event.target.closest("[data-id]")?.dataset.id);
  if (!id) return;
  if (event.ctrlKey || event.metaKey) {
    const next = new Set(state.chosen);
    if (!next.delete(id)) next.add(id);
    choose([...next], id);
  } else if (event.shiftKey && state.active) {
    const order = state.figures.frames.map((f) => f.frame);
    const [a, b] = [order.indexOf(state.active), order.indexOf(id)].sort((p, q) => p - q);
    choose(order.slice(a, b + 1), state.active);
  } else choose([id]);
}
byId("chart").addEventListener("click", click);
byId("strip").addEventListener("click", click);
byId("strip").addEventListener("dblclick", bench);

function walk(by) {
  const order = state.figures?.frames.map((f) => f.frame) || [];
  if (!order.length) return;
  const at = order.indexOf(state.active);
  choose([order[Math.min(order.length - 1, Math.max(0, at < 0 ? 0 : at + by))]]);
}

// Whatever group was open there last.
function retouch() {
  sessionStorage.setItem("tanner.group", "spots");
  bench();
}

function bench() {
  if (state.active) location.href = `/shoots/${shootId}/bench?frame=${state.active}`;
}

async function bring(ids) {
  const frames = ids.filter((id) => id !== state.figures.lead);
  if (!frames.length || !state.figures.lead) return;
  const started = await trying(() => post("/api/match", { frames, reference: state.figures.lead, what: byId("bring-what").value, box: state.box, kind: state.kind }));
  if (!started) return;
  await followMatch(started.id, load, (job) => {
    byId("summary").textContent = job.over ? job.message : t`bringing in: ${job.done} of ${job.count}`;
  });
}
byId("bring-outside").addEventListener("click", () => bring(state.figures.frames.filter((f) => f.outside).map((f) => f.frame)));
byId("bring-chosen").addEventListener("click", () => bring(targets()));
async function accept() {
  const ids = targets();
  if (!ids.length) return;
  const off = ids.every((id) => accepted(id));
  const reason = off ? "" : await ask({ title: t`Accept as it is`, label: t`Why it is right`, value: t`meant to be so` });
  if (reason === null || (!off && !reason.trim())) return;
  if (await trying(() => post("/api/accept", { frames: ids, reason }))) load();
}

async function nudge(ev) {
  const ids = targets();
  if (!ids.length) return;
  if (await trying(() => post("/api/nudge", { frames: byId("goes-to").value === "all" ? [state.figures.lead] : ids, ev }))) load();
}
for (const b of document.querySelectorAll("[data-nudge]")) b.addEventListener("click", () => nudge(Number(b.dataset.nudge)));

byId("which-set").addEventListener("change", (event) => {
  state.set = Number(event.target.value);
  sessionStorage.setItem(`tanner.lineup.${shootId}`, String(state.set));
  state.box = null;
  if (byId("by-area").value === "drawn") byId("by-area").value = state.kind;
  choose([]);
  figures();
});
byId("tolerance").addEventListener("change", figures);
new ResizeObserver(() => state.figures && chart(state.figures)).observe(byId("chart"));
document.addEventListener("tanner:changed", load);

areaChoice({
  kind: () => state.kind,
  box: () => state.box,
  lead: () => state.frames.get(state.figures?.lead),
  choose(kind) {
    state.box = null;
    state.kind = kind;
    sessionStorage.setItem(`tanner.lineup.kind.${shootId}`, kind);
    figures();
  },
  drawn(box) {
    state.box = box;
    figures();
  },
});

const some = () => targets().length > 0;
const outside = () => state.figures?.frames.filter((f) => f.outside).map((f) => f.frame) || [];
const section = (name, ...commands) => commands.map((c) => ({ section: name, ...c }));
useKeys("lineup", [
  { id: "right", key: "ArrowRight", label: t`Next frame`, run: () => walk(1) },
  { id: "left", key: "ArrowLeft", label: t`Frame before`, run: () => walk(-1) },
  ...section(
    t`Correct`,
    { id: "lighter", key: "+", label: t`A sixth of a stop lighter`, can: some, run: () => nudge(1 / 6) },
    { id: "darker", key: "-", label: t`A sixth of a stop darker`, can: some, run: () => nudge(-1 / 6) },
    { id: "lighter-more", key: "Shift+ArrowUp", label: t`A third of a stop lighter`, can: some, run: () => nudge(1 / 3) },
    { id: "darker-more", key: "Shift+ArrowDown", label: t`A third of a stop darker`, can: some, run: () => nudge(-1 / 3) },
    { id: "bring", key: "i", label: t`Bring in these`, can: some, run: () => bring(targets()) },
    { id: "alike", key: "c", label: t`The others like it: carry this correction on …`, can: () => Boolean(state.active), run: alike },
    { id: "accept", label: t`Accept as it is …`, can: () => some() && !targets().every(accepted), run: accept },
    { id: "accept-off", label: t`Accept no longer`, can: () => some() && targets().every(accepted), run: accept },
  ),
  ...section(
    t`See`,
    { id: "large", key: "v", label: t`Chart or large`, run: () => see(byId("large").hidden ? "large" : "chart") },
    { id: "open", key: "Enter", label: t`Open on the Bench`, can: () => Boolean(state.active), run: bench },
    { id: "spots", key: "r", label: t`Spots: retouch`, can: () => Boolean(state.active), run: retouch },
  ),
  ...section(
    t`Choose`,
    { id: "outside", key: "x", label: t`Choose all that are outside`, can: () => outside().length > 0, run: () => choose(outside()) },
    { id: "all", key: "Ctrl+a", label: t`Choose all`, run: () => choose(state.figures.frames.map((f) => f.frame)) },
  ),
]);
state.kind = sessionStorage.getItem(`tanner.lineup.kind.${shootId}`) || "backdrop";
byId("by-area").value = state.kind;
await load();
window.tannerDraw = () => state.figures && draw(); // for measuring

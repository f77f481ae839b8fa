// Find: frames of all shoots by words and by what they are. Results come a part at a time, as one scrolls.
import { get, post, remove } from "./api.js";
import { opens } from "./commands.js";
import { byId, el } from "./dom.js";
import { Facets, VALUE } from "./facets.js";
import { findCommands } from "./find-commands.js";
import { cellOf, marks, picture } from "./frame-cell.js";
import { KeywordPanel } from "./keyword-panel.js";
import { scrolled, sized } from "./roll.js";
import { ask, tell, trying, useKeys } from "./shell.js";
import { plural, t } from "./texts.js";

const PAGE = 120;
const GAP = 4;
const roll = byId("roll");
const inner = byId("roll-inner");
const address = new URLSearchParams(location.search);
const state = {
  q: address.get("q") || "",
  sort: address.get("sort") || "-taken",
  collection: Number(address.get("collection")) || null,
  total: 0, frames: [], asked: new Set(), chosen: new Set(), active: -1, anchor: -1, coming: null, kept: { searches: [], collections: [], sorts: {} }, round: 0,
}; // prettier-ignore
const shown = new Map();

const query = (more = {}) => {
  const parts = new URLSearchParams({ q: state.q, sort: state.sort, archived: byId("archived").checked, ...more });
  if (state.collection) parts.set("collection", state.collection);
  return parts;
};

// A new search: the first part at once, the counts beside it when they come.
async function search(keepChosen = false) {
  const round = ++state.round;
  const at = new URLSearchParams();
  for (const key of ["q", "sort", "collection"]) if (state[key] && !(key === "sort" && state.sort === "-taken")) at.set(key, state[key]);
  history.replaceState(null, "", `${location.pathname}${at.size ? `?${at}` : ""}`);
  let first;
  try {
    first = await get(`/api/find?${query({ offset: 0 })}`);
  } catch (error) {
    if (round === state.round) byId("find-error").textContent = error.message;
    return;
  }
  if (round !== state.round) return;
  byId("find-error").textContent = "";
  const active = keepChosen ? state.active : -1;
  // How many there are in all comes with the counts, where it takes longer than the first of them.
  Object.assign(state, { total: first.total ?? first.frames.length, frames: [], asked: new Set([0]), active, counter: first.counter });
  first.frames.forEach((f, i) => (state.frames[i] = f));
  if (!keepChosen) {
    state.chosen.clear();
    roll.scrollTop = 0;
  }
  if (first.total !== null) byId("count").textContent = plural(state.total, "frame");
  byId("keep-search").disabled = !state.q || state.collection !== null;
  arrange();
  watch();
  facets(round);
}

async function more(offset) {
  if (state.asked.has(offset)) return;
  state.asked.add(offset);
  const round = state.round;
  const part = await trying(() => get(`/api/find?${query({ offset })}`));
  if (!part || round !== state.round) return;
  part.frames.forEach((f, i) => (state.frames[offset + i] = f));
  draw();
  watch();
}

// Pictures that are being made are shown when they are ready.
let timer = null;
function watch() {
  if (!timer) timer = setTimeout(news, 400);
}
async function news() {
  timer = null;
  const some = state.frames.find(Boolean);
  if (!some) return;
  const found = await get(`/api/shoots/${some.shoot}/pictures?since=${state.counter}`).catch(() => null);
  if (!found) return;
  state.counter = found.counter;
  for (const id of Object.keys(found.ready)) {
    const node = byId(`frame-${id}`);
    const frame = node && state.frames[Number(node.dataset.at)];
    if (frame) picture(node, frame, `&n=${Date.now()}`);
  }
  if (found.pending) watch();
}

const layout = () => {
  const size = Number(byId("size").value);
  const width = inner.clientWidth || roll.clientWidth - 16;
  const columns = Math.max(1, Math.floor((width - GAP) / (size + GAP)));
  return { columns, pitch: (width - GAP) / columns, h: Math.round(size * 0.72) + 36 };
};

function arrange() {
  const { columns, h } = layout();
  inner.style.height = `${Math.ceil(state.total / columns) * (h + GAP) + GAP}px`;
  for (const node of shown.values()) node.remove();
  shown.clear();
  draw();
  told();
}

function draw() {
  const { columns, pitch, h } = layout();
  const row = h + GAP;
  const first = Math.max(0, Math.floor((roll.scrollTop - 400) / row)) * columns;
  const last = Math.min(state.total, Math.ceil((roll.scrollTop + roll.clientHeight + 400) / row) * columns);
  for (const [at, node] of shown) {
    if (at >= first && at < last) continue;
    node.remove();
    shown.delete(at);
  }
  for (let at = first; at < last; at += 1) {
    if (shown.has(at)) continue;
    const frame = state.frames[at];
    if (!frame) {
      more(Math.floor(at / PAGE) * PAGE);
      continue;
    }
    const node = cellOf(frame, { x: GAP + (at % columns) * pitch, y: GAP + Math.floor(at / columns) * row, w: pitch - GAP, h });
    node.dataset.at = String(at);
    node.title = `${frame.shootName}${frame.setName ? `, ${frame.setName}` : ""}`;
    look(node, frame, at);
    shown.set(at, node);
    inner.append(node);
  }
  byId("none-found").hidden = state.total > 0 || Boolean(byId("find-error").textContent);
  byId("none-found").textContent = state.collection ? t`Nothing of this is in the collection.` : t`No frame is like that. Take a word away, or a choice on the left.`;
}

function look(node, frame, at) {
  node.setAttribute("aria-pressed", state.chosen.has(frame.id));
  node.classList.toggle("active", state.active === at);
  node.classList.toggle("dropped", frame.verdict === "drop");
}

function told() {
  for (const [at, node] of shown) look(node, state.frames[at], at);
  const n = state.chosen.size;
  byId("chosen-text").textContent = n ? t`${plural(n, "frame")} chosen` : t`Nothing chosen`;
  for (const button of document.querySelectorAll("#chosen [data-do]")) button.disabled = n === 0;
  byId("collect").disabled = n === 0;
  byId("from-collection").hidden = !state.collection;
}

function choose(at) {
  const frame = state.frames[at];
  state.chosen = new Set(frame ? [frame.id] : []);
  state.active = state.anchor = at;
  told();
}

function reach(at) {
  const [from, to] = [Math.min(state.anchor < 0 ? at : state.anchor, at), Math.max(state.anchor, at)];
  state.chosen = new Set(state.frames.slice(from, to + 1).filter(Boolean).map((f) => f.id));
  state.active = at;
  told();
}

function walk(by, extend = false) {
  if (!state.total) return;
  const at = Math.min(Math.max(state.active < 0 ? 0 : state.active + by, 0), state.total - 1);
  const { columns, h } = layout();
  const y = Math.floor(at / columns) * (h + GAP);
  if (y < roll.scrollTop) roll.scrollTop = y;
  if (y + h + 8 > roll.scrollTop + roll.clientHeight) roll.scrollTop = y + h + 12 - roll.clientHeight;
  if (!state.frames[at]) more(Math.floor(at / PAGE) * PAGE);
  if (extend) reach(at);
  else choose(at);
}

const chosenFrames = () => state.frames.filter((f) => f && state.chosen.has(f.id));
const ids = () => [...state.chosen];

let writing = Promise.resolve();
async function marking(fields, next = false) {
  const wanted = ids();
  if (!wanted.length) return;
  // Shown at once, so that keys can be pressed as fast as one sees; a refusal loads the truth.
  for (const frame of chosenFrames()) {
    Object.assign(frame, fields);
    byId(`frame-${frame.id}`)?.querySelector(".cell-line").replaceChildren(...marks(frame));
  }
  if (next && wanted.length === 1) walk(1);
  told();
  const kept = writing.then(() => trying(() => post("/api/marks", { frames: wanted, ...fields })));
  writing = kept;
  if (!(await kept)) search(true);
}

const actions = {
  bench: () => {
    const frame = state.frames[state.active] || chosenFrames()[0];
    if (frame) location.href = `/shoots/${frame.shoot}/bench?frame=${frame.id}`;
  },
  sheet: () => {
    const frame = state.frames[state.active] || chosenFrames()[0];
    if (frame) location.href = `/shoots/${frame.shoot}/sheet`;
  },
  keep: () => marking({ verdict: "keep" }),
  drop: () => marking({ verdict: "drop" }),
  deliver: async () => {
    // Shoot by shoot: Deliver leads from one to the next.
    const found = await trying(() => post("/api/find/shoots", { frames: ids() }));
    if (!found?.shoots.length) return;
    for (const { shoot, frames } of found.shoots) sessionStorage.setItem(`tanner.deliver.${shoot}`, JSON.stringify(frames));
    const [first, ...then] = found.shoots;
    sessionStorage.setItem("tanner.deliver.then", JSON.stringify(then.map(({ shoot, name, frames }) => ({ shoot, name, count: frames.length }))));
    location.href = `/shoots/${first.shoot}/deliver?chosen=1`;
  },
  all: () => {
    const chosen = async () => {
      const found = await trying(() => get(`/api/find/ids?${query()}`));
      state.coming = null;
      if (!found) return;
      state.chosen = new Set(found.frames);
      told();
    };
    state.coming = chosen();
    return state.coming;
  },
  none: () => {
    state.chosen.clear();
    told();
  },
  collect: async (collection) => {
    const added = await trying(() => post(`/api/collections/${collection}/add`, { frames: ids() }));
    if (added) tell(added.added ? t`${plural(added.added, "frame")} added to the collection.` : t`They are all in this collection already.`);
    readKept();
  },
  begin: async () => {
    const name = await ask({ title: t`Begin a collection`, label: t`Name` });
    if (!name) return;
    const made = await trying(() => post("/api/collections", { name }));
    if (made && state.chosen.size) await actions.collect(made.id);
    else readKept();
  },
  leave: async () => {
    if (await trying(() => post(`/api/collections/${state.collection}/remove`, { frames: ids() }))) search();
  },
  // One place nearer to the beginning, or to the end.
  shift: async (by) => {
    if (!state.collection || state.sort !== "hand") return;
    const order = state.frames.filter(Boolean).map((f) => f.id);
    const moved = order.filter((id) => state.chosen.has(id));
    const rest = order.filter((id) => !state.chosen.has(id));
    const before = order.slice(0, order.indexOf(moved[0])).filter((id) => rest.includes(id)).length + by;
    if (!moved.length || before < 0) return;
    const active = state.frames[state.active]?.id;
    if (await trying(() => post(`/api/collections/${state.collection}/order`, { frames: moved, before: rest[before] ?? null }))) {
      await search(true);
      state.active = state.frames.findIndex((f) => f?.id === active);
      told();
    }
  },
};

// ---- what there is to choose from, on the left

const choices = new Facets({
  host: byId("facets"),
  url: () => `/api/find/facets?${query()}`,
  read: () => state.q,
  write: (q) => {
    state.q = q;
    byId("q").value = q;
    search();
  },
});

async function facets(round) {
  const found = await choices.draw();
  if (!found || round !== state.round) return;
  if (found.total !== state.total) {
    state.total = found.total;
    const { columns, h } = layout();
    inner.style.height = `${Math.ceil(state.total / columns) * (h + GAP) + GAP}px`;
    draw();
  }
  byId("count").textContent = plural(found.total, "frame");
}

async function readKept() {
  const found = await trying(() => get("/api/find/kept"));
  if (!found) return;
  state.kept = found;
  const sort = byId("sort");
  sort.replaceChildren(...Object.entries(found.sorts).filter(([key]) => key !== "hand" || state.collection).map(([value, text]) => el("option", { value, text })));
  sort.value = state.sort;
  const open = (q, order, collection = null) => {
    Object.assign(state, { q, sort: order, collection });
    byId("q").value = q;
    readKept();
    search();
  };
  const line = (each, on, run, drop) =>
    el("li", { class: "flex items-center" },
      el("button", { type: "button", class: VALUE, "aria-pressed": String(on), title: each.error || each.expression || each.name, onclick: run },
        el("span", { class: "min-w-0 truncate", text: each.name }), el("span", { class: "num", text: each.error ? "?" : String(each.count) })),
      el("button", { type: "button", class: "plain flex-none px-1.5", text: "×", "aria-label": t`Forget ${each.name}`, title: t`Forgets it; the frames stay as they are`, onclick: drop }),
    ); // prettier-ignore
  byId("searches").replaceChildren(
    ...found.searches.map((s) => line(s, !state.collection && state.q === s.expression, () => open(s.expression, s.sort), async () => {
      if (await trying(() => remove(`/api/find/searches/${s.id}`))) readKept();
    })),
  ); // prettier-ignore
  byId("collections").replaceChildren(
    ...found.collections.map((c) => line(c, state.collection === c.id, () => (state.collection === c.id ? open("", "-taken") : open("", "hand", c.id)), async () => {
      if (!(await trying(() => remove(`/api/collections/${c.id}`)))) return;
      if (state.collection === c.id) open("", "-taken");
      else readKept();
    })),
  ); // prettier-ignore
  byId("searches-none").hidden = found.searches.length > 0;
  byId("collections-none").hidden = found.collections.length > 0;
}

// ---- the page

byId("q").value = state.q;
let typing = null;
byId("q").addEventListener("input", () => {
  clearTimeout(typing);
  typing = setTimeout(() => {
    state.q = byId("q").value.trim();
    search();
  }, 90);
});
byId("sort").addEventListener("change", (event) => {
  state.sort = event.target.value;
  search();
});
byId("archived").addEventListener("change", () => search());
byId("keep-search").addEventListener("click", async () => {
  const name = await ask({ title: t`Keep this search`, label: t`Name`, value: state.q });
  if (name && (await trying(() => post("/api/find/searches", { name, expression: state.q, sort: state.sort })))) readKept();
});
byId("begin").addEventListener("click", actions.begin);
opens(byId("collect"), byId("collect-choices"));
byId("collect-choices").addEventListener("beforetoggle", (event) => {
  if (event.newState !== "open") return;
  byId("collect-list").replaceChildren(
    ...state.kept.collections.map((c) => el("li", {}, el("button", { type: "button", text: c.name, onclick: () => (byId("collect-choices").hidePopover(), actions.collect(c.id)) }))),
    el("li", {}, el("button", { type: "button", text: t`A new collection …`, onclick: () => (byId("collect-choices").hidePopover(), actions.begin()) })),
  );
});
byId("chosen").addEventListener("click", (event) => {
  const what = event.target.closest("button")?.dataset.do;
  if (what) actions[what]?.();
});
roll.addEventListener("click", (event) => {
  const node = event.target.closest(".cell");
  if (!node) return;
  const at = Number(node.dataset.at);
  const id = Number(node.dataset.id);
  if (event.shiftKey) reach(at);
  else if (event.ctrlKey || event.metaKey) {
    if (!state.chosen.delete(id)) state.chosen.add(id);
    state.active = state.anchor = at;
    told();
  } else choose(at);
});
roll.addEventListener("dblclick", (event) => event.target.closest(".cell") && actions.bench());
scrolled(roll, draw);
sized(arrange);
let width = 0;
new ResizeObserver(() => {
  if (roll.clientWidth === width) return draw();
  width = roll.clientWidth;
  return arrange();
}).observe(roll);
const keywords = new KeywordPanel({
  chosen: () => ({ ids: ids(), have: [...new Set(chosenFrames().flatMap((f) => f.keywords))].sort() }),
  done: () => search(true),
  at: () => byId("commands"),
});
useKeys("find", findCommands({ state, ids, keywords: () => keywords.open(), actions, walk, row: () => layout().columns, marking, focus: () => byId("q").focus() }));
await Promise.all([readKept(), search()]);

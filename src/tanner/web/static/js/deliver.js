// Deliver: frames, specs and a folder; the table of what will be written, and a proof; then the running job.
import { get, post } from "./api.js";
import { Delivered, earlier } from "./delivered.js";
import { byId, el, size } from "./dom.js";
import { shootId, tell, trying } from "./shell.js";
import { specDrawing } from "./spec-drawing.js";
import { openSpec, useSpecForm } from "./spec-form.js";
import { openWords } from "./words.js";
import { plural, shippedWords, t, worded } from "./texts.js";

const stored = JSON.parse(localStorage.getItem("tanner.specs") || "[]");
const state = { frames: [], names: new Map(), specs: [], chosen: new Set(stored), ids: [], plan: null, notes: {}, ready: false, going: false };
const delivered = new Delivered({ closed, changed: () => earlier(delivered.id, (id) => delivered.follow(id)) });

// --- which frames ----------------------------------------------------------------------------------------

async function ids() {
  const filter = byId("filter").value.trim();
  let found = null;
  if (byId("which").value === "chosen") {
    const chosen = new Set(JSON.parse(sessionStorage.getItem(`tanner.deliver.${shootId}`) || "[]"));
    found = state.frames.filter((f) => chosen.has(f.id)).map((f) => f.id);
    if (!filter) return found;
  }
  const all = (await post(`/api/shoots/${shootId}/choose`, { filter })).frames;
  return found ? found.filter((id) => all.includes(id)) : all;
}

function quoted(text) {
  return /[\s()"]/.test(text) ? `"${text.replaceAll('"', "")}"` : text;
}

// What is there to narrow by: stars, labels, sets and keywords that frames of this shoot have.
function narrowing(sets) {
  const seen = (values) => [...new Set(values)].filter(Boolean).sort();
  const choices = [
    ...[1, 2, 3, 4, 5].filter((n) => state.frames.some((f) => f.stars >= n)).map((n) => [`stars>=${n}`, t`${"★".repeat(n)} and more`]),
    ...seen(state.frames.map((f) => f.label)).filter((l) => l !== "none").map((l) => [`label:${l}`, t`label ${l}`]),
    ...sets.map((s) => [`set:${quoted(s.name)}`, t`set ${s.name}`]),
    ...seen(state.frames.flatMap((f) => f.keywords || [])).map((k) => [`keyword:${quoted(k)}`, t`keyword ${k}`]),
  ];
  byId("narrow").replaceChildren(el("option", { value: "", text: t`and …` }), ...choices.map(([value, text]) => el("option", { value, text })));
}
byId("narrow").addEventListener("change", (event) => {
  const field = byId("filter");
  const now = field.value.trim();
  field.value = now ? `${/\bor\b/.test(now) ? `(${now})` : now} and ${event.target.value}` : event.target.value;
  event.target.value = "";
  byFilter();
});
function byFilter() {
  if (byId("which").value !== "chosen") {
    const same = [...byId("which").options].find((o) => o.value === byId("filter").value.trim() && o.value !== "own");
    byId("which").querySelector('[value="own"]').hidden = Boolean(same);
    byId("which").value = same ? same.value : "own";
  }
  plan();
}
byId("filter").addEventListener("change", byFilter);
byId("which").addEventListener("change", () => {
  if (byId("which").value !== "own") byId("filter").value = byId("which").value === "chosen" ? "" : byId("which").value;
  plan();
});

// --- the table before ------------------------------------------------------------------------------------

function documents() {
  const wanted = {};
  for (const box of byId("documents").querySelectorAll("input")) wanted[box.name] = box.checked;
  return { ...wanted, rows: Number(byId("doc-rows").value), columns: Number(byId("doc-columns").value), caption: byId("doc-caption").value, header: byId("doc-header").value };
}

function wish() {
  const specs = state.specs.filter((s) => state.chosen.has(s.key)).map(({ key, said, ...spec }) => spec);
  return { frames: state.ids, specs, folder: byId("folder").value.trim(), text: byId("names-text").value.trim(), start: Number(byId("names-start").value) || 0 };
}

// The button stays as it is while the table is made anew: a click on it then waits for that, and is not lost.
let planning = Promise.resolve();
function after(work) {
  planning = work();
  return planning;
}
const plan = () => after(makePlan);

function goes(ready) {
  state.ready = ready;
  byId("deliver-go").disabled = !ready || state.going;
}

let round = 0;
async function makePlan() {
  if (delivered.id) return;
  const mine = ++round;
  byId("deliver-error").textContent = "";
  const refused = (error) => {
    if (mine !== round) return;
    goes(false);
    byId("deliver-error").textContent = error.message;
    rows([], []);
  };
  try {
    const found = await ids();
    if (mine !== round) return;
    state.ids = found;
  } catch (error) {
    return void refused(error);
  }
  const body = wish();
  byId("which-count").textContent = plural(body.frames.length, "frame");
  if (!body.frames.length || !body.specs.length || !body.folder) {
    goes(false);
    rows([], []);
    byId("table-empty").textContent = body.frames.length ? t`Choose a spec and a folder.` : t`No frame is chosen.`;
    return;
  }
  try {
    state.plan = await post(`/api/shoots/${shootId}/plan`, body);
  } catch (error) {
    return void refused(error);
  }
  if (mine !== round || delivered.id) return;
  rows(state.plan.rows, body.specs);
  goes(true);
  byId("deliver-go").textContent = t`Deliver ${plural(state.plan.rows.length, "file")}`;
  checks(mine, body.frames);
}

const under = (path, folder) => (path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : path);
const quiet = new Set(["not yet developed"]);

function rows(list, specs) {
  byId("bytes-head").textContent = t`About`;
  byId("table-empty").hidden = list.length > 0;
  byId("rows").replaceChildren(
    ...list.map((r) =>
      el(
        "tr",
        { "data-frame": String(r.frame) },
        el("td", { text: r.name }),
        el("td", { text: specs[r.spec].title }),
        el("td", { class: "num", text: `${r.width} × ${r.height}` }),
        el("td", { class: "num", text: size(r.bytes) }),
        el("td", {}, el("button", { type: "button", class: "link", title: t`A proof of this file at its true size`, text: under(r.target, state.plan.folder), onclick: () => proof(r, specs[r.spec]) })),
        el("td", { class: "notes-cell truncate", title: r.notes.map(worded).join("; ") }, ...notes(r.notes)),
      ),
    ),
  );
  counted(list);
}

const notes = (list) => (list.length ? list.map((n) => el("span", { class: quiet.has(n) ? "note mild" : "note", text: worded(n) })) : [el("span", { class: "dim", text: t`new` })]);

function counted(list) {
  if (!list.length) return void (byId("table-count").textContent = "");
  const noted = byId("rows").querySelectorAll("tr:has(.note)").length;
  const left = state.plan.seconds;
  const time = left === null ? "" : left < 90 ? t`, about ${Math.max(1, Math.round(left))} s` : t`, about ${Math.round(left / 60)} min`;
  byId("table-count").textContent = t`${plural(list.length, "file")}, about ${size(state.plan.bytes)}${time}${noted ? t`; ${noted} with a note` : ""}`;
}

// What only the pictures tell follows when it is measured: outside the Line-up, clipped.
async function checks(mine, frames) {
  const told = new Map();
  for (;;) {
    let found;
    try {
      found = await post(`/api/shoots/${shootId}/checks`, { frames });
    } catch {
      return;
    }
    if (mine !== round || delivered.id) return;
    for (const row of byId("rows").children) {
      const said = found.notes[row.dataset.frame];
      if (!said || told.get(row) === said.join()) continue;
      told.set(row, said.join());
      const cell = row.lastElementChild;
      cell.querySelectorAll(".seen, .dim").forEach((n) => n.remove());
      cell.append(...said.map((n) => el("span", { class: "note seen", text: worded(n) })));
      cell.title = [...cell.querySelectorAll(".note")].map((n) => n.textContent).join("; ");
    }
    counted(state.plan.rows);
    if (!found.pending) return;
    await new Promise((next) => setTimeout(next, 1200));
  }
}

async function proof(row, spec) {
  byId("proof-title").textContent = row.name;
  byId("proof-about").textContent = t`being made …`;
  byId("proof-image").removeAttribute("src");
  byId("proof-dialog").showModal();
  let made;
  try {
    made = await post(`/api/shoots/${shootId}/proof`, { frame: row.frame, spec, text: byId("names-text").value.trim(), number: row.number });
  } catch (error) {
    byId("proof-about").textContent = error.message;
    return;
  }
  byId("proof-about").textContent = t`${spec.title}: ${made.width} × ${made.height} px, ${size(made.bytes)}${made.shown ? t`, shown px for px` : t`. Linear camera colour is not a picture to look at.`}`;
  if (!made.shown) return;
  const image = byId("proof-image");
  // One px of the file is one of the screen, whatever the screen is set to.
  image.style.width = `${made.width / window.devicePixelRatio}px`;
  image.src = `/api/proofs/${made.proof}`;
}

// --- specs -------------------------------------------------------------------------------------------------

async function loadSpecs() {
  const data = await trying(() => get("/api/specs"));
  if (!data) return;
  for (const problem of data.problems) tell(problem, true);
  state.specs = data.specs.map(shippedWords);
  const known = new Set(data.specs.map((s) => s.key));
  state.chosen = new Set([...state.chosen].filter((k) => known.has(k)));
  if (!state.chosen.size) for (const k of ["shipped/web-gallery", "shipped/full-size"]) if (known.has(k)) state.chosen.add(k);
  byId("specs").replaceChildren(
    ...state.specs.map((spec) => {
      const box = el("input", { type: "checkbox", id: `spec-${spec.key}`, checked: state.chosen.has(spec.key) });
      box.addEventListener("change", () => {
        if (box.checked) state.chosen.add(spec.key);
        else state.chosen.delete(spec.key);
        localStorage.setItem("tanner.specs", JSON.stringify([...state.chosen]));
        plan();
      });
      const [first] = spec.said;
      const label = el("label", { for: `spec-${spec.key}`, class: "min-w-0 flex-1 cursor-pointer", title: spec.said.join("\n") }, el("b", { class: "block", text: spec.title }), el("span", { class: "dim line-clamp-2 text-small", text: first }));
      const own = spec.key.startsWith("own/");
      const edit = el("button", { type: "button", text: own ? t`Change` : t`Copy`, "aria-label": `${own ? t`Change` : t`Copy`} ${spec.title}`, title: own ? "" : t`A spec of your own that begins as this one`, onclick: () => openSpec(spec) });
      return el("div", { class: "spec-row card mb-1 flex h-16 items-center gap-2.5 px-2" }, box, specDrawing(spec), label, edit);
    }),
  );
  plan();
}
useSpecForm(
  () => ({ frames: state.ids, folder: byId("folder").value.trim(), text: byId("names-text").value.trim(), start: Number(byId("names-start").value) || 0 }),
  (key) => {
    if (key) state.chosen.add(key);
    loadSpecs();
  },
);
byId("spec-new").addEventListener("click", () => openSpec(null));

// --- the job -----------------------------------------------------------------------------------------------

byId("deliver-go").addEventListener("click", async () => {
  state.going = true;
  byId("deliver-go").disabled = true;
  for (let last = null; last !== planning; ) {
    last = planning;
    await last;
  }
  // What stands in the way is said beside its field.
  const made = state.ready && (await trying(() => post(`/api/shoots/${shootId}/deliver`, { ...wish(), documents: documents() })));
  state.going = false;
  if (made) delivered.follow(made.delivery);
  else plan();
});
function closed() {
  byId("table-title").textContent = t`What will be written`;
  byId("earlier").value = "";
  plan();
}
byId("earlier").addEventListener("change", (event) => {
  if (event.target.value) delivered.follow(Number(event.target.value));
});

for (const id of ["creator", "rights"]) {
  byId(id).addEventListener("change", () =>
    after(async () => {
      await trying(() => post(`/api/shoots/${shootId}/words`, { [id]: byId(id).value.trim() }));
      await makePlan();
    }),
  );
}
byId("more-words").addEventListener("click", () =>
  openWords(null, (words) => {
    for (const id of ["creator", "rights"]) if (id in words) byId(id).value = words[id];
    plan();
  }),
);
for (const id of ["folder", "names-text", "names-start"]) byId(id).addEventListener("change", plan);
byId("documents").addEventListener("change", () => {
  const on = (name) => byId("documents").querySelector(`[name="${name}"]`).checked;
  byId("sheet-fields").hidden = !on("contact") && !on("order");
  byId("documents-text").textContent = plural(byId("documents").querySelectorAll(":checked").length, "document").replace(/^0 .*/, "none");
});

const sheet = await trying(() => get(`/api/shoots/${shootId}/sheet`));
state.frames = sheet?.frames || [];
// Searches that were kept on Find choose here too, among the frames of this shoot; nothing waits for them.
get("/api/find/kept").then(
  ({ searches }) => byId("which").querySelector('[value="own"]').before(...searches.filter((s) => s.expression && !s.error).map((s) => el("option", { value: s.expression, text: t`Search: ${s.name}` }))),
  () => null,
);
narrowing((sheet?.sets || []).filter((s) => state.frames.some((f) => f.set === s.id)));
if (new URLSearchParams(location.search).get("chosen") && sessionStorage.getItem(`tanner.deliver.${shootId}`)) {
  byId("which").querySelector('[value="chosen"]').hidden = false;
  byId("which").value = "chosen";
  byId("filter").value = "";
  // Frames of other shoots that were chosen on Find with these.
  const [next, ...rest] = JSON.parse(sessionStorage.getItem("tanner.deliver.then") || "[]");
  if (next) {
    const link = el("a", { id: "deliver-then", href: `/shoots/${next.shoot}/deliver?chosen=1`, text: t`Then ${plural(next.count, "frame")} of ${next.name}` });
    link.addEventListener("click", () => sessionStorage.setItem("tanner.deliver.then", JSON.stringify(rest)));
    byId("which-count").after(link);
  }
} else sessionStorage.removeItem("tanner.deliver.then");
await loadSpecs();
await earlier(delivered.id, (id) => delivered.follow(id));

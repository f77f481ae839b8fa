// Import: from which folder or card, which frames, to where and how; then the running job.
import { get, post, remove } from "./api.js";
import { byId, el, size } from "./dom.js";
import { Picker } from "./import-grid.js";
import { hear } from "./news.js";
import { said } from "./ruling.js";
import { shootId, tell, trying, useKeys } from "./shell.js";
import { plural, shippedWords, t } from "./texts.js";

const state = { folder: "", found: null, loading: 0 };
const leaf = (path) => path.split("/").filter(Boolean).pop() || path;
const picker = new Picker({ host: byId("files"), count });

async function open(path) {
  // Until the new folder is there, nothing is done with the one before.
  byId("watch-form").inert = true;
  const list = await trying(() => get(`/api/folders?path=${encodeURIComponent(path)}`));
  byId("watch-form").inert = false;
  if (!list) return;
  state.folder = list.path;
  const root = (state.roots || []).find((r) => list.path === r || list.path.startsWith(`${r}/`)) || "";
  byId("here").textContent = list.path ? leaf(root) + list.path.slice(root.length) : t`Folders that are open`;
  byId("here").title = list.path;
  const rows = list.folders.map((f) =>
    el("li", {}, el("button", { type: "button", text: leaf(f), title: f, onclick: () => open(f) })),
  );
  if (list.up !== null) rows.unshift(el("li", {}, el("button", { type: "button", text: t`Up`, onclick: () => open(list.up) })));
  byId("folders").replaceChildren(...rows);
  if (!list.path) {
    state.roots = list.folders;
    byId("copy-folders").replaceChildren(...list.folders.map((f) => el("option", { value: f })));
  }
  byId("watch-go").disabled = !list.path;
  await look();
}

async function look() {
  const round = ++state.loading;
  state.found = null;
  picker.show([]);
  byId("nothing").hidden = false;
  byId("nothing").textContent = state.folder ? t`Looking …` : t`Choose a folder or a card on the left.`;
  if (!state.folder) return;
  const found = await trying(() => get(`/api/shoots/${shootId}/found?path=${encodeURIComponent(state.folder)}`));
  if (!found || round !== state.loading) return;
  state.found = found;
  if (found.card) {
    document.querySelector('[name=mode][value="copy"]').checked = true;
    const away = (state.roots || []).find((r) => !found.folder.startsWith(r));
    if (away && !byId("copy-folder").value) byId("copy-folder").value = away;
  }
  mode();
  arrange();
  // What is in already is told by content, which takes reading: a few files at a time.
  const files = shown();
  for (let at = 0; at < files.length; at += 8) {
    const part = files.slice(at, at + 8).map((f) => f.path);
    const answer = await trying(() => post(`/api/shoots/${shootId}/known`, { files: part }));
    if (!answer || round !== state.loading) return;
    picker.known(answer.files);
  }
}

// Raw files with what belongs to them, or every picture as a frame of its own.
const shown = () => (byId("companions").value === "apart" ? state.found.apart : state.found.files);
function arrange() {
  if (!state.found) return;
  picker.show(shown());
  const n = shown().length;
  byId("nothing").hidden = n > 0;
  byId("nothing").textContent = t`No pictures in this folder.`;
  const others = state.found.others;
  byId("others-field").hidden = !others.length;
  const kinds = [...new Set(others.map((f) => f.name.split(".").pop().toLowerCase()))].join(", ");
  byId("others-text").textContent = t`copy ${plural(others.length, "other file")} along: ${kinds}`;
  byId("others-field").title = others.map((f) => f.name).join("\n");
}

function count() {
  const chosen = picker.chosen();
  const bytes = chosen.reduce((n, f) => n + f.bytes, 0);
  byId("found").textContent = picker.files.length ? t`${chosen.length} of ${picker.files.length} chosen, ${size(bytes)}` : "";
  byId("go").disabled = chosen.length === 0;
  byId("go").textContent = chosen.length ? t`Import ${plural(chosen.length, "frame")}` : t`Import`;
  planSoon();
}

function mode() {
  const copy = document.querySelector("[name=mode]:checked").value === "copy";
  byId("copy-to").hidden = !copy;
  byId("copy-folder").required = copy;
  planSoon();
}

// How: as the page says it, and as the shoot keeps it for next time.
function recipe() {
  const copy = document.querySelector("[name=mode]:checked").value === "copy";
  return {
    copy_to: copy ? byId("copy-folder").value.trim() : "",
    folder: byId("copy-below").value.trim(),
    name: byId("copy-name").value.trim() || "{name}",
    second: copy ? byId("copy-second").value.trim() : "",
    companions: byId("companions").value,
    others: byId("others").checked,
    keywords: byId("keywords").value.split(",").map((k) => k.trim()).filter(Boolean),
    words: byId("caption").value.trim() ? { caption: byId("caption").value.trim() } : {},
    rules: byId("rules").checked,
  };
}

function take(kept) {
  byId("copy-folder").value = kept.copy_to;
  byId("copy-below").value = kept.folder;
  byId("copy-name").value = kept.name;
  byId("copy-second").value = kept.second;
  byId("companions").value = kept.companions;
  byId("others").checked = kept.others;
  byId("keywords").value = kept.keywords.join(", ");
  byId("caption").value = kept.words.caption || "";
  if (kept.copy_to) document.querySelector('[name=mode][value="copy"]').checked = true;
  mode();
}

// The first names as they would be, and what clashes, before anything is copied.
// One question at a time, the newest after it: names may ask for what stands in every file.
let planning = null;
let asked = false;
function planSoon() {
  clearTimeout(planning);
  planning = setTimeout(async () => {
    if (asked) return planSoon();
    asked = true;
    await plan();
    asked = false;
    return undefined;
  }, 300);
}
async function plan() {
  const how = recipe();
  const files = picker.chosen().map((f) => f.path);
  byId("plan").hidden = !how.copy_to || !files.length;
  if (byId("plan").hidden) return;
  let found;
  try {
    found = await post(`/api/shoots/${shootId}/import/plan`, { ...how, files, extra: extra(how) });
  } catch (error) {
    byId("plan-text").textContent = error.message;
    byId("plan-rows").replaceChildren();
    return;
  }
  const clashes = found.rows.filter((r) => r.clash || r.remarks.length);
  byId("plan-text").textContent = found.trouble || (clashes.length ? t`${plural(clashes.length, "name")} to look at` : t`No names clash, and there is room.`);
  byId("plan-text").classList.toggle("trouble", Boolean(found.trouble));
  const rows = [...clashes, ...found.rows.filter((r) => !clashes.includes(r))].slice(0, 40);
  byId("plan-rows").replaceChildren(
    ...rows.map((r) => {
      const target = r.target.startsWith(how.copy_to) ? r.target.slice(how.copy_to.length + 1) : r.target;
      return el("tr", { title: r.target }, el("td", { class: r.name.length > 16 ? "" : "tight", text: r.name }), el("td", {}, ...piecewise(target), ...[r.clash, ...r.remarks].filter(Boolean).map((text) => el("span", { class: "trouble block", text }))));
    }),
  );
}
/** A path that breaks between its folders, where a line is too short for it. */
const piecewise = (path) => path.split(/(?<=[/\\])/).flatMap((piece, at) => (at ? [el("wbr"), piece] : [piece]));
const extra = (how) => (how.copy_to && how.others ? (state.found?.others || []).map((f) => f.path) : []);

// The import that began last has the panel; others that still run, one from another card for example, have a line each.
let newest = 0;
const lines = new Map();
function otherLine(job, name, text, running) {
  const node = lines.get(job) || el("li", { class: "flex items-baseline gap-2 py-0.5" });
  if (!lines.has(job)) byId("job-others").append(node);
  lines.set(job, node);
  node.replaceChildren(el("span", { class: "min-w-0 flex-1", text: `${name}: ${text}` }), ...(running ? [el("button", { type: "button", class: "plain", text: t`Stop`, "aria-label": t`Stop ${name}`, onclick: () => trying(() => post(`/api/imports/${job}/cancel`)) })] : []));
}

function ended(now) {
  const words = [t`${plural(now.into, "file")} brought in`];
  if (now.already) words.push(t`${now.already} were in already`);
  if (now.failed) words.push(t`${now.failed} could not be brought in`);
  if (now.cancelled) words.push(t`stopped`);
  if (now.sidecars) words.push(t`${now.sidecars} developed as their sidecars say`);
  return `${words.join(", ")}.${now.ruled ? t` By rule: ${now.ruled}` : ""}`;
}
function running(now) {
  if (now.stage === "files") return t`${now.done} of ${now.total} files`;
  if (now.stage === "matching") return t`Frames are matched to the reference of their preset.`;
  return t`${plural(now.into, "file")} in; pictures: ${now.pending} to go`;
}

async function follow(job, folder) {
  const name = leaf(folder);
  newest = job;
  byId("job").hidden = false;
  byId("job-stop").hidden = false;
  byId("job-open").hidden = true;
  byId("job-title").textContent = t`Importing from ${name}`;
  byId("job-stop").onclick = () => trying(() => post(`/api/imports/${job}/cancel`));
  byId("job-trouble").replaceChildren();
  byId("job").parentElement.scrollTop = 0;
  const line = hear("work");
  for (let since = 0; ; ) {
    const now = await trying(() => get(`/api/imports/${job}?since=${since}`));
    if (!now) return;
    since = now.at;
    // Only what is new comes each time.
    const told = now.items.filter((i) => i.state === "failed" || (["in", "copied"].includes(i.state) && i.message));
    byId("job-trouble").append(...told.map((i) => el("li", { text: `${i.name} ${i.message}` })));
    picker.came(now.items);
    const over = now.stage === "done";
    const text = over ? ended(now) : running(now);
    if (job === newest) {
      const bar = byId("job-progress");
      bar.max = now.total;
      bar.value = now.done;
      byId("job-text").textContent = text;
    } else otherLine(job, name, text, !over);
    if (over) {
      byId("job-open").hidden = now.into === 0 && byId("job-open").hidden;
      if (job !== newest) return;
      byId("job-title").textContent = t`Imported`;
      byId("job-stop").hidden = true;
      // Who chooses from another card by now is left alone.
      return state.folder === folder ? look() : undefined;
    }
    await line.next(250);
  }
}

byId("how").addEventListener("submit", async (event) => {
  event.preventDefault();
  const how = recipe();
  const { folder } = state;
  const files = picker.chosen().map((f) => f.path);
  if (document.querySelector("[name=mode]:checked").value === "copy" && !how.copy_to) return tell(t`Say into which folder the files are copied.`, true);
  byId("go").disabled = true;
  // The preset lies under all frames of the shoot; what depends on ISO or light is chosen for each as it comes in.
  if (under.dataset.changed && !(await trying(() => post(`/api/shoots/${shootId}/preset`, { key: under.value || null })))) return undefined;
  delete under.dataset.changed;
  const started = await trying(() => post(`/api/shoots/${shootId}/import`, { ...how, files, extra: extra(how) }));
  if (!started) {
    byId("go").disabled = false;
    return undefined;
  }
  // Another card can be chosen meanwhile.
  picker.none();
  return follow(started.job, folder);
});
for (const radio of document.querySelectorAll("[name=mode]")) radio.addEventListener("change", mode);
for (const id of ["copy-folder", "copy-below", "copy-name", "copy-second", "others"]) byId(id).addEventListener("input", planSoon);
byId("companions").addEventListener("change", () => look());
byId("all").addEventListener("click", () => picker.all());
byId("none").addEventListener("click", () => picker.none());

// Cards that are plugged in are offered; one that was not opened yet is opened by being chosen.
let known = "";
async function cards() {
  const found = await get("/api/cards").catch(() => null);
  const key = JSON.stringify(found?.cards || []);
  if (found && key !== known) {
    const before = new Set(known ? JSON.parse(known).map((c) => c.path) : found.cards.map((c) => c.path));
    known = key;
    byId("cards-field").hidden = !found.cards.length;
    byId("cards").replaceChildren(
      ...found.cards.map((c) =>
        el("li", {}, el("button", { type: "button", text: c.name, title: c.path, onclick: async () => {
          if (await trying(() => post("/api/cards/open", { path: c.path }))) open(c.path);
        } })),
      ),
    ); // prettier-ignore
    for (const card of found.cards) if (!before.has(card.path)) tell(t`A card was plugged in: ${card.name}. It stands on the left.`);
    if (state.folder && !found.cards.some((c) => state.folder.startsWith(c.path)) && [...before].some((path) => state.folder.startsWith(path))) {
      tell(t`The card ${leaf(state.folder)} was pulled out. What came in so far is whole; plug it in again to go on.`, true);
      open("");
    }
  }
  setTimeout(cards, 2500);
}

useKeys("import", picker.commands());

// Rules: how many there are, and what they would do to the chosen files before anything is brought in.
get("/api/rules").then((data) => {
  const on = data.rules.filter((r) => r.on).length;
  byId("rules-count").textContent = on ? `(${on})` : t`(none yet; they are made in Kit)`;
  byId("rules").disabled = !on;
  byId("rules").checked = on > 0 && localStorage.getItem("tanner.rules") === "yes";
  byId("rules-dry").hidden = !on;
}, (error) => tell(error.message, true));
byId("rules").addEventListener("change", (event) => localStorage.setItem("tanner.rules", event.target.checked ? "yes" : "no"));
byId("rules-dry").addEventListener("click", async () => {
  const files = picker.chosen().map((f) => f.path);
  if (!files.length) return tell(t`Choose files first.`);
  byId("rules-dry").disabled = true;
  const rows = [];
  for (let at = 0; at < files.length; at += 20) {
    const part = await trying(() => post("/api/rules/files", { files: files.slice(at, at + 20) }));
    if (!part) break;
    rows.push(...part.rows);
    byId("rules-result").hidden = false;
    byId("rules-rows").replaceChildren(...rows.map((r) => el("tr", {}, el("td", { class: "tight", text: r.name }), el("td", { text: r.error || said(r.presets) }))));
  }
  byId("rules-dry").disabled = false;
  return undefined;
});

const under = byId("under");
get("/api/presets").then((data) => {
  under.append(...data.presets.map(shippedWords).map((p) => el("option", { value: p.key, text: `${p.folder}: ${p.name}` })));
  under.value = data.presets.find((p) => p.name === under.dataset.name)?.key || "";
}, () => null);
under.addEventListener("change", () => (under.dataset.changed = "yes"));

// --- the watched folder ------------------------------------------------------------------------------

let specs = [];
get("/api/specs").then((data) => {
  specs = data.specs.map(shippedWords);
  byId("watch-spec").append(...specs.map((s) => el("option", { value: s.key, text: s.title, title: s.said.join("; ") })));
}, () => null);
byId("watch-spec").addEventListener("change", (event) => {
  byId("watch-to-field").hidden = !event.target.value;
  const free = (state.roots || []).findLast((r) => !state.folder.startsWith(r));
  if (event.target.value && !byId("watch-to").value && free) byId("watch-to").value = free;
});

let watched = false;
function watchSaid(now) {
  const on = Boolean(now.watch);
  byId("watch-form").hidden = on;
  byId("watch-now").hidden = !on;
  byId("watch-go").disabled = !state.folder;
  if (!on) return;
  const { folder, specs: by } = now.watch;
  byId("watch-text").textContent = t`${leaf(folder)} is being watched: ${plural(now.taken, "frame")} came in${by.length ? t`, delivered by ${by.map((s) => s.title).join(", ")} to ${leaf(now.watch.to)}` : ""}.`;
  byId("watch-trouble").replaceChildren(...[now.trouble, ...now.failed].filter(Boolean).map((text) => el("li", { text })));
}
async function watch() {
  if (watched) return;
  watched = true;
  const line = hear("frames", "work");
  for (;;) {
    const now = await trying(() => get("/api/watch"));
    if (now) watchSaid(now);
    if (!now?.watch) break;
    await line.next(500);
  }
  watched = false;
}
byId("watch-go").addEventListener("click", async () => {
  const copy = document.querySelector("[name=mode]:checked").value === "copy";
  const spec = specs.find((s) => s.key === byId("watch-spec").value);
  const { key, said: _, ...plain } = spec || {};
  const body = { folder: state.folder, shoot_id: shootId, copy_to: copy ? byId("copy-folder").value.trim() : "", keywords: byId("keywords").value.split(",").map((k) => k.trim()).filter(Boolean), rules: byId("rules").checked, specs: key ? [plain] : [], to: key ? byId("watch-to").value.trim() : "" };
  const now = await trying(() => post("/api/watch", body));
  if (now) watchSaid(now);
  if (now) watch();
});
byId("watch-end").addEventListener("click", async () => {
  const now = await trying(() => remove("/api/watch"));
  if (now) watchSaid(now);
});
watch();

const how = await trying(() => get(`/api/shoots/${shootId}/recipe`));
if (how) take(how.recipe);
mode();
cards();
await open("");

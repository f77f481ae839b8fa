// Import: from which folder, which files, to where and how; then the running job.
import { get, post, remove } from "./api.js";
import { byId, el, plural, size } from "./dom.js";
import { said } from "./ruling.js";
import { shootId, tell, trying } from "./shell.js";

const state = { folder: "", files: [], chosen: new Set(), known: new Map(), loading: 0 };

const leaf = (path) => path.split("/").filter(Boolean).pop() || path;

async function open(path) {
  const list = await trying(() => get(`/api/folders?path=${encodeURIComponent(path)}`));
  if (!list) return;
  state.folder = list.path;
  const root = (state.roots || []).find((r) => list.path === r || list.path.startsWith(`${r}/`)) || "";
  byId("here").textContent = list.path ? leaf(root) + list.path.slice(root.length) : "Folders that are open";
  byId("here").title = list.path;
  const rows = list.folders.map((f) =>
    el("li", {}, el("button", { type: "button", text: leaf(f), title: f, onclick: () => open(f) })),
  );
  if (list.up !== null) rows.unshift(el("li", {}, el("button", { type: "button", text: "Up", onclick: () => open(list.up) })));
  byId("folders").replaceChildren(...rows);
  const datalist = byId("copy-folders");
  if (!list.path) {
    state.roots = list.folders;
    datalist.replaceChildren(...list.folders.map((f) => el("option", { value: f })));
  }
  byId("watch-go").disabled = !list.path;
  await look();
}

async function look() {
  const round = ++state.loading;
  state.files = [];
  state.chosen.clear();
  state.known.clear();
  draw();
  if (!state.folder) return;
  byId("found").textContent = "Looking …";
  const found = await trying(() => get(`/api/shoots/${shootId}/found?path=${encodeURIComponent(state.folder)}`));
  if (!found || round !== state.loading) return;
  state.files = found.files;
  for (const file of found.files) state.chosen.add(file.path);
  if (found.card) {
    document.querySelector('[name=mode][value="copy"]').checked = true;
    const away = (state.roots || []).find((r) => !found.folder.startsWith(r));
    if (away && !byId("copy-folder").value) byId("copy-folder").value = away;
  }
  mode();
  draw();
  // What is in already is told by content, which takes reading: a few files at a time.
  for (let at = 0; at < state.files.length; at += 8) {
    const part = state.files.slice(at, at + 8).map((f) => f.path);
    const answer = await trying(() => post(`/api/shoots/${shootId}/known`, { files: part }));
    if (!answer || round !== state.loading) return;
    for (const [path, what] of Object.entries(answer.files)) {
      state.known.set(path, what);
      if (what.in) state.chosen.delete(path);
    }
    draw();
  }
}

function note(file) {
  const what = state.known.get(file.path);
  if (!what) return "";
  if (what.error) return what.error;
  return what.in ? `already in as ${what.in}` : "new";
}

function draw() {
  const list = byId("files");
  const rows = state.files.map((file) => {
    const what = state.known.get(file.path);
    const box = el("input", {
      type: "checkbox",
      checked: state.chosen.has(file.path),
      disabled: Boolean(what?.in),
      "aria-label": file.name,
      onchange: (event) => {
        if (event.target.checked) state.chosen.add(file.path);
        else state.chosen.delete(file.path);
        count();
      },
    });
    return el(
      "li",
      { class: what?.in ? "already" : "" },
      box,
      el("span", { class: "grow", text: file.under === "." ? file.name : `${file.under}/${file.name}` }),
      el("span", { class: what?.error ? "trouble" : "dim", text: note(file) }),
      el("span", { class: "dim num", text: size(file.bytes) }),
    );
  });
  list.replaceChildren(...rows);
  if (!rows.length) list.append(el("li", { class: "dim", text: state.folder ? "No pictures in this folder." : "Choose a folder on the left." }));
  count();
}

function count() {
  byId("found").textContent = state.files.length ? `${state.chosen.size} of ${state.files.length} chosen` : "";
  byId("go").disabled = state.chosen.size === 0;
  byId("go").textContent = state.chosen.size ? `Import ${plural(state.chosen.size, "file")}` : "Import";
}

function mode() {
  const copy = document.querySelector("[name=mode]:checked").value === "copy";
  byId("copy-to").hidden = !copy;
  byId("copy-folder").required = copy;
}

async function follow(job) {
  byId("job").hidden = false;
  byId("job-stop").hidden = false;
  byId("job-open").hidden = true;
  byId("job-stop").onclick = () => trying(() => post(`/api/imports/${job}/cancel`));
  for (;;) {
    const now = await trying(() => get(`/api/imports/${job}`));
    if (!now) return;
    const bar = byId("job-progress");
    bar.max = now.total;
    bar.value = now.done;
    const failed = now.items.filter((i) => i.state === "failed" || (i.state === "in" && i.message));
    byId("job-trouble").replaceChildren(...failed.map((i) => el("li", { text: `${i.name} ${i.message}` })));
    const into = now.items.filter((i) => i.state === "in").length;
    const already = now.items.filter((i) => i.state === "already").length;
    showPictures(now.items);
    if (now.stage === "files") byId("job-text").textContent = `${now.done} of ${now.total} files`;
    else if (now.stage === "matching") byId("job-text").textContent = "Frames are matched to the reference of their preset.";
    else if (now.stage === "pictures") byId("job-text").textContent = `${plural(into, "file")} in; pictures: ${now.pending} to go`;
    if (now.stage === "done") {
      const words = [`${plural(into, "file")} brought in`];
      if (already) words.push(`${already} were in already`);
      const lost = now.items.filter((i) => i.state === "failed").length;
      if (lost) words.push(`${lost} could not be brought in`);
      if (now.cancelled) words.push("stopped");
      if (now.sidecars) words.push(`${now.sidecars} developed as their sidecars say`);
      byId("job-text").textContent = `${words.join(", ")}.${now.ruled ? ` By rule: ${now.ruled}` : ""}`;
      byId("job-title").textContent = "Imported";
      byId("job-stop").hidden = true;
      byId("job-open").hidden = into === 0;
      byId("go").disabled = false;
      return look();
    }
    await new Promise((resolve) => setTimeout(resolve, 400));
  }
}

const shown = new Set();
function showPictures(items) {
  const rows = byId("files").children;
  items.forEach((item) => {
    if (item.state !== "in" || shown.has(item.frame)) return;
    const index = state.files.findIndex((f) => f.path === item.path);
    const row = rows[index];
    if (!row) return;
    const image = new Image();
    image.alt = "";
    image.onload = () => {
      shown.add(item.frame);
      row.prepend(image);
    };
    image.src = `/api/frames/${item.frame}/picture?n=${Date.now()}`;
  });
}

byId("how").addEventListener("submit", async (event) => {
  event.preventDefault();
  const copy = document.querySelector("[name=mode]:checked").value === "copy";
  const keywords = byId("keywords").value.split(",").map((k) => k.trim()).filter(Boolean);
  const files = state.files.map((f) => f.path).filter((p) => state.chosen.has(p));
  const body = { files, copy_to: copy ? byId("copy-folder").value.trim() : "", keywords, rules: byId("rules").checked };
  if (copy && !body.copy_to) return tell("Say into which folder the files are copied.", true);
  byId("go").disabled = true;
  // The preset lies under all frames of the shoot; what depends on ISO or light is chosen for each as it comes in.
  if (under.dataset.changed && !(await trying(() => post(`/api/shoots/${shootId}/preset`, { key: under.value || null })))) return undefined;
  delete under.dataset.changed;
  const started = await trying(() => post(`/api/shoots/${shootId}/import`, body));
  if (!started) {
    byId("go").disabled = false;
    return;
  }
  byId("job-title").textContent = "Importing";
  await follow(started.job);
});
for (const radio of document.querySelectorAll("[name=mode]")) radio.addEventListener("change", mode);
byId("all").addEventListener("click", () => {
  for (const f of state.files) if (!state.known.get(f.path)?.in) state.chosen.add(f.path);
  draw();
});
byId("none").addEventListener("click", () => {
  state.chosen.clear();
  draw();
});

// Rules: how many there are, and what they would do to the chosen files before anything is brought in.
get("/api/rules").then((data) => {
  const on = data.rules.filter((r) => r.on).length;
  byId("rules-count").textContent = on ? `(${on})` : "(none yet; they are made in Kit)";
  byId("rules").disabled = !on;
  byId("rules").checked = on > 0 && localStorage.getItem("tanner.rules") === "yes";
  byId("rules-dry").hidden = !on;
}, (error) => tell(error.message, true));
byId("rules").addEventListener("change", (event) => localStorage.setItem("tanner.rules", event.target.checked ? "yes" : "no"));
byId("rules-dry").addEventListener("click", async () => {
  const files = state.files.map((f) => f.path).filter((p) => state.chosen.has(p));
  if (!files.length) return tell("Choose files first.");
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
  under.append(...data.presets.map((p) => el("option", { value: p.key, text: `${p.folder}: ${p.name}` })));
  under.value = data.presets.find((p) => p.name === under.dataset.name)?.key || "";
}, () => null);
under.addEventListener("change", () => (under.dataset.changed = "yes"));

// --- the watched folder ------------------------------------------------------------------------------

let specs = [];
get("/api/specs").then((data) => {
  specs = data.specs;
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
  byId("watch-text").textContent = `${leaf(folder)} is being watched: ${plural(now.taken, "frame")} came in${by.length ? `, delivered by ${by.map((s) => s.title).join(", ")} to ${leaf(now.watch.to)}` : ""}.`;
  byId("watch-trouble").replaceChildren(...[now.trouble, ...now.failed].filter(Boolean).map((text) => el("li", { text })));
}
async function watch() {
  if (watched) return;
  watched = true;
  for (;;) {
    const now = await trying(() => get("/api/watch"));
    if (now) watchSaid(now);
    if (!now?.watch) break;
    await new Promise((next) => setTimeout(next, 1000));
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

mode();
open("");

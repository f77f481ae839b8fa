// Deliver: frames, specs and a folder; the table of what will be written; then the running job and its record.
import { get, post, remove } from "./api.js";
import { byId, el, number, plural, size } from "./dom.js";
import { shootId, tell, trying, working } from "./shell.js";

const FORMATS = { jpeg: "JPEG", tiff8: "TIFF 8 bit", tiff16: "TIFF 16 bit", png: "PNG" };
const state = { frames: [], specs: [], chosen: new Set(JSON.parse(localStorage.getItem("tanner.specs") || "[]")), plan: null, running: null };

function sizeWords(rule) {
  const [kind, value] = rule.split(":");
  if (kind === "original") return "original size";
  if (kind === "percent") return `${value} %`;
  if (kind === "box") return `inside ${value.replace("x", " × ")} px`;
  return `${kind} edge ${value} px`;
}

const words = (s) => [sizeWords(s.size), s.format === "jpeg" ? `JPEG ${s.quality}` : FORMATS[s.format], { srgb: "sRGB", p3: "Display P3", widegamut1998: "Wide gamut 1998", prophoto: "ProPhoto / ROMM" }[s.space]].with(2, s.icc ? `ICC ${s.icc.replace(/-[^-]*$/, "")}, ${s.intent}` : { srgb: "sRGB", p3: "Display P3", widegamut1998: "Wide gamut 1998", prophoto: "ProPhoto / ROMM" }[s.space]).join(", ");

// What else changes the picture: nothing of it is hidden behind a button.
const besides = (s) => [s.enlarge === "never" ? "" : { lanczos: "enlarged plainly", edges: "enlarged along edges" }[s.enlarge], s.sharpen === "none" ? "not sharpened" : `sharpened for ${{ screen: "a screen", matte: "matte paper", glossy: "glossy paper" }[s.sharpen]}${s.sharpen_strength === 100 ? "" : ` at ${s.sharpen_strength} %`}`].filter(Boolean).join(", ");

function ids() {
  const which = byId("which").value;
  if (which === "chosen") {
    const chosen = new Set(JSON.parse(sessionStorage.getItem(`tanner.deliver.${shootId}`) || "[]"));
    return state.frames.filter((f) => chosen.has(f.id));
  }
  if (which === "keep") return state.frames.filter((f) => f.verdict === "keep");
  return which === "all" ? state.frames : state.frames.filter((f) => f.verdict !== "drop");
}

function wish() {
  const specs = state.specs.filter((s) => state.chosen.has(s.key)).map(({ key, ...spec }) => spec);
  return { frames: ids().map((f) => f.id), specs, folder: byId("folder").value.trim() };
}

let round = 0;
async function plan() {
  if (state.running) return;
  const body = wish();
  byId("which-count").textContent = plural(body.frames.length, "frame");
  byId("deliver-error").textContent = "";
  byId("deliver-go").disabled = true;
  const mine = ++round;
  if (!body.frames.length || !body.specs.length || !body.folder) {
    rows([], []);
    byId("table-empty").textContent = body.frames.length ? "Choose a spec and a folder." : "No frame is chosen.";
    return;
  }
  try {
    state.plan = await post(`/api/shoots/${shootId}/plan`, body);
  } catch (error) {
    if (mine === round) {
      byId("deliver-error").textContent = error.message;
      rows([], []);
    }
    return;
  }
  if (mine !== round) return;
  rows(state.plan.rows.map((r) => ({ ...r, folder: state.plan.folder })), body.specs);
  byId("deliver-go").disabled = false;
  byId("deliver-go").textContent = `Deliver ${plural(state.plan.rows.length, "file")}`;
}

const under = (path, folder) => (path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : path);

function rows(list, specs) {
  const noted = list.filter((r) => r.notes?.length).length;
  byId("table-count").textContent = list.length ? `${plural(list.length, "file")}${noted ? `, ${noted} with a note` : ""}` : "";
  byId("table-empty").hidden = list.length > 0;
  byId("rows").replaceChildren(
    ...list.map((r) =>
      el(
        "tr",
        {},
        el("td", { class: "tight", text: r.name || r.original }),
        el("td", { class: "tight", text: specs[r.spec].title }),
        el("td", { class: "num", text: `${r.width} × ${r.height}` }),
        el("td", { text: under(r.target || r.path, r.folder) }),
        stateCell(r),
      ),
    ),
  );
}

function stateCell(r) {
  if (!r.state && !r.notes?.length) return el("td", { class: "dim", text: "new" });
  if (!r.state) return el("td", {}, ...r.notes.map((n) => el("span", { class: "note", text: n })));
  const said = { done: r.bytes ? `written, ${size(r.bytes)}` : "written", failed: r.message, skipped: "left out: the name was taken", running: "being written", waiting: "waiting" }[r.state];
  return el("td", { class: `state-${r.state}`, text: said });
}

// --- specs ---------------------------------------------------------------------------------------------

async function loadSpecs() {
  const data = await trying(() => get("/api/specs"));
  if (!data) return;
  for (const problem of data.problems) tell(problem, true);
  state.specs = data.specs;
  const known = new Set(data.specs.map((s) => s.key));
  state.chosen = new Set([...state.chosen].filter((k) => known.has(k)));
  if (!state.chosen.size) for (const k of ["shipped/web-gallery", "shipped/full-size"]) if (known.has(k)) state.chosen.add(k);
  byId("specs").replaceChildren(
    ...data.specs.map((spec) => {
      const box = el("input", { type: "checkbox", id: `spec-${spec.key}`, checked: state.chosen.has(spec.key) });
      box.addEventListener("change", () => {
        if (box.checked) state.chosen.add(spec.key);
        else state.chosen.delete(spec.key);
        localStorage.setItem("tanner.specs", JSON.stringify([...state.chosen]));
        plan();
      });
      const label = el("label", { for: `spec-${spec.key}` }, el("b", { text: spec.title }), el("br"), el("span", { class: "dim", text: words(spec) }), el("br"), el("span", { class: "dim", text: besides(spec) }), el("br"), el("span", { class: "dim", text: `${spec.subfolder ? `${spec.subfolder}/` : ""}${spec.name}` }));
      const edit = el("button", { type: "button", class: "plain", text: spec.key.startsWith("own/") ? "Change" : "Copy", "aria-label": `${spec.key.startsWith("own/") ? "Change" : "Copy"} ${spec.title}`, onclick: () => openSpec(spec) });
      return el("div", { class: "spec-row" }, box, label, edit);
    }),
  );
  plan();
}

const form = byId("spec-form");
let editing = null;

function openSpec(spec) {
  editing = spec?.key.startsWith("own/") ? spec : null;
  const s = spec || { title: "", size: "long:2048", format: "jpeg", quality: 92, space: "srgb", name: "{name}", subfolder: "", exists: "number", ppi: 300, icc: "", intent: "relative", black_point: true, enlarge: "never", sharpen: "none", sharpen_strength: 100 };
  form.elements.black_point.checked = s.black_point;
  for (const name of ["format", "quality", "space", "icc", "intent", "name", "subfolder", "exists", "ppi", "enlarge", "sharpen", "sharpen_strength"]) form.elements[name].value = s[name];
  form.elements.title.value = spec && !editing ? `${s.title} copy` : s.title;
  const [kind, value = ""] = s.size.split(":");
  byId("s-kind").value = kind;
  const [a, b = ""] = value.split("x");
  byId("s-a").value = a;
  byId("s-b").value = b;
  byId("spec-error").textContent = "";
  byId("spec-delete").hidden = !editing;
  sizeFields();
  byId("spec-dialog").showModal();
}

function sizeFields() {
  const kind = byId("s-kind").value;
  byId("s-a").hidden = kind === "original";
  byId("s-b").hidden = kind !== "box";
  byId("s-times").hidden = kind !== "box";
  byId("s-unit").hidden = kind === "original";
  byId("s-unit").textContent = kind === "percent" ? "%" : "px";
  byId("s-space").disabled = Boolean(byId("s-icc").value);
  for (const id of ["s-intent", "s-black"]) byId(id).disabled = !byId("s-icc").value;
  byId("s-strength").disabled = byId("s-sharpen").value === "none";
  byId("s-quality").disabled = byId("s-format").value !== "jpeg";
}
byId("s-kind").addEventListener("change", sizeFields);
byId("s-format").addEventListener("change", sizeFields);
byId("s-icc").addEventListener("change", sizeFields);
byId("s-sharpen").addEventListener("change", sizeFields);
get("/api/profiles").then((data) => byId("s-icc").append(...data.iccs.map((i) => el("option", { value: i.key, text: i.name }))), () => null);

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const f = form.elements;
  const kind = byId("s-kind").value;
  const a = byId("s-a").value.trim();
  const rule = kind === "original" ? kind : kind === "box" ? `box:${a}x${byId("s-b").value.trim()}` : `${kind}:${a}`;
  const spec = { title: f.title.value.trim(), size: rule, format: f.format.value, quality: Number(f.quality.value), space: f.space.value, icc: f.icc.value, intent: f.intent.value, black_point: f.black_point.checked, name: f.name.value, subfolder: f.subfolder.value, exists: f.exists.value, ppi: Number(f.ppi.value), enlarge: f.enlarge.value, sharpen: f.sharpen.value, sharpen_strength: Number(f.sharpen_strength.value) };
  try {
    const saved = await post("/api/specs", { spec, replace: editing?.title === spec.title });
    if (editing && saved.key !== editing.key) await remove(`/api/specs?key=${encodeURIComponent(editing.key)}`);
    state.chosen.add(saved.key);
  } catch (error) {
    byId("spec-error").textContent = error.message;
    return;
  }
  byId("spec-dialog").close();
  loadSpecs();
});
byId("spec-delete").addEventListener("click", async () => {
  if (await trying(() => remove(`/api/specs?key=${encodeURIComponent(editing.key)}`))) {
    byId("spec-dialog").close();
    loadSpecs();
  }
});
byId("spec-new").addEventListener("click", () => openSpec(null));

// --- the job ---------------------------------------------------------------------------------------------

async function follow(id) {
  state.running = id;
  byId("run").hidden = false;
  byId("deliver-go").disabled = true;
  for (;;) {
    const now = await trying(() => get(`/api/deliveries/${id}`));
    if (!now || state.running !== id) return;
    const total = now.items.length;
    byId("table-title").textContent = `Delivery ${id}`;
    byId("run-progress").max = total;
    byId("run-progress").value = now.done;
    rows(now.items.map((r) => ({ ...r, folder: now.folder })), now.specs);
    const failed = now.items.filter((i) => i.state === "failed").length;
    const written = now.items.filter((i) => i.state === "done").length;
    const ended = now.state === "done" || now.state === "stopped";
    const left = total - now.done;
    byId("run-text").textContent = `${written} of ${plural(total, "file")} written${failed ? `, ${failed} failed` : ""}${now.state === "stopped" ? ", stopped" : ""}`;
    byId("run-stop").hidden = ended;
    byId("run-resume").hidden = !(ended && (left || failed));
    byId("run-resume").textContent = failed && !left ? "Try again" : "Go on";
    byId("run-close").hidden = !ended;
    byId("run-record").hidden = !ended;
    byId("run-record").href = `/api/deliveries/${id}`;
    byId("run-record").setAttribute("download", `delivery-${id}.json`);
    working(ended ? "" : `Delivery ${number((100 * now.done) / total, 0)} %`);
    if (ended && !now.items.some((i) => i.state === "running")) {
      earlier();
      return;
    }
    await new Promise((resolve) => setTimeout(resolve, 400));
  }
}

byId("deliver-go").addEventListener("click", async () => {
  byId("deliver-go").disabled = true;
  const made = await trying(() => post(`/api/shoots/${shootId}/deliver`, wish()));
  if (made) follow(made.delivery);
  else plan();
});
byId("run-stop").addEventListener("click", () => trying(() => post(`/api/deliveries/${state.running}/stop`)));
byId("run-resume").addEventListener("click", async () => {
  const id = state.running;
  if (await trying(() => post(`/api/deliveries/${id}/resume`))) follow(id);
});
byId("run-close").addEventListener("click", () => {
  state.running = null;
  byId("run").hidden = true;
  byId("table-title").textContent = "What will be written";
  byId("earlier").value = "";
  plan();
});

async function earlier() {
  const data = await trying(() => get(`/api/shoots/${shootId}/deliveries`));
  if (!data) return;
  byId("earlier").replaceChildren(
    el("option", { value: "", text: data.deliveries.length ? "Earlier deliveries" : "No delivery yet" }),
    ...data.deliveries.map((d) => el("option", { value: d.delivery, text: `${d.delivery}: ${new Date(`${d.created}Z`).toLocaleString("en-GB")}, ${plural(d.total, "file")}, ${d.state}` })),
  );
  const under = data.deliveries.find((d) => d.state === "running" || d.state === "waiting");
  if (under && !state.running) follow(under.delivery);
}
byId("earlier").addEventListener("change", (event) => {
  if (event.target.value) follow(Number(event.target.value));
});

for (const id of ["creator", "rights"]) {
  byId(id).addEventListener("change", () => trying(() => post(`/api/shoots/${shootId}/words`, { [id]: byId(id).value.trim() })));
}
byId("which").addEventListener("change", plan);
byId("folder").addEventListener("change", plan);

const sheet = await trying(() => get(`/api/shoots/${shootId}/sheet`));
state.frames = sheet?.frames || [];
if (new URLSearchParams(location.search).get("chosen") && sessionStorage.getItem(`tanner.deliver.${shootId}`)) {
  byId("which").querySelector('[value="chosen"]').hidden = false;
  byId("which").value = "chosen";
}
await loadSpecs();
await earlier();

// The form of an output spec, with the names that its templates give to real frames while they are typed.
import { get, post, remove } from "./api.js";
import { byId, el, size } from "./dom.js";
import { shootId, trying } from "./shell.js";
import { t, worded } from "./texts.js";

const NEW = { title: "", size: "long:2048", enlarge: "never", border: 0, ground: "#ffffff", format: "jpeg", quality: 92, most_kb: 0, chroma: "auto", compression: "none", space: "srgb", icc: "", intent: "relative", black_point: true, sharpen: "none", sharpen_strength: 100, ppi: 300, metadata: "all", place: true, keywords: true, alternates: true, cut: "none", cut_area: "subject", shadow: true, name: "{name}", subfolder: "", exists: "number", mark: { kind: "none", text: "", picture: "", place: "bottom right", size: 25, margin: 3, opacity: 60 } };
const NUMBERS = new Set(["border", "quality", "most_kb", "sharpen_strength", "ppi"]);
const LOSSY = ["jpeg", "webp", "avif", "avif10", "avif12", "jxl", "jxl16"];
const BOXES = ["box", "crop", "pad"];
const form = byId("spec-form");
let editing = null;
let wish = () => null;
let saved = () => null;

// frames: gives {frames, folder, text, start} for the preview of names; then: called with the key that was saved.
export function useSpecForm(frames, then) {
  wish = frames;
  saved = then;
}

export function openSpec(spec) {
  editing = spec?.key.startsWith("own/") ? spec : null;
  const s = { ...NEW, ...spec };
  for (const name of Object.keys(NEW)) {
    const field = form.elements[name];
    if (!field || name === "title") continue;
    if (field.type === "checkbox") field.checked = s[name];
    else field.value = s[name];
  }
  form.elements.title.value = spec && !editing ? `${s.title} copy` : s.title;
  const [, kind, a = "", b = "", unit = ""] = s.size.match(/^([a-z]+):?([\d.]+)?(?:x([\d.]+))?(cm|in)?$/);
  for (const [id, value] of [["s-kind", kind], ["s-a", a], ["s-b", b], ["s-unit", unit]]) byId(id).value = value;
  byId("s-mark").value = s.mark.kind;
  for (const name of ["text", "picture", "place", "size", "margin", "opacity"]) byId(`s-mark-${name}`).value = s.mark[name];
  byId("spec-error").textContent = "";
  byId("spec-delete").hidden = !editing;
  fields();
  byId("s-picture").hidden = true;
  byId("s-about").textContent = "";
  preview();
  byId("spec-dialog").showModal();
}

// Only what the chosen format and choices need is there: a field goes with its label.
function need(id, needed) {
  const field = byId(id);
  const row = field.closest(".fields > *") || field;
  const label = row.previousElementSibling;
  row.hidden = !needed;
  if (label?.matches("label, span")) label.hidden = !needed;
}

function fields() {
  const value = (id) => byId(id).value;
  const kind = value("s-kind");
  const lengths = !["original", "mp", "percent"].includes(kind);
  byId("s-a").hidden = kind === "original";
  byId("s-b").hidden = byId("s-times").hidden = !BOXES.includes(kind);
  byId("s-unit").hidden = !lengths;
  byId("s-word").textContent = { mp: t`million px`, percent: "%" }[kind] || "";
  const format = value("s-format");
  const dng = format === "dng";
  const cut = dng ? "none" : value("s-cut");
  const lines = cut === "outline"; // neither px nor bytes of a format
  const plain = dng || lines || cut === "mask"; // no colours, nothing laid over them
  need("s-enlarge", kind !== "original");
  need("s-format", !lines);
  need("s-quality", !lines && LOSSY.includes(format));
  need("s-chroma", !lines && (format === "jpeg" || format.startsWith("avif")));
  need("s-compression", !lines && format.startsWith("tiff"));
  need("s-space", !plain && !value("s-icc"));
  need("s-icc", !plain && byId("s-icc").options.length > 1);
  need("s-intent", !plain && Boolean(value("s-icc")));
  for (const id of ["s-sharpen", "s-mark"]) need(id, !plain);
  need("s-border", !dng);
  byId("s-finish").hidden = plain;
  byId("s-strength-line").hidden = value("s-sharpen") === "none";
  need("s-cut", !dng);
  byId("s-cutting").hidden = dng;
  need("s-cut-area", cut !== "none");
  need("s-shadow", cut === "ground");
  need("s-ground", !dng && (kind === "pad" || Number(value("s-border")) > 0 || cut === "ground"));
  for (const id of ["s-place", "s-keywords"]) byId(id).closest("label").hidden = value("s-metadata") !== "all";
  const mark = plain ? "none" : value("s-mark");
  need("s-mark-text", mark === "text");
  need("s-mark-picture", mark === "picture");
  for (const id of ["s-mark-place", "s-mark-size"]) need(id, mark !== "none");
}
form.addEventListener("change", fields);

function read() {
  const f = form.elements;
  const spec = {};
  for (const name of Object.keys(NEW)) {
    const field = f[name];
    if (!field) continue;
    spec[name] = field.type === "checkbox" ? field.checked : NUMBERS.has(name) ? Number(field.value) : field.value;
  }
  spec.title = spec.title.trim();
  const kind = byId("s-kind").value;
  const text = (id) => byId(id).value.trim().replace(",", ".");
  const lengths = !["original", "mp", "percent"].includes(kind);
  spec.size = kind === "original" ? kind : `${kind}:${text("s-a")}${BOXES.includes(kind) ? `x${text("s-b")}` : ""}${lengths ? byId("s-unit").value : ""}`;
  spec.mark = { kind: byId("s-mark").value };
  for (const name of ["text", "picture", "place"]) spec.mark[name] = byId(`s-mark-${name}`).value;
  for (const name of ["size", "margin", "opacity"]) spec.mark[name] = Number(byId(`s-mark-${name}`).value);
  return spec;
}

// Names of a few real frames, and one of them as it would be written, while the spec is being changed.
let asked = 0;
let timer = null;
async function preview() {
  const mine = ++asked;
  const given = wish();
  if (!given?.frames.length) {
    byId("s-about").textContent = t`Choose frames, and one of them is shown here as it will be written.`;
    return;
  }
  const spec = read();
  spec.title ||= t`Output`;
  const most = [...new Set([0, 1, Math.floor(given.frames.length / 2), given.frames.length - 1])].filter((i) => i < given.frames.length);
  try {
    const found = await post(`/api/shoots/${shootId}/plan`, { ...given, frames: most.map((i) => given.frames[i]), specs: [spec] });
    if (mine !== asked) return;
    byId("spec-error").textContent = "";
    byId("s-names").replaceChildren(
      ...found.rows.map((r) => {
        const notes = r.notes.filter((n) => n.startsWith("name") || n.startsWith("same") || n.startsWith("subfolder") || n.startsWith("the path"));
        return el("li", {}, el("span", { text: r.target.replace(`${found.folder}/`, "") }), el("span", { class: "dim", text: ` ${r.width} × ${r.height}` }), ...notes.map((n) => el("span", { class: "note block", text: worded(n) })));
      }),
    );
    if (found.rows.length) await shown(mine, found.rows[0], spec, given.text);
  } catch (error) {
    if (mine !== asked) return;
    byId("spec-error").textContent = error.message;
    byId("s-names").replaceChildren();
    byId("s-about").textContent = "";
    byId("s-picture").hidden = true;
  }
}

// The picture stays until the next one is there.
async function shown(mine, row, spec, text) {
  byId("s-about").textContent = t`${row.name} is being written …`;
  const made = await post(`/api/shoots/${shootId}/proof`, { frame: row.frame, spec, text, number: row.number });
  if (mine !== asked) return;
  byId("s-about").textContent = t`${row.name}: ${made.width} × ${made.height} px, ${size(made.bytes)}${made.shown ? "" : t`. Linear camera colour is not a picture to look at.`}`;
  byId("s-picture").hidden = !made.shown;
  if (made.shown) byId("s-picture").src = `/api/proofs/${made.proof}`;
}

for (const kind of ["input", "change"]) {
  form.addEventListener(kind, () => {
    clearTimeout(timer);
    timer = setTimeout(preview, 250);
  });
}

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const spec = read();
  try {
    const kept = await post("/api/specs", { spec, replace: editing?.title === spec.title });
    if (editing && kept.key !== editing.key) await remove(`/api/specs?key=${encodeURIComponent(editing.key)}`);
    saved(kept.key);
  } catch (error) {
    byId("spec-error").textContent = error.message;
    return;
  }
  byId("spec-dialog").close();
});
byId("spec-delete").addEventListener("click", async () => {
  if (await trying(() => remove(`/api/specs?key=${encodeURIComponent(editing.key)}`))) {
    byId("spec-dialog").close();
    saved(null);
  }
});
get("/api/profiles").then(
  (data) => {
    byId("s-icc").append(...data.iccs.map((i) => el("option", { value: i.key, text: i.name })));
    byId("s-mark-picture").append(...(data.pictures.length ? data.pictures.map((i) => el("option", { value: i.key, text: i.name })) : [el("option", { value: "", text: t`none in Kit yet` })]));
  },
  () => null,
);

// Kit: presets and output specs as files; bring in, give out, take away.
import { get, post, remove, upload } from "./api.js";
import { byId, el, number, plural } from "./dom.js";
import { tell, trying } from "./shell.js";

const own = (key) => key.startsWith("own/");

async function presets() {
  const data = await trying(() => get("/api/presets"));
  if (!data) return;
  presetNames = Object.fromEntries(data.presets.map((p) => [p.key, `${p.folder}: ${p.name}`]));
  byId("frame-rule-form").elements.preset.replaceChildren(...data.presets.map((p) => el("option", { value: p.key, text: presetNames[p.key] })));
  byId("problems").replaceChildren(...data.problems.map((p) => el("li", { text: p })));
  byId("presets").replaceChildren(
    ...data.presets.map((p) => {
      const names = Object.keys(p.values);
      const unknown = p.unknown.length ? ` (${plural(p.unknown.length, "name")} of a newer version, kept)` : "";
      const tools = el("td", { class: "num" }, el("a", { class: "button", href: `/api/presets/file?key=${encodeURIComponent(p.key)}`, download: "", text: "Export" }));
      if (own(p.key)) tools.append(" ", el("button", { type: "button", text: "Delete", "aria-label": `Delete ${p.name}`, onclick: () => take(`/api/presets?key=${encodeURIComponent(p.key)}`, presets) }));
      return el("tr", {}, el("td", { class: "tight", text: p.folder }), el("td", { class: "tight", text: p.name }), el("td", { text: p.about }), el("td", { text: names.join(", ") + unknown }), tools);
    }),
  );
}

async function specs() {
  const data = await trying(() => get("/api/specs"));
  if (!data) return;
  byId("specs").replaceChildren(
    ...data.specs.map((s) => {
      const tools = el("td", { class: "num" }, el("a", { class: "button", href: `/api/specs/file?key=${encodeURIComponent(s.key)}`, download: "", text: "Export" }));
      if (own(s.key)) tools.append(" ", el("button", { type: "button", text: "Delete", "aria-label": `Delete ${s.title}`, onclick: () => take(`/api/specs?key=${encodeURIComponent(s.key)}`, specs) }));
      return el("tr", {}, el("td", { class: "tight", text: s.title }), el("td", { text: s.said.join("; ") }), tools);
    }),
  );
}

async function take(url, then) {
  if (await trying(() => remove(url))) then();
}

byId("preset-file").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  event.target.value = "";
  if (!file) return;
  const done = await trying(() => upload(`/api/presets/file?name=${encodeURIComponent(file.name)}`, file));
  if (done) {
    tell(`${file.name} is in.`);
    presets();
  }
});

let rules = [];

const kelvin = (k) => `${number(k, 0)} K`;

async function profiles() {
  const data = await trying(() => get("/api/profiles"));
  if (!data) return;
  rules = data.rules;
  byId("profile-problems").replaceChildren(...data.problems.map((p) => el("li", { text: p })));
  byId("no-profiles").hidden = data.profiles.length > 0;
  byId("profiles").replaceChildren(
    ...data.profiles.map((p) => {
      const figures = p.figures.map((f) => `${number(f.mean)} / ${number(f.p95)} / ${number(f.max)}, ${number(f.loo)}`);
      const tools = el("td", { class: "num" }, el("a", { class: "button", href: `/api/profiles/file?key=${encodeURIComponent(p.key)}`, download: "", text: "Export" }), " ");
      tools.append(el("button", { type: "button", text: "Delete", "aria-label": `Delete ${p.name}`, onclick: () => take(`/api/profiles?key=${encodeURIComponent(p.key)}`, profiles) }));
      return el("tr", {}, el("td", { text: p.name }), el("td", { text: p.model || "any" }), el("td", { class: "tight", text: p.lights.map(kelvin).join(", ") }), el("td", { text: p.parts }), el("td", { text: figures.join("; ") || "not made here" }), tools);
    }),
  );
  const others = [...data.iccs.map((i) => [i, "ICC profile", ".icc"]), ...data.camera_iccs.map((i) => [i, "ICC profile of a camera", ".icc"]), ...data.looks.map((l) => [l, "look", ".cube"]), ...data.lens_files.map((l) => [l, "lenses", ".xml"]), ...data.pictures.map((p) => [p, "watermark", ".png"])];
  byId("others").replaceChildren(
    ...others.map(([o, kind, ending]) => el("tr", {}, el("td", { text: o.name }), el("td", { text: kind }), el("td", { class: "num" }, el("button", { type: "button", text: "Delete", "aria-label": `Delete ${o.name}`, onclick: () => take(`/api/profiles/other?key=${encodeURIComponent(o.key)}&ending=${ending}`, profiles) })))),
  );
  byId("rule-profile").replaceChildren(...data.profiles.map((p) => el("option", { value: p.key, text: `${p.name} (${p.model})`, "data-model": p.model })));
  byId("rule-form").hidden = !data.profiles.length;
  const names = Object.fromEntries(data.profiles.map((p) => [p.key, p.name]));
  byId("rules").replaceChildren(
    ...rules.map((r, i) =>
      el("tr", {}, el("td", { text: r.camera }), el("td", { class: "tight", text: kelvin(r.low) }), el("td", { class: "tight", text: kelvin(r.high) }), el("td", { text: names[r.profile] || r.profile }), el("td", { class: "num" }, el("button", { type: "button", text: "Delete", "aria-label": `Delete rule ${i + 1}`, onclick: () => keepRules(rules.filter((_, k) => k !== i)) }))),
    ),
  );
}

async function keepRules(next) {
  if (await trying(() => post("/api/profiles/rules", { rules: next }))) profiles();
}

byId("rule-form").addEventListener("submit", (event) => {
  event.preventDefault();
  const chosen = byId("rule-profile").selectedOptions[0];
  const rule = { camera: chosen.dataset.model, low: Number(byId("rule-low").value), high: Number(byId("rule-high").value), profile: chosen.value };
  keepRules([...rules, rule]);
});

byId("profile-file").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  event.target.value = "";
  if (!file) return;
  const done = await trying(() => upload(`/api/profiles/file?name=${encodeURIComponent(file.name)}`, file));
  if (done) {
    tell(`${file.name} is in.`);
    profiles();
  }
});

// --- rules that put presets on frames -----------------------------------------------------------------

let frameRules = [];
let presetNames = {};

async function showRules() {
  const data = await trying(() => get("/api/rules"));
  if (!data) return;
  frameRules = data.rules.map(({ words, ...rule }) => rule);
  byId("frame-rules").replaceChildren(
    ...data.rules.map((r, i) => {
      const tools = el("td", { class: "num" });
      tools.append(
        el("button", { type: "button", text: "\u2191", "aria-label": `Rule ${i + 1} up`, disabled: i === 0, onclick: () => keepFrameRules(frameRules.toSpliced(i - 1, 2, frameRules[i], frameRules[i - 1])) }), " ",
        el("button", { type: "button", text: r.on ? "Switch off" : "Switch on", onclick: () => keepFrameRules(frameRules.with(i, { ...frameRules[i], on: !r.on })) }), " ",
        el("button", { type: "button", text: "Delete", "aria-label": `Delete rule ${i + 1} for presets`, onclick: () => keepFrameRules(frameRules.toSpliced(i, 1)) }),
      );
      return el("tr", { class: r.on ? "" : "dim" }, el("td", { text: r.words }), el("td", { text: presetNames[r.preset] || `${r.preset} (no longer there)` }), el("td", { class: "num", text: `${number(r.amount, 0)} %` }), tools);
    }),
  );
}

async function keepFrameRules(next) {
  const done = await trying(() => post("/api/rules", { rules: next }));
  if (done) showRules();
  return done;
}

byId("frame-rule-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const form = event.target;
  const text = (name) => form.elements[name].value.trim();
  const span = (name, top) => (text(`${name}0`) || text(`${name}1`) ? [Number(text(`${name}0`) || 0), Number(text(`${name}1`) || top)] : null);
  const when = { camera: text("camera"), lens: text("lens"), name: text("name"), iso: span("iso", 1e6), kelvin: span("kelvin", 1e6), held: text("held") || null };
  if (await keepFrameRules([...frameRules, { when, preset: text("preset"), amount: Number(text("amount")) }])) form.reset();
});

profiles();
presets().then(showRules);
specs();

// Rules: which frames get which presets, and which camera profile.
import { get, post } from "../api.js";
import { byId, el, number } from "../dom.js";
import { trying } from "../shell.js";
import { latest } from "./common.js";
import { shippedWords, t } from "../texts.js";

const kelvin = (k) => `${number(k, 0)} K`;
let frameRules = [];
let profileRules = [];

async function keepFrameRules(next) {
  const done = await trying(() => post("/api/rules", { rules: next }));
  if (done) rules();
  return done;
}

async function keepProfileRules(next) {
  if (await trying(() => post("/api/profiles/rules", { rules: next }))) rules();
}

function frameRule(r, i, names) {
  const button = (text, run, more = {}) => el("button", { type: "button", text, onclick: run, ...more });
  const tools = el("td", { class: "num" });
  tools.append(
    button("↑", () => keepFrameRules(frameRules.toSpliced(i - 1, 2, frameRules[i], frameRules[i - 1])), { "aria-label": t`Rule ${i + 1} up`, disabled: i === 0 }), " ",
    button(r.on ? t`Switch off` : t`Switch on`, () => keepFrameRules(frameRules.with(i, { ...frameRules[i], on: !r.on }))), " ",
    button(t`Delete`, () => keepFrameRules(frameRules.toSpliced(i, 1)), { "aria-label": t`Delete rule ${i + 1} for presets` }),
  );
  return el("tr", { class: r.on ? "" : "dim" }, el("td", { text: r.words }), el("td", { text: names[r.preset] || t`${r.preset} (no longer there)` }), el("td", { class: "num", text: `${number(r.amount, 0)} %` }), tools);
}

// Until the first look has come, nothing can be added.
const look = latest();
export async function rules() {
  const mine = look();
  const [byFrame, kit, colour] = await Promise.all(["/api/rules", "/api/presets", "/api/profiles"].map((url) => trying(() => get(url))));
  if (!byFrame || !kit || !colour || !mine()) return;
  byId("frame-rule-form").hidden = false;
  const names = Object.fromEntries(kit.presets.map(shippedWords).map((p) => [p.key, `${p.folder}: ${p.name}`]));
  byId("frame-rule-form").elements.preset.replaceChildren(...kit.presets.map((p) => el("option", { value: p.key, text: names[p.key] })));
  frameRules = byFrame.rules.map(({ words, ...rule }) => rule);
  byId("frame-rules").replaceChildren(...byFrame.rules.map((r, i) => frameRule(r, i, names)));
  profileRules = colour.rules;
  byId("rule-profile").replaceChildren(...colour.profiles.map((p) => el("option", { value: p.key, text: `${p.name} (${p.model})`, "data-model": p.model })));
  byId("rule-form").hidden = !colour.profiles.length;
  const profileNames = Object.fromEntries(colour.profiles.map((p) => [p.key, p.name]));
  byId("rules").replaceChildren(
    ...profileRules.map((r, i) =>
      el("tr", {}, el("td", { text: r.camera }), el("td", { class: "tight", text: kelvin(r.low) }), el("td", { class: "tight", text: kelvin(r.high) }), el("td", { text: profileNames[r.profile] || r.profile }), el("td", { class: "num" }, el("button", { type: "button", text: t`Delete`, "aria-label": t`Delete rule ${i + 1}`, onclick: () => keepProfileRules(profileRules.toSpliced(i, 1)) }))),
    ),
  );
}

byId("rule-form").addEventListener("submit", (event) => {
  event.preventDefault();
  const chosen = byId("rule-profile").selectedOptions[0];
  keepProfileRules([...profileRules, { camera: chosen.dataset.model, low: Number(byId("rule-low").value), high: Number(byId("rule-high").value), profile: chosen.value }]);
});

byId("frame-rule-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const form = event.target;
  const text = (name) => form.elements[name].value.trim();
  const span = (name, top) => (text(`${name}0`) || text(`${name}1`) ? [Number(text(`${name}0`) || 0), Number(text(`${name}1`) || top)] : null);
  const when = { camera: text("camera"), lens: text("lens"), name: text("name"), iso: span("iso", 1e6), kelvin: span("kelvin", 1e6), held: text("held") || null };
  if (await keepFrameRules([...frameRules, { when, preset: text("preset"), amount: Number(text("amount")) }])) form.reset();
});

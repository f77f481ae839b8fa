// The page of all parts: their states, as the pages use them.
import { opens } from "./commands.js";
import { byId, el } from "./dom.js";
import { Rule } from "./rule.js";
import { tell, useKeys } from "./shell.js";

useKeys("parts", [
  { id: "one", key: "k", section: "Judge", label: "Keep", run: () => tell("Kept.") },
  { id: "two", section: "Judge", label: "Not now", can: () => false, run: () => tell("Never.") },
  { id: "list", section: "Sets", label: "Move to a set", list: () => ["Blue lamp", "Four-string"].map((label) => ({ label, run: () => tell(label) })) },
]);
opens(byId("popover-button"), byId("popover"));
byId("open-dialog").addEventListener("click", () => byId("p-dialog").showModal());
byId("notice-good").addEventListener("click", () => tell("The crop went to 4 frames."));
byId("notice-bad").addEventListener("click", () => tell("AF0007.DNG ends in the middle. Copy it again from the card.", true));

const about = { label: "Exposure", min: -5, max: 5, step: 0.01, unit: "EV", neutral: 0, help: "", widget: "rule" };
const states = [["Neutral", 0, { shown: 0, follows: false, own: false }], ["Follows", 0.35, { shown: 0.35, follows: true, own: false }], ["Own", -0.8, { shown: 0.35, follows: true, own: true }]];
for (const [name, value, info] of states) {
  const id = `p-${name.toLowerCase()}`;
  const node = el(
    "div", { class: "rule" },
    el("div", { class: "rule-head flex items-center gap-1 h-5" }, el("label", { for: id, text: name }), el("span", { class: "rule-mark", "aria-hidden": "true" }), el("button", { type: "button", class: "rule-reset", hidden: true, "aria-label": `Give up ${name}`, text: "give up" }), el("input", { class: "rule-number", id, inputmode: "decimal", autocomplete: "off" }), el("span", { class: "min-w-5 text-soft text-small", text: "EV" })),
    el("div", { class: "rule-scale h-6 relative cursor-ew-resize touch-none", role: "slider", tabindex: "0", "aria-label": name }),
  );
  byId("rules").append(node);
  const rule = new Rule(node, { ...about, key: `parts.${name}` });
  rule.set(value, { below: info.shown, offset: false, ...info });
}

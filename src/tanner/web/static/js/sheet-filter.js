// Which frames the Sheet shows: what is looked for, and how they were judged.
import { opens } from "./commands.js";
import { byId } from "./dom.js";

const NEUTRAL = { verdict: "", stars: "0", label: "", work: "" };
const buttons = (name) => [...document.querySelectorAll(`[data-filter="${name}"] button`)];

export class Filter {
  // changed() is called when other frames are to be shown
  constructor(changed) {
    this.values = { ...NEUTRAL };
    opens(byId("filter"), byId("filter-choices"));
    byId("filter-choices").addEventListener("click", (event) => {
      const button = event.target.closest("button");
      if (button) this.set({ [button.parentElement.dataset.filter]: button.value });
    });
    byId("filter-off").addEventListener("click", () => {
      byId("find").value = "";
      this.set(NEUTRAL);
      byId("filter").focus();
    });
    byId("find").addEventListener("input", () => this.set({}));
    this.changed = changed;
  }

  set(values) {
    Object.assign(this.values, values);
    const said = [];
    for (const [name, value] of Object.entries(this.values)) {
      for (const button of buttons(name)) button.setAttribute("aria-pressed", String(button.value === value));
      if (value === NEUTRAL[name]) continue;
      const text = buttons(name).find((b) => b.value === value).textContent;
      said.push({ stars: "★".repeat(Number(value)) + (value === "5" ? "" : " and up"), label: value === "none" ? "no label" : text }[name] || text);
    }
    byId("filter-text").textContent = said.join(", ") || "All frames";
    byId("filter-off").hidden = !said.length && !byId("find").value;
    this.changed();
  }

  passes(frame) {
    const { verdict, stars, label, work } = this.values;
    if (verdict === "not-drop" ? frame.verdict === "drop" : verdict && frame.verdict !== verdict) return false;
    if (frame.stars < Number(stars) || (label && frame.label !== label)) return false;
    if (work && (work === "yes") !== frame.worked) return false;
    const text = byId("find").value.trim().toLowerCase();
    if (!text) return true;
    const words = [frame.name, frame.camera, frame.lens, frame.iso ? `ISO ${frame.iso}` : "", frame.alternate ? "alternate" : "", ...frame.keywords].join(" ").toLowerCase();
    return text.split(/\s+/).every((w) => words.includes(w));
  }
}

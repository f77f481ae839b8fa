// Which frames the Sheet shows: by an expression, as on Find and Deliver, by how they were judged, and by what there is.
import { post } from "./api.js";
import { opens } from "./commands.js";
import { byId } from "./dom.js";
import { Facets } from "./facets.js";
import { shootId } from "./shell.js";
import { t } from "./texts.js";

const NEUTRAL = { verdict: "", stars: "0", label: "", work: "" };
const buttons = (name) => [...document.querySelectorAll(`[data-filter="${name}"] button`)];

export class Filter {
  // changed() is called when other frames are to be shown
  constructor(changed) {
    this.values = { ...NEUTRAL };
    this.changed = changed;
    this.ids = null;
    this.round = 0;
    const find = byId("find");
    this.facets = new Facets({
      host: byId("filter-facets"),
      without: ["Verdict", "Stars", "Label", "Development"],
      url: () => `/api/find/facets?${new URLSearchParams({ q: find.value, shoot: shootId })}`,
      read: () => find.value,
      write: (q) => {
        find.value = q;
        this.look();
      },
    });
    opens(byId("filter"), byId("filter-choices"));
    byId("filter-choices").addEventListener("toggle", (event) => event.newState === "open" && this.facets.draw());
    byId("filter-choices").addEventListener("click", (event) => {
      const button = event.target.closest("[data-filter] button");
      if (button) this.set({ [button.parentElement.dataset.filter]: button.value });
    });
    byId("filter-off").addEventListener("click", () => {
      find.value = "";
      this.set(NEUTRAL);
      this.look();
      byId("filter").focus();
    });
    let typing = null;
    find.addEventListener("input", () => {
      clearTimeout(typing);
      typing = setTimeout(() => this.look(), 90);
    });
  }

  // Asks again which frames the expression takes; frames that changed may be taken no longer.
  async look(quietly = false) {
    const round = (this.round += 1);
    const q = byId("find").value.trim();
    byId("find-error").textContent = "";
    let ids = null;
    if (q) {
      try {
        ids = new Set((await post(`/api/shoots/${shootId}/choose`, { filter: q })).frames);
      } catch (error) {
        if (round === this.round) byId("find-error").textContent = error.message;
        return;
      }
    }
    if (round !== this.round) return;
    this.ids = ids;
    if (byId("filter-choices").matches(":popover-open")) this.facets.draw();
    if (!quietly) this.set({});
  }

  set(values) {
    Object.assign(this.values, values);
    const said = [];
    for (const [name, value] of Object.entries(this.values)) {
      for (const button of buttons(name)) button.setAttribute("aria-pressed", String(button.value === value));
      if (value === NEUTRAL[name]) continue;
      const text = buttons(name).find((b) => b.value === value).textContent;
      said.push({ stars: "★".repeat(Number(value)) + (value === "5" ? "" : t` and up`), label: value === "none" ? t`no label` : text }[name] || text);
    }
    byId("filter-text").textContent = said.join(", ") || t`All frames`;
    byId("filter-off").hidden = !said.length && !byId("find").value;
    this.changed();
  }

  passes(frame) {
    const { verdict, stars, label, work } = this.values;
    if (verdict === "not-drop" ? frame.verdict === "drop" : verdict && frame.verdict !== verdict) return false;
    if (frame.stars < Number(stars) || (label && frame.label !== label)) return false;
    if (work && (work === "yes") !== frame.worked) return false;
    return !this.ids || this.ids.has(frame.id);
  }
}

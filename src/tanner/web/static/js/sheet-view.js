// How the Sheet shows frames: in rows by set or plain, in which order, near-alikes folded together, as pictures or as a list.
import { get } from "./api.js";
import { opens } from "./commands.js";
import { byId } from "./dom.js";
import { shootId, trying } from "./shell.js";

const last = (text) => text || "9";
const ORDERS = {
  time: (a, b) => last(a.taken).localeCompare(last(b.taken)) || a.name.localeCompare(b.name),
  name: (a, b) => a.name.localeCompare(b.name),
  stars: (a, b) => b.stars - a.stars,
  sharp: (a, b) => (b.sharp ?? -1) - (a.sharp ?? -1),
};
const JUDGED = { keep: 0, undecided: 1, drop: 2 };

export class View {
  // changed() is called when frames are to be arranged otherwise
  constructor(changed) {
    this.changed = changed;
    this.values = { rows: "sets", order: "time", fold: "no", as: "pictures", ...JSON.parse(localStorage.getItem("tanner.sheet-view") || "{}") };
    this.groups = null;
    this.unfolded = new Set();
    opens(byId("sheet-view"), byId("sheet-view-choices"));
    byId("sheet-view-choices").addEventListener("click", (event) => {
      const button = event.target.closest("[data-view] button");
      if (button) this.set({ [button.parentElement.dataset.view]: button.value });
    });
    this.mark();
  }

  async set(values) {
    Object.assign(this.values, values);
    localStorage.setItem("tanner.sheet-view", JSON.stringify(this.values));
    this.mark();
    if (this.values.fold === "yes" && !this.groups) await this.read();
    this.changed();
  }

  mark() {
    for (const [name, value] of Object.entries(this.values)) {
      for (const button of document.querySelectorAll(`[data-view="${name}"] button`)) button.setAttribute("aria-pressed", String(button.value === value));
    }
  }

  // Near-alikes are those of Choose.
  async read() {
    const found = await trying(() => get(`/api/shoots/${shootId}/choosing`));
    this.groups = new Map();
    for (const group of found?.groups || []) for (const id of group) this.groups.set(id, group);
  }

  get list() {
    return this.values.as === "list";
  }

  get bySet() {
    return this.values.rows === "sets";
  }

  sorted(frames) {
    return this.values.order === "time" ? frames : [...frames].sort(ORDERS[this.values.order]);
  }

  inTime(frames) {
    return [...frames].sort(ORDERS.time);
  }

  // Of near-alikes the best judged stands for the others: kept before undecided, then by stars, then by sharpness.
  folded(frames) {
    if (this.values.fold !== "yes" || !this.groups) return frames.map((frame) => ({ frame, more: 0 }));
    const byGroup = new Map();
    for (const frame of frames) {
      const key = this.groups.get(frame.id) || frame.id;
      byGroup.set(key, [...(byGroup.get(key) || []), frame]);
    }
    return [...byGroup].flatMap(([key, members]) => {
      if (members.length === 1 || this.unfolded.has(key)) return members.map((frame) => ({ frame, more: 0, group: members.length > 1 ? key : null }));
      const [frame] = [...members].sort((a, b) => JUDGED[a.verdict] - JUDGED[b.verdict] || b.stars - a.stars || (b.sharp ?? 0) - (a.sharp ?? 0));
      return [{ frame, more: members.length - 1, group: key }];
    });
  }

  unfold(frame) {
    const group = this.groups?.get(frame.id);
    if (!group) return;
    if (!this.unfolded.delete(group)) this.unfolded.add(group);
    this.changed();
  }
}

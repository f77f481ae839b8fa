// How the Sheet shows frames: in rows by set or plain, in which order, near-alikes folded together, as pictures, list or faces.
import { get, post } from "./api.js";
import { opens } from "./commands.js";
import { byId } from "./dom.js";
import { hear } from "./news.js";
import { shootId, trying } from "./shell.js";
import { plural, t } from "./texts.js";

const last = (text) => text || "9";
const ORDERS = {
  time: (a, b) => last(a.taken).localeCompare(last(b.taken)) || a.name.localeCompare(b.name),
  name: (a, b) => a.name.localeCompare(b.name),
  stars: (a, b) => b.stars - a.stars,
  sharp: (a, b) => (b.sharp ?? -1) - (a.sharp ?? -1),
  hand: (a, b) => a.stands - b.stands || a.name.localeCompare(b.name),
};
const faceSize = (frame) => (frame.face?.length ? frame.face[2] * frame.face[3] : 0);
const JUDGED = { keep: 0, undecided: 1, drop: 2 };

export class View {
  // changed() is called when frames are to be arranged otherwise; frames() are those of the shoot, sets() its sets
  constructor({ changed, frames, sets }) {
    Object.assign(this, { changed, frames, sets });
    this.values = { rows: "sets", order: "time", fold: "no", as: "pictures", ...JSON.parse(localStorage.getItem("tanner.sheet-view") || "{}") };
    this.groups = null;
    this.apart = new Map(); // frame -> its difference in the Line-up
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
    await this.read();
    this.changed();
  }

  mark() {
    for (const [name, value] of Object.entries(this.values)) {
      for (const button of document.querySelectorAll(`[data-view="${name}"] button`)) button.setAttribute("aria-pressed", String(button.value === value));
    }
  }

  // What the order needs to know, asked for when it is chosen and when frames changed.
  async read() {
    if (this.values.fold === "yes") await this.alike();
    if (this.values.order === "lineup") this.lineUp();
    if (this.values.order === "sharp" || this.faces) this.measure();
  }

  // Near-alikes are those of Choose.
  async alike() {
    const found = await trying(() => get(`/api/shoots/${shootId}/choosing`));
    this.groups = new Map();
    for (const group of found?.groups || []) for (const id of group) this.groups.set(id, group);
  }

  // The difference of each frame from its lead, backdrop against backdrop, as the Line-up measures it.
  async lineUp() {
    const mine = (this.lining = Symbol());
    const line = hear("lineup");
    for (let left = this.sets().map((s) => s.id); left.length && mine === this.lining; ) {
      const again = [];
      for (const set of left) {
        const found = await get(`/api/shoots/${shootId}/lineup?set=${set}`).catch(() => null);
        if (mine !== this.lining || this.values.order !== "lineup") return;
        for (const row of found?.frames || []) this.apart.set(row.frame, row.difference);
        if (found?.pending) again.push(set);
      }
      this.changed();
      left = again;
      if (left.length) await line.next(600);
    }
  }

  // Sharpness and faces are measured by and by: a few frames are asked for at a time, and shown as they come.
  async measure() {
    if (this.measuring) return;
    this.measuring = true;
    const failed = new Set();
    const line = hear("frames");
    while (this.values.order === "sharp" || this.faces) {
      const missing = [...this.frames().values()].filter((f) => f.face === null && !f.error && !failed.has(f.id)).slice(0, 40);
      if (!missing.length) break;
      const found = await post(`/api/shoots/${shootId}/hints`, { frames: missing.map((f) => f.id) }).catch(() => null);
      if (!found) break;
      let some = false;
      for (const frame of missing) {
        const measured = found.measured[frame.id];
        if (measured) Object.assign(frame, { sharp: measured.sharp, face: measured.where === "face" ? measured.box : [] });
        else if (!found.left) failed.add(frame.id);
        some ||= Boolean(measured) || failed.has(frame.id);
      }
      if (some) this.changed();
      if (found.left) await line.next(400);
    }
    this.measuring = false;
  }

  // Why no face is shown.
  get withoutFaces() {
    const left = [...this.frames().values()].filter((f) => f.face === null && !f.error).length;
    return left ? t`Faces are looked for: ${plural(left, "frame")} to go.` : t`No face was found in these frames.`;
  }

  get faces() {
    return this.values.as === "faces";
  }

  // A word on a frame, by what it is ordered by.
  figure(frame) {
    if (this.values.order === "lineup") return this.apart.get(frame.id) == null ? "" : `ΔE ${this.apart.get(frame.id).toFixed(1)}`;
    return "";
  }

  get byHand() {
    return this.values.order === "hand" && !this.faces;
  }

  get list() {
    return this.values.as === "list";
  }

  get bySet() {
    return this.values.rows === "sets" && !this.faces;
  }

  sorted(frames) {
    if (this.faces) return frames.filter(faceSize).sort((a, b) => faceSize(b) - faceSize(a));
    // Those that differ most first.
    if (this.values.order === "lineup") return [...frames].sort((a, b) => (this.apart.get(b.id) ?? -1) - (this.apart.get(a.id) ?? -1));
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

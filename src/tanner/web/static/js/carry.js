// The Carry over dialog: what is carried, with values, from where and to which frames; counted before it is done.
import { get, post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { shootId, tell, trying } from "./shell.js";
import { plural, t, worded } from "./texts.js";

function said(item) {
  if (item.keys) return plural(item.keys.length, "value");
  const v = item.value;
  if (v === null) return t`as shot`;
  if (typeof v === "boolean") return v ? t`on` : t`off`;
  if (Array.isArray(v)) return t`${v.length} points`;
  if (typeof v === "string") return worded(v);
  return `${number(v, Math.abs(v) >= 1000 ? 0 : 2)} ${item.unit}`.trim();
}

// What was chosen last time: the adjustments by name.
const kept = () => JSON.parse(localStorage.getItem("tanner.carry") || "null");
const ownToo = () => localStorage.getItem("tanner.carry.own") === "yes";

const titles = JSON.parse(byId("carry-titles").textContent);

class Dialog {
  constructor(source, scopes, everything) {
    Object.assign(this, { first: source, source, scopes, boxes: [], everything });
    this.radios = [...document.querySelectorAll("[name=carry-to]")];
  }

  // Where settings come from: this frame, or the lead of any set; and sets that they can go to.
  places() {
    const sets = this.everything.flatMap((shoot) => shoot.sets.map((s) => ({ ...s, where: shoot.id === shootId ? s.name : `${shoot.name}: ${s.name}` })));
    const here = el("option", { value: String(this.first), text: t`this frame` });
    byId("carry-source").replaceChildren(here, ...sets.filter((s) => s.lead && s.lead !== this.first).map((s) => el("option", { value: String(s.lead), text: t`lead of ${s.where}` })));
    byId("carry-source").value = String(this.source);
    byId("carry-source").onchange = (event) => {
      this.source = Number(event.target.value);
      this.list();
    };
    this.sets = new Map(sets.map((s) => [s.id, s]));
    byId("carry-other").replaceChildren(...sets.map((s) => el("option", { value: String(s.id), text: t`${s.where}, its lead: ${plural(s.followers, "frame")} follow` })));
    byId("carry-other").onchange = () => {
      this.radios.find((r) => r.value === "other").checked = true;
      this.count();
    };
  }

  async list() {
    const list = await trying(() => get(`/api/frames/${this.source}/carry`));
    if (!list) return false;
    byId("carry-from").textContent = t`${list.name}. Grey values are as they were at the start.`;
    this.boxes = [];
    const groups = new Map();
    for (const item of list.adjustments) {
      // A group's switch is of interest only where it was used.
      if (item.key.endsWith(".enabled") && !item.changed) continue;
      if (!groups.has(item.group)) groups.set(item.group, []);
      groups.get(item.group).push(item);
    }
    byId("carry-list").replaceChildren(...[...groups].map(([group, items]) => this.group(group, items)));
    byId("carry-last").disabled = !kept();
    this.count();
    return true;
  }

  group(group, items) {
    const all = el("input", { type: "checkbox" });
    const rows = items.map((item) => {
      const box = el("input", { type: "checkbox", value: item.key });
      Object.assign(box, { changed: item.changed, own: item.per_frame, keys: item.keys || [item.key], checked: item.chosen || (item.changed && ownToo()) });
      this.boxes.push(box);
      return el("label", { class: item.changed ? "carry-item" : "carry-item same" }, box, el("span", { text: item.per_frame ? t`${worded(item.label)} (this frame’s)` : worded(item.label) }), el("span", { class: "value", text: said(item) }));
    });
    const own = this.boxes.slice(-items.length);
    const sync = () => {
      const on = own.filter((b) => b.checked).length;
      all.checked = on === own.length;
      all.indeterminate = on > 0 && on < own.length;
    };
    all.addEventListener("change", () => {
      for (const b of own) b.checked = all.checked;
      this.count();
    });
    for (const b of own) Object.assign(b, { sync, onchange: () => (sync(), this.count()) });
    sync();
    return el("div", { class: "carry-group break-inside-avoid mb-2" }, el("label", { class: "choice" }, all, el("span", { text: titles[group] })), ...rows);
  }

  tick(which) {
    for (const b of this.boxes) {
      b.checked = which(b);
      b.sync();
    }
    this.count();
  }

  targets() {
    const to = this.radios.find((r) => r.checked)?.value;
    if (to === "other") {
      const set = this.sets.get(Number(byId("carry-other").value));
      return set && set.lead !== this.source ? [set.lead] : [];
    }
    return (this.scopes[to] || []).filter((id) => id !== this.source);
  }

  keys() {
    return this.boxes.filter((b) => b.checked).flatMap((b) => b.keys);
  }

  count() {
    const n = this.targets().length;
    byId("carry-count").textContent = t`${plural(this.keys().length, "adjustment")} to ${plural(n, "frame")}`;
    byId("carry-go").disabled = !this.keys().length || !n;
  }

  async open() {
    for (const radio of this.radios) {
      radio.disabled = radio.value === "other" ? !this.sets.size : !this.scopes[radio.value]?.length;
      radio.onchange = () => {
        localStorage.setItem("tanner.carry.to", radio.value);
        this.count();
      };
    }
    const last = localStorage.getItem("tanner.carry.to");
    const free = this.radios.filter((r) => !r.disabled);
    (free.find((r) => r.value === "chosen") || free.find((r) => r.value === last) || free[0] || this.radios[0]).checked = true;
    byId("carry-own").checked = ownToo();
    byId("carry-own").onchange = (event) => {
      localStorage.setItem("tanner.carry.own", event.target.checked ? "yes" : "no");
      this.tick((b) => (b.own ? b.changed && event.target.checked : b.checked));
    };
    byId("carry-changed").onclick = () => this.tick((b) => b.changed && (!b.own || ownToo()));
    byId("carry-last").onclick = () => this.tick((b) => b.keys.every((k) => kept().includes(k)));
    this.count();
    const dialog = byId("carry");
    dialog.showModal();
    return new Promise((resolve) => {
      let result = false;
      byId("carry-go").onclick = async () => {
        const done = await trying(() => post("/api/carry", { source: this.source, frames: this.targets(), keys: this.keys() }));
        if (!done) return;
        localStorage.setItem("tanner.carry", JSON.stringify(this.keys()));
        result = true;
        tell(done.changed ? t`${plural(done.changed, "frame")} changed.` : t`These frames have these values already.`);
        dialog.close();
      };
      dialog.addEventListener("close", () => resolve(result), { once: true });
    });
  }
}

// source: frame id; scopes: {chosen: [ids], set: [ids], shoot: [ids]}; only: what is ticked at first, else what is usual
export async function carryOver(source, scopes, only = null) {
  const everything = await trying(() => get("/api/sets"));
  if (!everything) return false;
  const dialog = new Dialog(source, scopes, everything.shoots);
  dialog.places();
  if (!(await dialog.list())) return false;
  if (only) dialog.tick((b) => only.includes(b.value));
  return dialog.open();
}

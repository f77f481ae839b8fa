// Sets on the Sheet: a new proposal with limits that are seen, sets that follow another, and moving frames by dragging.
import { post } from "./api.js";
import { byId, el } from "./dom.js";
import { shootId, trying } from "./shell.js";
import { plural, t } from "./texts.js";

const FIELDS = ["minutes", "mired", "ev", "unlike"];

export class Proposal {
  // done() is called when sets changed
  constructor(done) {
    this.done = done;
    this.dialog = byId("propose-dialog");
    byId("propose").addEventListener("click", () => this.open());
    for (const name of FIELDS) byId(`propose-${name}`).addEventListener("input", () => this.look());
    byId("propose-turned").addEventListener("change", () => this.look());
    byId("propose-go").addEventListener("click", () => this.go());
  }

  limits() {
    const values = Object.fromEntries(FIELDS.map((name) => [name, Number(byId(`propose-${name}`).value)]));
    return { ...values, turned: byId("propose-turned").checked };
  }

  open() {
    this.dialog.showModal();
    this.look();
  }

  // What would come of it; a newer question ends the older one.
  async look() {
    const wish = (this.wish = Symbol());
    for (const name of FIELDS) byId(`propose-${name}-text`).textContent = byId(`propose-${name}`).value;
    const found = await trying(() => post(`/api/shoots/${shootId}/would-propose`, this.limits()));
    if (!found || wish !== this.wish) return;
    byId("propose-count").textContent = plural(found.sets.length, "set");
    byId("propose-list").replaceChildren(...found.sets.map((s) => el("tr", {}, el("td", { class: "tight", text: s.first }), el("td", { class: "num", text: String(s.count) }), el("td", { text: s.reason }))));
  }

  async go() {
    if (!(await trying(() => post(`/api/shoots/${shootId}/propose`, this.limits())))) return;
    this.dialog.close();
    this.done();
  }
}

// Which set's lead a set's lead follows.
export function followChoice(set, sets, done) {
  const choice = el(
    "select",
    { class: "min-h-6 max-w-56 border-transparent bg-transparent text-white", "aria-label": t`${set.name} follows`, title: t`Whose lead this set’s lead follows: the same light, other things` },
    el("option", { value: "", text: t`follows no other set` }),
    ...sets.filter((s) => s.id !== set.id).map((s) => el("option", { value: String(s.id), text: t`follows ${s.name}` })),
  );
  choice.value = set.under ? String(set.under) : "";
  choice.addEventListener("change", async () => {
    const changed = await trying(() => post(`/api/sets/${set.id}/under`, { set: Number(choice.value) || null }));
    if (changed) done();
    else choice.value = set.under ? String(set.under) : "";
  });
  return choice;
}

// Frames are dragged onto another set: its head, or any of its pictures.
export class Dragging {
  // sheet: {roll, frame(id), ids() that are chosen, choose(ids), done()}; where the order is by hand also byHand(),
  // next(id) and putBefore(ids, id or null)
  constructor(sheet) {
    this.sheet = sheet;
    sheet.roll.addEventListener("pointerdown", (event) => this.begin(event));
  }

  begin(event) {
    const cell = event.target.closest(".cell");
    if (!cell || event.button !== 0 || event.shiftKey || event.ctrlKey || event.metaKey) return;
    const from = [event.clientX, event.clientY];
    let mark = null;
    let over = null;
    const move = (e) => {
      if (!mark) {
        if (Math.hypot(e.clientX - from[0], e.clientY - from[1]) < 8) return;
        const id = Number(cell.dataset.id);
        if (!this.sheet.ids().includes(id)) this.sheet.choose([id]);
        mark = el("div", { class: "dragged fixed z-60 py-0.5 px-2 bg-ink text-white pointer-events-none", text: plural(this.sheet.ids().length, "frame") });
        document.body.append(mark);
      }
      Object.assign(mark.style, { left: `${e.clientX + 12}px`, top: `${e.clientY + 12}px` });
      const edge = this.sheet.roll.getBoundingClientRect();
      if (e.clientY < edge.top + 30) this.sheet.roll.scrollTop -= 18;
      if (e.clientY > edge.bottom - 30) this.sheet.roll.scrollTop += 18;
      const there = this.setAt(e);
      this.mark(this.sheet.byHand() ? this.gapAt(e) : null);
      if (there === over) return;
      over = there;
      for (const node of this.sheet.roll.querySelectorAll("[data-set]")) node.classList.toggle("drop-here", Number(node.dataset.set) === over);
    };
    const end = (e) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", end);
      window.removeEventListener("keydown", leave, true);
      for (const node of this.sheet.roll.querySelectorAll(".drop-here")) node.classList.remove("drop-here");
      if (!mark) return;
      mark.remove();
      this.mark(null);
      const gap = e && this.sheet.byHand() ? this.gapAt(e) : null;
      const set = e ? this.setAt(e) : 0;
      const frames = this.sheet.ids().filter((id) => this.sheet.frame(id).set !== set);
      // The click that ends a drag is no choice.
      window.addEventListener("click", (c) => c.stopPropagation(), { capture: true, once: true });
      setTimeout(() => window.dispatchEvent(new Event("click")), 0);
      this.drop(frames, set, gap);
    };
    const leave = (e) => {
      if (e.key !== "Escape") return;
      e.stopPropagation();
      end(null);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", end);
    window.addEventListener("keydown", leave, true);
  }

  setAt(event) {
    const node = document.elementFromPoint(event.clientX, event.clientY)?.closest(".cell, [data-set]");
    if (!node) return 0;
    return node.dataset.set ? Number(node.dataset.set) : this.sheet.frame(Number(node.dataset.id))?.set || 0;
  }

  // Between which pictures the pointer is: the one that follows, with the one under the pointer and the side of it.
  gapAt(event) {
    const cell = document.elementFromPoint(event.clientX, event.clientY)?.closest(".cell");
    if (!cell) return null;
    const box = cell.getBoundingClientRect();
    const after = event.clientX > box.left + box.width / 2;
    const id = Number(cell.dataset.id);
    return { cell, after, before: after ? this.sheet.next(id) : id };
  }

  mark(gap) {
    this.bar?.remove();
    this.bar = null;
    if (!gap) return;
    this.bar = el("div", { class: "pointer-events-none absolute z-2 w-1 bg-accent" });
    const { left, top, width, height } = gap.cell.style;
    Object.assign(this.bar.style, { left: `${parseFloat(left) + (gap.after ? parseFloat(width) : 0) - 4}px`, top, height });
    gap.cell.parentElement.append(this.bar);
  }

  async drop(frames, set, gap) {
    const chosen = this.sheet.ids();
    if (set && frames.length && !(await trying(() => post("/api/sets/move", { frames, set })))) return;
    if (gap && !(chosen.length === 1 && gap.before === chosen[0])) this.sheet.putBefore(chosen, gap.before);
    else if (set && frames.length) this.sheet.done();
  }
}

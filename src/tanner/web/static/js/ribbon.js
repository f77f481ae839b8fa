// The ribbon: the set as a narrow column, lead on top; choosing frames here says which ones a change reaches.
import { el, number } from "./dom.js";
import { t } from "./texts.js";

function marks(f) {
  const parts = [];
  if (f.lead) parts.push(el("span", { class: "lead-mark", text: t`lead` }));
  parts.push(el("span", { class: "cell-name overflow-hidden text-ellipsis", text: f.name.replace(/\.[^.]+$/, "") }));
  const o = f.offsets;
  if (o.ev) parts.push(el("span", { class: "own-mark", text: `${o.ev > 0 ? "+" : ""}${number(o.ev)}`, title: t`Offset in EV` }));
  else if (o.mired || o.tint) parts.push(el("span", { class: "own-mark", text: t`WB`, title: t`Offset of the white balance` }));
  if (f.own.length) parts.push(el("span", { class: "mark-own index-mark", title: t`Own: ${f.own.join(", ")}` }));
  return parts;
}

export class Ribbon {
  // onOpen(id), onChoice(ids)
  constructor(root, headRoot, { onOpen, onChoice }) {
    Object.assign(this, { root, headRoot, onOpen, onChoice });
    this.frames = [];
    this.chosen = new Set();
    this.active = null;
    root.addEventListener("click", (event) => {
      const cell = event.target.closest(".ribbon-cell");
      if (!cell) return;
      const id = Number(cell.dataset.id);
      if (event.ctrlKey || event.metaKey) {
        if (this.chosen.has(id) && id !== this.active) this.chosen.delete(id);
        else this.chosen.add(id);
        this.told();
      } else if (event.shiftKey) {
        const order = this.frames.map((f) => f.id);
        const a = order.indexOf(this.active);
        const b = order.indexOf(id);
        this.chosen = new Set(order.slice(Math.min(a, b), Math.max(a, b) + 1));
        this.told();
      } else this.onOpen(id);
    });
  }

  set(set, frames, active) {
    this.frames = [...frames].sort((a, b) => Number(b.lead) - Number(a.lead));
    if (this.active !== active) this.chosen = new Set([active]);
    this.active = active;
    this.headRoot.textContent = set ? `${set.name}, ${frames.length}` : t`${frames.length} without a set`;
    // A picture stays until its new one has come: the set is not blank while the frames that follow are made again.
    const shown = new Map([...this.root.children].map((cell) => [Number(cell.dataset.id), cell.querySelector("img")]));
    this.root.replaceChildren(
      ...this.frames.map((f) => {
        const image = shown.get(f.id) || el("img", { alt: "", draggable: "false" });
        const source = `/api/frames/${f.id}/picture?v=${f.v}`;
        if (image.getAttribute("src") !== source) image.src = source;
        return el(
          "div",
          { class: "ribbon-cell", role: "option", "data-id": f.id, id: `ribbon-${f.id}` },
          image,
          el("div", { class: "cell-line" }, ...marks(f)),
        );
      }),
    );
    this.told(false);
    this.root.querySelector(".active")?.scrollIntoView({ block: "nearest" });
  }

  refresh(ids) {
    for (const id of ids) {
      const image = this.root.querySelector(`[data-id="${id}"] img`);
      const frame = this.frames.find((f) => f.id === Number(id));
      if (image && frame) image.src = `/api/frames/${id}/picture?v=${frame.v}&n=${Date.now()}`;
    }
  }

  told(emit = true) {
    for (const cell of this.root.children) {
      const id = Number(cell.dataset.id);
      cell.setAttribute("aria-selected", this.chosen.has(id));
      cell.classList.toggle("active", id === this.active);
    }
    this.root.setAttribute("aria-activedescendant", `ribbon-${this.active}`);
    if (emit) this.onChoice([...this.chosen]);
  }

  all() {
    this.chosen = new Set(this.frames.map((f) => f.id));
    this.told();
  }

  neighbour(by) {
    const at = this.frames.findIndex((f) => f.id === this.active);
    return this.frames[at + by]?.id ?? null;
  }
}

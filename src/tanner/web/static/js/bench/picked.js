// Picked ranges on the Bench: begun by a click in the picture, each with the same controls.
import { post } from "../api.js";
import { byId, el } from "../dom.js";
import { listed, newId } from "../listed.js";
import { Rule } from "../rule.js";
import { trying } from "../shell.js";
import { PickTool } from "./pick-tool.js";
import { t } from "../texts.js";

export class Picked {
  // bench: {picture, table, frame(), shown(key), edit(values), commit(url, body), targets()}
  constructor(bench) {
    this.bench = bench;
    this.chosen = null;
    this.controls = new Map();
    for (const root of document.querySelectorAll("#picked-one .rule")) {
      const name = root.dataset.key.split("/")[2];
      this.controls.set(name, new Rule(root, { ...bench.table[root.dataset.key], offset: null }));
    }
    this.pick = new PickTool(byId("picked-pick"), bench.picture, (place) => this.take(place));
    byId("picked-remove").addEventListener("click", () => bench.commit("/api/colours/remove", { frames: bench.targets(), of: "picked", ids: [this.chosen] }));
  }

  list() {
    return listed(this.bench.frame()?.values, "picked").filter((p) => p.present !== false);
  }

  neutral(name) {
    return this.controls.get(name).about.neutral;
  }

  fill() {
    const list = this.list();
    document.querySelector('#index [data-group="picked"] .index-state').textContent = list.length ? String(list.length) : "";
    if (!list.some((p) => p.id === this.chosen)) this.chosen = list[0]?.id ?? null;
    byId("picked-none").hidden = list.length > 0;
    byId("picked-remove").hidden = !list.length;
    byId("picked-one").hidden = !list.length;
    byId("picked-by-hand").hidden = !list.length;
    byId("picked-list").replaceChildren(
      ...list.map((p, n) => {
        const node = el("button", { type: "button", class: "h-8 w-10 border-2 border-transparent p-0! aria-pressed:border-ink", "aria-pressed": String(p.id === this.chosen), "aria-label": t`Range ${n + 1}`, title: t`Range ${n + 1}: hue ${Math.round(p.middle[2])}°`, onclick: () => this.choose(p.id) });
        node.style.background = `oklch(${p.middle.join(" ")})`;
        return node;
      }),
    );
    const { frame } = this.bench;
    for (const [name, control] of this.controls) {
      const key = `picked/${this.chosen}/${name}`;
      control.about.key = key;
      const below = frame()?.below[key] ?? control.about.neutral;
      if (this.chosen) control.set(this.bench.shown(key) ?? control.about.neutral, { below, shown: below, follows: frame().follows, own: frame().ownKeys.includes(key), offset: false });
    }
  }

  choose(id) {
    this.chosen = id;
    this.fill();
  }

  async take([x, y]) {
    const found = await trying(() => post(`/api/frames/${this.bench.frame().id}/picked/sample`, { x, y }));
    if (!found) return;
    const id = newId();
    const order = Math.max(0, ...this.list().map((s) => s.order || 0)) + 1;
    this.chosen = id;
    await this.bench.edit({ [`picked/${id}/kind`]: "range", [`picked/${id}/order`]: order, [`picked/${id}/middle`]: found.middle });
  }
}

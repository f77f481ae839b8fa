// Presets on the Bench: each shown on the own picture at the chosen amount before it is applied.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { tell, trying } from "./shell.js";

export class Presets {
  // current() gives the frame's id; hover(values or null) previews on the picture; apply(key, amount)
  constructor({ current, hover, apply }) {
    Object.assign(this, { current, hover, apply });
    this.list = byId("preset-list");
    this.amount = byId("amount");
    this.found = [];
    this.stale = true;
    this.amount.addEventListener("input", () => {
      byId("amount-text").textContent = `${this.amount.value} %`;
    });
    this.amount.addEventListener("change", () => this.pictures());
    byId("preset-save").addEventListener("click", () => {
      byId("save-error").textContent = "";
      byId("save-dialog").showModal();
    });
    byId("save-form").addEventListener("submit", (event) => this.save(event));
  }

  async load() {
    const data = await trying(() => get("/api/presets"));
    if (!data) return;
    for (const problem of data.problems) tell(problem, true);
    this.found = data.presets;
    const folders = new Map();
    for (const p of data.presets) folders.set(p.folder, [...(folders.get(p.folder) || []), p]);
    this.list.replaceChildren(
      ...[...folders].flatMap(([folder, presets]) => [
        el("h3", { text: folder }),
        el("div", { class: "preset-grid" }, ...presets.map((p) => this.card(p))),
      ]),
    );
    this.pictures();
  }

  card(preset) {
    const image = el("img", { alt: "", "data-key": preset.key, draggable: "false" });
    return el(
      "button",
      {
        type: "button",
        class: "preset-card",
        title: preset.about || preset.name,
        onclick: () => this.apply(preset.key, Number(this.amount.value), preset.name),
        onmouseenter: () => this.hover(preset, Number(this.amount.value)),
        onmouseleave: () => this.hover(null),
        onfocus: () => this.hover(preset, Number(this.amount.value)),
        onblur: () => this.hover(null),
      },
      image,
      el("span", { text: preset.name }),
    );
  }

  pictures() {
    if (!this.current()) return;
    this.stale = false;
    const amount = Number(this.amount.value);
    for (const image of this.list.querySelectorAll("img")) {
      image.src = `/api/frames/${this.current()}/try?key=${encodeURIComponent(image.dataset.key)}&amount=${amount}&edge=150&n=${Date.now()}`;
    }
  }

  async save(event) {
    event.preventDefault();
    const groups = [...document.querySelectorAll("#save-form [name=group]:checked")].map((b) => b.value);
    const body = { name: byId("save-name").value, folder: byId("save-folder").value, groups };
    try {
      await post(`/api/frames/${this.current()}/preset`, body);
    } catch (error) {
      byId("save-error").textContent = error.message;
      return;
    }
    byId("save-dialog").close();
    tell(`Preset ${body.name} is kept.`);
    this.load();
  }
}

// Presets on the Bench: each shown on the own picture at the chosen amount before it is applied.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { tell, trying } from "./shell.js";

export class Presets {
  // current() gives the frame's id; hover(values or null) previews on the picture; apply(key, amount); changes(preset, amount)
  // gives lines of what would be different.
  constructor({ current, hover, apply, changes }) {
    Object.assign(this, { current, hover, apply, changes });
    this.liked = new Set(JSON.parse(localStorage.getItem("tanner.liked") || "[]"));
    this.find = byId("preset-find");
    this.find.addEventListener("input", () => this.arrange());
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
    this.arrange();
  }

  // By folder, those that are liked first; only what the search finds.
  arrange() {
    const words = this.find.value.trim().toLowerCase();
    const found = this.found.filter((p) => !words || `${p.name} ${p.folder} ${p.about}`.toLowerCase().includes(words));
    const folders = new Map();
    const put = (folder, preset) => folders.set(folder, [...(folders.get(folder) || []), preset]);
    for (const p of found) if (this.liked.has(p.key)) put("Favourites", p);
    for (const p of found) if (!this.liked.has(p.key)) put(p.folder, p);
    this.list.replaceChildren(
      ...[...folders].flatMap(([folder, presets]) => [
        el("h3", { text: folder }),
        el("div", { class: "preset-grid" }, ...presets.map((p) => this.card(p))),
      ]),
      ...(found.length ? [] : [el("p", { class: "dim", text: "No preset is called so." })]),
    );
    this.pictures();
  }

  card(preset) {
    const image = el("img", { alt: "", "data-key": preset.key, draggable: "false" });
    const liked = this.liked.has(preset.key);
    return el(
      "div",
      { class: "preset-cell" },
      el(
        "button",
        {
          type: "button",
          class: "preset-card",
          title: preset.about || preset.name,
          onclick: () => this.apply(preset.key, Number(this.amount.value), preset.name),
          onmouseenter: () => this.point(preset),
          onmouseleave: () => this.point(null),
          onfocus: () => this.point(preset),
          onblur: () => this.point(null),
        },
        image,
        el("span", { text: preset.name }),
      ),
      el("button", { type: "button", class: "preset-like", "aria-pressed": String(liked), "aria-label": `Favourite: ${preset.name}`, title: liked ? "No longer a favourite" : "Make it a favourite", text: liked ? "\u2665" : "\u2661", onclick: () => this.like(preset.key) }),
    );
  }

  like(key) {
    if (!this.liked.delete(key)) this.liked.add(key);
    localStorage.setItem("tanner.liked", JSON.stringify([...this.liked]));
    this.arrange();
  }

  // On the picture, and in values: what is, and what would be.
  point(preset) {
    const amount = Number(this.amount.value);
    this.hover(preset, amount);
    byId("preset-values").replaceChildren(...(preset ? this.changes(preset, amount).map((text) => el("li", { text })) : []));
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

// Presets on the Bench: each shown on the own picture at the chosen amount before it is applied.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { tell, trying } from "./shell.js";
import { shippedWords, t } from "./texts.js";

export class Presets {
  // current() gives the frame's id; hover(preset or null, amount, leave) previews on the picture; apply(key, amount, name, leave);
  // changes(preset, amount, leave) gives lines of what would be different; keep(keys) keeps those presets only, in that order;
  // titles are the groups' names.
  constructor({ current, hover, apply, changes, keep, titles }) {
    Object.assign(this, { current, hover, apply, changes, keep, titles });
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
    const kept = JSON.parse(localStorage.getItem("tanner.leave") || "[]");
    for (const box of this.leaveBoxes()) {
      box.checked = kept.includes(box.value);
      box.addEventListener("change", () => this.leaving());
    }
    this.leaving(false);
    byId("save-form").addEventListener("submit", (event) => this.save(event));
  }

  leaveBoxes() {
    return [...document.querySelectorAll("#leave-out [name=leave]")];
  }

  get leave() {
    return this.leaveBoxes().filter((b) => b.checked).map((b) => b.value);
  }

  // Groups that presets leave as they are, whatever they hold.
  leaving(draw = true) {
    localStorage.setItem("tanner.leave", JSON.stringify(this.leave));
    byId("leave-text").textContent = this.leave.map((g) => this.titles[g]).join(", ") || t`nothing`;
    if (draw) this.pictures();
  }

  // What the frame wears, the preset that wins first; each can be taken out or moved.
  applied(list) {
    const keys = list.map((w) => w.key);
    const without = (n) => keys.filter((_, k) => k !== n);
    const swapped = (n) => keys.map((k, i) => (i === n ? keys[n + 1] : i === n + 1 ? keys[n] : k));
    byId("applied-list").replaceChildren(
      ...list.map((w, n) =>
        el(
          "li",
          { title: w.lost.map((l) => `${l.label}: ${l.to === "by hand" ? t`changed by hand since` : t`${l.to} wins`}`).join("\n") },
          el("span", { class: "applied-name", text: `${w.name}${w.amount === 100 ? "" : ` ${w.amount} %`}` }),
          el("span", { class: "dim", text: w.in_force === w.sets ? t`${w.sets} set` : t`${w.in_force} of ${w.sets} hold` }),
          el("button", { type: "button", class: "plain", text: "\u2191", title: t`Further up: wins over the next`, "aria-label": t`Move ${w.name} up`, disabled: n === list.length - 1, onclick: () => this.keep(swapped(n)) }),
          el("button", { type: "button", class: "plain", text: t`Remove`, "aria-label": t`Remove ${w.name}`, onclick: () => this.keep(without(n)) }),
        ),
      ).reverse(),
    );
  }

  async load() {
    const data = await trying(() => get("/api/presets"));
    if (!data) return;
    for (const problem of data.problems) tell(problem, true);
    this.found = data.presets.map(shippedWords);
    this.arrange();
  }

  // By folder, those that are liked first; only what the search finds.
  arrange() {
    const words = this.find.value.trim().toLowerCase();
    const found = this.found.filter((p) => !words || `${p.name} ${p.folder} ${p.about}`.toLowerCase().includes(words));
    const folders = new Map();
    const put = (folder, preset) => folders.set(folder, [...(folders.get(folder) || []), preset]);
    for (const p of found) if (this.liked.has(p.key)) put(t`Favourites`, p);
    for (const p of found) if (!this.liked.has(p.key)) put(p.folder, p);
    this.list.replaceChildren(
      ...[...folders].flatMap(([folder, presets]) => [
        el("div", { class: "folder-head flex justify-between items-baseline" }, el("h3", { text: folder }), el("button", { type: "button", class: "plain", text: t`Sheet`, title: t`All of ${folder} on this picture`, onclick: () => this.sheet(folder, presets) })),
        el("div", { class: "preset-grid grid grid-cols-[1fr_1fr] gap-1.5" }, ...presets.map((p) => this.card(p))),
      ]),
      ...(found.length ? [] : [el("p", { class: "dim", text: t`No preset is called so.` })]),
    );
    this.pictures();
  }

  card(preset) {
    const image = el("img", { alt: "", "data-key": preset.key, draggable: "false" });
    const liked = this.liked.has(preset.key);
    return el(
      "div",
      { class: "preset-cell relative" },
      el(
        "button",
        {
          type: "button",
          class: "preset-card",
          title: this.about(preset),
          onclick: () => this.apply(preset.key, Number(this.amount.value), preset.name, this.leave),
          onmouseenter: () => this.point(preset),
          onmouseleave: () => this.point(null),
          onfocus: () => this.point(preset),
          onblur: () => this.point(null),
        },
        image,
        el("span", { text: preset.name }),
      ),
      el("button", { type: "button", class: "absolute top-0.75 right-0.75 min-h-4.5 py-0 px-1 border-0 bg-[#ffffffb0]", "aria-pressed": String(liked), "aria-label": t`Favourite: ${preset.name}`, title: liked ? t`No longer a favourite` : t`Make it a favourite`, text: liked ? "\u2665" : "\u2661", onclick: () => this.like(preset.key) }),
    );
  }

  // What it is for, the groups that it sets, and those that it leaves as they are.
  about(preset) {
    const sets = [...new Set(Object.keys(preset.values).map((k) => k.split(".")[0]))];
    const name = (g) => this.titles[g] || g;
    const left = Object.keys(this.titles).filter((g) => this.leaveBoxes().some((b) => b.value === g) && !sets.includes(g));
    const match = preset.match ? t`\nMatches to ${preset.match.of || t`a stored reference`} by the ${preset.match.kind}.` : "";
    return t`${preset.about || preset.name}\nSets: ${sets.map(name).join(", ") || t`nothing`}.\nLeaves: ${left.map(name).join(", ")}.${match}`;
  }

  // All presets of a folder on the own picture, large enough to choose by.
  sheet(folder, presets) {
    const amount = Number(this.amount.value);
    byId("preset-sheet-title").textContent = folder;
    byId("preset-sheet-about").textContent = t`${presets.length} presets at ${amount} % on this picture; a click puts one on.`;
    byId("preset-sheet-list").replaceChildren(
      ...presets.map((p) =>
        el("button", { type: "button", class: "preset-card", title: this.about(p), onclick: () => { byId("preset-sheet").close(); this.apply(p.key, amount, p.name, this.leave); } }, el("img", { alt: "", draggable: "false", src: this.url(p.key, amount, 400) }), el("span", { text: p.name })),
      ),
    );
    byId("preset-sheet").showModal();
  }

  url(key, amount, edge) {
    return `/api/frames/${this.current()}/try?key=${encodeURIComponent(key)}&amount=${amount}&edge=${edge}&leave=${this.leave.join(",")}&n=${Date.now()}`;
  }

  like(key) {
    if (!this.liked.delete(key)) this.liked.add(key);
    localStorage.setItem("tanner.liked", JSON.stringify([...this.liked]));
    this.arrange();
  }

  // On the picture, and in values: what is, and what would be.
  point(preset) {
    const amount = Number(this.amount.value);
    this.hover(preset, amount, this.leave);
    byId("preset-values").replaceChildren(...(preset ? this.changes(preset, amount, this.leave).map((text) => el("li", { text })) : []));
  }

  pictures() {
    if (!this.current()) return;
    this.stale = false;
    const amount = Number(this.amount.value);
    for (const image of this.list.querySelectorAll("img")) {
      image.src = this.url(image.dataset.key, amount, 150);
    }
  }

  async save(event) {
    event.preventDefault();
    const groups = [...document.querySelectorAll("#save-form [name=group]:checked")].map((b) => b.value);
    const match = byId("save-match").checked ? { kind: byId("save-kind").value, what: byId("save-what").value, tone: byId("save-tone").checked } : null;
    const body = { name: byId("save-name").value, folder: byId("save-folder").value, about: byId("save-about").value, groups, match };
    try {
      await post(`/api/frames/${this.current()}/preset`, body);
    } catch (error) {
      byId("save-error").textContent = error.message;
      return;
    }
    byId("save-dialog").close();
    tell(t`Preset ${body.name} is kept.`);
    this.load();
  }
}

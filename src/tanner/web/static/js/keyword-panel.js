// Keywords for the chosen frames: suggested while one writes; those used last, or the first nine below one, on the keys 1 to 9.
import { get, post } from "./api.js";
import { beside } from "./commands.js";
import { el } from "./dom.js";
import { shootId, trying } from "./shell.js";
import { plural, t } from "./texts.js";

export class KeywordPanel {
  // chosen() gives ids and the keywords that they have; done() is called after a change; at() the element it opens beside
  constructor({ chosen, done, at }) {
    Object.assign(this, { chosen, done, at, nine: [] });
    this.field = el("input", { type: "search", class: "w-full", "aria-label": t`Keyword`, placeholder: t`A keyword, or 1 to 9`, autocomplete: "off", maxlength: "200" });
    this.list = el("ol", { class: "mt-1.5" });
    this.has = el("ul", { class: "mt-2 flex flex-wrap gap-1" });
    this.below = el("select", { class: "mt-2 w-full", title: t`What stands on the keys 1 to 9`, "aria-label": t`On the keys 1 to 9` });
    this.popover = el("div", { class: "popover w-80 p-3", popover: "auto", role: "dialog", "aria-label": t`Keywords` }, el("p", { class: "dim mb-1.5" }), this.field, this.list, this.below, this.has);
    document.body.append(this.popover);
    this.field.addEventListener("input", () => this.suggest());
    this.field.addEventListener("keydown", (event) => this.key(event));
    this.below.addEventListener("change", () => this.suggest());
  }

  async open() {
    const { ids } = this.chosen();
    if (!ids.length) return;
    this.popover.firstChild.textContent = t`Keywords of ${plural(ids.length, "frame")}`;
    this.field.value = "";
    this.popover.showPopover();
    beside(this.popover, this.at());
    this.field.focus();
    const all = (await trying(() => get("/api/keywords")))?.keywords || [];
    this.children = new Map();
    for (const row of all) if (row.parent) this.children.set(row.parent, [...(this.children.get(row.parent) || []), row.name]);
    const now = this.below.value;
    this.below.replaceChildren(el("option", { value: "", text: t`1 to 9: used last` }), ...[...this.children.keys()].map((name) => el("option", { value: name, text: t`1 to 9: below ${name}` })));
    this.below.value = this.children.has(now) ? now : "";
    this.told();
    await this.suggest();
  }

  told() {
    const { have } = this.chosen();
    this.has.replaceChildren(...have.map((name) => el("li", {}, el("button", { type: "button", text: `${name} ×`, title: t`Takes ${name} away`, onclick: () => this.change([], [name]) }))));
  }

  async suggest() {
    const text = this.field.value.trim();
    const round = (this.round = (this.round || 0) + 1);
    if (!text && this.below.value) this.nine = this.children.get(this.below.value).slice(0, 9);
    else {
      const found = await trying(() => get(`/api/keywords/suggest?q=${encodeURIComponent(text)}${shootId ? `&shoot=${shootId}` : ""}`));
      if (!found || round !== this.round) return;
      this.nine = found.keywords;
    }
    this.list.replaceChildren(...this.nine.map((name, k) => el("li", {}, el("button", { type: "button", class: "flex w-full justify-between border-0 bg-transparent text-left", onclick: () => this.change([name], []) }, el("span", { text: name }), text ? null : el("kbd", { text: String(k + 1) })))));
  }

  key(event) {
    const digit = Number(event.key);
    if (!this.field.value && digit >= 1 && this.nine[digit - 1]) {
      event.preventDefault();
      this.change([this.nine[digit - 1]], []);
    } else if (event.key === "Enter" && this.field.value.trim()) {
      event.preventDefault();
      this.change(this.field.value.split(",").map((k) => k.trim()).filter(Boolean), []);
    }
  }

  async change(add, take) {
    const { ids } = this.chosen();
    if (!(await trying(() => post("/api/keywords/change", { frames: ids, add, take })))) return;
    this.field.value = "";
    this.field.focus();
    await this.done();
    this.told();
    await this.suggest();
  }
}

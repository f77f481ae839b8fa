// The lens of a frame: what was found, and a search of the open database to choose another.
import { get } from "./api.js";
import { byId, el } from "./dom.js";
import { trying } from "./shell.js";
import { t } from "./texts.js";

const STRENGTHS = ["optics.distortion", "optics.lateral_colour", "optics.fall_off"];

export class LensChoice {
  // edit(values) changes the frame; starting() gives its defaults by rule
  constructor({ edit, starting }) {
    Object.assign(this, { edit, starting });
    this.dialog = byId("lens-dialog");
    this.search = byId("lens-search");
    byId("lens-choose").addEventListener("click", () => this.open());
    byId("lens-close").addEventListener("click", () => this.dialog.close());
    byId("lens-auto").addEventListener("click", () => this.put("", Object.fromEntries(STRENGTHS.map((k) => [k, this.starting()[k] ?? 0]))));
    byId("lens-none").addEventListener("click", () => this.put("none", {}));
    let wait = null;
    this.search.addEventListener("input", () => {
      clearTimeout(wait);
      wait = setTimeout(() => this.list(), 180);
    });
  }

  say(key, facts) {
    const found = facts.lens_found ? `${facts.lens_found} (${facts.lens_source})` : t`Nothing was found for ${facts.lens || t`a lens that the file does not name`}.`;
    byId("optics-source").textContent = key === "none" ? t`No corrections, by choice.` : key ? t`${key} (chosen by hand)` : found;
  }

  open() {
    this.dialog.showModal();
    this.search.focus();
    this.list();
  }

  async list() {
    const text = this.search.value;
    const data = await trying(() => get(`/api/lenses?q=${encodeURIComponent(text)}`));
    if (!data || text !== this.search.value) return;
    byId("lens-note").textContent = data.lenses.length ? "" : t`No lens of the database has all these words.`;
    byId("lens-list").replaceChildren(
      ...data.lenses.map((lens) =>
        el("li", {}, el("button", { type: "button", onclick: () => this.choose(lens.key) }, el("b", { text: `${lens.maker} ${lens.model}` }), el("span", { class: "dim", text: t`${lens.focal} mm, crop ${lens.crop_factor}, ${lens.has.join(", ")}` }))),
      ),
    );
  }

  choose(key) {
    this.dialog.close();
    this.put(key, Object.fromEntries(STRENGTHS.map((k) => [k, 100])));
  }

  put(key, strengths) {
    this.edit({ "optics.chosen_lens": key, ...strengths });
  }
}

// The camera profiles that fit a frame, each shown on the own picture.
import { get } from "./api.js";
import { byId, el } from "./dom.js";
import { tell, trying } from "./shell.js";
import { t, worded } from "./texts.js";

export class Profiles {
  // current() gives the frame's id; choose(key) sets the profile; commit(url, body) changes frames; frames(): all of the shoot
  constructor({ current, choose, commit, frames }) {
    Object.assign(this, { current, choose, commit, frames });
    this.list = byId("profile-list");
    byId("profile-carry").addEventListener("click", () => this.carry());
  }

  async carry() {
    const source = this.current();
    const others = this.frames().map((f) => f.id).filter((id) => id !== source);
    if (!others.length) return tell(t`This frame is the only one of its shoot.`);
    const result = await this.commit("/api/carry", { source, frames: others, keys: ["profile.camera"] });
    if (result) tell(result.done ? t`The camera profile went to ${result.changed} frames. Undo takes it back.` : t`All frames have it already.`);
    return undefined;
  }

  async load() {
    const id = this.current();
    if (!id) return;
    const data = await trying(() => get(`/api/frames/${id}/profiles`));
    if (!data || id !== this.current()) return;
    const fitting = data.profiles.filter((p) => p.fits);
    const others = data.profiles.filter((p) => !p.fits);
    const parts = [el("div", { class: "preset-grid grid grid-cols-[1fr_1fr] gap-1.5" }, ...fitting.map((p) => this.card(p, data.value)))];
    if (others.length) {
      const open = others.some((p) => p.key === data.value);
      parts.push(el("details", { open }, el("summary", { text: t`For other cameras` }), el("div", { class: "preset-grid grid grid-cols-[1fr_1fr] gap-1.5" }, ...others.map((p) => this.card(p, data.value)))));
    }
    this.list.replaceChildren(...parts);
  }

  card(profile, value) {
    const about = worded(profile.about);
    const name = profile.key ? profile.name : worded(profile.name);
    const chosen = profile.key === value;
    const url = `/api/frames/${this.current()}/profiles/try?key=${encodeURIComponent(profile.key)}&edge=150&n=${Date.now()}`;
    return el(
      "button",
      { type: "button", class: chosen ? "preset-card chosen" : "preset-card", role: "radio", "aria-checked": String(chosen), title: `${name}: ${about}`, onclick: () => this.choose(profile.key) },
      el("img", { alt: "", src: url, loading: "lazy", draggable: "false" }),
      el("span", { text: name }),
      el("span", { class: "dim", text: about }),
    );
  }
}

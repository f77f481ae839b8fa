// Sidecars of a shoot: on or off, what both sides changed, and which version holds.
import { get, post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { shootId, trying } from "./shell.js";
import { plural, t } from "./texts.js";

const day = (text) => (text ? new Date(text).toLocaleString(document.documentElement.lang, { dateStyle: "medium", timeStyle: "short" }) : t`no date`);
const shown = (v) => (v === null ? t`as shot` : typeof v === "number" ? number(v) : Array.isArray(v) ? t`${v.length} points` : typeof v === "boolean" ? (v ? t`yes` : t`no`) : String(v));

export class Sidecars {
  constructor(done) {
    this.done = done;
    byId("sidecars").addEventListener("click", () => this.open());
    byId("sidecars-on").addEventListener("change", (event) => this.turn(event.target.checked));
  }

  async open() {
    await this.load();
    byId("sidecars-dialog").showModal();
  }

  async turn(on) {
    if (await trying(() => post(`/api/shoots/${shootId}/sidecars`, { on }))) setTimeout(() => this.load(), on ? 2500 : 0);
  }

  async load() {
    const state = await trying(() => get(`/api/shoots/${shootId}/sidecars`));
    if (!state) return;
    byId("sidecars-on").checked = state.on;
    byId("sidecars-text").textContent = state.on ? t`${plural(state.written, "frame")} ${state.written === 1 ? t`has` : t`have`} one.` : t`Off. Files that are there stay as they are.`;
    byId("sidecars-trouble").replaceChildren(...state.trouble.map((text) => el("li", { text })));
    byId("sidecars-conflicts").replaceChildren(...state.conflicts.map((c) => this.conflict(c)));
    byId("sidecars-none").hidden = state.conflicts.length > 0;
  }

  conflict(c) {
    if (c.damaged) return el("section", { class: "conflict border-t border-t-line py-1.5 px-0" }, el("p", {}, el("b", { text: c.name }), el("span", { text: ` ${c.damaged}` })));
    const take = (which) => async () => {
      if (!(await trying(() => post(`/api/frames/${c.frame}/sidecar`, { take: which })))) return;
      await this.load();
      this.done();
    };
    return el(
      "section",
      { class: "conflict border-t border-t-line py-1.5 px-0" },
      el("table", { class: "files-table" }, el("thead", {}, el("tr", {}, el("th", { text: c.name }), el("th", { text: t`Here, ${day(c.mine)}` }), el("th", { text: t`In the sidecar, ${day(c.theirs)}` }))), el("tbody", {}, ...c.differs.slice(0, 12).map((d) => el("tr", {}, el("td", { text: d.label }), el("td", { text: shown(d.mine) }), el("td", { text: shown(d.theirs) }))))),
      el("p", { class: "line" }, c.differs.length > 12 ? el("span", { class: "dim", text: t`and ${c.differs.length - 12} more` }) : null, el("span", { class: "bar-fill" }), el("button", { type: "button", text: t`What is here holds`, onclick: take("mine") }), el("button", { type: "button", text: t`The sidecar holds`, onclick: take("theirs") })),
    );
  }
}

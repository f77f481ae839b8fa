// Match: chosen frames are brought to a reference frame by an area of a kind, or one drawn on it; figures before and after.
import { get, post } from "./api.js";
import { byId, el, number } from "./dom.js";
import { drawBox, showBox } from "./draw-box.js";
import { hear } from "./news.js";
import { listOwnAreas } from "./own-areas.js";
import { trying } from "./shell.js";
import { plural, t } from "./texts.js";

const signed = (v, digits) => (Math.abs(v) < 0.5 / 10 ** digits ? "0" : `${v > 0 ? "+" : ""}${number(v, digits)}`);

export class Match {
  // done() is called when offsets were written
  constructor(done) {
    this.done = done;
    this.dialog = byId("match");
    byId("match-picture").addEventListener("pointerdown", (event) => drawBox(event, byId("match-image"), (box) => this.area(box)));
    byId("match-backdrop").addEventListener("click", () => this.area(null));
    byId("match-kind").addEventListener("change", () => this.area(null));
    byId("match-go").addEventListener("click", () => this.run());
    this.dialog.addEventListener("close", () => this.job && trying(() => post(`/api/match/${this.job}/cancel`)));
  }

  open(reference, frames) {
    Object.assign(this, { reference, frames: frames.filter((id) => id !== reference.id), job: null });
    byId("match-about").textContent = t`${plural(this.frames.length, "frame")} to ${reference.name}, as both are rendered. What changes is kept as offsets, so it stays when the lead changes.`;
    byId("match-image").src = `/api/frames/${reference.id}/picture?v=${reference.v}`;
    byId("match-result").hidden = true;
    byId("match-text").textContent = "";
    byId("match-go").disabled = !this.frames.length;
    byId("match-close").textContent = t`Cancel`;
    listOwnAreas(byId("match-kind"), reference.id);
    this.area(null);
    this.dialog.showModal();
  }

  area(box) {
    this.box = box;
    byId("match-area").textContent = box ? t`By the area that is drawn on the reference; it is looked for in the others.` : t`Or draw over the picture: a wall, a cloth, whatever is the same in all.`;
    byId("match-kind").disabled = Boolean(box);
    byId("match-backdrop").hidden = !box;
    showBox(byId("match-box"), box);
  }

  async run() {
    const what = document.querySelector("[name=match-what]:checked").value;
    const started = await trying(() => post("/api/match", { frames: this.frames, reference: this.reference.id, what, box: this.box, kind: byId("match-kind").value, tone: byId("match-tone").checked, most: Number(byId("match-most").value) || 2 }));
    if (!started) return;
    this.job = started.id;
    byId("match-go").disabled = true;
    byId("match-result").hidden = false;
    const line = hear("work");
    for (;;) {
      const job = await trying(() => get(`/api/match/${started.id}`));
      if (!job) break;
      this.rows(job.rows);
      byId("match-text").textContent = job.over ? job.message : t`${job.done} of ${job.count}${job.left_s === null ? "" : t`, ${job.left_s} s left`}`;
      if (job.over) break;
      await line.next();
    }
    this.job = null;
    byId("match-close").textContent = t`Close`;
    this.done();
  }

  rows(list) {
    byId("match-rows").replaceChildren(
      ...list.map((r) =>
        r.error
          ? el("tr", {}, el("td", { class: "tight", text: r.name }), el("td", { colspan: "6", text: r.error }))
          : el("tr", {}, el("td", { class: "tight", text: r.name }), el("td", { text: `${r.area}${r.confidence < 0.5 ? t`, not sure` : ""}${r.limited.length ? t`, at the limit` : ""}${Object.keys(r.values).length ? t`, tone too` : ""}` }), ...[signed(r.ev, 2), signed(r.mired, 0), signed(r.tint, 1), number(r.before, 2), number(r.after, 2)].map((text) => el("td", { class: "num", text }))),
      ),
    );
  }
}

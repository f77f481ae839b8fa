// Quiet copies and work done ahead, from the Sheet: the dialog, its last options, and how far the work is.
import { get, post } from "./api.js";
import { byId, number } from "./dom.js";
import { hear } from "./news.js";
import { tell, trying } from "./shell.js";
import { plural, t, worded } from "./texts.js";

const FIELDS = ["method", "luminance", "colour", "detail", "suffix", "folder"];
const NUMBERS = new Set(["luminance", "colour", "detail"]);

const said = (o) => `${o.method}, ${[o.luminance, o.colour, o.detail].map((v) => number(v, 0)).join(" / ")} %, ${o.suffix}${o.folder ? t`, into ${o.folder}` : ""}`;

export class Quiet {
  // chosen() gives ids; done() is called when frames have come in
  constructor({ chosen, done }) {
    Object.assign(this, { chosen, done });
    byId("quiet-form").addEventListener("submit", () => {
      const options = Object.fromEntries(FIELDS.map((f) => [f, NUMBERS.has(f) ? Number(byId(`quiet-${f}`).value.replace(",", ".")) : byId(`quiet-${f}`).value.trim()]));
      this.run("/api/quiet/copies", { frames: this.chosen(), options });
    });
    this.load();
  }

  open() {
    byId("quiet-dialog").showModal();
  }

  again() {
    this.run("/api/quiet/copies", { frames: this.chosen(), options: this.last });
  }

  ahead() {
    this.run("/api/quiet/ahead", { frames: this.chosen() });
  }

  async load() {
    const found = await trying(() => get("/api/quiet/options"));
    if (!found) return;
    this.last = found.options;
    for (const f of FIELDS) byId(`quiet-${f}`).value = found.options[f];
    this.known = found.again;
    byId("quiet-last").textContent = found.again ? t`Last time: ${said(found.options)}.` : "";
  }

  async run(url, body) {
    const started = await trying(() => post(url, body));
    if (!started) return;
    this.load();
    byId("joining").hidden = false;
    byId("joining-cancel").onclick = () => trying(() => post(`/api/quiet/${started.id}/cancel`));
    const line = hear("work");
    for (;;) {
      const job = await trying(() => get(`/api/quiet/${started.id}`));
      if (!job) break;
      byId("joining-bar").value = job.share;
      const left = job.left_s === null ? "" : t`, ${job.left_s} s left`;
      byId("joining-text").textContent = t`${job.current || ""}, ${job.done} of ${job.count}${left}`;
      if (job.over) {
        const what = job.kind === "copies" ? plural(job.done, "copy without noise", "copies without noise") : t`${plural(job.done, "frame")} worked out`;
        tell([`${what}${job.cancelled ? t`, then cancelled` : ""}.`, ...job.notes.map(worded)].join(" "), false);
        for (const f of job.failed) tell(f.message, true);
        break;
      }
      await line.next();
    }
    byId("joining").hidden = true;
    this.done();
  }
}

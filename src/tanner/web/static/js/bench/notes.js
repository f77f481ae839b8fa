// What is said under the picture: what the rendering tells of it, and how far a slow method is.
import { get } from "../api.js";
import { byId } from "../dom.js";
import { hear } from "../news.js";
import { trying } from "../shell.js";
import { shown, state } from "./state.js";
import { t } from "../texts.js";

export function noteLine(notes = []) {
  byId("picture-note").hidden = !notes.length;
  byId("picture-note").textContent = notes.join(" ");
}

const percent = (share) => `${Math.round(share * 100)} %`;

// A method that takes seconds is worked out behind the scenes: how far it is, is told until the picture is drawn anew.
let following = 0;
export async function followQuiet(number, drawAnew) {
  if (following === number) return;
  following = number;
  const id = state.frame.id;
  const line = hear("work");
  while (following === number && state.frame.id === id) {
    const job = await trying(() => get(`/api/quiet/${number}`));
    if (!job || job.over) {
      if (following !== number) return;
      following = 0;
      noteLine(job?.failed.map((f) => f.message));
      if (job?.done) drawAnew();
      return;
    }
    const left = job.left_s === null ? "" : t`, ${job.left_s} s left`;
    noteLine([t`Noise: ${shown("noise.method")} is being worked out, ${percent(job.share)}${left}. Until then quick is shown.`]);
    await line.next(300);
  }
  if (following === number) following = 0;
}

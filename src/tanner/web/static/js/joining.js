// Joining frames takes a while: it is followed until it ends.
import { get, post } from "./api.js";
import { byId } from "./dom.js";
import { hear } from "./news.js";
import { tell, trying } from "./shell.js";
import { t } from "./texts.js";

// done(frame) is called with the joined frame's number.
export async function join(kind, frames, done) {
  const started = await trying(() => post("/api/merge", { frames, kind }));
  if (!started) return;
  byId("joining").hidden = false;
  byId("joining-cancel").onclick = () => trying(() => post(`/api/merges/${started.id}/cancel`));
  const line = hear("work");
  for (;;) {
    const job = await trying(() => get(`/api/merges/${started.id}`));
    if (!job) break;
    byId("joining-bar").value = job.share;
    byId("joining-text").textContent = job.text;
    if (job.state !== "working") {
      tell(job.state === "done" ? t`Joined: ${job.text}` : job.text, job.state === "failed");
      if (job.state === "done") await done(job.frame);
      break;
    }
    await line.next();
  }
  byId("joining").hidden = true;
}

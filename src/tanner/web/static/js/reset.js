// Reset: chosen groups, or all, of frames go back to how they start, or follow their lead again.
import { post } from "./api.js";
import { byId } from "./dom.js";
import { trying } from "./shell.js";
import { plural, t } from "./texts.js";

export function resetFrames(frames, done) {
  byId("reset-about").textContent = t`${plural(frames.length, "frame")}. One undo takes it back.`;
  const boxes = [...document.querySelectorAll("#reset [name=reset-group]")];
  const how = () => document.querySelector("#reset [name=reset-how]:checked").value;
  const sync = () => {
    byId("reset-go").disabled = how() === "start" && !boxes.some((b) => b.checked);
    for (const b of boxes) b.disabled = how() === "follow";
  };
  for (const b of boxes) b.onchange = sync;
  for (const r of document.querySelectorAll("#reset [name=reset-how]")) r.onchange = sync;
  byId("reset-all").onclick = () => {
    const on = !boxes.every((b) => b.checked);
    for (const b of boxes) b.checked = on;
    sync();
  };
  byId("reset-go").onclick = async () => {
    const chosen = boxes.filter((b) => b.checked).map((b) => b.value);
    const groups = chosen.length === boxes.length ? null : chosen;
    const work = how() === "follow" ? () => post("/api/giveup", { frames }) : () => post("/api/reset", { frames, groups });
    if (!(await trying(work))) return;
    byId("reset").close();
    done();
  };
  sync();
  byId("reset").showModal();
}

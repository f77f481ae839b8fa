// What stands beside the groups in the Bench's index, and below it of the frame.
import { byId, number } from "../dom.js";
import { infoOf, shown, state, table, titles } from "./state.js";
import { t } from "../texts.js";

export function indexMarks() {
  for (const button of document.querySelectorAll("#index [data-group]")) {
    const name = button.dataset.group;
    if (!titles[name] || !table[`${name}.enabled`]) continue;
    const keys = Object.keys(table).filter((k) => k.startsWith(`${name}.`));
    const off = shown(`${name}.enabled`) === false;
    const own = keys.some((k) => infoOf(k).own);
    const follows = state.frame.follows && keys.some((k) => state.frame.layers[k] === "lead");
    const mark = button.querySelector(".index-mark");
    mark.className = `index-mark ${off ? "mark-off" : own ? "mark-own" : follows ? "mark-follows" : ""}`;
    // The mark says what is the frame's own; beside a long name there is no room for the word.
    button.querySelector(".index-state").textContent = off ? t`off` : "";
    button.title = off ? t`switched off` : own ? t`this frame departs here` : follows ? t`follows the lead` : "";
  }
}

export function frameData() {
  const f = state.frame.facts;
  const shutter = f.exposure_s ? (f.exposure_s < 0.5 ? `1/${number(1 / f.exposure_s, 0)} s` : `${number(f.exposure_s, 1)} s`) : "";
  const parts = [state.frame.name, f.focal_length_mm ? t`${number(f.focal_length_mm, 0)} mm` : "", f.aperture ? `f/${number(f.aperture, 1)}` : "", shutter, f.iso ? t`ISO ${f.iso}` : ""];
  byId("frame-data").textContent = parts.filter(Boolean).join("   ");
  byId("frame-data").title = [f.make, f.model, f.lens, ...(f.warnings || []), state.frame.seen?.damage].filter(Boolean).join(", ");
}

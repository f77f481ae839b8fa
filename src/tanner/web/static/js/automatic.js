// The automatic start: which of it, remembered; worked out for all of a set together.
import { post } from "./api.js";
import { byId } from "./dom.js";
import { tell } from "./shell.js";
import { plural, t } from "./texts.js";

const STORE = "tanner.automatic";
const boxes = () => [...document.querySelectorAll('[name="automatic-what"]')];

export function openAutomatic(frames, done) {
  const kept = JSON.parse(localStorage.getItem(STORE) || "null");
  for (const box of boxes()) if (kept) box.checked = kept.includes(box.value);
  byId("automatic-about").textContent = t`Plain values from how bright and colourful the pictures are, for ${plural(frames.length, "frame")}. Frames of a set are worked out together, so that they stay as alike as they are. One undo takes it back.`;
  byId("automatic-error").textContent = "";
  byId("automatic-form").onsubmit = async (event) => {
    event.preventDefault();
    const what = boxes().filter((b) => b.checked).map((b) => b.value);
    localStorage.setItem(STORE, JSON.stringify(what));
    if (!what.length) return void (byId("automatic-error").textContent = t`Tick what should be worked out.`);
    byId("automatic-go").disabled = true;
    try {
      const result = await post("/api/automatic", { frames, what });
      byId("automatic").close();
      tell(result.done ? t`The automatic start is set. Undo takes it back.` : t`All values are as they were.`);
      done();
    } catch (error) {
      byId("automatic-error").textContent = error.message;
    }
    byId("automatic-go").disabled = false;
    return undefined;
  };
  byId("automatic").showModal();
}

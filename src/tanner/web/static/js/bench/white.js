// White balance on the Bench: as shot, automatic, from a chart, and a pick in the picture.
import { post } from "../api.js";
import { byId } from "../dom.js";
import { tell, trying } from "../shell.js";
import { state } from "./state.js";
import { t } from "../texts.js";

let bench = null;
// bench: {picture, edit(values)}
export function begin(with_) {
  bench = with_;
}

byId("as-shot").addEventListener("click", () => bench.edit({ "white.temperature": null, "white.tint": null }));
byId("auto-white").addEventListener("click", () => whiteBy("auto"));
byId("chart-white").addEventListener("click", () => whiteBy("chart"));
async function whiteBy(method) {
  const found = await trying(() => post(`/api/frames/${state.frame.id}/white/${method}`));
  if (!found) return;
  await bench.edit(found.values);
  tell(t`White balance ${found.words}.`);
}
let picking = false;
export const isPicking = () => picking;
export function stopPick() {
  picking = false;
  byId("pick").setAttribute("aria-pressed", "false");
  if (bench.picture.tool === picker) bench.picture.tool = null;
}
const picker = {
  cursor: () => "crosshair",
  down(p) {
    this.from = bench.picture.share(p);
    this.to = null;
    return true;
  },
  move(p) {
    this.to = bench.picture.share(p);
    bench.picture.draw();
  },
  draw(c, rect) {
    if (!this.from || !this.to) return;
    const [x0, y0, x1, y1] = [this.from[0], this.from[1], this.to[0], this.to[1]];
    c.strokeStyle = "#fff";
    c.strokeRect(rect.x + Math.min(x0, x1) * rect.w, rect.y + Math.min(y0, y1) * rect.h, Math.abs(x1 - x0) * rect.w, Math.abs(y1 - y0) * rect.h);
  },
  up() {
    const [a, b] = [this.from, this.to || this.from];
    this.from = null;
    if (a && b) pickAt([(a[0] + b[0]) / 2, (a[1] + b[1]) / 2], Math.max(0.006, Math.min(0.1, Math.abs(b[0] - a[0]) / 2)));
  },
};
async function pickAt([x, y], radius) {
  stopPick();
  const found = await trying(() => post(`/api/frames/${state.frame.id}/pick`, { x, y, radius }));
  if (found) await bench.edit(found.values);
}
byId("pick").addEventListener("click", () => {
  if (picking) return stopPick();
  picking = true;
  bench.picture.tool = picker;
  byId("pick").setAttribute("aria-pressed", "true");
  return undefined;
});

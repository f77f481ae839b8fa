// A small drawing of what a spec does to the shape: the paper or screen it fills, the frame in it, what is cut away.
import { svg } from "./dom.js";

const W = 44;
const H = 34;
const FRAME = 1.5; // the side ratio of the frame that is drawn

export function specDrawing(spec) {
  const [, kind, a, b] = spec.size.match(/^([a-z]+):?([\d.]+)?(?:x([\d.]+))?/);
  const ratio = b ? Number(a) / Number(b) : FRAME;
  const fit = (r, w = W, h = H) => (r > w / h ? [w, w / r] : [h * r, h]);
  const [bw, bh] = fit(kind === "crop" || kind === "pad" ? ratio : FRAME);
  // The larger the file, the larger the drawing: 600 px to 4,000 px on the long edge.
  const long = Math.max(Number(a) || 0, Number(b) || 0);
  const share = kind === "original" || !long || kind === "mp" || kind === "percent" ? 1 : 0.45 + 0.55 * Math.min(1, Math.max(0, Math.log(long / 600) / Math.log(4000 / 600)));
  const [w, h] = [bw * share, bh * share];
  const drawing = svg("svg", { viewBox: `-1 -1 ${W + 2} ${H + 2}`, width: W + 2, height: H + 2, class: "flex-none", "aria-hidden": "true" });
  const rect = (rw, rh, name, more = {}) => drawing.append(svg("rect", { x: (W - rw) / 2, y: (H - rh) / 2, width: rw, height: rh, class: name, ...more }));
  if (kind === "crop") {
    // The whole frame behind, dashed: what is cut away.
    const [fw, fh] = ratio > FRAME ? [w, w / FRAME] : [h * FRAME, h];
    const shrink = Math.min(1, W / fw, H / fh);
    rect(fw * shrink, fh * shrink, "fill-none stroke-tick", { "stroke-dasharray": "2 2" });
    rect(w * shrink, h * shrink, "fill-surround stroke-ink");
  } else {
    const border = (Number(spec.border) || 0) / 100;
    rect(w, h, "fill-field stroke-ink");
    const inner = kind === "pad" ? fit(FRAME, w, h) : [w, h];
    const edge = Math.min(w, h) * Math.min(0.35, border * 1.5);
    rect(Math.max(2, inner[0] - 2 * edge), Math.max(2, inner[1] - 2 * edge), "fill-surround");
  }
  return drawing;
}

// One frame as the Sheet and Find show it: its picture, and under it a line of what is known of it.
import { el, number } from "./dom.js";
import { plural, t } from "./texts.js";

// extra: for a picture that became ready: at the address that is shown already, a page keeps the older one that stood in for it.
export function picture(node, frame, extra = "") {
  const box = node.querySelector(".cell-picture");
  if (frame.error) {
    box.replaceChildren(el("span", { class: "failed", text: frame.error }));
    return;
  }
  const image = box.querySelector("img") || box.appendChild(el("img", { alt: "", draggable: "false" }));
  image.src = `/api/frames/${frame.id}/picture?v=${frame.v}${extra}`;
}

export function marks(frame) {
  const parts = [];
  if (frame.label !== "none") parts.push(el("span", { class: `label-mark label-${frame.label}`, title: t`Label ${frame.label}` }));
  if (frame.lead) parts.push(el("span", { class: "lead-mark", text: t`lead` }));
  parts.push(el("span", { class: "cell-name overflow-hidden text-ellipsis", text: frame.name.replace(/\.[^.]+$/, ""), title: frame.alternate ? t`${frame.name}: one more development of the same file` : frame.name }));
  if (frame.verdict === "keep") parts.push(el("span", { class: "keep-mark", text: t`keep` }));
  if (frame.verdict === "drop") parts.push(el("span", { class: "drop-mark", text: t`drop` }));
  if (frame.stars) parts.push(el("span", { text: "★".repeat(frame.stars), "aria-label": plural(frame.stars, "star") }));
  if (frame.seen.damage) parts.push(el("span", { class: "drop-mark", text: t`damaged`, title: frame.seen.damage }));
  if (frame.seen.chart) parts.push(el("span", { class: "border border-current py-0 px-1 text-fine", text: t`chart`, title: t`Shows a colour chart: a reference for its light` }));
  if (frame.seen.bracket) parts.push(el("span", { class: "border border-current py-0 px-1 text-fine", text: t`bracket ${frame.seen.bracket.join("/")}`, title: t`One of several exposures of the same` }));
  if (frame.worn.length) parts.push(el("span", { class: "applied-mark italic min-w-0 truncate", text: frame.worn.at(-1), title: t`Presets: ${frame.worn.join(", ")}` }));
  const off = [];
  const o = frame.offsets;
  if (o.ev) off.push(t`${o.ev > 0 ? "+" : ""}${number(o.ev)} EV`);
  if (o.mired) off.push(t`${o.mired > 0 ? "+" : ""}${number(o.mired, 0)} mired`);
  if (o.tint) off.push(t`${o.tint > 0 ? "+" : ""}${number(o.tint, 0)} tint`);
  if (off.length) parts.push(el("span", { class: "own-mark", text: off.join(" "), title: t`Offset` }));
  if (frame.own.length) {
    parts.push(el("span", { class: "own-mark", text: frame.own.length === 1 ? frame.own[0] : t`${frame.own.length} own`, title: t`Own: ${frame.own.join(", ")}` }));
  }
  return parts;
}

// What a list shows of a frame besides its marks.
function columns(frame) {
  const taken = frame.taken ? new Date(frame.taken).toLocaleString(document.documentElement.lang, { day: "numeric", month: "short", year: "numeric", hour: "2-digit", minute: "2-digit" }) : "";
  const cells = [[taken, "w-40"], [frame.camera, "w-32"], [frame.lens, "w-40"], [frame.iso ? t`ISO ${frame.iso}` : "", "w-20"], [frame.keywords.join(", "), "min-w-0 flex-1"]];
  return cells.map(([text, width]) => el("span", { class: `${width} flex-none truncate text-white in-aria-pressed:text-chosen-ink`, text, title: text }));
}

// The largest face of a frame in the middle of its cell, from the picture in the file: that is not cut as the frame may be.
function face(box, frame, item) {
  const [x, y, w, h] = frame.face;
  const room = item.h - 36;
  const tall = room / (1.5 * Math.max(h, (w * frame.w) / frame.h));
  const wide = (tall * frame.w) / frame.h;
  const image = el("img", { alt: "", draggable: "false", src: `/api/frames/${frame.id}/quick`, class: "absolute max-h-none! max-w-none! object-fill!" });
  Object.assign(image.style, { width: `${wide}px`, height: `${tall}px`, left: `${item.w / 2 - (x + w / 2) * wide}px`, top: `${room / 2 - (y + h / 2) * tall}px` });
  box.classList.add("relative", "overflow-hidden");
  box.append(image);
}

// item: {x, y, w, h}, its place in px; list: as a line with columns; faces: the largest face alone
export function cellOf(frame, item, { list = false, faces = false } = {}) {
  const box = el("div", { class: "cell-picture relative flex items-center justify-center w-full" });
  const node = el("div", { class: "cell", role: "button", id: `frame-${frame.id}`, "data-id": frame.id }, box, el("div", { class: "cell-line" }, ...marks(frame)));
  node.style.left = `${item.x}px`;
  node.style.top = `${item.y}px`;
  node.style.width = `${item.w}px`;
  node.style.height = `${item.h}px`;
  if (list) {
    node.classList.add("flex", "items-center", "gap-3", "py-0.5!", "text-small");
    box.classList.add("h-7!", "w-12!", "flex-none");
    node.querySelector(".cell-line").classList.add("w-64", "flex-none", "mt-0!");
    node.append(...columns(frame));
  } else box.style.height = `${item.h - 36}px`;
  if (faces && frame.face?.length && !frame.error) face(box, frame, item);
  else picture(node, frame);
  return node;
}

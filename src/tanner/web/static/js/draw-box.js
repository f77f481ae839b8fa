// A box that is drawn over a picture, in shares of it: [left, top, right, bottom], or null.
const LEAST = 0.02; // of a side; less is a click

// moved(box) is told while it is drawn, and at last with null where it came to nothing
export function drawBox(event, image, moved) {
  event.preventDefault();
  const frame = image.getBoundingClientRect();
  const at = (e) => [(e.clientX - frame.x) / frame.width, (e.clientY - frame.y) / frame.height].map((v) => Math.min(1, Math.max(0, v)));
  const from = at(event);
  const box = (to) => [Math.min(from[0], to[0]), Math.min(from[1], to[1]), Math.max(from[0], to[0]), Math.max(from[1], to[1])];
  const move = (e) => moved(box(at(e)));
  const up = (e) => {
    window.removeEventListener("pointermove", move);
    window.removeEventListener("pointerup", up);
    const [left, top, right, bottom] = box(at(e));
    if (right - left < LEAST || bottom - top < LEAST) moved(null);
  };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", up);
}

export function showBox(mark, box) {
  mark.hidden = !box;
  if (box) Object.assign(mark.style, { left: `${box[0] * 100}%`, top: `${box[1] * 100}%`, width: `${(box[2] - box[0]) * 100}%`, height: `${(box[3] - box[1]) * 100}%` });
}

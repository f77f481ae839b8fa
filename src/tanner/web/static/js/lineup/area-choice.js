// By which part of the frames a line is measured: a kind that finds itself, an area of the lead, or a box that is drawn on it.
import { byId } from "../dom.js";
import { tell } from "../shell.js";

// kind(), box(), lead(): what holds now; choose(kind) and drawn(box) are told of a choice
export function areaChoice({ kind, box, lead, choose, drawn: use }) {
  let mark = null;
  byId("by-area").addEventListener("change", (event) => {
    if (event.target.value !== "drawn") {
      return void choose(event.target.value);
    }
    const there = lead();
    if (!there) return void tell("This set has no lead to draw on.", true);
    mark = null;
    byId("area-box").hidden = true;
    byId("area-use").disabled = true;
    byId("area-image").src = `/api/frames/${there.id}/picture?v=${there.v}`;
    byId("area-dialog").showModal();
    return undefined;
  });
  byId("area-picture").addEventListener("pointerdown", (event) => {
    event.preventDefault();
    const frame = byId("area-image").getBoundingClientRect();
    const at = (e) => [(e.clientX - frame.x) / frame.width, (e.clientY - frame.y) / frame.height].map((v) => Math.min(1, Math.max(0, v)));
    const from = at(event);
    const move = (e) => {
      const to = at(e);
      mark = [Math.min(from[0], to[0]), Math.min(from[1], to[1]), Math.max(from[0], to[0]), Math.max(from[1], to[1])];
      const frameOf = byId("area-box");
      frameOf.hidden = false;
      Object.assign(frameOf.style, { left: `${mark[0] * 100}%`, top: `${mark[1] * 100}%`, width: `${(mark[2] - mark[0]) * 100}%`, height: `${(mark[3] - mark[1]) * 100}%` });
      byId("area-use").disabled = false;
    };
    const up = () => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  });
  byId("area-use").addEventListener("click", () => {
    use(mark);
    byId("area-dialog").close();
  });
  byId("area-dialog").addEventListener("close", () => {
    if (!box()) byId("by-area").value = kind();
  });
}

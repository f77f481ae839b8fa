// By which part of the frames a line is measured: a kind that finds itself, an area of the lead, or a box that is drawn on it.
import { byId } from "../dom.js";
import { drawBox, showBox } from "../draw-box.js";
import { tell } from "../shell.js";
import { t } from "../texts.js";

// kind(), box(), lead(): what holds now; choose(kind) and drawn(box) are told of a choice
export function areaChoice({ kind, box, lead, choose, drawn: use }) {
  let mark = null;
  byId("by-area").addEventListener("change", (event) => {
    if (event.target.value !== "drawn") return void choose(event.target.value);
    const there = lead();
    if (!there) return void tell(t`This set has no lead to draw on.`, true);
    draw(null);
    byId("area-image").src = `/api/frames/${there.id}/picture?v=${there.v}`;
    byId("area-dialog").showModal();
    return undefined;
  });
  const draw = (box) => {
    mark = box;
    showBox(byId("area-box"), box);
    byId("area-use").disabled = !box;
  };
  byId("area-picture").addEventListener("pointerdown", (event) => drawBox(event, byId("area-image"), draw));
  byId("area-use").addEventListener("click", () => {
    use(mark);
    byId("area-dialog").close();
  });
  byId("area-dialog").addEventListener("close", () => {
    if (!box()) byId("by-area").value = kind();
  });
}

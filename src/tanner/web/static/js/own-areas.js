// Areas of a frame as choices of what is measured: "area:ID", see `core.series.area.AREA`.
import { get } from "./api.js";
import { el } from "./dom.js";
import { listed } from "./listed.js";
import { trying } from "./shell.js";

// Puts the areas of a frame into a select box, in place of those of another; says which choices there are.
export async function listOwnAreas(select, frame) {
  const found = frame ? await trying(() => get(`/api/frames/${frame}`)) : null;
  for (const option of select.querySelectorAll("[data-own]")) option.remove();
  const last = select.querySelector('[value="drawn"]');
  for (const { id, name } of listed(found?.values, "areas")) {
    const option = el("option", { value: `area:${id}`, text: `area “${name || "Area"}”`, "data-own": "" });
    if (last) last.before(option);
    else select.append(option);
  }
  return new Set([...select.options].map((o) => o.value));
}

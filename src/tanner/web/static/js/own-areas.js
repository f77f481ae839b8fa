// Areas of a frame as choices of what is measured: "area:ID", and what has an exact colour: "colour:ID" (see `core.series.area`).
import { get } from "./api.js";
import { el } from "./dom.js";
import { listed } from "./listed.js";
import { trying } from "./shell.js";
import { t } from "./texts.js";

// Puts the areas of a frame into a select box, in place of those of another; says which choices there are.
export async function listOwnAreas(select, frame) {
  const found = frame ? await trying(() => get(`/api/frames/${frame}`)) : null;
  for (const option of select.querySelectorAll("[data-own]")) option.remove();
  const last = select.querySelector('[value="drawn"]');
  const own = [
    ...listed(found?.values, "areas").map(({ id, name }) => [`area:${id}`, t`area “${name || t`Area`}”`]),
    ...listed(found?.values, "exact").map(({ id, name }, n) => [`colour:${id}`, t`exact colour ${name ? `“${name}”` : n + 1}`]),
  ];
  for (const [value, text] of own) {
    const option = el("option", { value, text, "data-own": "" });
    if (last) last.before(option);
    else select.append(option);
  }
  return new Set([...select.options].map((o) => o.value));
}

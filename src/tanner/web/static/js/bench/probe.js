// The colour below the pointer, as it will be delivered.
import { byId, number } from "../dom.js";
import { t } from "../texts.js";

export function showProbe(values) {
  byId("probe").textContent = values
    ? t`RGB ${values.rgb.map((v) => number(v, 0)).join(" ")}   L* ${number(values.lab[0], 1)} a* ${number(values.lab[1], 1)} b* ${number(values.lab[2], 1)}`
    : "";
}

// Asked for 25 times a second at the most.
export function probe(picture, line) {
  let last = 0;
  picture.onHover = (share) => {
    if (!share) return showProbe(null);
    const now = performance.now();
    if (now - last < 40) return undefined;
    last = now;
    return line.probe(share[2], share[3]);
  };
}

// What the parts of Kit share: a frame to try things on, links to files, removal.
import { remove } from "../api.js";
import { byId, el } from "../dom.js";
import { trying } from "../shell.js";
import { t } from "../texts.js";

export const own = (key) => key.startsWith("own/");
export const triedOn = () => Number(byId("tried-on")?.value) || null;
export const exported = (url, name) => el("a", { class: "button no-underline", href: url, download: "", text: t`Export`, "aria-label": t`Export ${name}` });

export function deletes(url, name, then) {
  return el("button", {
    type: "button",
    text: t`Delete`,
    "aria-label": t`Delete ${name}`,
    onclick: async () => {
      if (await trying(() => remove(url))) then();
    },
  });
}

// Looks for the same thing, of which a later one wins: begins one, and tells whether it is still the latest.
export function latest() {
  let round = 0;
  return () => {
    const mine = (round += 1);
    return () => mine === round;
  };
}

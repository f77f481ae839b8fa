// Looks, papers, lenses and watermarks: files that were added.
import { get } from "../api.js";
import { byId, el } from "../dom.js";
import { trying } from "../shell.js";
import { deletes } from "./common.js";
import { t } from "../texts.js";

export async function files() {
  const data = await trying(() => get("/api/profiles"));
  if (!data) return;
  const kinds = [[data.looks, t`Looks`, ".cube"], [data.iccs, t`Printers and papers`, ".icc"], [data.camera_iccs, t`Cameras, by ICC profile`, ".icc"], [data.lens_files, t`Lenses`, ".xml"], [data.pictures, t`Watermarks`, ".png"]];
  byId("others").replaceChildren(
    ...kinds
      .filter(([list]) => list.length)
      .flatMap(([list, title, ending]) => [
        el("h2", { class: "mt-3", text: title }),
        ...list.map((o) => el("div", { class: "row" }, el("span", { class: "min-w-0 flex-1 truncate", text: o.name }), deletes(`/api/profiles/other?key=${encodeURIComponent(o.key)}&ending=${ending}`, o.name, files))),
      ]),
  );
  byId("no-others").hidden = kinds.some(([list]) => list.length);
}

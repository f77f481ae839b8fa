// ASC CDL files: read as curves of the channels, and written from them, with a word on what does not fit.
import { upload } from "../api.js";
import { byId, el } from "../dom.js";
import { tell, trying } from "../shell.js";
import { state } from "./state.js";
import { t, worded } from "../texts.js";

// refresh() shows what was set
export function begin(refresh) {
  byId("cdl-file").addEventListener("change", async (event) => {
    const [file] = event.target.files;
    event.target.value = "";
    if (!file) return;
    const done = await trying(() => upload(`/api/frames/${state.frame.id}/cdl?name=${encodeURIComponent(file.name)}`, file));
    if (!done) return;
    tell([done.done ? t`${file.name} is set as curves of red, green and blue.` : t`The curves are like that already.`, ...done.notes.map(worded)].join(" "));
    refresh();
  });
  byId("cdl-export").addEventListener("click", () =>
    trying(async () => {
      const answer = await fetch(`/api/frames/${state.frame.id}/cdl.cc`);
      if (!answer.ok) throw new Error(worded((await answer.json()).error));
      const [off, colours] = ["x-tanner-off", "x-tanner-off-colours"].map((name) => Number(answer.headers.get(name)));
      const url = URL.createObjectURL(await answer.blob());
      const link = el("a", { href: url, download: `${state.frame.name.replace(/\.[^.]+$/, "")}.cc` });
      link.click();
      URL.revokeObjectURL(url);
      tell(
        Math.max(off, colours) <= 0.2
          ? t`The channels' levels, curves and the balance are in the file.`
          : t`Slope, offset and power cannot say all of this: on greys the file is off by up to ${off} % of the scale, on strong colours by up to ${colours} %.`,
      );
    }),
  );
}

// A file that is not the one that came in: its frame is found again, or the file is taken as it is now.
import { post } from "../api.js";
import { byId } from "../dom.js";
import { tell, trying } from "../shell.js";
import { state } from "./state.js";

for (const [button, call] of [["find-file", "find"], ["take-file", "file"]]) {
  byId(button).addEventListener("click", async () => {
    const done = await trying(() => post(`/api/frames/${state.frame.id}/${call}`));
    if (!done) return;
    tell(`${done.done}.`);
    location.reload();
  });
}

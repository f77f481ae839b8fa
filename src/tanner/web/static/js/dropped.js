// Dropped frames: a list of what would go, then into the system's trash, or out of the shoot alone.
import { get, post } from "./api.js";
import { byId, el, size } from "./dom.js";
import { shootId, tell, trying } from "./shell.js";
import { plural, t } from "./texts.js";

let rows = [];
let then = () => null;

const going = () => rows.filter((r) => !r.stays && (!r.lead || byId("dropped-leads").checked) && (!r.delivered || byId("dropped-delivered").checked));

function why(row) {
  if (row.stays) return t`stays: ${row.stays}`;
  const said = [row.lead && t`leads its set`, row.delivered && t`was delivered`].filter(Boolean).join(", ");
  return said && !going().includes(row) ? t`stays: ${said}` : said;
}

function draw() {
  byId("dropped-rows").replaceChildren(
    ...rows.map((r) =>
      el("tr", { class: going().includes(r) ? "" : "dim" },
        el("td", { text: r.name }),
        el("td", { text: r.files.map((f) => f.path.split("/").pop()).filter((n) => n !== r.name).join(", ") }),
        el("td", { class: "num", text: r.bytes ? size(r.bytes) : "" }),
        el("td", { text: why(r) }),
      ),
    ),
  ); // prettier-ignore
  const some = going();
  byId("dropped-text").textContent = `${plural(some.length, "frame")}, ${plural(some.reduce((n, r) => n + r.files.length, 0), "file")}, ${size(some.reduce((n, r) => n + r.bytes, 0))}`;
  byId("dropped-go").disabled = !some.length;
}

export async function openDropped(done) {
  const found = await trying(() => get(`/api/shoots/${shootId}/dropped`));
  if (!found) return;
  rows = found.frames;
  then = done;
  for (const [id, key] of [["dropped-leads", "lead"], ["dropped-delivered", "delivered"]]) {
    byId(id).checked = false;
    byId(id).closest("label").hidden = !rows.some((r) => r[key]);
  }
  draw();
  byId("dropped-dialog").showModal();
}

for (const id of ["dropped-leads", "dropped-delivered"]) byId(id).addEventListener("change", draw);
byId("dropped-go").addEventListener("click", async () => {
  byId("dropped-go").disabled = true;
  const body = { frames: going().map((r) => r.frame), leads: byId("dropped-leads").checked, delivered: byId("dropped-delivered").checked };
  const found = await trying(() => post(`/api/shoots/${shootId}/trash`, body));
  if (!found) return draw();
  byId("dropped-dialog").close();
  for (const line of found.told) tell(line, true);
  if (found.done) tell(t`${found.done}. Undo brings them back.`);
  return then();
});
byId("dropped-out").addEventListener("click", async () => {
  const found = await trying(() => post("/api/take-out", { frames: rows.map((r) => r.frame) }));
  if (!found) return;
  byId("dropped-dialog").close();
  then();
});

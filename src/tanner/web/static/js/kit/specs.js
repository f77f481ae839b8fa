// Output specs as cards: what each writes, with a drawing of its shape and size.
import { get } from "../api.js";
import { byId, el } from "../dom.js";
import { trying } from "../shell.js";
import { specDrawing } from "../spec-drawing.js";
import { shippedWords } from "../texts.js";
import { deletes, exported, latest, own } from "./common.js";

const look = latest();
export async function specs() {
  const mine = look();
  const data = await trying(() => get("/api/specs"));
  if (!data || !mine()) return;
  byId("specs").replaceChildren(
    ...data.specs.map(shippedWords).map((s) => {
      const key = encodeURIComponent(s.key);
      const tools = el("div", { class: "mt-2 flex gap-2" }, exported(`/api/specs/file?key=${key}`, s.title));
      if (own(s.key)) tools.append(deletes(`/api/specs?key=${key}`, s.title, specs));
      return el("article", { class: "card p-3" }, el("div", { class: "mb-1 flex items-center gap-3" }, specDrawing(s), el("h2", { text: s.title })), ...s.said.map((line) => el("p", { class: "dim", text: line })), tools);
    }),
  );
}

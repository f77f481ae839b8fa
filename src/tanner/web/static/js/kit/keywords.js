// Kit, Keywords: the tree over all shoots. Each can be renamed, merged, put under another, and called by other words.
import { get, post, upload } from "../api.js";
import { byId, el } from "../dom.js";
import { ask, tell, trying } from "../shell.js";
import { plural, t } from "../texts.js";

let rows = [];

export async function keywords() {
  const found = await trying(() => get("/api/keywords"));
  if (!found) return;
  rows = found.keywords;
  draw();
}

function draw() {
  const text = byId("keyword-find").value.trim().toLowerCase();
  const below = new Map();
  for (const row of rows) below.set(row.parent, [...(below.get(row.parent) || []), row]);
  const meets = (row) => [row.name, ...row.synonyms].some((t) => t.toLowerCase().includes(text)) || (below.get(row.name) || []).some(meets);
  const lines = [];
  const walk = (parent, depth) => {
    for (const row of below.get(parent) || []) {
      if (!meets(row)) continue;
      lines.push(line(row, depth));
      walk(row.name, depth + 1);
    }
  };
  walk(null, 0);
  byId("keyword-tree").replaceChildren(...lines);
  byId("keyword-none").hidden = rows.length > 0;
  byId("keyword-count").textContent = plural(rows.length, "keyword");
}

const DEPTHS = ["pl-0", "pl-6", "pl-12", "pl-18", "pl-24", "pl-30"];
function line(row, depth) {
  const act = (text, title, run) => el("button", { type: "button", class: "plain", text, title, "aria-label": `${text} ${row.name}`, onclick: run });
  return el("li", { class: `row ${DEPTHS[Math.min(depth, DEPTHS.length - 1)]}` },
    el("b", { class: "min-w-0 truncate", text: row.name }),
    row.synonyms.length ? el("span", { class: "dim min-w-0 truncate", text: t`also ${row.synonyms.join(", ")}` }) : null,
    el("span", { class: "bar-fill" }),
    row.count ? el("a", { class: "num flex-none underline", href: `/find?q=${encodeURIComponent(`keyword:"${row.name}"`)}`, text: plural(row.count, "frame") }) : el("span", { class: "dim flex-none", text: t`no frames` }),
    act(t`Rename …`, t`In all shoots; a name that is there already takes the frames of both`, () => rename(row)),
    act(t`Put under …`, t`Gives it a place in the tree; nothing: at its top`, () => under(row)),
    act(t`Also …`, t`Other words for it, by which it is found and suggested`, () => also(row)),
    act(t`Leave out`, t`Takes it out of the tree; frames keep it`, () => change("/api/keywords/leave-out", { name: row.name })),
  ); // prettier-ignore
}

async function change(url, body) {
  const found = await trying(() => post(url, body));
  if (found) await keywords();
  return found;
}

async function rename(row) {
  const to = await ask({ title: t`Rename ${row.name}`, label: t`Name`, value: row.name });
  if (!to || to === row.name) return;
  const merges = rows.some((r) => r.name === to);
  const found = await change("/api/keywords/rename", { name: row.name, to });
  if (found) tell(t`${row.name} is ${to}${merges ? t` now, with the frames of both` : ""}: ${plural(row.count, "frame")} in ${plural(found.shoots, "shoot")}.`);
}

async function under(row) {
  const parent = await ask({ title: t`Put ${row.name} under`, label: t`Keyword above it, or a bar (|) for the top`, value: row.parent || "|" });
  if (parent) change("/api/keywords/place", { name: row.name, parent: parent === "|" ? null : parent });
}

async function also(row) {
  const said = await ask({ title: t`Other words for ${row.name}`, label: t`With commas, or a bar (|) for none`, value: row.synonyms.join(", ") || "|" });
  if (said) change("/api/keywords/also", { name: row.name, synonyms: said.split(/[,|]/).map((s) => s.trim()).filter(Boolean) });
}

byId("keyword-find").addEventListener("input", draw);
byId("keyword-new").addEventListener("click", async () => {
  const name = await ask({ title: t`New keyword`, label: t`Name` });
  if (name) change("/api/keywords/place", { name, parent: null });
});
byId("keyword-file").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  event.target.value = "";
  const found = file && (await trying(() => upload("/api/keywords/file", file)));
  if (!found) return;
  tell(t`${plural(found.taken, "keyword")} taken.`);
  keywords();
});

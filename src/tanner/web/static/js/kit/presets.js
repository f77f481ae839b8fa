// Presets by folder, on a frame of one's own; one opened: before and with it, and all that it sets.
import { get, post } from "../api.js";
import { byId, el, number } from "../dom.js";
import { trying } from "../shell.js";
import { deletes, latest, own, triedOn } from "./common.js";
import { plural, shippedWords, t, worded } from "../texts.js";

const table = JSON.parse(byId("kit-table").textContent);
const titles = JSON.parse(byId("kit-titles").textContent);
const amount = () => Number(byId("try-amount").value);
let found = [];
let chosen = null;
let before = false;

const picture = (key, edge, at = amount()) => `/api/frames/${triedOn()}/try?key=${encodeURIComponent(key)}&amount=${at}&edge=${edge}`;

function text(key, value) {
  const item = table[key];
  if (value && typeof value === "object" && !Array.isArray(value)) return t`by ISO or light`;
  if (typeof value === "boolean") return value ? t`on` : t`off`;
  if (typeof value === "number") return `${value > 0 && item.min < 0 ? "+" : ""}${number(value, Math.abs(value) >= 1000 ? 0 : 2)} ${item.unit}`.trim();
  if (Array.isArray(value)) return plural(value.length, "point");
  return value === null ? t`as shot` : worded(String(value));
}

function card(preset) {
  const image = triedOn() ? el("img", { alt: "", loading: "lazy", class: "arriving h-32 w-full bg-surround object-contain", src: picture(preset.key, 240) }) : el("span", { class: "block h-4 bg-surround" });
  return el("button", { type: "button", class: "preset-card card w-full aria-pressed:outline-3 aria-pressed:outline-accent whitespace-normal p-0! bg-raised! text-ink!", "data-key": preset.key, "aria-pressed": String(chosen?.key === preset.key), onclick: () => open(preset) }, image, el("span", { class: "block truncate px-2 py-1.5", text: preset.name }));
}

function arrange() {
  const words = byId("preset-find").value.trim().toLowerCase();
  const shown = found.filter((p) => `${p.name} ${p.folder} ${p.about}`.toLowerCase().includes(words));
  const folders = Map.groupBy(shown, (p) => p.folder);
  byId("presets").replaceChildren(
    ...[...folders].flatMap(([folder, list]) => [el("h2", { class: "mt-4 mb-2", text: folder }), el("div", { class: "grid grid-cols-[repeat(auto-fill,minmax(11rem,1fr))] gap-2" }, ...list.map(card))]),
  );
  byId("no-preset").hidden = shown.length > 0;
}

function shown() {
  const image = byId("detail-picture");
  image.hidden = !triedOn();
  if (triedOn() && chosen) image.src = picture(chosen.key, 700, before ? 0 : amount());
  byId("detail-before").setAttribute("aria-pressed", String(before));
  byId("detail-after").setAttribute("aria-pressed", String(!before));
}

function open(preset) {
  chosen = preset;
  before = false;
  byId("preset-detail").hidden = false;
  for (const each of document.querySelectorAll("#presets .preset-card")) each.setAttribute("aria-pressed", String(each.dataset.key === preset.key));
  byId("detail-name").textContent = preset.name;
  byId("detail-about").textContent = preset.about;
  byId("detail-export").href = `/api/presets/file?key=${encodeURIComponent(preset.key)}`;
  byId("detail-change").hidden = byId("detail-delete").hidden = !own(preset.key);
  const remove = deletes(`/api/presets?key=${encodeURIComponent(preset.key)}`, preset.name, () => {
    byId("preset-detail").hidden = true;
    presets();
  });
  remove.id = "detail-delete";
  remove.hidden = !own(preset.key);
  byId("detail-delete").replaceWith(remove);
  const known = Object.entries(preset.values).filter(([key]) => table[key]);
  const groups = Map.groupBy(known, ([key]) => table[key].group);
  byId("detail-values").replaceChildren(
    ...[...groups].flatMap(([group, entries]) => [
      el("tr", {}, el("th", { class: "pt-2 text-left", colspan: "2", text: titles[group] || group })),
      ...entries.map(([key, value]) => el("tr", {}, el("td", { text: table[key].label, title: table[key].help }), el("td", { class: "num", text: text(key, value) }))),
    ]),
  );
  const more = [];
  const areas = new Set(Object.keys(preset.values).filter((k) => k.startsWith("areas/")).map((k) => k.split("/")[1])).size;
  if (areas) more.push(t`It brings ${plural(areas, "area")}.`);
  if (preset.unknown.length) more.push(t`${plural(preset.unknown.length, "name")} of a newer version, kept.`);
  if (preset.match) more.push(t`Frames that get it are matched to ${preset.match.of || t`a stored reference`} by the ${preset.match.kind}.`);
  byId("detail-more").textContent = more.join(" ");
  shown();
}

const look = latest();
export async function presets() {
  const mine = look();
  const data = await trying(() => get("/api/presets"));
  if (!data || !mine()) return;
  found = data.presets.map(shippedWords);
  byId("problems").replaceChildren(...data.problems.map((p) => el("li", { text: p })));
  arrange();
}

byId("preset-find").addEventListener("input", arrange);
byId("tried-on")?.addEventListener("change", () => {
  arrange();
  shown();
});
byId("try-amount").addEventListener("input", () => (byId("try-amount-text").textContent = `${amount()} %`));
byId("try-amount").addEventListener("change", () => {
  arrange();
  shown();
});
for (const id of ["before", "after"]) {
  byId(`detail-${id}`).addEventListener("click", () => {
    before = id === "before";
    shown();
  });
}

byId("detail-change").addEventListener("click", () => {
  for (const name of ["name", "folder", "about"]) byId(`change-${name}`).value = chosen[name];
  byId("change-values").replaceChildren(
    ...Object.keys(chosen.values).filter((k) => table[k]).map((key) => el("label", { class: "choice" }, el("input", { type: "checkbox", name: key, checked: true }), el("span", { text: `${table[key].label} ${text(key, chosen.values[key])}` }))),
  );
  byId("change-error").textContent = "";
  byId("change-dialog").showModal();
});
byId("change-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const value = (name) => byId(`change-${name}`).value.trim();
  const without = [...byId("change-values").querySelectorAll("input:not(:checked)")].map((b) => b.name);
  try {
    const { key } = await post("/api/presets/change", { key: chosen.key, name: value("name"), folder: value("folder"), about: value("about"), without });
    byId("change-dialog").close();
    await presets();
    const changed = found.find((p) => p.key === key);
    if (changed) open(changed);
  } catch (error) {
    byId("change-error").textContent = error.message;
  }
});

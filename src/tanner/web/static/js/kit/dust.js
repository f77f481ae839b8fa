// Dust on the sensors of cameras: a map of each, and the days between which it lay there.
import { get, post } from "../api.js";
import { byId, el, svg } from "../dom.js";
import { trying } from "../shell.js";
import { deletes } from "./common.js";
import { plural, t } from "../texts.js";

const today = () => new Date().toLocaleDateString("sv");

// The sensor with its specks, larger than they are so that they are seen.
function map(d) {
  const [w, h] = [180, 120];
  const root = svg("svg", { viewBox: `0 0 ${w} ${h}`, width: w, height: h, role: "img", "aria-label": t`${plural(d.specks.length, "piece")} of dust on the sensor of ${d.camera}` }, svg("rect", { width: w, height: h, fill: "#c9c9c9" }));
  for (const s of d.specks) root.append(svg("circle", { cx: w / 2 + s.x * w, cy: h / 2 + s.y * w, r: Math.max(1.4, s.size * w * 1.5), fill: "#333" }));
  return root;
}

function card(d) {
  const change = async (since, until) => {
    await trying(() => post(`/api/dust/${d.id}`, { since, until: until || null }));
    dust();
  };
  const day = (label, value, set) => {
    const input = el("input", { type: "date", value: value || "", "aria-label": t`${label} of ${d.camera}` });
    input.addEventListener("change", () => set(input.value));
    return el("label", { class: "flex items-center gap-2" }, el("span", { class: "w-16", text: label }), input);
  };
  return el(
    "article",
    { class: "flex gap-4 border border-line bg-panel p-3" },
    map(d),
    el(
      "div",
      { class: "grid min-w-0 flex-1 content-start gap-1.5" },
      el("h3", { class: "font-semibold", text: d.camera }),
      el("p", { class: "dim", text: `${plural(d.specks.length, "piece")}${d.serial ? t`, serial number ${d.serial}` : ""}` }),
      day(t`From`, d.since, (value) => value && change(value, d.until)),
      day(t`Until`, d.until, (value) => change(d.since, value)),
      el("div", { class: "flex flex-wrap gap-2 pt-1" }, d.until ? el("span") : el("button", { type: "button", text: t`Cleaned today`, title: t`Frames that are taken from tomorrow on are left as they are`, onclick: () => change(d.since, today()) }), deletes(`/api/dust/${d.id}`, t`the dust of ${d.camera}`, dust)),
    ),
  );
}

export async function dust() {
  const data = await trying(() => get("/api/dust"));
  if (!data) return;
  byId("dust-trouble").textContent = data.trouble;
  byId("dust-none").hidden = data.dust.length > 0;
  byId("dust-list").replaceChildren(...data.dust.map(card));
}

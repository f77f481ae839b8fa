// Camera profiles: whose camera and light, how near to the chart; one opened: its patches.
import { get } from "../api.js";
import { chartReport } from "../chart-report.js";
import { byId, el, number } from "../dom.js";
import { trying } from "../shell.js";
import { deletes, exported, latest } from "./common.js";
import { t } from "../texts.js";

async function open(profile, button) {
  const place = byId("profile-detail");
  for (const each of document.querySelectorAll("#profiles [aria-pressed]")) each.setAttribute("aria-pressed", String(each === button));
  place.hidden = false;
  place.replaceChildren(el("h2", { text: profile.name }), el("p", { class: "dim", text: t`${profile.model || t`any camera`}; holds ${profile.parts}` }));
  const key = encodeURIComponent(profile.key);
  place.append(el("div", { class: "my-3 flex gap-2" }, exported(`/api/profiles/file?key=${key}`, profile.name), deletes(`/api/profiles?key=${key}`, profile.name, () => ((place.hidden = true), profiles()))));
  if (!profile.made) return place.append(el("p", { class: "dim", text: t`It was not made here: there is no measurement of a chart to show.` }));
  const data = await trying(() => get(`/api/profiles/report?key=${key}`));
  if (data) place.append(...chartReport(data));
  return undefined;
}

const look = latest();
export async function profiles() {
  const mine = look();
  const data = await trying(() => get("/api/profiles"));
  if (!data || !mine()) return;
  byId("profile-problems").replaceChildren(...data.problems.map((p) => el("li", { text: p })));
  byId("no-profiles").hidden = data.profiles.length > 0;
  byId("profiles").replaceChildren(
    ...data.profiles.map((p) => {
      const lights = p.lights.map((k) => `${number(k, 0)} K`).join(t` and `);
      const figures = p.figures.map((f) => t`${f.light}: CIEDE2000 ${number(f.mean)} on its chart, ${number(f.max)} at most, ${number(f.loo)} leaving one out`);
      const button = el("button", { type: "button", class: "card mb-2 block w-full px-3 py-2 whitespace-normal aria-pressed:border-accent! aria-pressed:bg-raised! aria-pressed:text-ink! aria-pressed:outline-2 aria-pressed:outline-accent", "aria-pressed": "false" }, el("b", { class: "block", text: p.name }), el("span", { class: "dim block", text: `${p.model || t`any camera`}, ${lights}` }), ...(figures.length ? figures : [t`not made here`]).map((f) => el("span", { class: "dim block text-small", text: f })));
      button.addEventListener("click", () => open(p, button));
      return button;
    }),
  );
}

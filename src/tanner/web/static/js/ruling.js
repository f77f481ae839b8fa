// Rules on frames: a dry run that lists what would happen, and doing it.
import { post } from "./api.js";
import { byId, el } from "./dom.js";
import { tell, trying } from "./shell.js";
import { plural, t } from "./texts.js";

export function said(presets) {
  if (!presets.length) return t`nothing`;
  return presets.map((p) => (p.error ? `${p.name}: ${p.error}` : `${p.name}${p.amount === 100 ? "" : t` at ${p.amount} %`} (${p.when})`)).join(t`, then `);
}

// Frames by id; done(match number or null) is called when presets were put on.
export async function byRules(frames, done) {
  const found = await trying(() => post("/api/rules/dry", { frames }));
  if (!found) return;
  const changed = found.rows.filter((r) => r.changes).length;
  const fitting = found.rows.filter((r) => r.presets.length).length;
  byId("ruling-about").textContent = fitting ? t`${plural(fitting, "frame")} of ${frames.length} meet a rule; ${changed} would change.` : t`No frame meets a rule. Rules are made in Kit.`;
  byId("ruling-rows").replaceChildren(...found.rows.map((r) => el("tr", {}, el("td", { class: "tight", text: r.name }), el("td", { text: said(r.presets) }), el("td", { class: "num", text: r.changes ? String(r.changes) : "" }))));
  byId("ruling-go").disabled = !fitting;
  byId("ruling-go").onclick = async () => {
    const answer = await trying(() => post("/api/rules/apply", { frames }));
    if (!answer) return;
    byId("ruling").close();
    if (!answer.done && !answer.match) tell(t`All frames have these presets already.`);
    done(answer.match);
  };
  byId("ruling").showModal();
}

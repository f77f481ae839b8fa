// Under the groups: whom the frame follows, and its history.
import { byId, el } from "../dom.js";
import { state } from "./state.js";
import { t } from "../texts.js";

let bench = null;
// bench: {commit(url, body), targets(), ribbon(), presets()}
export function begin(with_) {
  bench = with_;
}

export function followLine() {
  const root = byId("follow-line");
  const many = bench.ribbon().chosen.size > 1 ? bench.ribbon().chosen.size : 0;
  const parts = [];
  if (state.frame.lead) parts.push(el("span", { class: "lead-mark", text: t`lead` }), el("span", { text: t`of ${state.frame.setName}: the others follow${state.frame.leadName ? t`; it follows ${state.frame.leadName}` : ""}` }));
  else if (state.frame.follows) {
    parts.push(el("span", { class: "mark-follows index-mark" }), el("span", { text: t`follows ${state.frame.leadName}` }));
  } else parts.push(el("span", { text: t`on its own` }));
  parts.push(el("span", { class: "bar-fill" }));
  if (!state.frame.lead && state.frame.setName && !many) {
    parts.push(el("button", { type: "button", text: state.frame.follows ? t`Stand alone` : t`Follow`, title: state.frame.follows ? t`The lead changes this frame no more` : t`What the lead changes changes this frame too`, onclick: () => bench.commit("/api/marks", { frames: [state.frame.id], follows: !state.frame.follows }) }));
    parts.push(el("button", { type: "button", text: t`Make lead`, title: t`The set follows this frame from now on`, onclick: () => bench.commit(`/api/frames/${state.frame.id}/lead`, {}) }));
  }
  if (state.frame.follows) {
    const box = el("input", { type: "checkbox", checked: state.relative, id: "relative" });
    box.addEventListener("change", () => {
      state.relative = box.checked;
      localStorage.setItem("tanner.relative", state.relative ? "yes" : "no");
    });
    // A lead that follows another set's keeps values, for its own followers take them.
    if (!state.frame.lead) parts.push(el("label", { class: "choice", title: t`Exposure and white balance are kept relative to the lead` }, box, el("span", { text: t`as offset` })));
    const departs = state.frame.own.length || Object.keys(state.frame.offsets).length;
    if (departs) parts.push(el("button", { type: "button", text: t`Give up all departures`, onclick: () => bench.commit("/api/giveup", { frames: bench.targets() }) }));
  }
  root.replaceChildren(...parts);
}

export function historyList() {
  bench.presets().applied(state.frame.wornPresets);
  const rows = state.frame.history.map((step, i) =>
    el("li", {}, el("button", { type: "button", text: step.label, disabled: i === 0, title: new Date(step.at).toLocaleString(document.documentElement.lang), onclick: () => bench.commit(`/api/frames/${state.frame.id}/restore/${step.action}`, {}) })),
  );
  rows.push(el("li", {}, el("button", { type: "button", text: t`As it came in`, disabled: !state.frame.history.length, onclick: () => bench.commit(`/api/frames/${state.frame.id}/restore/0`, {}) })));
  byId("history").replaceChildren(...rows);
}

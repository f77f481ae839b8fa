// The Carry over dialog: what is carried, with values, and to which frames; counted before it is done.
import { get, post } from "./api.js";
import { byId, el, number, plural } from "./dom.js";
import { tell, trying } from "./shell.js";

function said(item) {
  const v = item.value;
  if (v === null) return "as shot";
  if (typeof v === "boolean") return v ? "on" : "off";
  if (Array.isArray(v)) return `${v.length} points`;
  if (typeof v === "string") return v;
  return `${number(v, Math.abs(v) >= 1000 ? 0 : 2)} ${item.unit}`.trim();
}

// source: frame id; scopes: {chosen: [ids], set: [ids], shoot: [ids]} without the source
export async function carryOver(source, titles, scopes) {
  const list = await trying(() => get(`/api/frames/${source}/carry`));
  if (!list) return false;
  const dialog = byId("carry");
  byId("carry-from").textContent = `From ${list.name}. Grey values are as they were at the start.`;
  const boxes = [];
  const groups = new Map();
  for (const item of list.adjustments) {
    // A group's switch is of interest only where it was used.
    if (item.key.endsWith(".enabled") && !item.changed) continue;
    if (!groups.has(item.group)) groups.set(item.group, []);
    groups.get(item.group).push(item);
  }
  byId("carry-list").replaceChildren(
    ...[...groups].map(([group, items]) => {
      const all = el("input", { type: "checkbox" });
      const rows = items.map((item) => {
        const box = el("input", { type: "checkbox", checked: item.chosen, value: item.key });
        boxes.push(box);
        return el(
          "label",
          { class: item.changed ? "carry-item" : "carry-item same" },
          box,
          el("span", { text: item.per_frame ? `${item.label} (this frame's)` : item.label }),
          el("span", { class: "value", text: said(item) }),
        );
      });
      const own = boxes.slice(-items.length);
      const sync = () => {
        const on = own.filter((b) => b.checked).length;
        all.checked = on === own.length;
        all.indeterminate = on > 0 && on < own.length;
      };
      all.addEventListener("change", () => {
        for (const b of own) b.checked = all.checked;
        count();
      });
      for (const b of own) b.addEventListener("change", () => (sync(), count()));
      sync();
      return el("div", { class: "carry-group" }, el("label", { class: "choice" }, all, el("span", { text: titles[group] || group })), ...rows);
    }),
  );
  const radios = [...document.querySelectorAll("[name=carry-to]")];
  for (const radio of radios) radio.disabled = !scopes[radio.value]?.length;
  (radios.find((r) => !r.disabled && r.value === "chosen") || radios.find((r) => !r.disabled) || radios[0]).checked = true;

  const targets = () => scopes[radios.find((r) => r.checked)?.value] || [];
  const keys = () => boxes.filter((b) => b.checked).map((b) => b.value);
  function count() {
    byId("carry-count").textContent = `${plural(keys().length, "adjustment")} to ${plural(targets().length, "frame")}`;
    byId("carry-go").disabled = !keys().length || !targets().length;
  }
  for (const radio of radios) radio.onchange = count;
  count();
  dialog.showModal();
  return new Promise((resolve) => {
    let result = false;
    byId("carry-go").onclick = async () => {
      const done = await trying(() => post("/api/carry", { source, frames: targets(), keys: keys() }));
      if (!done) return;
      result = true;
      tell(done.changed ? `${plural(done.changed, "frame")} changed.` : "These frames have these values already.");
      dialog.close();
    };
    dialog.addEventListener("close", () => resolve(result), { once: true });
  });
}

// What a preset would change of the frame on the Bench, in words.
import { number } from "../dom.js";
import { shown, table } from "./state.js";
import { t } from "../texts.js";

function said(v) {
  if (v === null) return t`as shot`;
  if (typeof v === "number") return number(v);
  if (Array.isArray(v)) return t`curve`;
  if (typeof v === "object") return t`by ${v.by === "iso" ? "ISO" : v.by}`;
  if (typeof v === "boolean") return v ? t`on` : t`off`;
  return v || t`none`;
}

// leave: groups that are left out
export function presetChanges(preset, amount, leave) {
  const lines = Object.entries(preset.values).filter(([key]) => table[key] && !leave.includes(key.split(".")[0]));
  return lines
    .map(([key, value]) => {
      const { label, unit, neutral } = table[key];
      const then = typeof value === "number" && typeof neutral === "number" ? neutral + (value - neutral) * (amount / 100) : value;
      return said(shown(key)) === said(then) ? null : t`${label}: ${said(shown(key))} to ${said(then)} ${typeof then === "number" ? unit : ""}`;
    })
    .filter(Boolean);
}

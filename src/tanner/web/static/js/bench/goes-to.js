// Which frames a change reaches; the ribbon says it, always.
import { byId } from "../dom.js";
import { plural } from "../texts.js";
import { state } from "./state.js";

// ribbon(): the column of the set, whose chosen frames can be meant
export function goesTo(ribbon) {
  function targets() {
    const where = byId("goes-to").value;
    if (where === "chosen") return [...ribbon().chosen];
    if (where === "all") {
      const mine = state.sheet.frames.filter((f) => f.set === state.frame.set && f.set && (f.lead || f.follows)).map((f) => f.id);
      return mine.length ? mine : [state.frame.id];
    }
    return [state.frame.id];
  }
  function goes(moved = false) {
    const choice = byId("goes-to");
    const many = ribbon().chosen.size > 1;
    // Choosing several frames is meant; one alone is not several.
    if (moved && many && choice.value === "one") choice.value = "chosen";
    if (!many && choice.value === "chosen") choice.value = "one";
    choice.querySelector("[value=chosen]").disabled = !many;
    const n = targets().length;
    byId("goes-count").textContent = n === 1 ? state.frame.name : plural(n, "frame");
    choice.closest("p").classList.toggle("many", n > 1);
  }
  byId("goes-to").addEventListener("change", () => goes());
  return { targets, goes };
}

// The lead of the set after (1) or before (-1) this one, or its first frame.
export function nextSet(by) {
  const ids = [...new Set(state.sheet.frames.map((f) => f.set))];
  const set = ids[ids.indexOf(state.frame.set) + by];
  const there = state.sheet.frames.filter((f) => f.set === set);
  return (there.find((f) => f.lead) || there[0])?.id ?? null;
}

// What the Bench shows: one state, changed here and subscribed to.
import { byId } from "../dom.js";
import { Roster } from "../roster.js";
import { shootId } from "../shell.js";

export const table = JSON.parse(byId("table").textContent);
for (const [key, about] of Object.entries(table)) about.key = key;
export const titles = Object.fromEntries([...document.querySelectorAll(".group[data-group]")].map((s) => [s.dataset.group, s.getAttribute("aria-label")]));

export const state = {
  frame: null, // the frame on the Bench, as the program tells it
  sheet: new Roster(shootId), // the frames and sets of its shoot
  draft: {}, // values that move but are not kept yet
  trial: null, // a preset that the pointer is on
  group: sessionStorage.getItem("tanner.group") || "light",
  relative: localStorage.getItem("tanner.relative") !== "no",
};

const told = new Set();
// told() runs after every change of the frame's state.
export function subscribe(run) {
  told.add(run);
}
export function changed() {
  for (const run of told) run();
}

export function shown(key) {
  if (key in state.draft) return state.draft[key];
  return key in state.frame.values ? state.frame.values[key] : table[key]?.neutral;
}

export function infoOf(key) {
  const { frame } = state;
  const about = table[key];
  const below = key in frame.below ? frame.below[key] : about.neutral;
  const asShot = { mired: frame.as_shot[0], tint: frame.as_shot[1] }[about.offset];
  const offset = Boolean(about.offset && frame.offsets[about.offset]);
  const own = offset || (frame.ownKeys.includes(key) && JSON.stringify(shown(key)) !== JSON.stringify(below));
  return { below: below ?? asShot, shown: below ?? asShot, follows: frame.follows && !about.per_frame, own, offset };
}

const offsetKeys = Object.values(table).filter((a) => a.offset).map((a) => a.key);
// Where an area lies on a follower is always kept relative: the lead's mask may move.
export const relativeKeys = () => [...(state.relative ? offsetKeys : []), ...Object.keys(state.draft).filter((k) => k.endsWith("/place"))];

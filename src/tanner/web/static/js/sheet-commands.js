// All commands of the Sheet, in the sections of its menu; those without a section are keys to walk with.
import { plural } from "./dom.js";

const LABELS = ["none", "red", "yellow", "green", "blue", "violet"];
const JOINS = [["focus", "one picture, all in focus"], ["cylinder", "a panorama on a cylinder"], ["sphere", "a panorama on a sphere"], ["flat", "a flat panorama"]];

// sheet: {state, ids(), actions, walk, walkRow, choose, marking, presets(), quiet, join(kind)}
export function sheetCommands({ state, ids, actions, walk, walkRow, choose, marking, presets, quiet, join, dropped, keywords, byHand, putOn }) {
  const some = () => state.chosen.size > 0;
  const only = () => (state.chosen.size === 1 ? state.frames.get([...state.chosen][0]) : null);
  const several = () => state.chosen.size > 1;
  const sets = () => new Set(ids().map((id) => state.frames.get(id).set));
  const label = (value) => marking({ label: value });
  const step = (by) => LABELS[(LABELS.indexOf(state.frames.get(state.active).label) + by + LABELS.length) % LABELS.length];
  const walks = [
    ["right", "ArrowRight", "Next frame", () => walk(1, false)],
    ["left", "ArrowLeft", "Frame before", () => walk(-1, false)],
    ["down", "ArrowDown", "Row below", () => walkRow(1, false)],
    ["up", "ArrowUp", "Row above", () => walkRow(-1, false)],
    ["right-more", "Shift+ArrowRight", "Choose on to the next frame", () => walk(1, true)],
    ["left-more", "Shift+ArrowLeft", "Choose on to the frame before", () => walk(-1, true)],
    ["down-more", "Shift+ArrowDown", "Choose on to the row below", () => walkRow(1, true)],
    ["up-more", "Shift+ArrowUp", "Choose on to the row above", () => walkRow(-1, true)],
  ].map(([id, key, text, run]) => ({ id, key, label: text, run }));
  const section = (name, ...commands) => commands.map((c) => ({ section: name, can: some, ...c }));
  return [
    ...walks,
    ...section(
      "Judge",
      { id: "keep", key: "k", label: "Keep, and go on", run: () => marking({ verdict: "keep" }, true) },
      { id: "drop", key: "d", label: "Drop, and go on", run: () => marking({ verdict: "drop" }, true) },
      { id: "undecided", key: "n", label: "Undecided", run: () => marking({ verdict: "undecided" }) },
      { id: "label-list", label: "Colour label", list: () => LABELS.map((l) => ({ label: l, run: () => label(l) })) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => ({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : "No stars", run: () => marking({ stars: n }) })),
    { id: "label", key: "l", label: "Next colour label", run: () => state.active && label(step(1)) },
    ...section(
      "Develop",
      { id: "open", key: "Enter", label: "Open on the Bench", run: actions.bench },
      { id: "preset", key: "p", label: "Apply a preset", list: () => presets().map((p) => ({ section: p.folder, label: p.name, title: p.about, run: () => actions.preset(p.key) })) },
      { id: "rules", label: "Presets by the rules …", run: actions.rules },
      { id: "carry", key: "o", label: "Carry over …", run: actions.carry },
      { id: "match", label: "Match …", can: () => some() && !(state.chosen.size === 1 && (only().lead || !only().set)), run: actions.match },
      { id: "automatic", key: "u", label: "Automatic start …", run: actions.automatic },
      { id: "reset", label: "Reset …", run: actions.reset },
      { id: "alternate", key: "Shift+a", label: "Alternate: one more development of the file", run: actions.alternate },
    ),
    ...section(
      "Sets",
      { id: "lead", key: "t", label: "Make lead of its set", can: () => Boolean(only() && !only().lead && only().set), run: actions.lead },
      { id: "split", key: "s", label: "Split off into a set of their own", run: actions.split },
      { id: "merge", key: "g", label: "Merge their sets", can: () => sets().size > 1, run: actions.merge },
      { id: "move", key: "m", label: "Move to a set", list: () => state.sets.map((s) => ({ label: s.name, run: () => actions.move(s.id) })) },
    ),
    ...section(
      "Files",
      { id: "deliver", label: "Deliver …", run: actions.deliver },
      { id: "keywords", key: "y", label: "Keywords …", run: keywords },
      { id: "words", key: "w", label: "Captions …", run: actions.words },
      { id: "join", label: "Join to", can: several, list: () => JOINS.map(([kind, text]) => ({ label: text, run: () => join(kind) })) },
      { id: "quiet", label: "Copies without noise …", run: () => quiet.open() },
      { id: "quiet-again", label: "Copies without noise, as last time", can: () => some() && quiet.known, run: () => quiet.again() },
      { id: "quiet-ahead", label: "Work noise out ahead", run: () => quiet.ahead() },
      { id: "out", key: "Delete", label: "Remove from the shoot; the file stays", run: actions.out },
    ),
    ...section("Files", { id: "shift", label: "Correct the time of its camera …", run: actions.shift }),
    { id: "moved", section: "Files", label: "Look for files that were moved …", can: () => [...state.frames.values()].some((f) => f.error), run: actions.moved },
    { id: "dropped", section: "Files", label: "Dropped frames: into the trash …", can: () => [...state.frames.values()].some((f) => f.verdict === "drop"), run: dropped },
    { id: "fold", key: "f", section: "Choose", label: "Show the near-alikes of this one, or fold them", can: some, run: actions.fold },
    { id: "sooner", key: "Alt+ArrowLeft", section: "Choose", label: "One place towards the beginning, by hand", can: () => some() && byHand(), run: () => putOn(-1) },
    { id: "later", key: "Alt+ArrowRight", section: "Choose", label: "One place towards the end, by hand", can: () => some() && byHand(), run: () => putOn(1) },
    { id: "all", key: "Ctrl+a", section: "Choose", label: "Choose all that are shown", run: () => choose(state.order) },
    { id: "nothing", section: "Choose", label: "Choose nothing", can: some, run: () => choose([]) },
  ];
}

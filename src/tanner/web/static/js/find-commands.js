// All commands of Find, in the sections of its menu; those without a section are keys to walk with.
import { plural } from "./dom.js";

const LABELS = ["none", "red", "yellow", "green", "blue", "violet"];

export function findCommands({ state, actions, walk, row, marking, focus, keywords }) {
  // While all that are found are being chosen, what is to be done with them waits for that.
  const some = () => state.chosen.size > 0 || Boolean(state.coming);
  const then = (c) => (c.run ? { ...c, run: (...given) => (state.coming ? state.coming.then(() => c.run(...given)) : c.run(...given)) } : c);
  const walks = [
    ["right", "ArrowRight", "Next frame", () => walk(1)],
    ["left", "ArrowLeft", "Frame before", () => walk(-1)],
    ["down", "ArrowDown", "Row below", () => walk(row())],
    ["up", "ArrowUp", "Row above", () => walk(-row())],
    ["right-more", "Shift+ArrowRight", "Choose on to the next frame", () => walk(1, true)],
    ["left-more", "Shift+ArrowLeft", "Choose on to the frame before", () => walk(-1, true)],
  ].map(([id, key, label, run]) => ({ id, key, label, run }));
  const section = (name, ...commands) => commands.map((c) => then({ section: name, can: some, ...c }));
  const byHand = () => some() && state.collection && state.sort === "hand";
  return [
    ...walks,
    { id: "look-for", key: "f", section: "Choose", label: "Write what is looked for", run: focus },
    ...section(
      "Judge",
      { id: "keep", key: "k", label: "Keep, and go on", run: () => marking({ verdict: "keep" }, true) },
      { id: "drop", key: "d", label: "Drop, and go on", run: () => marking({ verdict: "drop" }, true) },
      { id: "undecided", key: "n", label: "Undecided", run: () => marking({ verdict: "undecided" }) },
      { id: "label-list", label: "Colour label", list: () => LABELS.map((label) => ({ label, run: () => marking({ label }) })) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => then({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : "No stars", run: () => marking({ stars: n }) })),
    ...section("Say", { id: "keywords", key: "y", label: "Keywords …", run: keywords }),
    ...section(
      "Open",
      { id: "open", key: "Enter", label: "On the Bench", run: actions.bench },
      { id: "sheet", key: "s", label: "On the Sheet of its shoot", run: actions.sheet },
      { id: "deliver", label: "Deliver …", run: actions.deliver },
    ),
    ...section(
      "Collection",
      { id: "collect-list", key: "c", label: "Add to a collection", list: () => [...state.kept.collections.map((c) => ({ label: c.name, run: () => actions.collect(c.id) })), { label: "A new collection …", run: actions.begin }] },
      { id: "leave", label: "Remove from this collection", can: () => some() && Boolean(state.collection), run: actions.leave },
      { id: "sooner", key: "Alt+ArrowLeft", label: "One place towards the beginning", can: byHand, run: () => actions.shift(-1) },
      { id: "later", key: "Alt+ArrowRight", label: "One place towards the end", can: byHand, run: () => actions.shift(1) },
    ),
    { id: "all", key: "Ctrl+a", section: "Choose", label: "Choose all that are found", run: actions.all },
    { id: "nothing", section: "Choose", label: "Choose nothing", can: some, run: actions.none },
  ];
}

// All commands of Find, in the sections of its menu; those without a section are keys to walk with.
import { plural, t, worded } from "./texts.js";

const LABELS = ["none", "red", "yellow", "green", "blue", "violet"];

export function findCommands({ state, actions, walk, row, marking, focus, keywords }) {
  // While all that are found are being chosen, what is to be done with them waits for that.
  const some = () => state.chosen.size > 0 || Boolean(state.coming);
  const then = (c) => (c.run ? { ...c, run: (...given) => (state.coming ? state.coming.then(() => c.run(...given)) : c.run(...given)) } : c);
  const walks = [
    ["right", "ArrowRight", t`Next frame`, () => walk(1)],
    ["left", "ArrowLeft", t`Frame before`, () => walk(-1)],
    ["down", "ArrowDown", t`Row below`, () => walk(row())],
    ["up", "ArrowUp", t`Row above`, () => walk(-row())],
    ["right-more", "Shift+ArrowRight", t`Choose on to the next frame`, () => walk(1, true)],
    ["left-more", "Shift+ArrowLeft", t`Choose on to the frame before`, () => walk(-1, true)],
  ].map(([id, key, label, run]) => ({ id, key, label, run }));
  const section = (name, ...commands) => commands.map((c) => then({ section: name, can: some, ...c }));
  const byHand = () => some() && state.collection && state.sort === "hand";
  return [
    ...walks,
    { id: "look-for", key: "f", section: t`Choose`, label: t`Write what is looked for`, run: focus },
    ...section(
      t`Judge`,
      { id: "keep", key: "k", label: t`Keep, and go on`, run: () => marking({ verdict: "keep" }, true) },
      { id: "drop", key: "d", label: t`Drop, and go on`, run: () => marking({ verdict: "drop" }, true) },
      { id: "undecided", key: "n", label: t`Undecided`, run: () => marking({ verdict: "undecided" }) },
      { id: "label-list", label: t`Colour label`, list: () => LABELS.map((label) => ({ label: worded(label), run: () => marking({ label }) })) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => then({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : t`No stars`, run: () => marking({ stars: n }) })),
    ...section(t`Say`, { id: "keywords", key: "y", label: t`Keywords …`, run: keywords }),
    ...section(
      t`Open`,
      { id: "open", key: "Enter", label: t`On the Bench`, run: actions.bench },
      { id: "sheet", key: "s", label: t`On the Sheet of its shoot`, run: actions.sheet },
      { id: "deliver", label: t`Deliver …`, run: actions.deliver },
    ),
    ...section(
      t`Collection`,
      { id: "collect-list", key: "c", label: t`Add to a collection`, list: () => [...state.kept.collections.map((c) => ({ label: c.name, run: () => actions.collect(c.id) })), { label: t`A new collection …`, run: actions.begin }] },
      { id: "leave", label: t`Remove from this collection`, can: () => some() && Boolean(state.collection), run: actions.leave },
      { id: "sooner", key: "Alt+ArrowLeft", label: t`One place towards the beginning`, can: byHand, run: () => actions.shift(-1) },
      { id: "later", key: "Alt+ArrowRight", label: t`One place towards the end`, can: byHand, run: () => actions.shift(1) },
    ),
    { id: "all", key: "Ctrl+a", section: t`Choose`, label: t`Choose all that are found`, run: actions.all },
    { id: "nothing", section: t`Choose`, label: t`Choose nothing`, can: some, run: actions.none },
  ];
}

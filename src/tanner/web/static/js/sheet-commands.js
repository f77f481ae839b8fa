// All commands of the Sheet, in the sections of its menu; those without a section are keys to walk with.
import { plural, t, worded } from "./texts.js";

const LABELS = ["none", "red", "yellow", "green", "blue", "violet"];
const JOINS = [["focus", t`one picture, all in focus`], ["cylinder", t`a panorama on a cylinder`], ["sphere", t`a panorama on a sphere`], ["flat", t`a flat panorama`]];

// sheet: {state, ids(), actions, walk, walkRow, choose, marking, presets(), quiet, join(kind)}
export function sheetCommands({ state, ids, actions, walk, walkRow, choose, marking, presets, quiet, join, dropped, keywords, byHand, putOn }) {
  const some = () => state.chosen.size > 0;
  const only = () => (state.chosen.size === 1 ? state.frames.get([...state.chosen][0]) : null);
  const several = () => state.chosen.size > 1;
  const sets = () => new Set(ids().map((id) => state.frames.get(id).set));
  const label = (value) => marking({ label: value });
  const step = (by) => LABELS[(LABELS.indexOf(state.frames.get(state.active).label) + by + LABELS.length) % LABELS.length];
  const walks = [
    ["right", "ArrowRight", t`Next frame`, () => walk(1, false)],
    ["left", "ArrowLeft", t`Frame before`, () => walk(-1, false)],
    ["down", "ArrowDown", t`Row below`, () => walkRow(1, false)],
    ["up", "ArrowUp", t`Row above`, () => walkRow(-1, false)],
    ["right-more", "Shift+ArrowRight", t`Choose on to the next frame`, () => walk(1, true)],
    ["left-more", "Shift+ArrowLeft", t`Choose on to the frame before`, () => walk(-1, true)],
    ["down-more", "Shift+ArrowDown", t`Choose on to the row below`, () => walkRow(1, true)],
    ["up-more", "Shift+ArrowUp", t`Choose on to the row above`, () => walkRow(-1, true)],
  ].map(([id, key, text, run]) => ({ id, key, label: text, run }));
  const section = (name, ...commands) => commands.map((c) => ({ section: name, can: some, ...c }));
  return [
    ...walks,
    ...section(
      t`Judge`,
      { id: "keep", key: "k", label: t`Keep, and go on`, run: () => marking({ verdict: "keep" }, true) },
      { id: "drop", key: "d", label: t`Drop, and go on`, run: () => marking({ verdict: "drop" }, true) },
      { id: "undecided", key: "n", label: t`Undecided`, run: () => marking({ verdict: "undecided" }) },
      { id: "label-list", label: t`Colour label`, list: () => LABELS.map((l) => ({ label: worded(l), run: () => label(l) })) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => ({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : t`No stars`, run: () => marking({ stars: n }) })),
    { id: "label", key: "l", label: t`Next colour label`, run: () => state.active && label(step(1)) },
    ...section(
      t`Develop`,
      { id: "open", key: "Enter", label: t`Open on the Bench`, run: actions.bench },
      { id: "preset", key: "p", label: t`Apply a preset`, list: () => presets().map((p) => ({ section: p.folder, label: p.name, title: p.about, run: () => actions.preset(p.key) })) },
      { id: "rules", label: t`Presets by the rules …`, run: actions.rules },
      { id: "carry", key: "o", label: t`Carry over …`, run: actions.carry },
      { id: "match", label: t`Match …`, can: () => some() && !(state.chosen.size === 1 && (only().lead || !only().set)), run: actions.match },
      { id: "automatic", key: "u", label: t`Automatic start …`, run: actions.automatic },
      { id: "reset", label: t`Reset …`, run: actions.reset },
      { id: "alternate", key: "Shift+a", label: t`Alternate: one more development of the file`, run: actions.alternate },
    ),
    ...section(
      t`Sets`,
      { id: "lead", key: "t", label: t`Make lead of its set`, can: () => Boolean(only() && !only().lead && only().set), run: actions.lead },
      { id: "split", key: "s", label: t`Split off into a set of their own`, run: actions.split },
      { id: "merge", key: "g", label: t`Merge their sets`, can: () => sets().size > 1, run: actions.merge },
      { id: "move", key: "m", label: t`Move to a set`, list: () => state.sets.map((s) => ({ label: s.name, run: () => actions.move(s.id) })) },
    ),
    ...section(
      t`Files`,
      { id: "deliver", label: t`Deliver …`, run: actions.deliver },
      { id: "keywords", key: "y", label: t`Keywords …`, run: keywords },
      { id: "words", key: "w", label: t`Captions …`, run: actions.words },
      { id: "join", label: t`Join to`, can: several, list: () => JOINS.map(([kind, text]) => ({ label: text, run: () => join(kind) })) },
      { id: "quiet", label: t`Copies without noise …`, run: () => quiet.open() },
      { id: "quiet-again", label: t`Copies without noise, as last time`, can: () => some() && quiet.known, run: () => quiet.again() },
      { id: "quiet-ahead", label: t`Work noise out ahead`, run: () => quiet.ahead() },
      { id: "out", key: "Delete", label: t`Remove from the shoot; the file stays`, run: actions.out },
    ),
    ...section(t`Files`, { id: "shift", label: t`Correct the time of its camera …`, run: actions.shift }),
    { id: "moved", section: t`Files`, label: t`Look for files that were moved …`, can: () => [...state.frames.values()].some((f) => f.error), run: actions.moved },
    { id: "dropped", section: t`Files`, label: t`Dropped frames: into the trash …`, can: () => [...state.frames.values()].some((f) => f.verdict === "drop"), run: dropped },
    { id: "fold", key: "f", section: t`Choose`, label: t`Show the near-alikes of this one, or fold them`, can: some, run: actions.fold },
    { id: "sooner", key: "Alt+ArrowLeft", section: t`Choose`, label: t`One place towards the beginning, by hand`, can: () => some() && byHand(), run: () => putOn(-1) },
    { id: "later", key: "Alt+ArrowRight", section: t`Choose`, label: t`One place towards the end, by hand`, can: () => some() && byHand(), run: () => putOn(1) },
    { id: "all", key: "Ctrl+a", section: t`Choose`, label: t`Choose all that are shown`, run: () => choose(state.order) },
    { id: "nothing", section: t`Choose`, label: t`Choose nothing`, can: some, run: () => choose([]) },
  ];
}

// All commands of the Bench, in the sections of its menu; those without a section are keys to walk with.
import { byId } from "../dom.js";
import * as columns from "./columns.js";
import { state, titles } from "./state.js";
import { plural, t } from "../texts.js";

// bench: {go, ribbon, nextSet, picture, view, commit, targets, alternate, carry, reset, automatic, open, tools, toSheet}
export function benchCommands({ go, ribbon, nextSet, picture, view, commit, targets, alternate, carry, reset, automatic, open, tools, areas, spots, toSheet }) {
  const section = (name, ...commands) => commands.map((c) => ({ section: name, ...c }));
  const marks = (fields) => commit("/api/marks", { frames: targets(), ...fields });
  const crop = [["ArrowLeft", -0.01, 0, "left"], ["ArrowRight", 0.01, 0, "right"], ["ArrowUp", 0, -0.01, "up"], ["ArrowDown", 0, 0.01, "down"]];
  const alone = () => !state.frame.lead && Boolean(state.frame.setName);
  return [
    { id: "next", key: "ArrowDown", label: t`Next frame of the set`, run: () => go(ribbon.neighbour(1)) },
    { id: "before", key: "ArrowUp", label: t`Frame before`, run: () => go(ribbon.neighbour(-1)) },
    { id: "next-set", key: "PageDown", label: t`Next set`, run: () => go(nextSet(1)) },
    { id: "set-before", key: "PageUp", label: t`Set before`, run: () => go(nextSet(-1)) },
    { id: "hold", key: "b", label: t`Hold: as it was before`, run: () => picture.hold(true), release: () => picture.hold(false) },
    { id: "sharpening", key: "j", label: t`Hold: where it is sharpened`, run: () => picture.showSharpening(true), release: () => picture.showSharpening(false) },
    ...section(
      t`See`,
      { id: "whole", key: "w", label: t`Whole picture`, run: () => view.zoom(0) },
      { id: "hundred", key: "a", label: "100 %", run: () => view.zoom(1) },
      { id: "twohundred", key: "e", label: "200 %", run: () => view.zoom(2) },
      { id: "split", key: "s", label: t`Split line, before and after`, run: () => view.split() },
      { id: "marks", key: "c", label: t`Mark what is clipped`, run: () => view.mark("marks") },
      { id: "outside", key: "g", label: t`Mark colours outside the output space`, run: () => view.mark("outside") },
      { id: "rebuilt", label: t`Mark what was rebuilt where the sensor was full`, run: () => view.mark("rebuilt") },
    ),
    ...section(
      t`Frame`,
      { id: "keep", key: "k", label: t`Keep`, run: () => marks({ verdict: "keep" }) },
      { id: "drop", key: "d", label: t`Drop`, run: () => marks({ verdict: "drop" }) },
      { id: "alternate", key: "Shift+a", label: t`Alternate: one more development of the file`, run: alternate },
      { id: "lead", key: "t", label: t`Make lead of its set`, can: alone, run: () => commit(`/api/frames/${state.frame.id}/lead`, {}) },
      { id: "carry", key: "o", label: t`Carry over …`, run: () => carry() },
      { id: "reset", label: t`Reset …`, run: reset },
      { id: "automatic", key: "u", label: t`Automatic start …`, run: automatic },
      { id: "pick", key: "p", label: t`Pick a neutral place`, run: () => (open("white"), byId("pick").click()) },
      { id: "choose-set", key: "Ctrl+a", label: t`Choose the whole set`, run: () => ribbon.all() },
    ),
    ...section(
      t`Areas`,
      { id: "mask", key: "m", label: t`Mask of the chosen area`, can: () => state.group === "areas", run: () => areas.see(areas.seen ? "none" : areas.how) },
      ...[["-", t`Brush smaller`, { size: 1 / 1.15 }], ["+", t`Brush larger`, { size: 1.15 }], ["h", t`Brush harder`, { softness: -0.1 }], ["f", t`Brush softer`, { softness: 0.1 }]].map(([key, label, by]) => ({
        id: `brush-${label.split(" ")[1]}`, key, label, can: () => ["areas", "spots"].includes(state.group),
        run: () => state.group === "spots" ? by.size && spots.resize(spots.size * by.size) : areas.brush.change(by.size ? { size: areas.brush.set.size * by.size } : { softness: areas.brush.set.softness + by.softness }),
      })),
      { id: "spots", key: "r", label: t`Spots: retouch`, run: () => open("spots") },
      { id: "spot-next", key: "n", label: t`Next spot at 100 %`, can: () => state.group === "spots", run: () => spots.walk(1) },
      { id: "spot-back", key: "Shift+n", label: t`Spot before`, can: () => state.group === "spots", run: () => spots.walk(-1) },
      { id: "walk-on", key: ".", label: t`Walk the picture at 100 %, screen by screen`, can: () => state.group === "spots", run: () => spots.finding.walk(1) },
      { id: "walk-back", key: ",", label: t`Screen before`, can: () => state.group === "spots", run: () => spots.finding.walk(-1) },
      { id: "spot-see", key: "x", label: t`Show specks`, can: () => state.group === "spots", run: () => byId("spot-see").click() },
      { id: "brush-erase", key: "y", label: t`Brush erases, or paints`, can: () => state.group === "areas", run: () => areas.brush.change({ erase: !areas.brush.set.erase }) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => ({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : t`No stars`, run: () => marks({ stars: n }) })),
    ...section(
      t`Columns`,
      { id: "controls", key: "[", label: t`Controls away, or back`, run: () => columns.toggle("controls") },
      { id: "set", key: "]", label: t`Set away, or back`, run: () => columns.toggle("set") },
      { id: "side", label: t`Controls to the other side`, run: columns.otherSide },
    ),
    ...Object.keys(titles).map((name, i) => ({ id: `group-${name}`, key: i < 10 ? `Alt+${(i + 1) % 10}` : "", section: t`Groups`, label: titles[name], run: () => open(name) })),
    ...crop.map(([key, dx, dy, word]) => ({ id: `crop-${key}`, key: `Shift+${key}`, label: t`Crop: move the frame ${word}`, run: () => state.group === "crop" && tools.nudge(dx, dy) })),
    { id: "sheet", key: "Escape", label: t`Back to the Sheet`, run: toSheet },
  ];
}

// All commands of the Bench, in the sections of its menu; those without a section are keys to walk with.
import { byId, plural } from "../dom.js";
import * as columns from "./columns.js";
import { state, titles } from "./state.js";

// bench: {go, ribbon, nextSet, picture, view, commit, targets, alternate, carry, reset, automatic, open, tools, toSheet}
export function benchCommands({ go, ribbon, nextSet, picture, view, commit, targets, alternate, carry, reset, automatic, open, tools, areas, spots, toSheet }) {
  const section = (name, ...commands) => commands.map((c) => ({ section: name, ...c }));
  const marks = (fields) => commit("/api/marks", { frames: targets(), ...fields });
  const crop = [["ArrowLeft", -0.01, 0, "left"], ["ArrowRight", 0.01, 0, "right"], ["ArrowUp", 0, -0.01, "up"], ["ArrowDown", 0, 0.01, "down"]];
  const alone = () => !state.frame.lead && Boolean(state.frame.setName);
  return [
    { id: "next", key: "ArrowDown", label: "Next frame of the set", run: () => go(ribbon.neighbour(1)) },
    { id: "before", key: "ArrowUp", label: "Frame before", run: () => go(ribbon.neighbour(-1)) },
    { id: "next-set", key: "PageDown", label: "Next set", run: () => go(nextSet(1)) },
    { id: "set-before", key: "PageUp", label: "Set before", run: () => go(nextSet(-1)) },
    { id: "hold", key: "b", label: "Hold: as it was before", run: () => picture.hold(true), release: () => picture.hold(false) },
    { id: "sharpening", key: "j", label: "Hold: where it is sharpened", run: () => picture.showSharpening(true), release: () => picture.showSharpening(false) },
    ...section(
      "See",
      { id: "whole", key: "w", label: "Whole picture", run: () => view.zoom(0) },
      { id: "hundred", key: "a", label: "100 %", run: () => view.zoom(1) },
      { id: "twohundred", key: "e", label: "200 %", run: () => view.zoom(2) },
      { id: "split", key: "s", label: "Split line, before and after", run: () => view.split() },
      { id: "marks", key: "c", label: "Mark what is clipped", run: () => view.mark("marks") },
      { id: "outside", key: "g", label: "Mark colours outside the output space", run: () => view.mark("outside") },
      { id: "rebuilt", label: "Mark what was rebuilt where the sensor was full", run: () => view.mark("rebuilt") },
    ),
    ...section(
      "Frame",
      { id: "keep", key: "k", label: "Keep", run: () => marks({ verdict: "keep" }) },
      { id: "drop", key: "d", label: "Drop", run: () => marks({ verdict: "drop" }) },
      { id: "alternate", key: "Shift+a", label: "Alternate: one more development of the file", run: alternate },
      { id: "lead", key: "t", label: "Make lead of its set", can: alone, run: () => commit(`/api/frames/${state.frame.id}/lead`, {}) },
      { id: "carry", key: "o", label: "Carry over …", run: () => carry() },
      { id: "reset", label: "Reset …", run: reset },
      { id: "automatic", key: "u", label: "Automatic start …", run: automatic },
      { id: "pick", key: "p", label: "Pick a neutral place", run: () => (open("white"), byId("pick").click()) },
      { id: "choose-set", key: "Ctrl+a", label: "Choose the whole set", run: () => ribbon.all() },
    ),
    ...section(
      "Areas",
      { id: "mask", key: "m", label: "Mask of the chosen area", can: () => state.group === "areas", run: () => areas.see(areas.seen ? "none" : areas.how) },
      ...[["-", "Brush smaller", { size: 1 / 1.15 }], ["+", "Brush larger", { size: 1.15 }], ["h", "Brush harder", { softness: -0.1 }], ["f", "Brush softer", { softness: 0.1 }]].map(([key, label, by]) => ({
        id: `brush-${label.split(" ")[1]}`, key, label, can: () => ["areas", "spots"].includes(state.group),
        run: () => state.group === "spots" ? by.size && spots.resize(spots.size * by.size) : areas.brush.change(by.size ? { size: areas.brush.set.size * by.size } : { softness: areas.brush.set.softness + by.softness }),
      })),
      { id: "spots", key: "r", label: "Spots: retouch", run: () => open("spots") },
      { id: "spot-next", key: "n", label: "Next spot at 100 %", can: () => state.group === "spots", run: () => spots.walk(1) },
      { id: "spot-back", key: "Shift+n", label: "Spot before", can: () => state.group === "spots", run: () => spots.walk(-1) },
      { id: "walk-on", key: ".", label: "Walk the picture at 100 %, screen by screen", can: () => state.group === "spots", run: () => spots.finding.walk(1) },
      { id: "walk-back", key: ",", label: "Screen before", can: () => state.group === "spots", run: () => spots.finding.walk(-1) },
      { id: "spot-see", key: "x", label: "Show specks", can: () => state.group === "spots", run: () => byId("spot-see").click() },
      { id: "brush-erase", key: "y", label: "Brush erases, or paints", can: () => state.group === "areas", run: () => areas.brush.change({ erase: !areas.brush.set.erase }) },
    ),
    ...[0, 1, 2, 3, 4, 5].map((n) => ({ id: `stars${n}`, key: String(n), label: n ? plural(n, "star") : "No stars", run: () => marks({ stars: n }) })),
    ...section(
      "Columns",
      { id: "controls", key: "[", label: "Controls away, or back", run: () => columns.toggle("controls") },
      { id: "set", key: "]", label: "Set away, or back", run: () => columns.toggle("set") },
      { id: "side", label: "Controls to the other side", run: columns.otherSide },
    ),
    ...Object.keys(titles).map((name, i) => ({ id: `group-${name}`, key: i < 10 ? `Alt+${(i + 1) % 10}` : "", section: "Groups", label: titles[name], run: () => open(name) })),
    ...crop.map(([key, dx, dy, word]) => ({ id: `crop-${key}`, key: `Shift+${key}`, label: `Crop: move the frame ${word}`, run: () => state.group === "crop" && tools.nudge(dx, dy) })),
    { id: "sheet", key: "Escape", label: "Back to the Sheet", run: toSheet },
  ];
}

// Kinds of parts: what each is called, how it begins, and its own controls. The same kinds as `core.areas.shapes` declares.
import { t } from "../texts.js";

export const KINDS = {
  brush: { name: t`Brush`, group: t`Paint`, help: t`Paint it on the picture` },
  edges: { name: t`Brush that stops at edges`, group: t`Paint`, help: t`Paint it; it stays on what is alike along its middle` },
  straight: { name: t`Straight gradient`, group: t`Draw`, help: t`Draw it on the picture, from where it works wholly to where it ends` },
  round: { name: t`Round gradient`, group: t`Draw`, help: t`Draw it on the picture, from its middle outwards` },
  outline: { name: t`Outline`, group: t`Draw`, help: t`Click its corners on the picture; the first one again, or Enter, closes it` },
  subject: { name: t`Subject`, group: t`Find`, help: t`What stands before the backdrop, in each frame anew` },
  backdrop: { name: t`Backdrop`, group: t`Find`, help: t`What is behind the subject, in each frame anew` },
  people: { name: t`People`, group: t`Find`, help: t`Everybody in the frame, in each frame anew` },
  skin: { name: t`Skin`, group: t`Find`, help: t`Skin of the people, without eyes, brows and lips` },
  lightness: { name: t`Range of lightness`, group: t`Range`, help: t`What lies between two lightnesses` },
  colour: { name: t`Range of colour`, group: t`Range`, help: t`Click colours in the picture` },
  sharpness: { name: t`What is sharp`, group: t`Range`, help: t`What is in focus` },
  whole: { name: t`Whole frame`, group: t`Other`, help: t`To take parts away from it` },
  area: { name: t`Another area`, group: t`Other`, help: t`The mask of another area of this frame` },
};
export const GROUPS = [t`Find`, t`Paint`, t`Draw`, t`Range`, t`Other`];
export const DRAWN = new Set(["brush", "straight", "round", "outline"]);
export const COMBINE = { add: t`added`, subtract: t`taken away`, intersect: t`only where both`, either: t`either, not both` };
export const HOLDS = { subject: t`the subject`, frame: t`the frame`, crop: t`the crop` };

const percent = (name, of, neutral, low = 0, high = 100) => ({ name, label: of, unit: "%", min: low, max: high, step: 1, neutral, scale: 100 });
// Controls of a chosen part: name of its value, label, range; scale: what is shown for 1 of the value.
export const CONTROLS = {
  round: [percent("softness", t`Softness`, 50)],
  outline: [{ name: t`softness`, label: t`Softness`, unit: "‰", min: 0, max: 100, step: 1, neutral: 4, scale: 1000 }],
  lightness: [
    { name: t`low`, label: t`From`, unit: "L*", min: 0, max: 100, step: 1, neutral: 50, scale: 1 },
    { name: t`high`, label: t`To`, unit: "L*", min: 0, max: 100, step: 1, neutral: 100, scale: 1 },
    { name: t`softness`, label: t`Softness`, unit: "L*", min: 0, max: 60, step: 1, neutral: 15, scale: 1 },
  ],
  colour: [
    { name: t`reach`, label: t`Reach`, unit: "", min: 0, max: 0.3, step: 0.005, neutral: 0.05, scale: 1 },
    { name: t`softness`, label: t`Softness`, unit: "", min: 0, max: 0.3, step: 0.005, neutral: 0.05, scale: 1 },
  ],
  sharpness: [percent("least", t`From`, 30), percent("softness", t`Softness`, 20)],
};
// How a part begins that is not drawn.
export const BEGIN = {
  lightness: () => ({ kind: "lightness", low: 60, high: 100, softness: 15 }),
  sharpness: () => ({ kind: "sharpness" }),
  subject: () => ({ kind: "subject" }),
  backdrop: () => ({ kind: "backdrop" }),
  people: () => ({ kind: "people" }),
  skin: () => ({ kind: "skin" }),
  whole: () => ({ kind: "whole" }),
};
export const nameOf = (shape) => (shape.kind === "brush" && shape.strokes?.some((s) => s.alike) ? KINDS.edges.name : KINDS[shape.kind]?.name || shape.kind);

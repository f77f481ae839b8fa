// Kinds of parts: what each is called, how it begins, and its own controls. The same kinds as `core.areas.shapes` declares.

export const KINDS = {
  brush: { name: "Brush", group: "Paint", help: "Paint it on the picture" },
  edges: { name: "Brush that stops at edges", group: "Paint", help: "Paint it; it stays on what is alike along its middle" },
  straight: { name: "Straight gradient", group: "Draw", help: "Draw it on the picture, from where it works wholly to where it ends" },
  round: { name: "Round gradient", group: "Draw", help: "Draw it on the picture, from its middle outwards" },
  outline: { name: "Outline", group: "Draw", help: "Click its corners on the picture; the first one again, or Enter, closes it" },
  subject: { name: "Subject", group: "Find", help: "What stands before the backdrop, in each frame anew" },
  backdrop: { name: "Backdrop", group: "Find", help: "What is behind the subject, in each frame anew" },
  people: { name: "People", group: "Find", help: "Everybody in the frame, in each frame anew" },
  skin: { name: "Skin", group: "Find", help: "Skin of the people, without eyes, brows and lips" },
  lightness: { name: "Range of lightness", group: "Range", help: "What lies between two lightnesses" },
  colour: { name: "Range of colour", group: "Range", help: "Click colours in the picture" },
  sharpness: { name: "What is sharp", group: "Range", help: "What is in focus" },
  whole: { name: "Whole frame", group: "Other", help: "To take parts away from it" },
  area: { name: "Another area", group: "Other", help: "The mask of another area of this frame" },
};
export const GROUPS = ["Find", "Paint", "Draw", "Range", "Other"];
export const DRAWN = new Set(["brush", "straight", "round", "outline"]);
export const COMBINE = { add: "added", subtract: "taken away", intersect: "only where both", either: "either, not both" };
export const HOLDS = { subject: "the subject", frame: "the frame", crop: "the crop" };

const percent = (name, of, neutral, low = 0, high = 100) => ({ name, label: of, unit: "%", min: low, max: high, step: 1, neutral, scale: 100 });
// Controls of a chosen part: name of its value, label, range; scale: what is shown for 1 of the value.
export const CONTROLS = {
  round: [percent("softness", "Softness", 50)],
  outline: [{ name: "softness", label: "Softness", unit: "‰", min: 0, max: 100, step: 1, neutral: 4, scale: 1000 }],
  lightness: [
    { name: "low", label: "From", unit: "L*", min: 0, max: 100, step: 1, neutral: 50, scale: 1 },
    { name: "high", label: "To", unit: "L*", min: 0, max: 100, step: 1, neutral: 100, scale: 1 },
    { name: "softness", label: "Softness", unit: "L*", min: 0, max: 60, step: 1, neutral: 15, scale: 1 },
  ],
  colour: [
    { name: "reach", label: "Reach", unit: "", min: 0, max: 0.3, step: 0.005, neutral: 0.05, scale: 1 },
    { name: "softness", label: "Softness", unit: "", min: 0, max: 0.3, step: 0.005, neutral: 0.05, scale: 1 },
  ],
  sharpness: [percent("least", "From", 30), percent("softness", "Softness", 20)],
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

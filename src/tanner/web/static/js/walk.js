// The first walk: seven steps through a shoot, one thing each. It can be left at any time, and begun again from Help.
import { byId, el } from "./dom.js";
import { t } from "./texts.js";

const STORE = "tanner.walk";
const STEPS = [
  { page: "sheet", at: ".cell", title: t`A shoot in sets`, text: t`Frames of one thing in one light stand in a row. The first of each row is its lead, with a brown mark: the others follow it.` },
  { page: "sheet", at: "#chosen", title: t`Choose and judge`, text: t`Click a frame, then K keeps and D drops it. What can be done with the chosen frames stands here; More holds all of it.` },
  { page: "bench", at: '.rule[data-key="light.exposure"]', group: "light", title: t`Develop the lead`, text: t`Drag the handle, write a number, or use the arrow keys. Every follower changes with its lead at once; nothing needs saving.` },
  { page: "bench", at: "#ribbon", title: t`The set stays beside you`, text: t`Arrow up and down walk it. A diamond marks a frame that differs from its lead, and Give up returns it.` },
  { page: "bench", at: '#index [data-group="presets"]', group: "presets", title: t`Presets on your own picture`, text: t`Each is shown on this frame before you choose it, at an amount from 0 to 150 %.` },
  { page: "lineup", at: "#chart", title: t`Is the set one?`, text: t`The backdrop of each frame, measured. What leaves the band is named on the right, and Bring in all outside makes it fit.` },
  { page: "deliver", at: "#specs", title: t`Deliver`, text: t`Choose frames and what is written. The table lists every file before anything is written. That was the walk: Help holds the guide.` },
];

const kept = () => JSON.parse(sessionStorage.getItem(STORE) || "null");
const keep = (value) => (value ? sessionStorage.setItem(STORE, JSON.stringify(value)) : sessionStorage.removeItem(STORE));

// frame: a lead to develop in it, or none.
export function beginWalk(shoot, frame) {
  keep({ shoot, frame, step: 0 });
  localStorage.setItem(STORE, "seen");
  go();
}

export const noWalk = () => localStorage.setItem(STORE, "seen");

function go() {
  const { shoot, frame, step } = kept();
  const url = `/shoots/${shoot}/${STEPS[step].page}`;
  if (location.pathname === url) show();
  else location.href = STEPS[step].page === "bench" && frame ? `${url}?frame=${frame}` : url;
}

function leave() {
  keep(null);
  byId("walk")?.remove();
  document.querySelector(".walk-at")?.classList.remove("walk-at");
}

function move(by) {
  const now = kept();
  if (now.step + by >= STEPS.length) return leave();
  keep({ ...now, step: now.step + by });
  return go();
}

// The card stands beside its thing, which is outlined; the page itself stays usable.
function show(tries = 40) {
  const now = kept();
  if (!now || location.pathname !== `/shoots/${now.shoot}/${STEPS[now.step].page}`) return;
  const step = STEPS[now.step];
  if (step.group) document.querySelector(`#index [data-group="${step.group}"]`)?.click();
  const target = document.querySelector(step.at);
  const box = target?.getBoundingClientRect();
  if (!box?.width) {
    if (tries) setTimeout(() => show(tries - 1), 150);
    return;
  }
  document.querySelector(".walk-at")?.classList.remove("walk-at");
  target.classList.add("walk-at");
  byId("walk")?.remove();
  const button = (text, run, strong = "") => el("button", { type: "button", class: strong, text, onclick: run });
  const card = el(
    "section", { id: "walk", class: "popover-card fixed z-50 w-84 border border-edge bg-panel p-4 shadow-2xl", role: "dialog", "aria-label": t`Step ${now.step + 1} of ${STEPS.length}` },
    el("p", { class: "dim text-small", text: t`Step ${now.step + 1} of ${STEPS.length}` }), el("h2", { text: step.title }), el("p", { class: "my-2", text: step.text }),
    el("div", { class: "flex items-center gap-2" }, button(t`Skip the walk`, leave, "plain"), el("span", { class: "bar-fill" }), now.step ? button(t`Back`, () => move(-1)) : null, button(now.step === STEPS.length - 1 ? t`Done` : t`Next`, () => move(1), "strong")),
  );
  document.body.append(card);
  const right = box.right + 12 + card.offsetWidth < innerWidth;
  const left = right ? box.right + 12 : box.left - 12 - card.offsetWidth > 0 ? box.left - 12 - card.offsetWidth : Math.max(8, innerWidth / 2 - card.offsetWidth / 2);
  const top = Math.max(8, Math.min(box.top, innerHeight - card.offsetHeight - 60));
  Object.assign(card.style, { left: `${left}px`, top: `${top}px` });
  card.querySelector(".strong").focus();
}

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape" && byId("walk")) {
    event.preventDefault();
    event.stopPropagation();
    leave();
  }
}, true);
if (kept()) show();

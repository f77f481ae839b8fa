// What every page has: notices, dialogs' closing, undo and redo, the keys' list.
import { post } from "./api.js";
import { byId, el } from "./dom.js";
import { Keys } from "./keys.js";
import { beginWalk } from "./walk.js";
import "./work.js";
import { t } from "./texts.js";

export const shootId = Number(document.body.dataset.shoot) || null;

export function tell(text, trouble = false) {
  const notice = el("div", { class: trouble ? "notice trouble" : "notice" }, el("span", { text }));
  notice.append(el("button", { type: "button", class: "plain", "aria-label": t`Close`, text: t`Close`, onclick: () => notice.remove() }));
  byId("notices").append(notice);
  if (!trouble) setTimeout(() => notice.remove(), 5000);
  return notice;
}

// Runs something that may be refused; the refusal is told, and undefined comes back.
export async function trying(work) {
  try {
    return await work();
  } catch (error) {
    tell(error.message, true);
    return undefined;
  }
}

// Asks for a line of text; null when it is left.
export function ask({ title, label, value = "" }) {
  const dialog = byId("ask-dialog");
  const field = byId("ask-value");
  byId("ask-title").textContent = title;
  byId("ask-label").textContent = label;
  field.value = value;
  dialog.returnValue = "";
  dialog.showModal();
  field.select();
  return new Promise((done) => dialog.addEventListener("close", () => done(dialog.returnValue === "yes" && field.value.trim() ? field.value.trim() : null), { once: true }));
}

async function step(way) {
  const result = await trying(() => post(`/api/shoots/${shootId}/${way}`));
  if (!result) return;
  const word = way === "undo" ? t`Undone` : t`Done again`;
  tell(result.done ? `${word}: ${result.done}` : way === "undo" ? t`There is nothing to undo.` : t`There is nothing to redo.`);
  for (const line of result.told || []) tell(line, true);
  if (result.done) document.dispatchEvent(new CustomEvent("tanner:changed"));
}

export const undo = () => step("undo");
export const redo = () => step("redo");

// Where one is, for "go on where you were"; kept in this browser.
const PLACE = "tanner.place";
export function keepPlace(frame = null) {
  const link = document.querySelector(".bar-screens [aria-current]");
  const screen = link?.textContent;
  const shoot = document.querySelector(".bar > [title]")?.textContent;
  const url = frame && link?.pathname.endsWith("/bench") ? `${location.pathname}?frame=${frame}` : location.pathname;
  if (shootId && screen) localStorage.setItem(PLACE, JSON.stringify({ screen, shoot, url, frame }));
}

export function lastPlace() {
  try {
    return JSON.parse(localStorage.getItem(PLACE));
  } catch {
    return null;
  }
}

let keys = null;
export function useKeys(screen, commands) {
  const common = shootId
    ? [
        { id: "undo", key: "Ctrl+z", label: t`Undo`, run: undo },
        { id: "redo", key: "Ctrl+Shift+z", label: t`Redo`, run: redo },
      ]
    : [];
  keys?.destroy();
  const menu = { id: "commands", key: ".", label: t`All commands of this page`, run: () => keys.menu?.open() };
  keys = new Keys(screen, [...commands, ...common, ...(commands.some((c) => c.section) ? [menu] : [])]);
  return keys;
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-do]");
  if (!button) return;
  const what = button.dataset.do;
  if (what === "close") button.closest("dialog").close();
  if (what === "undo") undo();
  if (what === "redo") redo();
  if (what === "help") help();
  if (what === "walk") beginWalk(Number(button.dataset.shoot), Number(button.dataset.frame) || null);
});

function help() {
  keys?.show();
  byId("help-dialog").showModal();
}

document.addEventListener("keydown", (event) => {
  const asked = event.key === "F1" || (event.key === "?" && !event.target.matches?.("input, textarea"));
  if (!asked || document.querySelector("dialog[open]")) return;
  event.preventDefault();
  help();
});

const tones = [...document.querySelectorAll("#tone button")];
function tone(value) {
  document.documentElement.dataset.tone = value;
  for (const button of tones) button.setAttribute("aria-pressed", String(button.value === value));
}
tone(document.documentElement.dataset.tone || "");
for (const button of tones) {
  button.addEventListener("click", () => {
    localStorage.setItem("tanner.tone", button.value);
    tone(button.value);
  });
}

keepPlace();
if (!keys) useKeys("page", []);

// What every page has: notices, dialogs' closing, undo and redo, the keys' list.
import { post } from "./api.js";
import { byId, el } from "./dom.js";
import { Keys } from "./keys.js";

export const shootId = Number(document.body.dataset.shoot) || null;

export function tell(text, trouble = false) {
  const notice = el("div", { class: trouble ? "notice trouble" : "notice" }, el("span", { text }));
  notice.append(el("button", { type: "button", class: "plain", "aria-label": "Close", text: "Close", onclick: () => notice.remove() }));
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

export function working(text) {
  byId("work").textContent = text || "";
}

async function step(way) {
  const result = await trying(() => post(`/api/shoots/${shootId}/${way}`));
  if (!result) return;
  const word = way === "undo" ? "Undone" : "Done again";
  tell(result.done ? `${word}: ${result.done}` : way === "undo" ? "There is nothing to undo." : "There is nothing to redo.");
  if (result.done) document.dispatchEvent(new CustomEvent("tanner:changed"));
}

export const undo = () => step("undo");
export const redo = () => step("redo");

let keys = null;
export function useKeys(screen, commands) {
  const common = shootId
    ? [
        { id: "undo", key: "Ctrl+z", label: "Undo", run: undo },
        { id: "redo", key: "Ctrl+Shift+z", label: "Redo", run: redo },
      ]
    : [];
  keys?.destroy();
  keys = new Keys(screen, [...commands, ...common]);
  return keys;
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-do]");
  if (!button) return;
  const what = button.dataset.do;
  if (what === "close") button.closest("dialog").close();
  if (what === "undo") undo();
  if (what === "redo") redo();
  if (what === "keys") keys?.show();
});

document.addEventListener("keydown", (event) => {
  if (event.key !== "?" || event.target.matches?.("input, textarea") || document.querySelector("dialog[open]")) return;
  event.preventDefault();
  keys?.show();
});

if (!keys) useKeys("page", []);

// The keys of a screen: a list of commands with a key each, which the user can change (kept in this browser).
import { CommandMenu } from "./commands.js";
import { byId, el } from "./dom.js";
import { t } from "./texts.js";

const STORE = "tanner.keys";

function stored() {
  try {
    return JSON.parse(localStorage.getItem(STORE)) || {};
  } catch {
    return {};
  }
}

export function nameOf(event) {
  if (["Control", "Shift", "Alt", "Meta"].includes(event.key)) return "";
  const parts = [];
  if (event.ctrlKey || event.metaKey) parts.push("Ctrl");
  if (event.altKey) parts.push("Alt");
  const letter = event.key.length === 1 && event.key !== " ";
  if (event.shiftKey && (!letter || /[a-z]/i.test(event.key))) parts.push("Shift");
  parts.push(event.key === " " ? t`Space` : letter ? event.key.toLowerCase() : event.key);
  return parts.join("+");
}

const typing = (target) => target.matches?.("input:not([type=range]):not([type=checkbox]):not([type=radio]), textarea, select");

export class Keys {
  // commands: [{id, key, label, run(event), release?(event), section?, can?(), list?()}]: those with a section are in the page's menu too.
  constructor(screen, commands) {
    this.screen = screen;
    this.commands = commands;
    this.held = null;
    this.onDown = (event) => this.down(event);
    this.onUp = (event) => this.up(event);
    document.addEventListener("keydown", this.onDown);
    document.addEventListener("keyup", this.onUp);
    const button = byId("commands");
    if (button && commands.some((c) => c.section)) this.menu = new CommandMenu(button, () => this.commands, (c) => this.keyOf(c));
  }

  keyOf(command) {
    return stored()[`${this.screen}.${command.id}`] || command.key || "";
  }

  down(event) {
    if (document.querySelector("dialog[open], :popover-open") || event.defaultPrevented) return;
    const name = nameOf(event);
    if (typing(event.target) && !name.startsWith("Ctrl+")) return;
    if (typing(event.target) && ["Ctrl+z", "Ctrl+Shift+z"].includes(name)) return;
    if (!name || name === "?" || name === "F1") return;
    const command = this.commands.find((c) => this.keyOf(c) === name);
    if (!command) return;
    event.preventDefault();
    if (command.can && !command.can()) return;
    if (command.list) return void this.menu?.open(command);
    if (command.release) {
      if (this.held) return;
      this.held = command;
    }
    command.run(event);
  }

  up() {
    if (this.held) {
      this.held.release();
      this.held = null;
    }
  }

  fill(body) {
    body.replaceChildren(
      ...this.commands.filter((c) => this.keyOf(c)).map((command) => {
        const row = el("tr", {}, el("td", { class: "py-0.5 pr-3" }, el("kbd", { text: this.keyOf(command) })), el("td", { text: command.label }));
        row.tabIndex = 0;
        row.dataset.id = command.id;
        row.addEventListener("keydown", (event) => {
          const name = nameOf(event);
          if (!name || ["Tab", "Escape", "Shift+Tab"].includes(name)) return;
          event.preventDefault();
          const all = stored();
          const taken = this.commands.find((c) => c !== command && this.keyOf(c) === name);
          if (taken) all[`${this.screen}.${taken.id}`] = this.keyOf(command);
          all[`${this.screen}.${command.id}`] = name;
          localStorage.setItem(STORE, JSON.stringify(all));
          this.fill(body);
          [...body.rows].find((r) => r.dataset.id === command.id)?.focus();
        });
        return row;
      }),
    );
  }

  reset() {
    const all = stored();
    for (const command of this.commands) delete all[`${this.screen}.${command.id}`];
    localStorage.setItem(STORE, JSON.stringify(all));
  }

  // In the help that is open.
  show() {
    const body = byId("keys-rows");
    this.fill(body);
    document.querySelector('[data-do="keys-default"]').onclick = () => {
      this.reset();
      this.fill(body);
    };
  }

  destroy() {
    document.removeEventListener("keydown", this.onDown);
    document.removeEventListener("keyup", this.onUp);
  }
}

// The menu of a page's commands: in sections, with their keys and a search. A command may open a list of its own.
import { el } from "./dom.js";
import { t } from "./texts.js";

let count = 0;

// Places something that opens beside the button that opens it, within the window.
export function beside(node, button) {
  const at = button.getBoundingClientRect();
  const { offsetWidth: w, offsetHeight: h } = node;
  const below = at.bottom + 2 + h <= innerHeight || at.top < innerHeight / 2;
  const left = Math.max(4, Math.min(at.left, innerWidth - w - 4));
  Object.assign(node.style, { left: `${left}px`, top: below ? `${at.bottom + 2}px` : "auto", bottom: below ? "auto" : `${innerHeight - at.top + 2}px` });
}

// A button that opens a popover of choices beside itself.
export function opens(button, popover) {
  button.setAttribute("aria-expanded", "false");
  button.addEventListener("click", () => {
    popover.togglePopover();
    if (popover.matches(":popover-open")) beside(popover, button);
  });
  popover.addEventListener("toggle", (event) => {
    button.setAttribute("aria-expanded", String(event.newState === "open"));
    if (event.newState === "closed" && document.activeElement === document.body) button.focus();
  });
}

export class CommandMenu {
  // commands() gives [{label, section, run, can?, list?, key?}]; keyOf(command) the key that is set for it.
  constructor(button, commands, keyOf) {
    Object.assign(this, { button, commands, keyOf });
    const id = `menu-${(count += 1)}`;
    this.find = el("input", { type: "search", class: "menu-find", role: "combobox", "aria-expanded": "true", "aria-controls": id, "aria-label": t`Find a command`, placeholder: t`Find a command`, autocomplete: "off" });
    this.list = el("div", { class: "menu-list", id, role: "listbox", "aria-label": t`Commands` });
    this.popover = el("div", { class: "popover", popover: "auto", role: "dialog", "aria-label": t`Commands` }, this.find, this.list);
    document.body.append(this.popover);
    button.setAttribute("aria-haspopup", "dialog");
    button.setAttribute("aria-expanded", "false");
    button.addEventListener("click", () => (this.popover.matches(":popover-open") ? this.popover.hidePopover() : this.open()));
    this.popover.addEventListener("toggle", (event) => {
      button.setAttribute("aria-expanded", String(event.newState === "open"));
      if (event.newState === "closed" && this.popover.contains(document.activeElement)) button.focus();
    });
    this.find.addEventListener("input", () => this.fill());
    this.find.addEventListener("keydown", (event) => this.key(event));
  }

  // within: the command whose own list is shown.
  open(within = null) {
    this.within = within;
    this.find.value = "";
    this.find.placeholder = within ? within.label : t`Find a command`;
    this.fill();
    this.popover.showPopover();
    beside(this.popover, this.button);
    this.find.focus();
  }

  fill() {
    const words = this.find.value.trim().toLowerCase().split(/\s+/).filter(Boolean);
    const all = this.within ? this.within.list() : this.commands().filter((c) => c.section);
    // Words that begin so go first: "reset" is no search for a preset.
    const text = (c) => ` ${c.section || ""} ${c.label}`.toLowerCase();
    const begins = all.filter((c) => words.every((w) => text(c).includes(` ${w}`)));
    const found = begins.length ? begins : all.filter((c) => words.every((w) => text(c).includes(w)));
    this.shown = found.map((command) => ({ command, can: !command.can || command.can() }));
    const nodes = [];
    let section = null;
    this.shown.forEach((item, n) => {
      const { command } = item;
      if ((command.section || "") !== section) {
        section = command.section || "";
        if (section) nodes.push(el("div", { class: "menu-head", role: "presentation", text: section }));
      }
      const key = command.id && this.keyOf ? this.keyOf(command) : "";
      item.node = el(
        "div",
        { class: "menu-item", role: "option", id: `${this.list.id}-${n}`, "aria-disabled": item.can ? null : "true", title: command.title, onclick: () => this.run(n), onmousemove: () => this.point(n) },
        el("span", { text: command.label + (command.list ? " ▸" : "") }),
        key ? el("kbd", { text: key, "aria-label": t`key ${key}` }) : null,
      );
      nodes.push(item.node);
    });
    if (!found.length) nodes.push(el("p", { class: "empty", text: this.within && !all.length ? t`There is none yet.` : t`No command is called so.` }));
    this.list.replaceChildren(...nodes);
    this.point(Math.max(0, this.shown.findIndex((i) => i.can)));
  }

  point(n) {
    this.at = n;
    this.shown.forEach((item, k) => item.node.setAttribute("aria-selected", String(k === n)));
    const item = this.shown[n];
    if (item) this.find.setAttribute("aria-activedescendant", item.node.id);
    else this.find.removeAttribute("aria-activedescendant");
    item?.node.scrollIntoView({ block: "nearest" });
  }

  key(event) {
    const last = this.shown.length - 1;
    const to = { ArrowDown: Math.min(this.at + 1, last), ArrowUp: Math.max(this.at - 1, 0), Home: 0, End: last }[event.key];
    if (to !== undefined && last >= 0) this.point(to);
    else if (event.key === "Enter") this.run(this.at);
    else if (this.within && ((event.key === "Backspace" && !this.find.value) || event.key === "Escape")) this.open();
    else return;
    event.preventDefault();
  }

  run(n) {
    const item = this.shown[n];
    if (!item?.can) return;
    if (item.command.list) this.open(item.command);
    else {
      this.popover.hidePopover();
      item.command.run();
    }
  }
}

// Parts of a group under tabs: one at a time; a mark says which of them hold something of the frame's own.
import { byId } from "../dom.js";
import { infoOf, state, table } from "./state.js";

export class Tabs {
  constructor(root) {
    this.tabs = [...root.querySelectorAll("[role=tab]")];
    root.addEventListener("click", (event) => {
      const tab = event.target.closest("[role=tab]");
      if (tab) this.open(tab);
    });
    root.addEventListener("keydown", (event) => {
      const by = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
      if (!by) return;
      event.preventDefault();
      event.stopPropagation();
      this.open(this.tabs[(this.tabs.indexOf(document.activeElement) + by + this.tabs.length) % this.tabs.length], true);
    });
    this.open(this.tabs[0]);
  }

  open(tab, focus = false) {
    for (const each of this.tabs) {
      each.setAttribute("aria-selected", String(each === tab));
      each.tabIndex = each === tab ? 0 : -1;
      byId(each.getAttribute("aria-controls")).hidden = each !== tab;
    }
    if (focus) tab.focus();
  }

  marks() {
    for (const tab of this.tabs) {
      const keys = [...byId(tab.getAttribute("aria-controls")).querySelectorAll("[data-key]")].map((n) => n.dataset.key);
      const own = state.frame && keys.some((k) => table[k] && infoOf(k).own);
      tab.classList.toggle("own", Boolean(own));
    }
  }
}

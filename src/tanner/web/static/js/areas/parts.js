// The parts of the chosen area's mask: which there are, how they are combined, in which order; the chosen one's own controls.
import { byId, el } from "../dom.js";
import { Rule } from "../rule.js";
import { COMBINE, CONTROLS, DRAWN, GROUPS, HOLDS, KINDS, nameOf } from "./kinds.js";
import { t } from "../texts.js";

const option = (chosen) => ([value, text]) => el("option", { value, text, selected: value === chosen });

export class Parts {
  constructor(areas) {
    this.areas = areas;
    this.chosen = 0;
    this.rules = [];
    byId("part-add").addEventListener("click", () => this.menu(byId("part-add"), (kind) => areas.begin(kind, areas.chosen)));
    byId("part-pick").addEventListener("click", () => {
      areas.begin("colour", areas.chosen);
      areas.drawing.more = true;
    });
  }

  // A menu of all kinds of parts, by what one does to make them.
  menu(button, chosen) {
    const pop = byId("area-kinds");
    pop.replaceChildren(
      ...GROUPS.map((group) =>
        el(
          "div",
          { class: "grid gap-1" },
          el("p", { class: "index-head", text: group }),
          ...Object.entries(KINDS)
            .filter(([kind, k]) => k.group === group && (kind !== "area" || this.areas.list().length > (button.id === "part-add" ? 1 : 0)))
            .map(([kind, k]) => el("button", { type: "button", class: "text-left border-transparent bg-transparent", title: `${k.help}.`, text: k.name, onclick: () => (pop.hidePopover(), chosen(kind)) })),
        ),
      ),
    );
    pop.showPopover();
    const box = button.getBoundingClientRect();
    pop.style.left = `${Math.min(box.left, innerWidth - pop.offsetWidth - 8)}px`;
    pop.style.top = `${Math.min(box.bottom + 4, innerHeight - pop.offsetHeight - 8)}px`;
    pop.querySelector("button")?.focus();
  }

  fill() {
    const shapes = this.areas.shapes();
    const fixed = this.areas.followed();
    this.chosen = Math.min(Math.max(this.chosen, 0), Math.max(shapes.length - 1, 0));
    byId("part-list").replaceChildren(...shapes.map((s, i) => this.row(s, i, shapes, fixed)));
    byId("part-add").hidden = fixed;
    const shape = shapes[this.chosen];
    byId("brush-controls").hidden = !(this.areas.painting() || this.areas.drawing?.kind === "brush");
    byId("part-pick").hidden = fixed || shape?.kind !== "colour";
    byId("part-one").hidden = fixed || !shape;
    if (!fixed && shape) this.controls(shape);
  }

  row(shape, i, shapes, fixed) {
    const move = (by) => {
      const next = [...shapes];
      [next[i], next[i + by]] = [next[i + by], next[i]];
      this.chosen = i + by;
      this.areas.change(next, true);
    };
    const set = (values) => this.areas.change(shapes.map((s, n) => (n === i ? { ...s, ...values } : s)), true);
    const how = el("select", { "aria-label": t`How ${nameOf(shape)} is combined`, disabled: fixed }, ...Object.entries(COMBINE).map(option(shape.combine || "add")));
    how.addEventListener("change", () => set({ combine: how.value }));
    const turned = el("input", { type: "checkbox", checked: Boolean(shape.inverted), disabled: fixed });
    turned.addEventListener("change", () => set({ inverted: turned.checked }));
    const tool = (text, label, disabled, run) => (fixed ? null : el("button", { type: "button", class: "plain", "aria-label": label, title: label, disabled, text, onclick: run }));
    return el(
      "li",
      { class: i === this.chosen ? "part-row chosen" : "part-row" },
      el("button", { type: "button", class: "area-name", "aria-pressed": String(i === this.chosen), text: nameOf(shape), onclick: () => this.choose(i) }),
      tool("↑", t`${nameOf(shape)} up`, i === 0, () => move(-1)),
      tool("↓", t`${nameOf(shape)} down`, i === shapes.length - 1, () => move(1)),
      tool("×", t`Remove ${nameOf(shape)}`, shapes.length < 2, () => this.areas.change(shapes.filter((_, n) => n !== i), true)),
      el("span", { class: "flex basis-full gap-3 items-center pb-0.5" }, how, el("label", { class: "choice", title: t`Everything but this part` }, turned, t` inverted`)),
    );
  }

  choose(i) {
    this.areas.stop();
    this.chosen = i;
    this.areas.corner.chosen = null;
    this.fill();
    this.areas.corner.fill();
    this.areas.showMask();
  }

  // Controls of the chosen part, built anew when another kind is chosen.
  controls(shape) {
    const root = byId("part-controls");
    if (root.dataset.kind !== shape.kind) {
      root.dataset.kind = shape.kind;
      this.rules = (CONTROLS[shape.kind] || []).map((about) => this.rule(root, about));
      root.replaceChildren(...this.rules.map((r) => r.root));
    }
    for (const rule of this.rules) {
      const value = (shape[rule.about.name] ?? rule.about.neutral / rule.about.scale) * rule.about.scale;
      rule.set(value, { below: undefined, shown: value, follows: false, own: false });
    }
    const drawn = DRAWN.has(shape.kind);
    const holds = byId("part-holds");
    byId("part-holds-line").hidden = !drawn;
    holds.replaceChildren(...Object.entries(HOLDS).map(option(shape.holds || "frame")));
    holds.onchange = () => this.areas.changePart({ holds: holds.value });
    const other = byId("part-area");
    byId("part-area-line").hidden = shape.kind !== "area";
    other.replaceChildren(...this.areas.list().filter((a) => a.id !== this.areas.chosen).map((a) => option(shape.area)([a.id, a.name])));
    other.onchange = () => this.areas.changePart({ area: other.value });
    const curved = byId("part-curved");
    byId("part-curved-line").hidden = shape.kind !== "outline";
    curved.checked = Boolean(shape.points?.every((p) => p.curved));
    curved.onchange = () => this.areas.changePart({ points: shape.points.map((p) => ({ ...p, curved: curved.checked })) });
  }

  rule(root, about) {
    const id = `part-${about.name}`;
    const node = el(
      "div",
      { class: "rule", "data-key": `part.${about.name}` },
      el("div", { class: "rule-head flex items-center gap-1 h-5" }, el("label", { for: id, text: about.label }), el("span", { class: "rule-mark", "aria-hidden": "true" }), el("button", { type: "button", class: "rule-reset", hidden: true, text: t`reset`, "aria-label": t`Reset ${about.label}` }), el("input", { class: "rule-number", id, inputmode: "decimal", autocomplete: "off", spellcheck: "false" }), el("span", { class: "min-w-5 text-soft text-small", text: about.unit })),
      el("div", { class: "rule-scale h-6 relative cursor-ew-resize touch-none", role: "slider", tabindex: "0", "aria-label": about.label }),
    );
    const changed = (final) => (event) => {
      // It is a value of the part, not an adjustment.
      event.stopPropagation();
      this.areas.changePart({ [about.name]: Number((event.detail.value / about.scale).toFixed(5)) }, final);
    };
    node.addEventListener("rule:move", changed(false));
    node.addEventListener("rule:set", changed(true));
    return new Rule(node, { ...about, key: `part.${about.name}`, offset: null });
  }
}

// Exact colours on the Bench: picked in the picture, what they must be by number or name, and how they came out over the set.
import { get, post, upload } from "../api.js";
import { byId, el, number } from "../dom.js";
import { listed, newId } from "../listed.js";
import { tell, trying } from "../shell.js";
import { PickTool } from "./pick-tool.js";
import { t } from "../texts.js";

function swatch(hex, label) {
  const node = el("span", { class: "inline-block h-6 w-6 flex-none border border-edge", role: "img", "aria-label": label, title: label });
  node.style.background = hex;
  return node;
}

export class Exact {
  // bench: {picture, frame(), edit(values), commit(url, body), targets(), set()}
  constructor(bench) {
    this.bench = bench;
    this.said = new Map(); // what the server says of each pair
    this.named = new Map(); // colours of a list by name
    this.pick = new PickTool(byId("exact-pick"), bench.picture, (place) => this.take(place));
    byId("exact-file").addEventListener("change", (event) => this.list(event.target));
    byId("exact-measure").addEventListener("click", () => this.measure());
  }

  pairs() {
    return listed(this.bench.frame()?.values, "exact").filter((p) => p.present !== false);
  }

  fill() {
    const pairs = this.pairs();
    document.querySelector('#index [data-group="exact"] .index-state').textContent = pairs.length ? String(pairs.length) : "";
    byId("exact-none").hidden = pairs.length > 0;
    byId("exact-measure").hidden = !pairs.length;
    this.rows(pairs);
    // What was measured is of these colours, on these frames.
    if (this.measured !== this.key()) byId("exact-result").hidden = true;
    if (pairs.length) this.ask();
  }

  async ask() {
    const { id } = this.bench.frame();
    const key = JSON.stringify([id, this.pairs()]);
    if (this.asked === key) return;
    this.asked = key;
    const found = await get(`/api/frames/${id}/exact`).catch(() => null);
    if (!found || this.asked !== key) return;
    this.said = new Map(found.pairs.map((p) => [p.id, p]));
    this.rows(this.pairs());
  }

  // The field that is being written in stays so, with what is written.
  rows(pairs) {
    const list = byId("exact-list");
    const active = list.contains(document.activeElement) && document.activeElement.matches("[type=text]") ? document.activeElement : null;
    const id = active?.closest("li").dataset.id;
    const { value, selectionStart, selectionEnd } = active || {};
    list.replaceChildren(...pairs.map((p, n) => this.row(p, n)));
    const again = id && list.querySelector(`[data-id="${id}"] input[type=text]`);
    if (!again) return;
    again.value = value;
    again.focus();
    again.setSelectionRange(selectionStart, selectionEnd);
  }

  row(p, n) {
    const said = this.said.get(p.id);
    const name = p.name || t`Colour ${n + 1}`;
    const key = (part) => `exact/${p.id}/${part}`;
    const lab = (v) => `${number(v[0], 1)} ${number(v[1], 1)} ${number(v[2], 1)}`;
    const target = el("input", { type: "text", class: "w-16 min-w-0 flex-1 px-1!", list: "exact-colours", autocomplete: "off", "aria-label": t`${name} must be`, title: t`sRGB as #3a6ea5, L*a*b* as 48 −4 −33, or a name of the colour list`, value: lab(p.target) });
    target.addEventListener("change", () => this.aim(p, target));
    const reach = el("input", { type: "range", class: "w-full", min: "4", max: "80", step: "1", value: String(p.reach ?? 20), "aria-label": t`Reach of ${name}`, title: t`How far from the colour others are changed` });
    reach.addEventListener("change", () => this.bench.edit({ [key("reach")]: Number(reach.value) }));
    return el(
      "li",
      { class: "border-t border-line pt-2", "data-id": p.id },
      el("div", { class: "flex items-center gap-1.5" },
        swatch(said?.sample || "transparent", t`Sample: L*a*b* ${lab(p.sample)}`),
        el("span", { "aria-hidden": "true", text: "→" }),
        swatch(said?.target || "transparent", t`Must be: L*a*b* ${lab(p.target)}`),
        target,
        el("button", { type: "button", class: "plain", text: "×", "aria-label": t`Remove ${name}`, title: t`Remove`, onclick: () => this.bench.commit("/api/colours/remove", { frames: this.bench.targets(), of: "exact", ids: [p.id] }) }),
      ),
      el("div", { class: "mt-1 flex items-center gap-2 text-small" }, el("span", { text: t`Reach` }), el("span", { class: "min-w-0 flex-1" }, reach), el("span", { class: "w-8 tabular-nums", text: said ? number(said.reach, 0) : "" }),
        el("span", { class: "w-24 flex-none text-right whitespace-nowrap tabular-nums", title: t`CIEDE2000 of the sample from what it must be, before and after`, text: said ? `ΔE ${number(said.before, 1)} → ${number(said.after, 1)}` : "" })),
      ...(said?.wrong ? [el("p", { class: "trouble text-small", text: said.wrong })] : []),
    ); // prettier-ignore
  }

  async aim(p, field) {
    const text = field.value.trim();
    const known = this.named.get(text);
    const found = known || (await trying(() => post("/api/exact/read", { text })));
    if (!found) return;
    field.blur();
    this.bench.edit({ [`exact/${p.id}/target`]: found.lab, ...(known ? { [`exact/${p.id}/name`]: text } : {}) });
  }

  async list(input) {
    const [file] = input.files;
    input.value = "";
    if (!file) return;
    const found = await trying(() => upload(`/api/exact/list?name=${encodeURIComponent(file.name)}`, file));
    if (!found) return;
    this.named = new Map(found.colours.map((c) => [c.name, c]));
    byId("exact-colours").replaceChildren(...found.colours.map((c) => el("option", { value: c.name, label: c.hex })));
    tell(t`${found.colours.length} colours of ${found.title} can be chosen by name.`);
  }

  key() {
    return JSON.stringify([this.bench.set(), this.pairs()]);
  }

  async measure() {
    this.measured = this.key();
    byId("exact-measure").disabled = true;
    const found = await trying(() => post("/api/exact/measure", { frames: this.bench.set() }));
    byId("exact-measure").disabled = false;
    if (!found) return;
    byId("exact-result").hidden = false;
    const several = this.pairs().length > 1;
    byId("exact-rows").replaceChildren(
      ...found.frames.flatMap((f) => {
        const name = f.name.replace(/\.[^.]+$/, "");
        const alone = (text) => [el("tr", {}, el("td", { text: name }), el("td", { colspan: "2", class: "dim", text }))];
        if (f.trouble) return alone(f.trouble);
        if (!f.rows.length) return alone(t`has none`);
        return f.rows.map((r, n) => el("tr", {}, el("td", { text: several ? `${name}, ${r.name || t`colour ${n + 1}`}` : name }), ...("before" in r ? [el("td", { class: "num", text: number(r.before, 1) }), el("td", { class: "num", text: number(r.after, 1) })] : [el("td", { colspan: "2", class: "dim", text: t`is not in it` })])));
      }),
    );
  }

  async take([x, y]) {
    const found = await trying(() => post(`/api/frames/${this.bench.frame().id}/exact/sample`, { x, y }));
    if (!found) return;
    const start = `exact/${newId()}/`;
    const order = Math.max(0, ...this.pairs().map((s) => s.order || 0)) + 1;
    await this.bench.edit({ [`${start}kind`]: "pair", [`${start}order`]: order, [`${start}sample`]: found.lab, [`${start}target`]: found.lab });
    byId("exact-list").lastElementChild?.querySelector("input")?.select();
  }
}

// What there is to choose from among frames, with counts. A choice is a term of the expression, which can be read, changed and kept.
import { get } from "./api.js";
import { el } from "./dom.js";
import { t, worded } from "./texts.js";

// A line of what can be chosen: its name, how many, and their share as a bar.
export const VALUE = "relative flex w-full items-center justify-between gap-2 border-0 px-1.5 text-left not-aria-pressed:bg-transparent";
const FOLDED = "tanner.facets";
const folded = new Set(JSON.parse(localStorage.getItem(FOLDED) || '["Lens","Focal length","Aperture","Shutter","Held","Profile","Files"]'));

function fold(title, open) {
  if (open) folded.delete(title);
  else folded.add(title);
  localStorage.setItem(FOLDED, JSON.stringify([...folded]));
}

const bar = (share) => {
  const node = el("span", { class: "absolute bottom-0 left-0 h-0.5 bg-tick" });
  node.style.width = `${Math.max(1, share * 100)}%`;
  return node;
};

const bounded = (term) => new RegExp(`(^|\\s)${term.replace(/[.*+?^${}()|[\]\\]/g, "\\$&")}(?=\\s|$)`);

export class Facets {
  // url() of the counts; read() and write(q) the expression
  // without: titles of facets that are chosen elsewhere on the page
  constructor({ host, url, read, write, without = [] }) {
    Object.assign(this, { host, url, read, write, without, round: 0 });
  }

  has(term) {
    return bounded(term).test(this.read());
  }

  toggle(term) {
    const q = this.read();
    if (this.has(term)) this.write(q.replace(bounded(term), " ").replace(/\s+/g, " ").trim());
    else this.write(`${/\bor\b/.test(q) ? `(${q})` : q} ${term}`.trim());
  }

  // The counts that were drawn; null where others were asked for meanwhile.
  async draw() {
    const round = (this.round += 1);
    const found = await get(this.url()).catch(() => null);
    if (!found || round !== this.round) return null;
    const most = Math.max(1, found.total);
    this.host.replaceChildren(
      ...found.facets.filter((g) => !this.without.includes(g.title)).map((group) =>
        el("details", { class: "mt-1", open: !folded.has(group.title), ontoggle: (event) => fold(group.title, event.target.open) },
          el("summary", { text: worded(group.title) }),
          el("ul", {}, ...group.values.map((value) =>
            el("li", {},
              el("button", { type: "button", class: VALUE, "aria-pressed": String(this.has(value.term)), onclick: () => this.toggle(value.term) },
                el("span", { class: "min-w-0 truncate", text: value.said }), el("span", { class: "num", text: String(value.count) }), bar(value.count / most)),
            ))),
          group.more ? el("p", { class: "dim", text: t`and ${group.more} more` }) : null,
        ),
      ),
    ); // prettier-ignore
    return found;
  }
}

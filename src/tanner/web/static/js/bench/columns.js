// The Bench's columns: as wide as one likes, put away and brought back, controls left or right. Kept in this browser.
import { byId } from "../dom.js";

const STORE = "tanner.columns";
const COLUMNS = {
  controls: { usual: 396, least: 330, most: 620 },
  set: { usual: 132, least: 96, most: 320 },
};
const main = byId("main");
let kept = { side: "left", controls: COLUMNS.controls.usual, set: COLUMNS.set.usual, away: [] };
try {
  kept = { ...kept, ...JSON.parse(localStorage.getItem(STORE)) };
} catch {
  // As usual, then.
}

function arrange() {
  main.classList.toggle("controls-right", kept.side === "right");
  for (const [name, { least, most }] of Object.entries(COLUMNS)) {
    const away = kept.away.includes(name);
    const divider = byId(`${name}-divider`);
    byId(`${name}-column`).hidden = away;
    main.style.setProperty(`--${name}`, away ? "0px" : `${kept[name]}px`);
    divider.setAttribute("aria-valuenow", String(away ? 0 : kept[name]));
    divider.setAttribute("aria-valuemin", "0");
    divider.setAttribute("aria-valuemax", String(most));
    divider.dataset.away = String(away);
    divider.dataset.least = String(least);
  }
  byId("side").value = kept.side;
}

function keep(values) {
  Object.assign(kept, values);
  localStorage.setItem(STORE, JSON.stringify(kept));
  arrange();
}

function width(name, px) {
  const { least, most } = COLUMNS[name];
  // Narrower than half of the least is put away.
  if (px < least / 2) return put(name, true);
  return keep({ [name]: Math.round(Math.min(most, Math.max(least, px))), away: kept.away.filter((n) => n !== name) });
}

function put(name, away) {
  keep({ away: away ? [...new Set([...kept.away, name])] : kept.away.filter((n) => n !== name) });
}

export const toggle = (name) => put(name, !kept.away.includes(name));
export const side = (value) => keep({ side: value });
export const otherSide = () => side(kept.side === "left" ? "right" : "left");

for (const name of Object.keys(COLUMNS)) {
  const divider = byId(`${name}-divider`);
  // The controls stand left and the set right, unless they have changed places.
  const way = () => ((name === "controls") === (kept.side === "left") ? 1 : -1);
  divider.addEventListener("pointerdown", (event) => {
    divider.setPointerCapture(event.pointerId);
    const from = event.clientX;
    const before = kept.away.includes(name) ? 0 : kept[name];
    const move = (e) => width(name, before + way() * (e.clientX - from));
    divider.addEventListener("pointermove", move);
    divider.addEventListener("pointerup", () => divider.removeEventListener("pointermove", move), { once: true });
  });
  divider.addEventListener("dblclick", () => width(name, COLUMNS[name].usual));
  divider.addEventListener("keydown", (event) => {
    const by = { ArrowLeft: -16, ArrowRight: 16 }[event.key];
    if (by) width(name, (kept.away.includes(name) ? 0 : kept[name]) + way() * by);
    else if (event.key === "Enter" || event.key === " ") toggle(name);
    else if (event.key === "Home") width(name, COLUMNS[name].usual);
    else return;
    event.preventDefault();
    event.stopPropagation();
  });
}
byId("side").addEventListener("change", (event) => side(event.target.value));
arrange();

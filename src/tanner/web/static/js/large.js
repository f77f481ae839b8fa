// Two to four frames large, at one zoom and place or each at its own.
import { byId, el, number } from "./dom.js";
import { trying } from "./shell.js";
import { t, worded } from "./texts.js";

export class Large {
  // rows() gives what the Line-up knows of frames: [{frame, name, difference, words, outline}]; outlined() whether areas are drawn
  // most: at most so many; middle(id) the place that is looked at first, in shares; quick(id) a picture that is there at once; caption(row) its nodes
  constructor({ rows, outlined = () => false, most = 4, middle = () => [0.5, 0.5], quick = null, caption = lineupCaption }) {
    Object.assign(this, { rows, outlined, most, middle, quick, caption, ids: [], panes: new Map(), together: true, waiting: new Map() });
    this.host = byId("large-panes");
    this.zoom = 0;
    for (const b of document.querySelectorAll("[data-large-zoom]")) b.addEventListener("click", () => this.zoomTo(Number(b.dataset.largeZoom)));
    byId("large-together").addEventListener("change", (event) => {
      this.together = event.target.checked;
      if (this.together && this.panes.size) {
        const [first] = this.panes.values();
        for (const pane of this.panes.values()) Object.assign(pane, { zoom: first.zoom, x: first.x, y: first.y });
        this.draw();
      }
    });
    this.host.addEventListener("pointerdown", (event) => this.drag(event));
    new ResizeObserver(() => this.ids.length && this.draw()).observe(this.host);
  }

  // The frames that are shown; those that stay keep their place.
  show(ids) {
    this.ids = ids.slice(0, this.most);
    const old = this.panes;
    // A new one is looked at where the others are: as far from the middle of its subject as they from theirs.
    const [like] = old.entries();
    const off = this.together && like ? [0, 1].map((k) => [like[1].x, like[1].y][k] - this.middle(like[0])[k]) : [0, 0];
    const place = (id) => this.middle(id).map((v, k) => Math.min(1, Math.max(0, v + off[k])));
    this.panes = new Map(this.ids.map((id) => [id, old.get(id) || { zoom: this.zoom, x: place(id)[0], y: place(id)[1], full: null }]));
    const columns = this.ids.length > 4 ? 3 : this.ids.length > 1 ? 2 : 1;
    this.host.style.gridTemplateColumns = `repeat(${columns}, minmax(0, 1fr))`;
    this.host.replaceChildren(
      ...this.ids.map((id) =>
        el("figure", { class: "large-pane relative m-0 min-w-0 min-h-0 overflow-hidden bg-surround grid place-items-center cursor-grab touch-none", "data-id": String(id) }, el("img", { alt: "", draggable: "false", class: this.quick && !this.zoom ? "whole quick" : "", src: this.quick && !this.zoom ? this.quick(id) : null }), el("span", { class: "large-area" }), el("figcaption", {})),
      ),
    );
    this.captions();
    this.draw();
  }

  captions() {
    for (const figure of this.host.children) {
      const row = this.rows().find((r) => r.frame === Number(figure.dataset.id));
      if (!row) continue;
      figure.querySelector("figcaption").replaceChildren(...this.caption(row));
    }
  }

  // Draws all panes; each asks for its newest view only.
  draw() {
    for (const figure of this.host.children) this.view(figure);
  }

  async view(figure) {
    const id = Number(figure.dataset.id);
    const pane = this.panes.get(id);
    if (this.waiting.has(id)) {
      this.waiting.set(id, "again");
      return;
    }
    this.waiting.set(id, "asked");
    const ratio = window.devicePixelRatio || 1;
    const w = Math.max(16, Math.round(figure.clientWidth * ratio));
    const h = Math.max(16, Math.round(figure.clientHeight * ratio));
    const url = `/api/frames/${id}/view?width=${w}&height=${h}&zoom=${pane.zoom}&x=${pane.x.toFixed(4)}&y=${pane.y.toFixed(4)}`;
    const blob = await trying(async () => {
      const answer = await fetch(url);
      if (!answer.ok) throw new Error(worded((await answer.json()).error));
      pane.full = answer.headers.get("x-full").split("x").map(Number);
      return answer.blob();
    });
    const again = this.waiting.get(id) === "again";
    this.waiting.delete(id);
    if (!figure.isConnected) return;
    if (blob) {
      const image = figure.querySelector("img");
      URL.revokeObjectURL(image.src);
      image.src = URL.createObjectURL(blob);
      image.style.transform = "";
      image.style.imageRendering = pane.zoom > 1 ? "pixelated" : "";
      image.classList.toggle("whole", pane.zoom === 0);
      image.classList.remove("quick");
      if (pane.zoom > 1) image.onload = () => (image.style.width = `${(image.naturalWidth * pane.zoom) / ratio}px`);
      else image.style.width = "";
      this.area(figure, pane);
    }
    if (again) this.view(figure);
  }

  // The measured area, over the whole picture.
  area(figure, pane) {
    const row = this.rows().find((r) => r.frame === Number(figure.dataset.id));
    const place = figure.querySelector(".large-area");
    place.replaceChildren();
    if (pane.zoom !== 0 || !row || !pane.full || !this.outlined()) return;
    const scale = Math.min(figure.clientWidth / pane.full[0], figure.clientHeight / pane.full[1]);
    Object.assign(place.style, { width: `${pane.full[0] * scale}px`, height: `${pane.full[1] * scale}px` });
    place.append(outlines(row.outline));
  }

  zoomTo(zoom, id = null) {
    this.zoom = zoom;
    for (const [key, pane] of this.panes) if (this.together || key === id || id === null) pane.zoom = zoom;
    for (const b of document.querySelectorAll("[data-large-zoom]")) b.setAttribute("aria-pressed", String(Number(b.dataset.largeZoom) === zoom));
    this.draw();
  }

  drag(event) {
    const figure = event.target.closest(".large-pane");
    if (!figure) return;
    const here = this.panes.get(Number(figure.dataset.id));
    if (!here.zoom || !here.full) return;
    event.preventDefault();
    const moved = this.together ? [...this.panes.values()] : [here];
    const images = this.together ? [...this.host.querySelectorAll("img")] : [figure.querySelector("img")];
    const from = [event.clientX, event.clientY];
    const move = (e) => {
      for (const image of images) image.style.transform = `translate(${e.clientX - from[0]}px, ${e.clientY - from[1]}px)`;
    };
    const up = (e) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      const ratio = window.devicePixelRatio || 1;
      const dx = ((e.clientX - from[0]) * ratio) / here.zoom / here.full[0];
      const dy = ((e.clientY - from[1]) * ratio) / here.zoom / here.full[1];
      for (const pane of moved) Object.assign(pane, { x: Math.min(1, Math.max(0, pane.x - dx)), y: Math.min(1, Math.max(0, pane.y - dy)) });
      if (this.together) this.draw();
      else this.view(figure);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  }
}

const lineupCaption = (row) => {
  const off = row.difference === null ? "?" : number(row.difference, 1);
  return [el("b", { text: row.name.replace(/\.[^.]+$/, "") }), el("span", { text: ` ${off}  ${row.words || t`as the reference`}` })];
};

// The rims of an area as lines over a picture.
export function outlines(rims) {
  const root = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  root.setAttribute("viewBox", "0 0 1000 1000");
  root.setAttribute("preserveAspectRatio", "none");
  root.setAttribute("class", "area-lines");
  for (const rim of rims || []) {
    const points = rim.map(([x, y]) => `${(x * 1000).toFixed(1)},${(y * 1000).toFixed(1)}`).join(" ");
    for (const kind of ["under", "over"]) {
      const line = document.createElementNS("http://www.w3.org/2000/svg", "polygon");
      line.setAttribute("points", points);
      line.setAttribute("class", kind);
      root.append(line);
    }
  }
  return root;
}

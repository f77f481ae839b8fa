// How the picture is looked at: zoom, split, marks, proof, surround.
import { get } from "../api.js";
import { opens } from "../commands.js";
import { byId, el } from "../dom.js";
import { trying } from "../shell.js";

export class View {
  // redraw() asks for the picture again
  constructor(picture, redraw) {
    Object.assign(this, { picture, redraw });
    picture.onZoom = (zoom, at) => this.zoom(zoom, at);
    for (const b of document.querySelectorAll("[data-zoom]")) b.addEventListener("click", () => this.zoom(Number(b.dataset.zoom)));
    document.querySelector('.under [data-do="split"]').addEventListener("click", () => this.split());
    opens(byId("view-menu"), byId("view-choices"));
    for (const name of ["marks", "outside", "rebuilt"]) byId(`see-${name}`).addEventListener("change", (event) => this.mark(name, event.target.checked));
    byId("proof").addEventListener("change", (event) => {
      picture.proof = event.target.value;
      byId("paper-choice").hidden = !picture.proof;
      this.said();
      redraw(false);
    });
    byId("paper").addEventListener("change", (event) => {
      picture.paper = event.target.checked;
      redraw(false);
    });
    byId("surround").value = localStorage.getItem("tanner.surround") || "mid";
    byId("surround").addEventListener("change", () => this.surround());
    this.surround();
  }

  zoom(zoom, at = null) {
    for (const b of document.querySelectorAll("[data-zoom]")) b.setAttribute("aria-pressed", Number(b.dataset.zoom) === zoom);
    this.picture.setZoom(zoom, at);
  }

  split() {
    this.picture.setSplit(!this.picture.split);
    document.querySelector('.under [data-do="split"]').setAttribute("aria-pressed", Boolean(this.picture.split));
  }

  // name: marks, outside or rebuilt
  mark(name, on = !this.picture[name]) {
    this.picture[name] = on;
    byId(`see-${name}`).checked = on;
    this.said();
    this.redraw(false);
  }

  // What is on is said beside the menu's name, so that no mark in the picture is a riddle.
  said() {
    const { marks, outside, rebuilt, proof } = this.picture;
    const on = [marks && "clipped", outside && "outside", rebuilt && "rebuilt", proof && "proof"].filter(Boolean);
    byId("view-text").textContent = on.length ? `: ${on.join(", ")}` : "";
  }

  surround() {
    localStorage.setItem("tanner.surround", byId("surround").value);
    byId("picture").className = `picture ${byId("surround").value}`;
  }

  // Looks and proofs from Kit.
  async kitFiles() {
    const data = await trying(() => get("/api/profiles"));
    if (!data) return;
    byId("look").append(...data.looks.map((l) => el("option", { value: l.key, text: l.name })));
    byId("proof").append(...data.iccs.map((i) => el("option", { value: i.key, text: i.name })));
  }
}

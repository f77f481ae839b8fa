// The pictures that could be brought in: in a grid by pauses in time, chosen by click, range and drag, one large on a key.
import { byId, el } from "./dom.js";
import { plural, t } from "./texts.js";

const PAUSE_S = 600;
// px a pointer moves before it draws a frame around pictures
const DRAG = 6;
const FITTED = "size-full min-h-0 object-contain";

export class Picker {
  // count() is called when others are chosen
  constructor({ host, count }) {
    Object.assign(this, { host, count, files: [], taken: new Set(), in: new Map(), at: -1, anchor: -1 });
    host.addEventListener("click", (event) => this.click(event));
    host.addEventListener("pointerdown", (event) => this.drag(event));
    const size = byId("import-size");
    size.value = localStorage.getItem("tanner.import-size") || "150";
    const resize = () => host.style.setProperty("--tile", `${size.value}px`);
    size.addEventListener("input", () => {
      localStorage.setItem("tanner.import-size", size.value);
      resize();
    });
    resize();
    this.large = byId("import-large");
    this.large.addEventListener("click", () => this.zoom());
    this.large.addEventListener("close", () => this.mark());
    this.large.addEventListener("keydown", (event) => {
      const run = { ArrowRight: () => this.walk(1), ArrowLeft: () => this.walk(-1), z: () => this.zoom(), " ": () => this.large.close(), x: () => this.toggle() }[event.key];
      if (!run) return;
      event.preventDefault();
      run();
    });
  }

  chosen() {
    return this.files.filter((f) => this.taken.has(f.path));
  }

  show(files) {
    this.files = [...files].sort((a, b) => a.when - b.when || a.path.localeCompare(b.path));
    this.in = new Map();
    this.taken = new Set(this.files.map((f) => f.path));
    this.at = this.anchor = -1;
    this.tiles = this.files.map((file, at) =>
      el("button", { type: "button", class: "import-tile flex flex-col gap-0.5 border-2 border-transparent p-1 text-left not-aria-pressed:bg-panel not-aria-pressed:text-soft aria-pressed:bg-raised aria-pressed:text-ink", "data-at": String(at), "aria-pressed": "true", title: file.under === "." ? file.name : `${file.under}/${file.name}` },
        el("img", { src: `/api/import/picture?path=${encodeURIComponent(file.path)}`, alt: "", loading: "lazy", draggable: "false", class: "aspect-[3/2] w-full bg-surround object-contain", onerror: (event) => event.target.classList.add("opacity-0") }),
        el("span", { class: "flex items-baseline justify-between gap-2 overflow-hidden text-small" }, el("span", { class: "truncate", text: file.name }), el("span", { class: "tile-note dim flex-none", text: file.companions.length ? t`with ${file.companions.map((n) => n.split(".").pop()).join(", ")}` : "" })),
      ),
    ); // prettier-ignore
    const parts = [];
    let last = -Infinity;
    this.files.forEach((file, at) => {
      if (file.when - last > PAUSE_S) {
        const first = at;
        const n = this.files.slice(at).findIndex((f, k, rest) => k > 0 && f.when - rest[k - 1].when > PAUSE_S);
        const many = n < 0 ? this.files.length - at : n;
        const when = new Date(file.when * 1000);
        const said = when.toLocaleString(document.documentElement.lang, { day: "numeric", month: "long", hour: "2-digit", minute: "2-digit" });
        parts.push(el("h3", { class: "col-span-full flex items-center gap-3 pt-2" }, `${said}, ${plural(many, "frame")}`, el("button", { type: "button", class: "plain", text: t`Choose these`, onclick: () => this.range(first, first + many - 1) })));
      }
      last = file.when;
      parts.push(this.tiles[at]);
    });
    this.host.replaceChildren(...parts);
    this.count();
  }

  // What is in already is left out, and files that cannot be read are named.
  known(files) {
    for (const [path, what] of Object.entries(files)) {
      this.in.set(path, what);
      if (what.in) this.taken.delete(path);
    }
    this.mark();
  }

  // Frames that came in are shown as such.
  came(items) {
    for (const item of items) if (item.state === "in" || item.state === "already") this.in.set(item.path, { in: item.name });
    this.mark();
  }

  mark() {
    this.files.forEach((file, at) => {
      const tile = this.tiles[at];
      const what = this.in.get(file.path);
      tile.setAttribute("aria-pressed", String(this.taken.has(file.path)));
      tile.querySelector("img").classList.toggle("opacity-30", Boolean(what?.in));
      tile.classList.toggle("border-accent!", at === this.at);
      if (what) {
        const note = tile.querySelector(".tile-note");
        note.textContent = what.error ? t`cannot be read` : what.in ? t`in already` : note.textContent;
        note.title = what.error || (what.in ? t`In as ${what.in}` : "");
      }
    });
    this.count();
  }

  free(at) {
    return !this.in.get(this.files[at]?.path)?.in;
  }

  range(from, to, on = true) {
    for (let at = Math.min(from, to); at <= Math.max(from, to); at += 1) {
      if (!this.free(at)) continue;
      if (on) this.taken.add(this.files[at].path);
      else this.taken.delete(this.files[at].path);
    }
    this.mark();
  }

  all() {
    this.range(0, this.files.length - 1);
  }

  none() {
    this.taken.clear();
    this.mark();
  }

  toggle(at = this.at) {
    if (at < 0 || !this.free(at)) return;
    this.range(at, at, !this.taken.has(this.files[at].path));
    this.caption();
  }

  click(event) {
    const tile = event.target.closest(".import-tile");
    if (!tile || this.dragged) {
      this.dragged = false;
      return;
    }
    const at = Number(tile.dataset.at);
    if (event.shiftKey && this.anchor >= 0) this.range(this.anchor, at, this.taken.has(this.files[this.anchor].path));
    else this.toggle(at);
    this.at = this.anchor = at;
    this.mark();
  }

  // Pictures that a pointer is dragged over become as the first of them is made by it.
  drag(event) {
    const first = event.target.closest(".import-tile");
    if (!first || event.button) return;
    const from = Number(first.dataset.at);
    const start = [event.clientX, event.clientY];
    const on = !this.taken.has(this.files[from].path);
    const move = (e) => {
      if (!this.dragged && Math.hypot(e.clientX - start[0], e.clientY - start[1]) < DRAG) return;
      this.dragged = true;
      const over = document.elementFromPoint(e.clientX, e.clientY)?.closest(".import-tile");
      if (over) this.range(from, Number(over.dataset.at), on);
    };
    const up = () => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      // A click follows a drag only where it ends on the tile that it began on.
      setTimeout(() => (this.dragged = false), 0);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  }

  walk(by) {
    if (!this.files.length) return;
    this.at = Math.min(Math.max(this.at + by, 0), this.files.length - 1);
    this.mark();
    this.tiles[this.at].scrollIntoView({ block: "nearest" });
    if (this.large.open) this.open();
  }

  columns() {
    return getComputedStyle(this.host).gridTemplateColumns.split(" ").length;
  }

  open() {
    if (this.at < 0) this.at = 0;
    const file = this.files[this.at];
    if (!file) return;
    const image = byId("import-large-picture");
    image.className = FITTED;
    image.src = `/api/import/picture?large=true&path=${encodeURIComponent(file.path)}`;
    this.caption();
    if (!this.large.open) this.large.showModal();
  }

  caption() {
    const file = this.files[this.at];
    if (file) byId("import-large-text").textContent = t`${file.name}${this.taken.has(file.path) ? t`, chosen` : this.free(this.at) ? t`, not chosen` : t`, in already`}. X chooses, Z zooms, the arrows walk, Space closes.`;
  }

  zoom() {
    const image = byId("import-large-picture");
    image.className = image.className === FITTED ? "max-w-none" : FITTED;
  }

  commands() {
    return [
      ["right", "ArrowRight", t`Next picture`, () => this.walk(1)],
      ["left", "ArrowLeft", t`Picture before`, () => this.walk(-1)],
      ["down", "ArrowDown", t`Row below`, () => this.walk(this.columns())],
      ["up", "ArrowUp", t`Row above`, () => this.walk(-this.columns())],
      ["large", "v", t`This picture large`, () => this.open()],
      ["toggle", "x", t`Choose this picture, or not`, () => this.toggle()],
      ["all", "Ctrl+a", t`All that are new`, () => this.all()],
    ].map(([id, key, label, run]) => ({ id, key, label, run }));
  }
}

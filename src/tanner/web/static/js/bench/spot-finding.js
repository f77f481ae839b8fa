// What is looked for: specks by themselves, dust on the sensor; and the walk over the whole picture at 100 %.
import { post } from "../api.js";
import { beside } from "../commands.js";
import { byId, el } from "../dom.js";
import { tell, trying } from "../shell.js";
import { answered } from "./questions.js";
import { plural, t } from "../texts.js";

const KINDS = [
  [t`Specks and scratches`, t`On even ground: specks, lint, scratches`, (f) => f.find(false)],
  [t`Also on textured things`, t`Everywhere, so that much is shown that is none`, (f) => f.find(true)],
  [t`Dust on the sensor`, t`What frames of this camera show at the same place of the sensor`, (f) => f.dust(false)],
  [t`Dust in this plain frame`, t`A plain wall, shot at f/11 or smaller for this`, (f) => f.dust(true)],
];

export class SpotFinding {
  constructor(spots) {
    this.spots = spots;
    this.bench = spots.bench;
    this.found = []; // what was found and is not accepted yet
    this.ofSensor = false;
    this.screen = -1;
    this.menu = el("div", { popover: "auto", class: "popover p-2", role: "menu", "aria-label": t`What is looked for` });
    this.menu.append(
      el("div", { class: "grid gap-1", role: "presentation" }, ...KINDS.map(([label, title, run]) => el("button", { type: "button", role: "menuitem", class: "text-left border-transparent bg-transparent", title, text: label, onclick: () => (this.menu.hidePopover(), run(this)) }))),
    );
    document.body.append(this.menu);
    const button = byId("spot-looking");
    button.addEventListener("click", () => {
      if (this.looking) {
        this.looking = false;
        return;
      }
      this.menu.togglePopover();
      if (!this.menu.matches(":popover-open")) return;
      beside(this.menu, button);
      this.menu.querySelector("button").focus();
    });
    byId("spot-limit").addEventListener("input", () => this.show());
    byId("spot-accept").addEventListener("click", () => this.accept());
    byId("spot-drop").addEventListener("click", () => {
      this.found = [];
      this.show();
    });
    byId("spot-walk").addEventListener("click", () => this.walk(1));
  }

  async asked(url, body, words) {
    const button = byId("spot-looking");
    button.disabled = true;
    button.textContent = words;
    const got = await trying(() => post(`/api/frames/${this.bench.frame().id}/${url}`, body));
    button.disabled = false;
    button.textContent = t`Look for ▾`;
    return got;
  }

  async find(everywhere) {
    const { id } = this.bench.frame();
    const got = await this.asked("spots/find", { everywhere }, t`Looking …`);
    if (!got || this.bench.frame().id !== id) return;
    this.of = id;
    this.found = got.spots;
    this.ofSensor = false;
    this.about = "";
    if (!got.spots.length) tell(t`Nothing was found on even ground.`);
    this.show();
  }

  // The button that looks stops it while it is under way.
  async dust(plain) {
    const button = byId("spot-looking");
    const { id } = this.bench.frame();
    this.looking = true;
    const got = await answered(
      () => post(`/api/frames/${id}/dust/find`, { plain }),
      (done, count) => {
        button.textContent = this.looking ? t`Stop (${done} of ${count})` : t`Stopping …`;
        return this.looking;
      },
    );
    this.looking = false;
    button.textContent = t`Look for ▾`;
    if (!got || this.bench.frame().id !== id) return;
    this.of = id;
    const [a, b, c, d] = got.turn;
    this.found = got.specks.map((s) => ({ ...s, kind: "dust", path: [[a * s.at[0] + b * s.at[1], c * s.at[0] + d * s.at[1]]] }));
    this.ofSensor = true;
    this.about = got.said;
    if (!got.specks.length) tell(t`No dust was found. ${got.said}`);
    this.show();
  }

  // What was found in one frame is nothing in another.
  fresh(frame) {
    if (!this.found.length || this.of === frame) return;
    this.found = [];
    this.show();
  }

  wanted() {
    const limit = Number(byId("spot-limit").value) / 100;
    return this.found.filter((f) => f.confidence >= limit);
  }

  show() {
    const n = this.wanted().length;
    byId("spot-found").hidden = !this.found.length;
    byId("spot-found-text").textContent = t`${plural(n, "place")} of ${this.found.length}, from ${byId("spot-limit").value} % sure on. ${this.about || ""}`;
    byId("spot-accept").textContent = this.ofSensor ? t`Keep for this camera` : t`Heal these`;
    byId("spot-accept").disabled = !n;
    this.bench.picture.draw();
  }

  // At most so many values go in one step.
  async accept() {
    const wanted = this.wanted();
    const { ofSensor } = this;
    if (ofSensor) {
      const kept = await trying(() => post(`/api/frames/${this.bench.frame().id}/dust`, { specks: wanted.map((f) => ({ x: f.path[0][0], y: f.path[0][1], size: f.size })) }));
      if (!kept) return;
      tell(t`${plural(kept.count, "piece")} of dust kept for this camera in Kit: healed in every frame that it took from that day on.`);
    }
    this.found = [];
    this.show();
    if (ofSensor) await this.bench.refresh();
    else {
      const things = wanted.map((f) => ({ path: f.path, size: f.size, name: f.kind[0].toUpperCase() + f.kind.slice(1), way: "heal" }));
      for (let n = 0; n < things.length; n += 18) await this.spots.put(things.slice(n, n + 18));
    }
  }

  // The whole picture at 100 %, screen by screen, row by row to and fro, each a little over the one before.
  walk(by) {
    const { picture } = this.bench;
    const full = picture.after?.header.full;
    if (!full) return;
    const part = [picture.canvas.width * 0.94, picture.canvas.height * 0.94];
    const columns = Math.max(1, Math.ceil(full[0] / part[0]));
    const rows = Math.max(1, Math.ceil(full[1] / part[1]));
    const count = columns * rows;
    this.screen = (this.screen + by + count) % count;
    const row = Math.floor(this.screen / columns);
    const along = this.screen % columns;
    const column = row % 2 ? columns - 1 - along : along;
    const at = (n, of) => (of < 2 ? 0.5 : (n + 0.5) / of);
    picture.x = at(column, columns);
    picture.y = at(row, rows);
    this.bench.view.zoom(1);
    byId("spot-walked").hidden = false;
    byId("spot-walked").textContent = t`Screen ${this.screen + 1} of ${count}; keys . and , go on and back.`;
  }
}

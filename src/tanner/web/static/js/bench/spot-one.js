// The chosen spot: how it is put right, where from, what it holds to, and what the other frames say of it.
import { post } from "../api.js";
import { byId, el } from "../dom.js";
import { Rule } from "../rule.js";
import { tell, trying } from "../shell.js";
import { answered } from "./questions.js";
import { t } from "../texts.js";

const PROPOSALS = 3;

export class SpotOne {
  constructor(spots) {
    this.spots = spots;
    this.bench = spots.bench;
    this.controls = new Map();
    this.said = new Map(); // by spot: what the other frames say
    this.first = 0; // the first of the proposals that are shown
    for (const root of document.querySelectorAll("#spot-one .rule")) this.controls.set(root.dataset.key.split("/")[2], new Rule(root, { ...this.bench.table[root.dataset.key], offset: null }));
    byId("spot-one-ways").addEventListener("click", (event) => {
      const { way } = event.target.closest("[data-way]")?.dataset || {};
      if (way) this.set({ way });
    });
    byId("spot-calms").addEventListener("change", (event) => this.set({ calm: event.target.value }));
    byId("spot-holds").addEventListener("change", (event) => this.hold(event.target.value));
    byId("spot-evidence").addEventListener("click", () => this.ask());
    byId("spot-again").addEventListener("click", () => trying(() => post("/api/spots/follow", { frames: [this.bench.frame().id], spots: [this.spots.chosen] })));
    byId("spot-proposals").addEventListener("click", () => this.propose());
    byId("spot-found-source").addEventListener("click", () => this.set({ source: [] }));
    byId("spot-along").addEventListener("click", () => this.drawAlong(!this.along));
    byId("spot-along-off").addEventListener("click", () => this.set({ along: [] }));
    byId("spot-other").addEventListener("change", (event) => this.takeFrom(event.target.value));
  }

  key(name) {
    return `spots/${this.spots.chosen}/${name}`;
  }

  set(values) {
    return this.bench.edit(Object.fromEntries(Object.entries(values).map(([name, value]) => [this.key(name), value])));
  }

  fill() {
    const spot = this.spots.one();
    byId("spot-one").hidden = !spot;
    if (spot?.id !== this.shown) {
      this.drawAlong(false);
      this.shown = spot?.id;
      this.first = 0;
      byId("spot-proposed").hidden = true;
      byId("spot-proposals").textContent = t`Other proposals`;
      byId("spot-proposals").setAttribute("aria-expanded", "false");
    }
    if (!spot) return;
    const { frame } = this.bench;
    for (const [name, control] of this.controls) {
      const key = this.key(name);
      control.about.key = key;
      const below = frame().below[key] ?? control.about.neutral;
      control.set(this.bench.shown(key) ?? control.about.neutral, { below, shown: below, follows: frame().follows, own: frame().ownKeys.includes(key), offset: false });
    }
    const way = spot.way || "heal";
    for (const b of byId("spot-one-ways").children) b.setAttribute("aria-pressed", String(b.dataset.way === way));
    byId("spot-calm").hidden = way !== "even";
    byId("spot-calms").value = spot.calm || "finer";
    byId("spot-source").hidden = way === "even";
    byId("spot-proposals-line").hidden = Boolean(spot.other);
    byId("spot-found-source").hidden = spot.source?.length !== 2;
    byId("spot-along-line").hidden = way !== "fill";
    byId("spot-along-off").hidden = !spot.along?.length;
    if (way !== "fill") this.drawAlong(false);
    const others = this.others();
    byId("spot-other").replaceChildren(el("option", { value: "", text: t`this frame` }), ...others.map((f) => el("option", { value: f.id, text: f.name, selected: f.name === spot.other })));
    if (spot.other && !others.some((f) => f.name === spot.other)) byId("spot-other").append(el("option", { value: "-", text: spot.other, selected: true }));
    const dust = spot.holds === "sensor";
    byId("spot-holds-part").hidden = dust;
    const followed = frame().follows && frame().layers[this.key("path")] === "lead";
    byId("spot-holds").value = spot.holds || "setup";
    byId("spot-holds").disabled = followed;
    byId("spot-again").hidden = !followed;
    const said = this.said.get(spot.id);
    byId("spot-said").hidden = !said;
    if (said) byId("spot-said").replaceChildren(said.said, " ", ...(said.holds && said.holds !== (spot.holds || "setup") ? [el("button", { type: "button", class: "plain underline", text: t`Set it so`, onclick: () => this.hold(said.holds) })] : []));
  }

  // Whether the next stroke says what continues in the chosen spot.
  drawAlong(on) {
    this.along = on;
    byId("spot-along").setAttribute("aria-pressed", String(on));
  }

  // Frames that a place may be taken from: of the same set.
  others() {
    return this.bench.frames().filter((f) => f.id !== this.bench.frame().id && !f.error);
  }

  async takeFrom(value) {
    if (!value) return this.set({ other: "", other_at: [] });
    const found = await trying(() => post(`/api/frames/${this.bench.frame().id}/spots/${this.spots.chosen}/from`, { frame: Number(value) }));
    return found ? this.set({ other: found.other, other_at: found.at, way: "heal" }) : this.fill();
  }

  // What holds to the sensor goes into Kit, for every frame of this camera; all else is said of the spot.
  async hold(holds) {
    if (holds !== "sensor") return this.set({ holds });
    const kept = await trying(() => post(`/api/frames/${this.bench.frame().id}/dust`, { spots: [this.spots.chosen] }));
    if (kept) tell(t`Kept for this camera in Kit, under Sensor dust: healed in every frame that it took from that day on.`);
    await this.bench.refresh();
    return kept;
  }

  // Asked again while it is under way: it is stopped.
  async ask() {
    const button = byId("spot-evidence");
    if (this.asking) {
      this.asking = false;
      return;
    }
    const id = this.spots.chosen;
    const { id: frame } = this.bench.frame();
    this.asking = true;
    byId("spot-said").hidden = false;
    const found = await answered(
      () => post(`/api/frames/${frame}/spots/evidence`, { spots: [id] }),
      (done, count) => {
        button.textContent = this.asking ? t`Stop` : t`Stopping …`;
        byId("spot-said").textContent = t`Looking at other frames of this camera: ${done} of ${count}.`;
        return this.asking;
      },
    );
    this.asking = false;
    button.textContent = t`Ask the other frames`;
    if (found) this.said.set(id, found.spots[id]);
    this.fill();
  }

  // Three proposals side by side, each as it would look; the one that is taken is marked. Asked again: the next three.
  propose() {
    const spot = this.spots.one();
    const open = !byId("spot-proposed").hidden;
    if (open) this.first = (this.first + PROPOSALS) % 99;
    byId("spot-proposals").setAttribute("aria-expanded", "true");
    byId("spot-proposals").textContent = t`Three more`;
    byId("spot-proposed").hidden = false;
    byId("spot-proposed").replaceChildren(
      ...Array.from({ length: PROPOSALS }, (_, k) => {
        const n = this.first + k;
        const button = el("button", { type: "button", class: "aspect-square overflow-hidden border-2 border-line p-0! aria-pressed:border-accent", "aria-pressed": String(n === (spot.another || 0)), "aria-label": t`Proposal ${n + 1}`, title: t`Proposal ${n + 1}` });
        button.append(el("img", { class: "size-full object-cover", alt: "", src: `/api/frames/${this.bench.frame().id}/spots/${spot.id}/picture?shown=proposal&number=${n}&size=96` }));
        button.addEventListener("click", async () => {
          await this.set({ another: n, source: [] });
          for (const b of byId("spot-proposed").children) b.setAttribute("aria-pressed", String(b === button));
        });
        return button;
      }),
    );
  }
}

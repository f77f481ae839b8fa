// The frames of a shoot as a page keeps them: read whole once, and after that only what changed.
import { get } from "./api.js";

// As the server orders them: by time, those without one first, then by name.
const inTime = (a, b) => {
  const [x, y] = [a.taken || "", b.taken || ""];
  return x < y ? -1 : x > y ? 1 : a.name < b.name ? -1 : Number(a.name > b.name);
};

export class Roster {
  constructor(shoot) {
    this.url = `/api/shoots/${shoot}/sheet`;
    this.byId = new Map();
    this.sets = [];
    this.total = 0;
    this.preset = null;
    this.counter = 0; // of pictures that became ready
    this.known = null;
    this.reading = Promise.resolve();
  }

  get frames() {
    return [...this.byId.values()];
  }

  // One after another: two answers never change places. first: only so many, for a start.
  read(first = 0) {
    const next = this.reading.catch(() => {}).then(() => this.asked(first));
    this.reading = next;
    return next;
  }

  async asked(first) {
    const query = first ? { first } : this.known || {};
    const found = await get(`${this.url}?${new URLSearchParams(query)}`);
    if (!found.whole && !this.merged(found)) {
      this.known = null;
      return this.asked(0);
    }
    if (found.whole) this.byId = new Map(found.frames.map((frame) => [frame.id, frame]));
    // A first part alone is nothing that changes are told against.
    this.known = found.frames.length < found.total && found.whole ? null : { since: found.tick, basis: found.basis };
    for (const key of ["sets", "total", "preset", "counter"]) this[key] = found[key];
    return found;
  }

  // What is shown here may no longer be the truth: the next reading is of all.
  forget() {
    this.known = null;
  }

  // false: what came does not fit what is here, and all has to be read
  merged(found) {
    let order = false;
    for (const id of found.gone) this.byId.delete(id);
    for (const frame of found.frames) {
      const before = this.byId.get(frame.id);
      order ||= !before || before.taken !== frame.taken || before.name !== frame.name;
      this.byId.set(frame.id, frame);
    }
    if (order) this.byId = new Map([...this.byId.values()].sort(inTime).map((frame) => [frame.id, frame]));
    return this.byId.size === found.total;
  }
}

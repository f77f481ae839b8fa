// Watches for pictures that become ready, and only while some are waited for.
import { get, post } from "./api.js";
import { hear } from "./news.js";

const GATHERED = 80; // ms

export class Fresh {
  // onReady(map of frame id to version)
  constructor(shoot, counter, onReady) {
    this.shoot = shoot;
    this.counter = counter;
    this.onReady = onReady;
    this.watching = false;
    this.wanted = [];
    this.asking = null;
  }

  // What is asked for within a moment is asked for together, as while one scrolls: the newest first.
  want(frames) {
    if (!frames.length) return;
    this.wanted = [...new Set([...frames, ...this.wanted])].slice(0, 500);
    this.asking ??= setTimeout(() => this.ask(), GATHERED);
  }

  async ask() {
    const frames = this.wanted.splice(0);
    this.asking = null;
    await post(`/api/shoots/${this.shoot}/want`, { frames }).catch(() => {});
    this.watch();
  }

  async watch() {
    if (this.watching) return;
    this.watching = true;
    const line = hear("pictures");
    for (let pending = true; pending; ) {
      await line.next(300);
      const found = await get(`/api/shoots/${this.shoot}/pictures?since=${this.counter}`).catch(() => null);
      if (!found) continue; // the server is away for a while
      this.counter = found.counter;
      if (Object.keys(found.ready).length) this.onReady(found.ready);
      pending = found.pending;
    }
    this.watching = false;
  }
}

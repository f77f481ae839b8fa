// Watches for pictures that become ready, and only while some are waited for.
import { get, post } from "./api.js";
import { hear } from "./news.js";

export class Fresh {
  // onReady(map of frame id to version)
  constructor(shoot, counter, onReady) {
    this.shoot = shoot;
    this.counter = counter;
    this.onReady = onReady;
    this.watching = false;
  }

  async want(frames) {
    if (!frames.length) return;
    await post(`/api/shoots/${this.shoot}/want`, { frames: frames.slice(0, 500) }).catch(() => {});
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

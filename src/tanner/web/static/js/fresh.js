// Watches for pictures that become ready, and only while some are waited for.
import { get, post } from "./api.js";

export class Fresh {
  // onReady(map of frame id to version)
  constructor(shoot, counter, onReady) {
    this.shoot = shoot;
    this.counter = counter;
    this.onReady = onReady;
    this.timer = null;
  }

  async want(frames) {
    if (!frames.length) return;
    await post(`/api/shoots/${this.shoot}/want`, { frames: frames.slice(0, 500) }).catch(() => {});
    this.watch();
  }

  watch() {
    if (!this.timer) this.timer = setTimeout(() => this.look(), 350);
  }

  async look() {
    this.timer = null;
    let news;
    try {
      news = await get(`/api/shoots/${this.shoot}/pictures?since=${this.counter}`);
    } catch {
      this.timer = setTimeout(() => this.look(), 3000);
      return;
    }
    this.counter = news.counter;
    if (Object.keys(news.ready).length) this.onReady(news.ready);
    if (news.pending) this.watch();
  }
}

// The line to the server's renderer: one view under way of each kind, the newest wish waits behind it.

export class Line {
  // onView(header, bitmap), onProbe(values), onState(open)
  constructor({ onView, onProbe, onState }) {
    Object.assign(this, { onView, onProbe, onState });
    this.number = 0;
    this.under = new Map();
    this.next = new Map();
    this.open();
  }

  open() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/ws/bench`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => {
      this.onState?.(true);
      for (const kind of [...this.next.keys()]) this.flush(kind);
    };
    this.socket.onclose = () => {
      for (const [kind, ask] of this.under) if (!this.next.has(kind)) this.next.set(kind, ask);
      this.under.clear();
      if (this.ended) return;
      this.onState?.(false);
      setTimeout(() => this.open(), 1000);
    };
    this.socket.onmessage = (event) => this.receive(event.data);
  }

  ask(message) {
    const kind = message.view.before ? "before" : "after";
    this.next.set(kind, message);
    if (!this.under.has(kind)) this.flush(kind);
  }

  flush(kind) {
    const message = this.next.get(kind);
    if (!message || this.socket.readyState !== WebSocket.OPEN) return;
    this.next.delete(kind);
    this.number += 1;
    this.under.set(kind, message);
    this.socket.send(JSON.stringify({ ...message, id: this.number }));
  }

  get idle() {
    return this.under.size === 0 && this.next.size === 0;
  }

  probe(x, y) {
    if (this.socket.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify({ probe: [x, y] }));
  }

  async receive(data) {
    if (typeof data === "string") {
      this.onProbe?.(JSON.parse(data).probe);
      return;
    }
    const length = new DataView(data).getUint32(0, true);
    const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length)));
    // An error carries no "before": both kinds may go on.
    const kind = header.before ? "before" : "after";
    const asked = this.under.get(kind);
    if (header.error) this.under.clear();
    else this.under.delete(kind);
    this.flush(kind);
    const bitmap = header.error ? null : await createImageBitmap(new Blob([new Uint8Array(data, 4 + length)], { type: "image/jpeg" }));
    this.onView(header, bitmap, asked);
  }

  destroy() {
    this.ended = true;
    this.socket.close();
  }
}

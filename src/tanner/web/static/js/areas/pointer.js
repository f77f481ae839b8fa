// Areas on the picture: what is drawn over it, and what the pointer does to it. `Areas` adds the list and the panel.
import { byId } from "../dom.js";
import { Places } from "../places.js";
import { again, unplaced } from "./geometry.js";
import * as handles from "./handles.js";

export class AreaPointer {
  unplaced(p) {
    return this.drawing && !this.drawing.into ? p : unplaced(this.place(), p);
  }

  handles() {
    const shape = this.shapes()[this.parts.chosen];
    if (!shape || this.painting()) return [];
    const forth = handles.forth(shape, this.place(), this.found());
    const soft = shape.kind === "outline" && !this.followed() ? this.corner.handle(shape) : null;
    return [...(soft ? [soft] : []), ...handles.handlesOf(shape)].map((h) => ({ ...h, i: this.parts.chosen, here: forth(h.at), strong: h.what === "corner" && h.n === this.corner.chosen }));
  }

  draw(c, rect, header, ratio) {
    this.places = header.places ? new Places(header, rect) : null;
    if (!this.places) return undefined;
    c.save();
    if (this.one() && !this.drawing) {
      const [place, found] = [this.place(), this.found()];
      this.shapes().forEach((shape, i) => {
        const forth = handles.forth(shape, place, found);
        handles.drawShape(c, shape, (p) => this.places.canvas(forth(p)), ratio, i === this.parts.chosen);
      });
      handles.drawHandles(c, this.handles().map((h) => ({ ...h, at: h.here })), (p) => this.places.canvas(p), ratio);
    }
    c.restore();
    if (this.drawing?.kind === "brush" || this.painting()) this.brush.draw(c, ratio, this.tint());
    this.drawNew(c, ratio);
    return undefined;
  }

  drawNew(c, ratio) {
    c.strokeStyle = "#fff";
    c.lineWidth = 1.5 * ratio;
    if (this.corners) {
      const line = this.corners.map((p) => this.places.canvas(p));
      c.beginPath();
      [...line, ...(this.at ? [this.at] : [])].forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
      c.stroke();
      handles.drawHandles(c, this.corners.map((at) => ({ what: "corner", at })), (p) => this.places.canvas(p), ratio);
      return;
    }
    if (!this.drag?.fresh || !this.drag.to) return;
    c.beginPath();
    if (this.drawing?.kind === "round") c.arc(...this.drag.from, Math.hypot(this.drag.to[0] - this.drag.from[0], this.drag.to[1] - this.drag.from[1]), 0, 7);
    else {
      c.moveTo(...this.drag.from);
      c.lineTo(...this.drag.to);
    }
    c.stroke();
  }

  hit(p) {
    if (!this.places || !this.one()) return null;
    const near = 12 * this.bench.picture.ratio;
    return this.handles().find((h) => {
      const [x, y] = this.places.canvas(h.here);
      return Math.hypot(p[0] - x, p[1] - y) < near;
    });
  }

  cursor(p) {
    this.at = p;
    if (this.drawing?.kind === "brush" || (!this.drawing && this.painting())) {
      this.brush.hover(p);
      return "none";
    }
    if (this.corners) this.bench.picture.draw();
    if (this.drawing) return "crosshair";
    const handle = this.hit(p);
    return handle ? (handle.what === "move" ? "move" : "pointer") : "";
  }

  down(p) {
    if (!this.places) return false;
    const kind = this.drawing?.kind;
    if (kind === "outline") {
      this.corners ||= [];
      const first = this.corners[0] && this.places.canvas(this.corners[0]);
      if (first && this.corners.length >= 3 && Math.hypot(first[0] - p[0], first[1] - p[1]) < 10 * this.bench.picture.ratio) this.closeOutline();
      else this.corners.push(this.places.place(p));
      return true;
    }
    if (kind === "colour") {
      this.sample(p);
      return true;
    }
    if (kind === "brush" || (!kind && this.painting())) {
      this.drag = { stroke: true };
      return this.brush.down(p);
    }
    if (kind) {
      this.drag = { fresh: true, from: p, to: null };
      return true;
    }
    const handle = this.hit(p);
    if (!handle) return false;
    if (handle.what === "corner") this.corner.choose(handle.n);
    this.drag = { ...handle, from: this.places.place(p), shapes: structuredClone(this.shapes()), was: [...this.place()] };
    return true;
  }

  move(p, event) {
    if (!this.drag) return;
    if (this.drag.stroke) this.brush.move(p, event);
    else if (this.drag.fresh) this.drag.to = p;
    else this.bench.draft(this.dragged(p));
  }

  up(p) {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    if (drag.stroke) return void this.stroke();
    if (!drag.fresh) {
      const there = this.places.place(p);
      if (Math.hypot(there[0] - drag.from[0], there[1] - drag.from[1]) > 1e-4) this.bench.edit(this.dragged(p, drag));
      return;
    }
    const into = this.drawing?.into;
    const ends = [this.places.place(drag.from), this.places.place(p)].map((q) => (into ? unplaced(this.place(), q) : q));
    const shape = handles.drawnAs(this.drawing.kind, ...ends);
    if (!shape) return;
    this.stop();
    this.put(shape, into);
  }

  async stroke() {
    const stroke = this.brush.up();
    const shape = this.shapes()[this.parts.chosen];
    if (!this.drawing && shape?.kind === "brush") {
      await this.changePart({ strokes: [...(shape.strokes || []), stroke] });
    } else {
      const { into } = this.drawing || {};
      this.drawing = null;
      byId("area-drawing").hidden = true;
      await this.put({ kind: "brush", strokes: [stroke] }, into);
      this.showMask();
    }
  }

  // What a drag of a handle makes of the area: of the lead's only where it lies, else its shapes.
  dragged(p, drag = this.drag) {
    const there = this.places.place(p);
    if (this.followed()) {
      const shape = drag.shapes[drag.i];
      const middle = handles.middleOf([shape]);
      const moved = handles.carried(drag.was, drag, shape.holds === "subject" ? again(this.found(), middle) : middle, drag.from, there);
      return { [this.key("place")]: moved.map((v) => Number(v.toFixed(5))) };
    }
    const shapes = [...drag.shapes];
    shapes[drag.i] = handles.dragged(shapes[drag.i], drag, unplaced(drag.was, drag.from), unplaced(drag.was, there));
    return { [this.key("shapes")]: shapes };
  }
}

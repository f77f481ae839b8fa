// The histogram: red, green, blue and luminance of what is shown; linear or logarithmic.
import { number } from "./dom.js";
import { t } from "./texts.js";

const COLOURS = ["#e05a4a", "#58b56a", "#5b86e6"];

export class Histogram {
  constructor(root) {
    this.root = root;
    this.canvas = root.querySelector("canvas");
    this.low = root.querySelector("#clip-low");
    this.high = root.querySelector("#clip-high");
    this.button = root.querySelector("#histogram-scale");
    this.log = localStorage.getItem("tanner.histogram") === "log";
    this.button.addEventListener("click", () => {
      this.log = !this.log;
      localStorage.setItem("tanner.histogram", this.log ? "log" : "linear");
      this.draw();
    });
  }

  set(data) {
    this.data = data;
    this.draw();
  }

  draw() {
    this.button.textContent = this.log ? t`logarithmic` : t`linear`;
    if (!this.data) return;
    const ratio = window.devicePixelRatio || 1;
    const w = Math.round(this.canvas.clientWidth * ratio);
    const h = Math.round(this.canvas.clientHeight * ratio);
    if (this.canvas.width !== w || this.canvas.height !== h) Object.assign(this.canvas, { width: w, height: h });
    const context = this.canvas.getContext("2d");
    context.clearRect(0, 0, w, h);
    const { bins } = this.data;
    // The ends hold what is clipped: they do not set the height.
    const inner = bins.slice(0, 3).flatMap((b) => b.slice(2, 254)).sort((a, b) => a - b);
    const top = Math.max(inner[Math.floor(inner.length * 0.995)] * 1.1, 1);
    const height = (v) => (this.log ? Math.log1p(v) / Math.log1p(top * 1.5) : v / top);
    const line = (b) => {
      context.beginPath();
      context.moveTo(0, h);
      b.forEach((v, i) => context.lineTo((i / 255) * w, h - Math.min(height(v), 1) * (h - 2)));
      context.lineTo(w, h);
    };
    context.fillStyle = "#6a6a6a";
    line(bins[3]);
    context.fill();
    context.globalCompositeOperation = "screen";
    context.lineWidth = 1.2 * ratio;
    bins.slice(0, 3).forEach((b, c) => {
      context.strokeStyle = COLOURS[c];
      line(b);
      context.stroke();
    });
    context.globalCompositeOperation = "source-over";
    const said = (values, word) => {
      const names = ["R", "G", "B"].map((n, c) => (values[c] >= 0.01 ? `${n} ${number(values[c], values[c] < 1 ? 2 : 1)}` : "")).filter(Boolean);
      return names.length ? `${word} ${names.join(" ")} %` : t`${word} none`;
    };
    this.low.textContent = said(this.data.low, t`black`);
    this.high.textContent = said(this.data.high, t`white`);
  }
}

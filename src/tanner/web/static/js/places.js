// From places of the frame (shares of its long edge, from its middle) to the canvas and back, by the grid that comes with a view.

export class Places {
  // header.places: rows of [x, y] at even steps over the whole picture; rect: where the view lies on the canvas.
  constructor(header, [x, y, w, h]) {
    this.grid = header.places;
    const [l, t, r, b] = header.region;
    const [sw, sh] = header.size;
    this.toShare = ([px, py]) => [(l + ((px - x) / w) * (r - l)) / sw, (t + ((py - y) / h) * (b - t)) / sh];
    this.toCanvas = ([u, v]) => [x + ((u * sw - l) / (r - l)) * w, y + ((v * sh - t) / (b - t)) * h];
  }

  // The place at a share of the picture: bilinear, and straight on beyond its sides.
  at([u, v]) {
    const n = this.grid.length - 1;
    const m = this.grid[0].length - 1;
    const i = Math.min(Math.max(Math.floor(v * n), 0), n - 1);
    const j = Math.min(Math.max(Math.floor(u * m), 0), m - 1);
    const fy = v * n - i;
    const fx = u * m - j;
    const mix = (a, b, f) => [a[0] + f * (b[0] - a[0]), a[1] + f * (b[1] - a[1])];
    return mix(mix(this.grid[i][j], this.grid[i][j + 1], fx), mix(this.grid[i + 1][j], this.grid[i + 1][j + 1], fx), fy);
  }

  place(p) {
    return this.at(this.toShare(p));
  }

  // Newton's steps on `at`: the map is smooth, a few are enough.
  canvas(place) {
    let [u, v] = [0.5, 0.5];
    const h = 1e-3;
    for (let k = 0; k < 8; k += 1) {
      const here = this.at([u, v]);
      const [rx, ry] = [place[0] - here[0], place[1] - here[1]];
      if (Math.hypot(rx, ry) < 1e-6) break;
      const du = this.at([u + h, v]);
      const dv = this.at([u, v + h]);
      const [a, b, c, d] = [(du[0] - here[0]) / h, (dv[0] - here[0]) / h, (du[1] - here[1]) / h, (dv[1] - here[1]) / h];
      const det = a * d - b * c || 1e-9;
      u += (d * rx - b * ry) / det;
      v += (a * ry - c * rx) / det;
    }
    return this.toCanvas([u, v]);
  }
}

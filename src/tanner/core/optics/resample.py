"""The one resampling: from linear camera planes through the map to output pixels, with fall-off."""

import numpy as np

from tanner.core.jit import kernel
from tanner.core.optics.geometry import STEP

RUN = 16
"""Pixels that are resampled together where the map is nearly a shift."""


@kernel
def box(planes, k, out):
    """Mean of k x k blocks: float32 (3, H, W) to (3, H // k, W // k)."""
    norm = np.float32(1.0 / (k * k))
    line = np.empty(out.shape[2] * k, dtype=np.float32)
    n = out.shape[2] * k
    for c in range(3):
        for i in range(out.shape[1]):
            first = planes[c, i * k]
            for j in range(n):
                line[j] = first[j]
            for a in range(1, k):
                following = planes[c, i * k + a]
                for j in range(n):
                    line[j] += following[j]
            row = out[c, i]
            for j in range(out.shape[2]):
                total = np.float32(0.0)
                for t in range(k):
                    total += line[j * k + t]
                row[j] = total * norm


@kernel
def node_range(grid, y0, y1, x0, x1, out):
    """Smallest and largest sensor position of a block of output pixels, over its nodes.

    Args:
        out: float32 (4,): x low, x high, y low, y high.
    """
    a, b = y0 // STEP + 1, (y1 + STEP - 1) // STEP + 1
    c, d = x0 // STEP + 1, (x1 + STEP - 1) // STEP + 1
    out[0], out[1], out[2], out[3] = 1e9, -1e9, 1e9, -1e9
    for p in range(3):
        for i in range(a, min(b, grid.shape[1] - 1) + 1):
            for j in range(c, min(d, grid.shape[2] - 1) + 1):
                x, y = grid[2 * p, i, j], grid[2 * p + 1, i, j]
                out[0], out[1] = min(out[0], x), max(out[1], x)
                out[2], out[3] = min(out[2], y), max(out[3], y)


@kernel
def _lines(grid, y, x0, n, nodes, lines):
    """The seven values of the map along a run of output pixels of one row."""
    v = (np.float32(y) + np.float32(0.5)) / np.float32(STEP) + np.float32(1.0)
    iy = int(v)
    fy = v - np.float32(iy)
    first = x0 // STEP + 1
    last = (x0 + n - 1) // STEP + 2
    for p in range(7):
        top, bottom = grid[p, iy], grid[p, iy + 1]
        for j in range(first, last + 1):
            nodes[p, j - first] = top[j] + fy * (bottom[j] - top[j])
    step = np.float32(1.0 / STEP)
    for cell in range(first, last):
        begin = max(x0, (cell - 1) * STEP)
        end = min(x0 + n, cell * STEP)
        offset = np.float32(begin - (cell - 1) * STEP) + np.float32(0.5)
        for p in range(7):
            a = nodes[p, cell - first]
            slope = (nodes[p, cell - first + 1] - a) * step
            base = a + slope * offset
            # Unsigned positions instead of a slice: a slice a cell costs more than its 16 values.
            line, start = np.uint64(p), np.uint64(begin - x0)
            for j in range(end - begin):
                lines[line, start + np.uint64(j)] = base + slope * np.float32(j)


@kernel
def _weights(f, stretch, taps, w):
    """Catmull-Rom weights, widened by `stretch` against aliasing, normalised."""
    half = taps // 2
    total = np.float32(0.0)
    inv = np.float32(1.0) / stretch
    for t in range(taps):
        d = abs(np.float32(t - half + 1) - f) * inv
        if d < np.float32(1.0):
            v = (np.float32(1.5) * d - np.float32(2.5)) * d * d + np.float32(1.0)
        elif d < np.float32(2.0):
            v = ((np.float32(-0.5) * d + np.float32(2.5)) * d - np.float32(4.0)) * d + np.float32(2.0)
        else:
            v = np.float32(0.0)
        w[t] = v
        total += v
    for t in range(taps):
        w[t] /= total


@kernel
def _cubic(plane, us, vs, gain, out, begin, end):
    """Catmull-Rom at positions that are given in plane px, 4 x 4 taps, inside the plane."""
    rows, cols = plane.shape
    half = np.float32(0.5)
    low, right, bottom = np.float32(1.0), np.float32(cols) - np.float32(2.01), np.float32(rows) - np.float32(2.01)
    for j in range(begin, end):
        u, v = min(max(us[j], low), right), min(max(vs[j], low), bottom)
        iu, iv = int(u), int(v)
        fu, fv = u - np.float32(iu), v - np.float32(iv)
        a0 = half * fu * (fu * (np.float32(2.0) - fu) - np.float32(1.0))
        a1 = half * (fu * fu * (np.float32(3.0) * fu - np.float32(5.0)) + np.float32(2.0))
        a2 = half * fu * (fu * (np.float32(4.0) - np.float32(3.0) * fu) + np.float32(1.0))
        a3 = half * fu * fu * (fu - np.float32(1.0))
        b0 = half * fv * (fv * (np.float32(2.0) - fv) - np.float32(1.0))
        b1 = half * (fv * fv * (np.float32(3.0) * fv - np.float32(5.0)) + np.float32(2.0))
        b2 = half * fv * (fv * (np.float32(4.0) - np.float32(3.0) * fv) + np.float32(1.0))
        b3 = half * fv * fv * (fv - np.float32(1.0))
        k = np.uint64(iu - 1)
        r0, r1, r2, r3 = np.uint64(iv - 1), np.uint64(iv), np.uint64(iv + 1), np.uint64(iv + 2)
        k1, k2, k3 = k + np.uint64(1), k + np.uint64(2), k + np.uint64(3)
        c0 = b0 * plane[r0, k] + b1 * plane[r1, k] + b2 * plane[r2, k] + b3 * plane[r3, k]
        c1 = b0 * plane[r0, k1] + b1 * plane[r1, k1] + b2 * plane[r2, k1] + b3 * plane[r3, k1]
        c2 = b0 * plane[r0, k2] + b1 * plane[r1, k2] + b2 * plane[r2, k2] + b3 * plane[r3, k2]
        c3 = b0 * plane[r0, k3] + b1 * plane[r1, k3] + b2 * plane[r2, k3] + b3 * plane[r3, k3]
        out[j] = (a0 * c0 + a1 * c1 + a2 * c2 + a3 * c3) * gain[j]


@kernel
def _run(plane, us, vs, gain, out, at, mu, mv):
    """`_cubic` for RUN neighbouring pixels whose positions advance by nearly one px each.

    Five taps at places that are the same for all of them, with the four weights moved by one where the
    position has passed the next pixel: all loads are in a row, so the loop vectorises without gathering.

    Args:
        at: first pixel; mu, mv: whole px such that 0 <= us - j - mu < 2 and 0 <= vs - mv < 2.
    """
    half, one, two = np.float32(0.5), np.float32(1.0), np.float32(2.0)
    three, four, five, zero = np.float32(3.0), np.float32(4.0), np.float32(5.0), np.float32(0.0)
    r0 = np.uint64(mv - 1)
    r1, r2, r3, r4 = r0 + np.uint64(1), r0 + np.uint64(2), r0 + np.uint64(3), r0 + np.uint64(4)
    first = np.uint64(mu - 1)
    start = np.uint64(at)
    for i in range(RUN):
        j = np.uint64(i)
        fu = us[start + j] - np.float32(mu + i)
        fv = vs[start + j] - np.float32(mv)
        su, sv = fu >= one, fv >= one
        fu = fu - one if su else fu
        fv = fv - one if sv else fv
        w0 = half * fu * (fu * (two - fu) - one)
        w1 = half * (fu * fu * (three * fu - five) + two)
        w2 = half * fu * (fu * (four - three * fu) + one)
        w3 = half * fu * fu * (fu - one)
        a0, a1 = zero if su else w0, w0 if su else w1
        a2, a3, a4 = w1 if su else w2, w2 if su else w3, w3 if su else zero
        w0 = half * fv * (fv * (two - fv) - one)
        w1 = half * (fv * fv * (three * fv - five) + two)
        w2 = half * fv * (fv * (four - three * fv) + one)
        w3 = half * fv * fv * (fv - one)
        b0, b1 = zero if sv else w0, w0 if sv else w1
        b2, b3, b4 = w1 if sv else w2, w2 if sv else w3, w3 if sv else zero
        k0 = first + j
        k1, k2, k3, k4 = k0 + np.uint64(1), k0 + np.uint64(2), k0 + np.uint64(3), k0 + np.uint64(4)
        c0 = b0 * plane[r0, k0] + b1 * plane[r1, k0] + b2 * plane[r2, k0] + b3 * plane[r3, k0] + b4 * plane[r4, k0]
        c1 = b0 * plane[r0, k1] + b1 * plane[r1, k1] + b2 * plane[r2, k1] + b3 * plane[r3, k1] + b4 * plane[r4, k1]
        c2 = b0 * plane[r0, k2] + b1 * plane[r1, k2] + b2 * plane[r2, k2] + b3 * plane[r3, k2] + b4 * plane[r4, k2]
        c3 = b0 * plane[r0, k3] + b1 * plane[r1, k3] + b2 * plane[r2, k3] + b3 * plane[r3, k3] + b4 * plane[r4, k3]
        c4 = b0 * plane[r0, k4] + b1 * plane[r1, k4] + b2 * plane[r2, k4] + b3 * plane[r3, k4] + b4 * plane[r4, k4]
        out[start + j] = (a0 * c0 + a1 * c1 + a2 * c2 + a3 * c3 + a4 * c4) * gain[start + j]


@kernel
def _line(plane, us, vs, gain, out, n):
    """One row by runs where the positions allow it, else pixel by pixel."""
    rows, cols = plane.shape
    at = 0
    while at < n:
        last = at + RUN - 1
        if last < n:
            u0, u1 = us[at], us[last] - np.float32(RUN - 1)
            v0, v1 = vs[at], vs[last]
            mu, mv = int(np.floor(min(u0, u1) - np.float32(0.01))), int(np.floor(min(v0, v1) - np.float32(0.01)))
            level = max(u0, u1) < np.float32(mu) + np.float32(1.98) and max(v0, v1) < np.float32(mv) + np.float32(1.98)
            inside = mu >= 1 and mv >= 1 and mu + RUN + 4 < cols and mv + 4 < rows
            if level and inside:
                _run(plane, us, vs, gain, out, at, mu, mv)
                at += RUN
                continue
        end = min(n, at + RUN)
        _cubic(plane, us, vs, gain, out, at, end)
        at = end


@kernel
def _wide(plane, us, vs, gain, out, n, stretch, taps, wx, wy):
    """The same with a widened kernel of 6 or 8 taps."""
    rows, cols = plane.shape
    half = taps // 2
    low = np.float32(half - 1)
    right, bottom = np.float32(cols - half) - np.float32(0.01), np.float32(rows - half) - np.float32(0.01)
    for j in range(n):
        u, v = min(max(us[j], low), right), min(max(vs[j], low), bottom)
        iu, iv = int(u), int(v)
        _weights(u - np.float32(iu), stretch, taps, wx)
        _weights(v - np.float32(iv), stretch, taps, wy)
        total = np.float32(0.0)
        for b in range(taps):
            part = np.float32(0.0)
            row = plane[iv - half + 1 + b]
            for a in range(taps):
                part += wx[a] * row[iu - half + 1 + a]
            total += wy[b] * part
        out[j] = total * gain[j]


@kernel
def warp(planes, origin, pitch, shifts, grid, y0, x0, stretch, out):
    """Fill a block of output pixels.

    Args:
        planes: float32 (3, h, w), linear; at least 8 x 8.
        origin: float32 (2,), sensor x and y of the outer corner of the first pixel.
        pitch: sensor px per plane px.
        shifts: float32 (3, 2), by how much each plane's samples lie off their pixel's centre, in sensor px.
        grid: see Geometry.
        y0, x0: output position of the block.
        stretch: widening of the kernel, 1 to 2; 1 when not reducing.
        out: float32 (3, h, w).
    """
    h, w = out.shape[1], out.shape[2]
    nodes = np.empty((7, w // STEP + 4), dtype=np.float32)
    lines = np.empty((7, w), dtype=np.float32)
    us, vs = np.empty(w, dtype=np.float32), np.empty(w, dtype=np.float32)
    wx, wy = np.empty(8, dtype=np.float32), np.empty(8, dtype=np.float32)
    inv = np.float32(1.0) / np.float32(pitch)
    half = np.float32(0.5)
    taps = 4 if stretch <= 1.02 else (6 if stretch <= 1.5 else 8)
    for i in range(h):
        _lines(grid, y0 + i, x0, w, nodes, lines)
        gain = lines[6]
        for c in range(3):
            xs, ys = lines[2 * c], lines[2 * c + 1]
            ox, oy = origin[0] + shifts[c, 0], origin[1] + shifts[c, 1]
            for j in range(w):
                us[j] = (xs[j] - ox) * inv - half
            for j in range(w):
                vs[j] = (ys[j] - oy) * inv - half
            if taps == 4:
                _line(planes[c], us, vs, gain, out[c, i], w)
            else:
                _wide(planes[c], us, vs, gain, out[c, i], w, np.float32(stretch), taps, wx, wy)

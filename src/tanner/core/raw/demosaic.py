"""Demosaicing of Bayer data: directional, with ratio-corrected green, in square-root values.

The method follows the idea of ratio-corrected interpolation (source: sanz2015): green is carried along
the direction with less variation and corrected by the ratio of a low-pass of all colours; red and blue
follow as differences to green, weighted by inverse gradients. Working on square roots makes noise even
and avoids overshoot at dark edges. Every step is computed at every pixel and chosen by parity after,
which vectorises better than striding over half of them.
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel

F32 = NDArray[np.float32]
MARGIN = 8
"""Pixels around a block that its result depends on; even, so that the mosaic's phase is kept."""
BLOCK_W = 800
_RING = 16
"""Rows kept of each intermediate plane: enough for the furthest row that a step looks back to."""
OFFSET = np.float32(1 / 512)
"""Added before the root, so that noise below black keeps its sign."""
_EPS = np.float32(1e-4)


def scratch() -> F32:
    """Work space for one thread: the ring of rows of the eight planes."""
    return np.zeros((8, _RING, BLOCK_W + 2 * MARGIN), dtype=np.float32)


# Each step below fills one row of a plane from rows that are there already. Rows are addressed as
# slices from 0 (LLVM cannot prove that "j - 3" is not negative, and then does not vectorise), and a
# loop has one store. Quotients are brought to one denominator: divisions are the dearest operation.


@kernel
def _load(raw, y, x0, black, gain, row, w):
    """Square roots of one balanced row, mirrored at the borders without changing the phase."""
    height, width = raw.shape
    if y < 0:
        y = -y
    if y >= height:
        y = 2 * height - 2 - y
    y = min(max(y, 0), height - 1)
    b0, b1 = black[y & 1, x0 & 1], black[y & 1, (x0 + 1) & 1]
    g0, g1 = gain[y & 1, x0 & 1], gain[y & 1, (x0 + 1) & 1]
    zero = np.float32(0.0)
    if x0 >= 0 and x0 + w <= width:
        line = raw[y, x0 : x0 + w]
        for j in range(w):
            odd = (j & 1) == 1
            b = b1 if odd else b0
            g = g1 if odd else g0
            row[j] = np.sqrt(max((np.float32(line[j]) - b) * g + OFFSET, zero))
    else:
        for j in range(w):
            x = x0 + j
            if x < 0:
                x = -x
            if x >= width:
                x = 2 * width - 2 - x
            x = min(max(x, 0), width - 1)
            odd = (j & 1) == 1
            b = b1 if odd else b0
            g = g1 if odd else g0
            row[j] = np.sqrt(max((np.float32(raw[y, x]) - b) * g + OFFSET, zero))


@kernel
def _statistics(s, vv, hh, lp, i, w):
    """Squared high-pass along columns and rows, and the low-pass of all colours."""
    n = w - 6
    three, six = np.float32(3.0), np.float32(6.0)
    a, b, c, d = s[(i - 3) & 15, 3:], s[(i - 2) & 15, 3:], s[(i - 1) & 15, 3:], s[i & 15, 3:]
    e, f, g = s[(i + 1) & 15, 3:], s[(i + 2) & 15, 3:], s[(i + 3) & 15, 3:]
    out = vv[i & 15, 3:]
    for j in range(n):
        v = six * d[j] + a[j] - c[j] - e[j] + g[j] - three * (b[j] + f[j])
        out[j] = v * v
    r = s[i & 15]
    w3, w2, w1, e1, e2, e3 = r[0:], r[1:], r[2:], r[4:], r[5:], r[6:]
    out = hh[i & 15, 3:]
    for j in range(n):
        u = six * d[j] + w3[j] - w1[j] - e1[j] + e3[j] - three * (w2[j] + e2[j])
        out[j] = u * u
    u1, u0, u2 = s[(i - 1) & 15, 2:], s[(i - 1) & 15, 3:], s[(i - 1) & 15, 4:]
    l1, l0, l2 = s[(i + 1) & 15, 2:], s[(i + 1) & 15, 3:], s[(i + 1) & 15, 4:]
    out = lp[i & 15, 3:]
    for j in range(n):
        sides = np.float32(2.0) * (u0[j] + l0[j] + w1[j] + e1[j])
        out[j] = np.float32(4.0) * d[j] + sides + u1[j] + u2[j] + l1[j] + l2[j]


@kernel
def _direction(vv, hh, vh, i, w):
    """Share of the horizontal estimate, 0 to 1, from the variation along both directions."""
    a, b, c = vv[(i - 1) & 15, 4:], vv[i & 15, 4:], vv[(i + 1) & 15, 4:]
    d, e, f, out = hh[i & 15, 3:], hh[i & 15, 4:], hh[i & 15, 5:], vh[i & 15, 4:]
    for j in range(w - 8):
        v = a[j] + b[j] + c[j] + np.float32(1e-9)
        u = d[j] + e[j] + f[j] + np.float32(1e-9)
        out[j] = v / (u + v)


@kernel
def _green(s, lp, vh, green, ev, eh, first, i, w):
    """Green everywhere: measured where the phase says so, else interpolated."""
    half, two = np.float32(0.5), np.float32(2.0)
    n = w - 10
    o, lo = s[i & 15, 5:], lp[i & 15, 5:]
    n4, n3, n2, n1 = s[(i - 4) & 15, 5:], s[(i - 3) & 15, 5:], s[(i - 2) & 15, 5:], s[(i - 1) & 15, 5:]
    s1, s2, s3, s4 = s[(i + 1) & 15, 5:], s[(i + 2) & 15, 5:], s[(i + 3) & 15, 5:], s[(i + 4) & 15, 5:]
    ln, ls = lp[(i - 2) & 15, 5:], lp[(i + 2) & 15, 5:]
    for j in range(n):
        ns = _EPS + abs(n1[j] - s1[j])
        gn = ns + abs(o[j] - n2[j]) + abs(n1[j] - n3[j]) + abs(n2[j] - n4[j])
        gs = ns + abs(o[j] - s2[j]) + abs(s1[j] - s3[j]) + abs(s2[j] - s4[j])
        a, b = lo[j] + ln[j] + _EPS, lo[j] + ls[j] + _EPS
        ev[j] = two * lo[j] * (gs * n1[j] * b + gn * s1[j] * a) / ((gn + gs) * a * b)
    r = s[i & 15]
    w4, w3, w2, w1, e1, e2, e3, e4 = r[1:], r[2:], r[3:], r[4:], r[6:], r[7:], r[8:], r[9:]
    lw, le = lp[i & 15, 3:], lp[i & 15, 7:]
    for j in range(n):
        we = _EPS + abs(w1[j] - e1[j])
        gw = we + abs(o[j] - w2[j]) + abs(w1[j] - w3[j]) + abs(w2[j] - w4[j])
        ge = we + abs(o[j] - e2[j]) + abs(e1[j] - e3[j]) + abs(e2[j] - e4[j])
        a, b = lo[j] + lw[j] + _EPS, lo[j] + le[j] + _EPS
        eh[j] = two * lo[j] * (ge * w1[j] * b + gw * e1[j] * a) / ((gw + ge) * a * b)
    nw, ne, here = vh[(i - 1) & 15, 4:], vh[(i - 1) & 15, 6:], vh[i & 15, 5:]
    sw, se = vh[(i + 1) & 15, 4:], vh[(i + 1) & 15, 6:]
    out = green[i & 15, 5:]
    for j in range(n):
        around = np.float32(0.25) * (nw[j] + ne[j] + sw[j] + se[j])
        # Loads stand outside of the choices, which then become selects instead of branches.
        middle, measured = here[j], o[j]
        share = around if abs(half - middle) < abs(half - around) else middle
        guess = ev[j] + share * (eh[j] - ev[j])
        out[j] = measured if (j & 1) == first else guess


@kernel
def _difference(s, green, d, i, w):
    a, g, out = s[i & 15, 5:], green[i & 15, 5:], d[i & 15, 5:]
    for j in range(w - 10):
        out[j] = a[j] - g[j]


@kernel
def _diagonal(s, green, d, other, i, w):
    """At red and blue: the other colour's difference, from the four diagonals."""
    snw, sne = s[(i - 1) & 15, 6:], s[(i - 1) & 15, 8:]
    ssw, sse = s[(i + 1) & 15, 6:], s[(i + 1) & 15, 8:]
    dnw, dne = d[(i - 1) & 15, 6:], d[(i - 1) & 15, 8:]
    dsw, dse = d[(i + 1) & 15, 6:], d[(i + 1) & 15, 8:]
    gnw, gne = green[(i - 2) & 15, 5:], green[(i - 2) & 15, 9:]
    gsw, gse = green[(i + 2) & 15, 5:], green[(i + 2) & 15, 9:]
    o, out = green[i & 15, 7:], other[i & 15, 7:]
    for j in range(w - 14):
        p = abs(snw[j] - sse[j]) + _EPS
        q = abs(sne[j] - ssw[j]) + _EPS
        nw, se = p + abs(o[j] - gnw[j]), p + abs(o[j] - gse[j])
        ne, sw = q + abs(o[j] - gne[j]), q + abs(o[j] - gsw[j])
        a, b = nw * se, ne * sw
        top = b * (dnw[j] * se + dse[j] * nw) + a * (dne[j] * sw + dsw[j] * ne)
        out[j] = top / (b * (nw + se) + a * (ne + sw))


@kernel
def _sides(d, other, green, vh, own, far, i, w):
    """At green: the difference of this row's colour and of the other one, from the four sides."""
    one = np.float32(1.0)
    m = MARGIN
    up, at, down = (i - 1) & 15, i & 15, (i + 1) & 15
    g, g_n, g_s = green[at, m:], green[up, m:], green[down, m:]
    g_w, g_e, gw2, ge2 = green[at, m - 1 :], green[at, m + 1 :], green[at, m - 2 :], green[at, m + 2 :]
    v = vh[at, m:]
    d_w, d_e, d_n, d_s = d[at, m - 1 :], d[at, m + 1 :], d[up, m:], d[down, m:]
    o_w, o_e, o_n, o_s = other[at, m - 1 :], other[at, m + 1 :], other[up, m:], other[down, m:]
    for j in range(w):
        n, s = _EPS + abs(g[j] - g_n[j]), _EPS + abs(g[j] - g_s[j])
        own_v = s * o_n[j] + n * o_s[j]
        west = _EPS + abs(g[j] - g_w[j]) + abs(g[j] - gw2[j])
        east = _EPS + abs(g[j] - g_e[j]) + abs(g[j] - ge2[j])
        own_h = east * d_w[j] + west * d_e[j]
        a, b = n + s, west + east
        own[j] = (own_v * b * (one - v[j]) + own_h * a * v[j]) / (a * b)
    for j in range(w):
        n, s = _EPS + abs(g[j] - g_n[j]), _EPS + abs(g[j] - g_s[j])
        far_v = s * d_n[j] + n * d_s[j]
        west = _EPS + abs(g[j] - g_w[j]) + abs(g[j] - gw2[j])
        east = _EPS + abs(g[j] - g_e[j]) + abs(g[j] - ge2[j])
        far_h = east * o_w[j] + west * o_e[j]
        a, b = n + s, west + east
        far[j] = (far_v * b * (one - v[j]) + far_h * a * v[j]) / (a * b)


@kernel
def _choose(known, guess, first, out, w):
    for j in range(w):
        a, b = known[j], guess[j]
        out[j] = a if (j & 1) == first else b


@kernel
def _plus(g, difference, out, w):
    """Green plus difference, from roots to a linear value."""
    for j in range(w):
        r = g[j] + difference[j]
        out[j] = r * abs(r) - OFFSET


@kernel
def demosaic_region(raw, y0, x0, black, gain, red_y, red_x, work, out):
    """Demosaic a region of a Bayer mosaic.

    Args:
        raw: uint16 (H, W), visible area.
        y0, x0: first row and column; the region has the size of `out` and may reach past the borders.
        black, gain: float32 (2, 2) by row and column parity: value = (raw - black) * gain.
        red_y, red_x: parity of the red pixels.
        work: from `scratch()`, one per thread.
        out: float32 (3, h, w), filled with linear R, G, B.
    """
    height, width = out.shape[1], out.shape[2]
    s, vv, hh, lp = work[0], work[1], work[2], work[3]
    vh, green, d, other = work[4], work[5], work[6], work[7]
    rows = np.empty((6, BLOCK_W + 2 * MARGIN), dtype=np.float32)
    none = np.zeros(BLOCK_W + 2 * MARGIN, dtype=np.float32)
    m = MARGIN
    for bx in range(0, width, BLOCK_W):
        n = min(BLOCK_W, width - bx)
        w = n + 2 * m
        left = x0 + bx - m
        # Row numbers count from the image; each step runs as soon as the rows it needs are there.
        for y in range(y0 - m, y0 + height + m):
            _load(raw, y, left, black, gain, s[y & 15], w)
            _statistics(s, vv, hh, lp, y - 3, w)
            _direction(vv, hh, vh, y - 4, w)
            i = y - 5
            _green(s, lp, vh, green, rows[0], rows[1], (i + left + red_y + red_x) & 1, i, w)
            _difference(s, green, d, i, w)
            _diagonal(s, green, d, other, y - 7, w)
            i = y - 8
            if i < y0 or i >= y0 + height:
                continue
            _sides(d, other, green, vh, rows[2], rows[3], i, n)
            # At red and blue the differences are known: "own" is the colour that this row measures.
            first = (i + left + m + red_y + red_x) & 1
            _choose(d[i & 15, m:], rows[2], first, rows[4], n)
            _choose(other[i & 15, m:], rows[3], first, rows[5], n)
            red_row = ((i + red_y) & 1) == 0
            g = green[i & 15, m:]
            k = i - y0
            _plus(g, rows[4] if red_row else rows[5], out[0, k, bx:], n)
            _plus(g, none, out[1, k, bx:], n)
            _plus(g, rows[5] if red_row else rows[4], out[2, k, bx:], n)


@kernel
def bin_mosaic(raw, black, gain, red_y, red_x, k, out):
    """Mean of each colour's own pixels in k x k blocks, k even; half blocks at the end are left out.

    Args:
        out: float32 (3, H // k, W // k), linear.
    """
    rows, cols = out.shape[1], out.shape[2]
    half = k // 2
    width = cols * k
    # Rows first: adding whole rows vectorises, and leaves little to add along them.
    lines = np.empty((2, width), dtype=np.int32)
    sums = np.empty((4, cols), dtype=np.float32)
    for i in range(rows):
        lines[:] = 0
        for a in range(k):
            y = i * k + a
            line, into = raw[y], lines[y & 1]
            for j in range(width):
                into[j] += line[j]
        for parity in range(2):
            for phase in range(2):
                line, into = lines[parity, phase:], sums[2 * parity + phase]
                b, g = black[parity, phase] * np.float32(half * half), gain[parity, phase]
                for j in range(cols):
                    total = 0
                    at = j * k
                    for t in range(half):
                        total += line[at + 2 * t]
                    into[j] = (np.float32(total) - b) * g
        norm = np.float32(1.0 / (half * half))
        r, g1 = sums[2 * red_y + red_x], sums[2 * red_y + 1 - red_x]
        g2, bl = sums[2 * (1 - red_y) + red_x], sums[2 * (1 - red_y) + 1 - red_x]
        for j in range(cols):
            out[0, i, j] = r[j] * norm
            out[1, i, j] = (g1[j] + g2[j]) * norm * np.float32(0.5)
            out[2, i, j] = bl[j] * norm

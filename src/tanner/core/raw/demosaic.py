"""Demosaicing of Bayer data: directional, with ratio-corrected green, in square-root values.

The method follows the idea of ratio-corrected interpolation (source: sanz2015): green is carried along
the direction with less variation and corrected by the ratio of a low-pass of all colours, half and half with
the filter of five taps that bends it as the measured colour bends (source: menon2007); each is better on some pictures.
Red and blue follow as differences to green, weighted by inverse gradients. Working on square roots makes noise even
and avoids overshoot at dark edges.

Even and odd columns are kept apart from the first step to the last: of a row's colours one lies in the even columns and the
other in the odd ones, so each step is done where it is needed, and neighbours still lie in a row.
"""

from typing import Any

import numpy as np
from llvmlite import ir
from numpy.typing import NDArray

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.optics.resample import box
from tanner.core.vector16 import FLOATS, LANES, WHOLES, Lanes, array, count, load, place, store, store_some

F32 = NDArray[np.float32]
MARGIN = 8
"""Pixels around a block that its result depends on; even, so that the mosaic's phase is kept."""
BLOCK_W = 800
_RING = 16
"""Rows kept of each intermediate plane: enough for the furthest row that a step looks back to."""
_PAD = 4
"""Columns of a half on either side that are read, but of which nothing comes."""
_HALF = BLOCK_W // 2 + MARGIN
OFFSET = np.float32(1 / 512)
"""Added before the root, so that noise below black keeps its sign."""
_EPS = np.float32(1e-4)
BEND = np.float32(0.55)
"""Share of the second estimate of green along a direction: the mean of its neighbours, bent as the measured colour bends."""


def scratch() -> F32:
    """Work space for one thread: the ring of rows of the eight planes, even columns and odd ones."""
    return np.zeros((8, _RING, 2, _HALF + 2 * _PAD), dtype=np.float32)


@intrinsic
def _split(typingctx, raw, y, x, black, gain, phase, halves, at):  # type: ignore[no-untyped-def]
    """Square roots of 32 balanced px of a row, even and odd ones apart.

    Args:
        raw: uint16 (H, W); y, x: the first of the px.
        black, gain: float32 (2, 2); phase: where in them, in a row, the even px are.
        halves: float32 (2, n); at: where in each.
    """
    sig = types.void(raw, y, x, black, gain, phase, halves, at)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        (data, wide), (blacks, _), (gains, _), (goal, high) = (
            array(context, builder, signature.args[n], args[n]) for n in (0, 3, 4, 6)
        )
        y, x, phase, at = args[1], args[2], args[5], args[7]
        both = ir.VectorType(ir.IntType(16), 2 * LANES)
        pointer = builder.bitcast(builder.gep(data, [place(builder, wide, y, x)]), both.as_pointer())
        numbers = builder.load(pointer, align=2)
        row = builder.mul(builder.and_(y, y.type(1)), y.type(2))
        for half in (0, 1):
            chosen = ir.Constant(WHOLES, list(range(half, 2 * LANES, 2)))
            some = builder.shuffle_vector(numbers, ir.Constant(both, ir.Undefined), chosen)
            where = builder.add(row, builder.xor(phase, phase.type(half)))
            b, g = (builder.load(builder.gep(each, [where])) for each in (blacks, gains))
            value = Lanes(builder, builder.uitofp(builder.zext(some, WHOLES), FLOATS))
            root = ((value - b) * g + float(OFFSET)).most(0.0).root()
            store(root, goal, place(builder, high, at.type(half), at))
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def _joined(typingctx, green, even, odd, at, out, first, keep):  # type: ignore[no-untyped-def]
    """Green plus differences, from roots to 32 linear values, even and odd columns together again.

    Args:
        green: float32 (2, n); even, odd: float32 (n,), the differences; at: where in each.
        out: float32 (w,); first: where in it; keep: int, so many are written.
    """
    sig = types.void(green, even, odd, at, out, first, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        (greens, high), (evens, _), (odds, _), (goal, _) = (
            array(context, builder, signature.args[n], args[n]) for n in (0, 1, 2, 4)
        )
        at, first, keep = args[3], args[5], args[6]
        found = []
        for half, differences in enumerate((evens, odds)):
            r = load(builder, greens, place(builder, high, at.type(half), at)) + load(builder, differences, at)
            found.append((r * r.most(r * -1.0) - float(OFFSET)).value)
        left = builder.sitofp(keep, ir.FloatType())
        for part in (0, 1):
            chosen = [n // 2 + LANES // 2 * part + LANES * (n % 2) for n in range(LANES)]
            mixed = Lanes(builder, builder.shuffle_vector(*found, ir.Constant(WHOLES, chosen)))
            start = builder.add(first, first.type(LANES * part))
            store_some(mixed, goal, start, count(builder, LANES * part) < left)
        return context.get_dummy_value()

    return sig, codegen


# Each step below fills one row of a plane from rows that are there already, for one half of its columns. Column m of the even
# half lies left of column m of the odd one: of half p, the neighbours to the left lie from m - 1 + p on in the other half, those
# to the right from m + p on. Rows are addressed as slices from 0 (LLVM cannot prove that "m - 3" is not negative, and then does not
# vectorise), and a loop has one store. Quotients are brought to one denominator: divisions are the dearest operation.


@kernel
def _load(raw, y, x0, black, gain, halves, w):
    """Square roots of one balanced row, mirrored at the borders without changing the phase; w even."""
    height, width = raw.shape
    if y < 0:
        y = -y
    if y >= height:
        y = 2 * height - 2 - y
    y = min(max(y, 0), height - 1)
    phase = x0 & 1
    if x0 >= 0 and x0 + w <= width and w >= 2 * LANES:
        for n in range((w + 2 * LANES - 1) // (2 * LANES)):
            j = min(n * 2 * LANES, w - 2 * LANES)
            _split(raw, y, x0 + j, black, gain, phase, halves, _PAD + j // 2)
        return
    for j in range(w):
        x = x0 + j
        if x < 0:
            x = -x
        if x >= width:
            x = 2 * width - 2 - x
        x = min(max(x, 0), width - 1)
        p = (phase + j) & 1
        value = (np.float32(raw[y, x]) - black[y & 1, p]) * gain[y & 1, p] + OFFSET
        halves[j & 1, _PAD + j // 2] = np.sqrt(max(value, np.float32(0.0)))


@kernel
def _statistics(s, vv, hh, lp, i, p, n):
    """Squared high-pass along columns and rows, and the low-pass of all colours."""
    three, six = np.float32(3.0), np.float32(6.0)
    o, q, m = 1 - p, _PAD + p, _PAD
    a, b, c, d = s[(i - 3) & 15, p, m:], s[(i - 2) & 15, p, m:], s[(i - 1) & 15, p, m:], s[i & 15, p, m:]
    e, f, g = s[(i + 1) & 15, p, m:], s[(i + 2) & 15, p, m:], s[(i + 3) & 15, p, m:]
    out = vv[i & 15, p, m:]
    for j in range(n):
        v = six * d[j] + a[j] - c[j] - e[j] + g[j] - three * (b[j] + f[j])
        out[j] = v * v
    r, t = s[i & 15, o], s[i & 15, p]
    w3, w2, w1, e1, e2, e3 = r[q - 2 :], t[m - 1 :], r[q - 1 :], r[q:], t[m + 1 :], r[q + 1 :]
    out = hh[i & 15, p, m:]
    for j in range(n):
        u = six * d[j] + w3[j] - w1[j] - e1[j] + e3[j] - three * (w2[j] + e2[j])
        out[j] = u * u
    u1, u0, u2 = s[(i - 1) & 15, o, q - 1 :], s[(i - 1) & 15, p, m:], s[(i - 1) & 15, o, q:]
    l1, l0, l2 = s[(i + 1) & 15, o, q - 1 :], s[(i + 1) & 15, p, m:], s[(i + 1) & 15, o, q:]
    out = lp[i & 15, p, m:]
    for j in range(n):
        sides = np.float32(2.0) * (u0[j] + l0[j] + w1[j] + e1[j])
        out[j] = np.float32(4.0) * d[j] + sides + u1[j] + u2[j] + l1[j] + l2[j]


@kernel
def _direction(vv, hh, vh, i, p, n):
    """Share of the horizontal estimate, 0 to 1, from the variation along both directions."""
    o, q, m = 1 - p, _PAD + p, _PAD
    a, b, c = vv[(i - 1) & 15, p, m:], vv[i & 15, p, m:], vv[(i + 1) & 15, p, m:]
    d, e, f, out = hh[i & 15, o, q - 1 :], hh[i & 15, p, m:], hh[i & 15, o, q:], vh[i & 15, p, m:]
    for j in range(n):
        v = a[j] + b[j] + c[j] + np.float32(1e-9)
        u = d[j] + e[j] + f[j] + np.float32(1e-9)
        out[j] = v / (u + v)


@kernel
def _green(s, lp, vh, green, ev, eh, i, p, n):
    """At red and blue, which lie in half p: green, and where it is measured, that."""
    half, two, quarter = np.float32(0.5), np.float32(2.0), np.float32(0.25)
    h, q, m = 1 - p, _PAD + p, _PAD
    o, lo = s[i & 15, p, m:], lp[i & 15, p, m:]
    n4, n3, n2, n1 = s[(i - 4) & 15, p, m:], s[(i - 3) & 15, p, m:], s[(i - 2) & 15, p, m:], s[(i - 1) & 15, p, m:]
    s1, s2, s3, s4 = s[(i + 1) & 15, p, m:], s[(i + 2) & 15, p, m:], s[(i + 3) & 15, p, m:], s[(i + 4) & 15, p, m:]
    ln, ls = lp[(i - 2) & 15, p, m:], lp[(i + 2) & 15, p, m:]
    for j in range(n):
        ns = _EPS + abs(n1[j] - s1[j])
        gn = ns + abs(o[j] - n2[j]) + abs(n1[j] - n3[j]) + abs(n2[j] - n4[j])
        gs = ns + abs(o[j] - s2[j]) + abs(s1[j] - s3[j]) + abs(s2[j] - s4[j])
        a, b = lo[j] + ln[j] + _EPS, lo[j] + ls[j] + _EPS
        ratio = two * lo[j] * (gs * n1[j] * b + gn * s1[j] * a) / ((gn + gs) * a * b)
        ev[j] = ratio + BEND * (half * (n1[j] + s1[j]) + quarter * (two * o[j] - n2[j] - s2[j]) - ratio)
    r, t = s[i & 15, p], s[i & 15, h]
    w4, w3, w2, w1 = r[m - 2 :], t[q - 2 :], r[m - 1 :], t[q - 1 :]
    e1, e2, e3, e4 = t[q:], r[m + 1 :], t[q + 1 :], r[m + 2 :]
    lw, le = lp[i & 15, p, m - 1 :], lp[i & 15, p, m + 1 :]
    for j in range(n):
        we = _EPS + abs(w1[j] - e1[j])
        gw = we + abs(o[j] - w2[j]) + abs(w1[j] - w3[j]) + abs(w2[j] - w4[j])
        ge = we + abs(o[j] - e2[j]) + abs(e1[j] - e3[j]) + abs(e2[j] - e4[j])
        a, b = lo[j] + lw[j] + _EPS, lo[j] + le[j] + _EPS
        ratio = two * lo[j] * (ge * w1[j] * b + gw * e1[j] * a) / ((gw + ge) * a * b)
        eh[j] = ratio + BEND * (half * (w1[j] + e1[j]) + quarter * (two * o[j] - w2[j] - e2[j]) - ratio)
    nw, ne, here = vh[(i - 1) & 15, h, q - 1 :], vh[(i - 1) & 15, h, q:], vh[i & 15, p, m:]
    sw, se = vh[(i + 1) & 15, h, q - 1 :], vh[(i + 1) & 15, h, q:]
    out = green[i & 15, p, m:]
    for j in range(n):
        around = np.float32(0.25) * (nw[j] + ne[j] + sw[j] + se[j])
        middle = here[j]
        share = around if abs(half - middle) < abs(half - around) else middle
        out[j] = ev[j] + share * (eh[j] - ev[j])
    measured, out = s[i & 15, h, m:], green[i & 15, h, m:]
    for j in range(n):
        out[j] = measured[j]


@kernel
def _difference(s, green, d, i, p, n):
    a, g, out = s[i & 15, p, _PAD:], green[i & 15, p, _PAD:], d[i & 15, p, _PAD:]
    for j in range(n):
        out[j] = a[j] - g[j]


@kernel
def _diagonal(s, green, d, other, i, p, n):
    """At red and blue, in half p: the other colour's difference, from the four diagonals."""
    h, q, m = 1 - p, _PAD + p, _PAD
    up, down = (i - 1) & 15, (i + 1) & 15
    snw, sne, ssw, sse = s[up, h, q - 1 :], s[up, h, q:], s[down, h, q - 1 :], s[down, h, q:]
    dnw, dne, dsw, dse = d[up, h, q - 1 :], d[up, h, q:], d[down, h, q - 1 :], d[down, h, q:]
    gnw, gne = green[(i - 2) & 15, p, m - 1 :], green[(i - 2) & 15, p, m + 1 :]
    gsw, gse = green[(i + 2) & 15, p, m - 1 :], green[(i + 2) & 15, p, m + 1 :]
    o, out = green[i & 15, p, m:], other[i & 15, p, m:]
    for j in range(n):
        v = abs(snw[j] - sse[j]) + _EPS
        u = abs(sne[j] - ssw[j]) + _EPS
        nw, se = v + abs(o[j] - gnw[j]), v + abs(o[j] - gse[j])
        ne, sw = u + abs(o[j] - gne[j]), u + abs(o[j] - gsw[j])
        a, b = nw * se, ne * sw
        top = b * (dnw[j] * se + dse[j] * nw) + a * (dne[j] * sw + dsw[j] * ne)
        out[j] = top / (b * (nw + se) + a * (ne + sw))


@kernel
def _sides(d, other, green, vh, own, far, i, p, n):
    """At green, in half p: the difference of this row's colour and of the other one, from the four sides."""
    one = np.float32(1.0)
    h, q, m = 1 - p, _PAD + p, _PAD
    up, at, down = (i - 1) & 15, i & 15, (i + 1) & 15
    g, g_n, g_s = green[at, p, m:], green[up, p, m:], green[down, p, m:]
    g_w, g_e, gw2, ge2 = green[at, h, q - 1 :], green[at, h, q:], green[at, p, m - 1 :], green[at, p, m + 1 :]
    v = vh[at, p, m:]
    d_w, d_e, d_n, d_s = d[at, h, q - 1 :], d[at, h, q:], d[up, p, m:], d[down, p, m:]
    o_w, o_e, o_n, o_s = other[at, h, q - 1 :], other[at, h, q:], other[up, p, m:], other[down, p, m:]
    mine, theirs = own[m:], far[m:]
    for j in range(n):
        n_, s_ = _EPS + abs(g[j] - g_n[j]), _EPS + abs(g[j] - g_s[j])
        own_v = s_ * o_n[j] + n_ * o_s[j]
        west = _EPS + abs(g[j] - g_w[j]) + abs(g[j] - gw2[j])
        east = _EPS + abs(g[j] - g_e[j]) + abs(g[j] - ge2[j])
        own_h = east * d_w[j] + west * d_e[j]
        a, b = n_ + s_, west + east
        mine[j] = (own_v * b * (one - v[j]) + own_h * a * v[j]) / (a * b)
    for j in range(n):
        n_, s_ = _EPS + abs(g[j] - g_n[j]), _EPS + abs(g[j] - g_s[j])
        far_v = s_ * d_n[j] + n_ * d_s[j]
        west = _EPS + abs(g[j] - g_w[j]) + abs(g[j] - gw2[j])
        east = _EPS + abs(g[j] - g_e[j]) + abs(g[j] - ge2[j])
        far_h = east * o_w[j] + west * o_e[j]
        a, b = n_ + s_, west + east
        theirs[j] = (far_v * b * (one - v[j]) + far_h * a * v[j]) / (a * b)


@kernel
def _write(green, even, odd, out, n):
    """A row of one colour: green plus its differences, from the margin on."""
    for part in range((n + 2 * LANES - 1) // (2 * LANES)):
        j = part * 2 * LANES
        _joined(green, even, odd, _PAD + MARGIN // 2 + j // 2, out, j, n - j)


@kernel
def _demosaiced(raw, y0, x0, black, gain, red_y, red_x, work, size, k, rows, out, top, left):
    """See the two below: into `rows` where k is 1, else k rows there at a time, and their means into `out`.

    Args:
        size: rows and columns of the region; rows: float32 (3, k or more, BLOCK_W or more).
        top, left: where in `out` the first mean comes.
    """
    height, width = size
    s, vv, hh, lp = work[0], work[1], work[2], work[3]
    vh, green, d, other = work[4], work[5], work[6], work[7]
    length = _HALF + 2 * _PAD
    ev, eh = np.empty(length, dtype=np.float32), np.empty(length, dtype=np.float32)
    own, far = np.zeros(length, dtype=np.float32), np.zeros(length, dtype=np.float32)
    none = np.zeros(length, dtype=np.float32)
    m = MARGIN
    step = BLOCK_W - BLOCK_W % (2 * k)
    for bx in range(0, width, step):
        n = min(step, width - bx)
        w = n + (n & 1) + 2 * m
        half = w // 2
        begun = x0 + bx - m
        # Row numbers count from the image; each step runs as soon as the rows it needs are there.
        for y in range(y0 - m, y0 + height + m):
            _load(raw, y, begun, black, gain, s[y & 15], w)
            for p in range(2):
                _statistics(s, vv, hh, lp, y - 3, p, half)
            for p in range(2):
                _direction(vv, hh, vh, y - 4, p, half)
            # The half in which red and blue lie; it changes from row to row.
            i = y - 5
            p = (i + begun + red_y + red_x) & 1
            _green(s, lp, vh, green, ev, eh, i, p, half)
            _difference(s, green, d, i, p, half)
            _diagonal(s, green, d, other, y - 7, p, half)
            i = y - 8
            if i < y0 or i >= y0 + height:
                continue
            # Three rows up it is the other half that has the colours.
            _sides(d, other, green, vh, own, far, i, p, half)
            row, at = i - y0, i & 15
            mine, theirs = d[at, 1 - p], other[at, 1 - p]
            into, first = (row, bx) if k == 1 else (row % k, 0)
            red, blue = rows[0, into, first:], rows[2, into, first:]
            this, that = (red, blue) if ((i + red_y) & 1) == 0 else (blue, red)
            # At red and blue the differences are known: "own" is the colour that this row measures.
            if p == 0:
                _write(green[at], own, mine, this, n)
                _write(green[at], far, theirs, that, n)
            else:
                _write(green[at], mine, own, this, n)
                _write(green[at], theirs, far, that, n)
            _write(green[at], none, none, rows[1, into, first:], n)
            if k > 1 and into == k - 1:
                box(rows, 0, 0, k, out, top + row // k, left + bx // k, 1, n // k)


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
    size = out.shape[1], out.shape[2]
    _demosaiced(raw, y0, x0, black, gain, red_y, red_x, work, size, 1, out, out, 0, 0)


@kernel
def demosaic_means(raw, y0, x0, black, gain, red_y, red_x, work, k, means, blocks):
    """Demosaic a region and put means of k x k px of it into blocks, without ever writing all of its px down.

    Args:
        y0, x0: first row and column of the region; means: float32 (3, rows, columns), all blocks.
        k: side of a block, 2 or more; blocks: of those that are made, the first row and how many, the first column and how many.
    """
    size = blocks[1] * k, blocks[3] * k
    rows = np.empty((3, k, BLOCK_W), dtype=np.float32)
    _demosaiced(raw, y0, x0, black, gain, red_y, red_x, work, size, k, rows, means, blocks[0], blocks[2])

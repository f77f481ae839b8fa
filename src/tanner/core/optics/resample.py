"""The one resampling: from linear camera planes through the map to output pixels, with fall-off."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.optics.geometry import STEP


@kernel
def box(planes, y, x, k, out, top, left, rows, columns):
    """Mean of k x k blocks: float32 (3, H, W) from row y and column x on, to blocks of `out` from its row top and column left on.

    Written out for 2 and 3, the only ones that a mosaic needs: half of the time of the loops below.
    """
    norm = np.float32(1.0 / (k * k))
    line = np.empty(columns * k, dtype=np.float32)
    n = columns * k
    one, two = np.uint64(1), np.uint64(2)
    for c in range(3):
        for i in range(rows):
            row, at = out[c, top + i, left:], y + i * k
            first, second = planes[c, at][x:], planes[c, at + 1][x:]
            if k == 2:
                for j in range(n):
                    line[j] = first[j] + second[j]
                for j in range(columns):
                    t = np.uint64(j) * two
                    row[j] = (line[t] + line[t + one]) * norm
                continue
            third = planes[c, at + 2][x:]
            for j in range(n):
                line[j] = first[j] + second[j] + third[j]
            if k == 3:
                for j in range(columns):
                    t = np.uint64(j) * (two + one)
                    row[j] = (line[t] + line[t + one] + line[t + two]) * norm
                continue
            for a in range(3, k):
                following = planes[c, at + a][x:]
                for j in range(n):
                    line[j] += following[j]
            for j in range(columns):
                total = np.float32(0.0)
                for t in range(k):
                    total += line[j * k + t]
                row[j] = total * norm


@kernel
def sensor_range(grid, y0, y1, x0, x1, out):
    """Smallest and largest sensor position of a block of output pixels.

    Between its nodes the map is bilinear, so its extremes lie at nodes inside the block and on the block's
    edges; taking whole cells instead would read a fifth more of the sensor than is needed.

    Args:
        out: float32 (4,): x low, x high, y low, y high.
    """
    step, half, one = np.float32(STEP), np.float32(0.5), np.float32(1.0)
    top, bottom = (np.float32(y0) + half) / step + one, (np.float32(y1) - half) / step + one
    left, right = (np.float32(x0) + half) / step + one, (np.float32(x1) - half) / step + one
    out[0], out[1], out[2], out[3] = 1e9, -1e9, 1e9, -1e9
    for i in range(int(np.floor(top)), int(np.floor(bottom)) + 2):
        v = min(max(np.float32(i), top), bottom)
        iy = min(int(v), grid.shape[1] - 2)
        fy = v - np.float32(iy)
        for j in range(int(np.floor(left)), int(np.floor(right)) + 2):
            u = min(max(np.float32(j), left), right)
            ix = min(int(u), grid.shape[2] - 2)
            fx = u - np.float32(ix)
            for p in range(6):
                a = grid[p, iy, ix] + fx * (grid[p, iy, ix + 1] - grid[p, iy, ix])
                b = grid[p, iy + 1, ix] + fx * (grid[p, iy + 1, ix + 1] - grid[p, iy + 1, ix])
                at = a + fy * (b - a)
                k = 2 * (p & 1)
                out[k], out[k + 1] = min(out[k], at), max(out[k + 1], at)


@kernel
def _nodes(grid, y, first, last, nodes):
    """The map's values at the nodes of one row of output pixels, between two rows of nodes."""
    v = (np.float32(y) + np.float32(0.5)) / np.float32(STEP) + np.float32(1.0)
    iy = int(v)
    fy = v - np.float32(iy)
    for p in range(7):
        top, bottom, line = grid[p, iy, first:], grid[p, iy + 1, first:], nodes[p]
        for j in range(last + 1 - first):
            line[j] = top[j] + fy * (bottom[j] - top[j])


RUN = 16
"""Pixels that are resampled together where the map is nearly a shift. With 8 the compiler lays the loop out without vectors."""
SPAN = 24
"""Columns of the plane that a run reads: three on either side of its pixels, up to whole vectors."""


REACH, FAR = 32, 48
"""The same for a run whose positions advance by anything from a half to one and a half px, and by up to two and a quarter."""


@kernel
def _cells(nodes, c, x0, w, first, count, inv, ox, oy, rows, cols, begin, end, out):
    """The cells of one plane of one row, along each of which the map is linear, and where a run can do them.

    Args:
        rows, cols: of the plane; begin, end: its columns that hold something. A run may read others, but not for px that are kept.
        out: float32 (11, count): first position u and v, their steps per px, first gain and its step; slope of
            v over u; whole px (mu, mv) below all positions of a run, mu 0 where the cell is no near shift
            or a run leaves the plane; columns that are read where positions do not advance by nearly one px, else 0;
            steps from the first px that is kept to the last.
    """
    half, one, zero, step = np.float32(0.5), np.float32(1.0), np.float32(0.0), np.float32(1.0 / STEP)
    two = np.float32(2.0)
    tiny, most = np.float32(0.002), np.float32(1.99)
    ax, ay, ag = nodes[2 * c], nodes[2 * c + 1], nodes[6]
    bx, by, bg = ax[1:], ay[1:], ag[1:]
    us, vs, dus, dvs, gs, dgs = out[0], out[1], out[2], out[3], out[4], out[5]
    slopes, mus, mvs, wides = out[6], out[7], out[8], out[9]
    for k in range(count):
        dus[k] = (bx[k] - ax[k]) * step * inv
    for k in range(count):
        dvs[k] = (by[k] - ay[k]) * step * inv
    for k in range(count):
        dgs[k] = (bg[k] - ag[k]) * step
    # The first cell may begin inside of itself.
    inside = np.float32(max(x0 - (first - 1) * STEP, 0))
    for k in range(count):
        us[k] = (ax[k] - ox) * inv - half + half * dus[k]
    for k in range(count):
        vs[k] = (ay[k] - oy) * inv - half + half * dvs[k]
    for k in range(count):
        gs[k] = ag[k] + half * dgs[k]
    us[0] += inside * dus[0]
    vs[0] += inside * dvs[0]
    gs[0] += inside * dgs[0]
    spans = out[10]
    for k in range(count):
        spans[k] = np.float32(RUN - 1)
    spans[0] -= inside
    spans[count - 1] -= np.float32(max((first + count - 1) * STEP - x0 - w, 0))
    right, bottom = np.float32(cols - SPAN + 1), np.float32(rows - 6)
    lowest, highest = np.float32(begin) + two, np.float32(end) - np.float32(3.01)
    for k in range(count):
        slopes[k] = dvs[k] / max(dus[k], half)
    for k in range(count):
        u0, last = us[k], us[k] + np.float32(RUN - 1) * (dus[k] - one)
        # Rounding must not put a position below the first tap's pixel.
        mu = np.floor(min(u0, last) - tiny)
        va = vs[k] + slopes[k] * (mu - two - u0)
        vb = va + slopes[k] * np.float32(SPAN - 1)
        mv = np.floor(min(va, vb) - tiny)
        held = (u0 >= lowest) & (u0 + spans[k] * dus[k] <= highest)
        level = held & (max(u0, last) < mu + most) & (max(va, vb) < mv + most) & (dus[k] > half)
        fits = level & (mu >= two) & (mv >= two) & (mu <= right) & (mv <= bottom)
        # The longer run begins at its first position, whichever way the others drift.
        mw = np.floor(u0 - tiny)
        reach = np.float32(REACH) if dus[k] < one + half else np.float32(FAR)
        wa = vs[k] + slopes[k] * (mw - two - u0)
        wb = wa + slopes[k] * (reach - one)
        mx = np.floor(min(wa, wb) - tiny)
        easy = held & (dus[k] > half) & (dus[k] < np.float32(2.25)) & (max(wa, wb) < mx + most)
        easy = easy & (mw >= two) & (mx >= two) & (mw <= right - (reach - np.float32(SPAN))) & (mx <= bottom)
        mus[k] = mu if fits else (mw if easy else zero)
        mvs[k] = mv if fits else mx
        wides[k] = zero if fits else reach


WIDEN = 1.25
"""Reduction up to which no wider kernel is needed: a mean of blocks holds little of what could alias."""


@lru_cache(maxsize=64)
def lanczos(stretch: float) -> NDArray[np.float32]:
    """Lanczos' kernel as polynomials (6, 4) of the offset g from the middle between two samples, for six taps.

    Taps k and 5 - k are E(g^2) + g O(g^2) and E(g^2) - g O(g^2), normalised; exact to some 1e-4. Three lobes; where the
    output is coarser than the samples by more than WIDEN, two lobes that are widened by as much, against aliasing.

    Args:
        stretch: samples per output px, up to 1.5.
    """
    g = np.linspace(-0.5, 0.5, 401)
    d = np.stack([k - 2 - (g + 0.5) for k in range(6)])
    if stretch > WIDEN:
        reach = np.clip(d / stretch, -2, 2)
        w = np.sinc(reach) * np.sinc(reach / 2)
    else:
        w = np.sinc(d) * np.sinc(d / 3)
    w /= w.sum(axis=0)
    rows = []
    x = g * g
    some = np.abs(g) > 1e-6
    for k in range(3):
        even, odd = (w[k] + w[5 - k]) / 2, (w[k] - w[5 - k]) / 2
        rows.append(np.polynomial.polynomial.polyfit(x, even, 3))
        rows.append(np.polynomial.polynomial.polyfit(x[some], odd[some] / g[some], 3))
    return np.array(rows, dtype=np.float32)


@kernel
def _row(plane, begin, end_column, cells, x0, w, first, count, out, column, taps, p):
    """One plane of one row by Lanczos: in runs where positions advance by nearly one px, else one by one.

    A run goes first down the columns, along the line on which its positions lie, then along that line: the
    kernel's footprint is sheared by as much as the line is inclined, and two thirds of the products are saved. The
    taps stand at places that are the same for all its pixels, moved by one where a position has passed the
    next pixel: all loads are in a row, so both loops vectorise without gathering. All of this is one function
    on purpose: handing arrays on costs as much as the arithmetic of some pixels.

    Args:
        begin, end_column: columns of the plane that hold something; what lies beyond is like the nearest.
        cells: see `_cells`.
        column: float32 (FAR,), taps: float32 (7, RUN), work space.
        p: float32 (6, 4), see `lanczos`.
    """
    rows = plane.shape[0]
    t0, t1, t2, t3, t4, t5, done = taps[0], taps[1], taps[2], taps[3], taps[4], taps[5], taps[6]
    half, one, two = np.float32(0.5), np.float32(1.0), np.float32(2.0)
    bottom = np.float32(rows) - np.float32(3.01)
    low, right = np.float32(begin) + two, np.float32(end_column) - np.float32(3.01)
    a0, a1, a2, a3 = p[0, 0], p[0, 1], p[0, 2], p[0, 3]
    b0, b1, b2, b3 = p[1, 0], p[1, 1], p[1, 2], p[1, 3]
    c0, c1, c2, c3 = p[2, 0], p[2, 1], p[2, 2], p[2, 3]
    d0, d1, d2, d3 = p[3, 0], p[3, 1], p[3, 2], p[3, 3]
    e0, e1, e2, e3 = p[4, 0], p[4, 1], p[4, 2], p[4, 3]
    f0, f1, f2, f3 = p[5, 0], p[5, 1], p[5, 2], p[5, 3]
    for k in range(count):
        at = max((first + k - 1) * STEP - x0, 0)
        end = min((first + k) * STEP - x0, w)
        u0, v0, du, dv, g0, dg = cells[0, k], cells[1, k], cells[2, k], cells[3, k], cells[4, k], cells[5, k]
        slope = cells[6, k]
        mu, mv = int(cells[7, k]), int(cells[8, k])
        if mu > 0:
            reach = int(cells[9, k]) if cells[9, k] > half else SPAN
            r0 = np.uint64(mv - 2)
            left, start = np.uint64(mu - 2), np.uint64(at)
            r1, r2, r3 = r0 + np.uint64(1), r0 + np.uint64(2), r0 + np.uint64(3)
            r4, r5, r6 = r0 + np.uint64(4), r0 + np.uint64(5), r0 + np.uint64(6)
            v = v0 - np.float32(mv) + slope * (np.float32(mu - 2) - u0)
            # In whole vectors, the last of which begins before the end of the one before: what is left over beside them is
            # done px by px, and takes longer than all the rest.
            for part in range((reach + RUN - 1) // RUN):
                begun = min(part * RUN, reach - RUN)
                start_f, at_q = np.float32(begun), left + np.uint64(begun)
                some = column[begun : begun + RUN]
                for i in range(RUN):
                    f = v + (start_f + np.float32(i)) * slope
                    passed = f >= one
                    g = f - one - half if passed else f - half
                    x = g * g
                    ea, oa = a0 + x * (a1 + x * (a2 + x * a3)), g * (b0 + x * (b1 + x * (b2 + x * b3)))
                    eb, ob = c0 + x * (c1 + x * (c2 + x * c3)), g * (d0 + x * (d1 + x * (d2 + x * d3)))
                    ec, oc = e0 + x * (e1 + x * (e2 + x * e3)), g * (f0 + x * (f1 + x * (f2 + x * f3)))
                    q = at_q + np.uint64(i)
                    p0, p1, p2, p3 = plane[r0, q], plane[r1, q], plane[r2, q], plane[r3, q]
                    p4, p5, p6 = plane[r4, q], plane[r5, q], plane[r6, q]
                    p0, p1, p2 = p1 if passed else p0, p2 if passed else p1, p3 if passed else p2
                    p3, p4, p5 = p4 if passed else p3, p5 if passed else p4, p6 if passed else p5
                    some[i] = (
                        ea * (p0 + p5)
                        + oa * (p0 - p5)
                        + eb * (p1 + p4)
                        + ob * (p1 - p4)
                        + ec * (p2 + p3)
                        + oc * (p2 - p3)
                    )
            if reach != SPAN:
                u = u0 - np.float32(mu)
                # Taps are fetched first: a loop that looks up where it computes is not done in vectors.
                for i in range(RUN):
                    q = np.uint64(np.int32(u + np.float32(i) * du))
                    t0[i], t1[i], t2[i] = column[q], column[q + np.uint64(1)], column[q + np.uint64(2)]
                    t3[i], t4[i] = column[q + np.uint64(3)], column[q + np.uint64(4)]
                    t5[i] = column[q + np.uint64(5)]
                for i in range(RUN):
                    n = np.float32(i)
                    f = u + n * du
                    g = f - np.float32(np.int32(f)) - half
                    x = g * g
                    ea, oa = a0 + x * (a1 + x * (a2 + x * a3)), g * (b0 + x * (b1 + x * (b2 + x * b3)))
                    eb, ob = c0 + x * (c1 + x * (c2 + x * c3)), g * (d0 + x * (d1 + x * (d2 + x * d3)))
                    ec, oc = e0 + x * (e1 + x * (e2 + x * e3)), g * (f0 + x * (f1 + x * (f2 + x * f3)))
                    p0, p1, p2, p3, p4, p5 = t0[i], t1[i], t2[i], t3[i], t4[i], t5[i]
                    value = (
                        ea * (p0 + p5)
                        + oa * (p0 - p5)
                        + eb * (p1 + p4)
                        + ob * (p1 - p4)
                        + ec * (p2 + p3)
                        + oc * (p2 - p3)
                    )
                    done[i] = value * (g0 + n * dg)
            else:
                u, drift = u0 - np.float32(mu), du - one
                for i in range(RUN):
                    n = np.float32(i)
                    f = u + n * drift
                    passed = f >= one
                    g = f - one - half if passed else f - half
                    x = g * g
                    ea, oa = a0 + x * (a1 + x * (a2 + x * a3)), g * (b0 + x * (b1 + x * (b2 + x * b3)))
                    eb, ob = c0 + x * (c1 + x * (c2 + x * c3)), g * (d0 + x * (d1 + x * (d2 + x * d3)))
                    ec, oc = e0 + x * (e1 + x * (e2 + x * e3)), g * (f0 + x * (f1 + x * (f2 + x * f3)))
                    q = np.uint64(i)
                    p0, p1, p2 = column[q], column[q + np.uint64(1)], column[q + np.uint64(2)]
                    p3, p4, p5 = column[q + np.uint64(3)], column[q + np.uint64(4)], column[q + np.uint64(5)]
                    p6 = column[q + np.uint64(6)]
                    p0, p1, p2 = p1 if passed else p0, p2 if passed else p1, p3 if passed else p2
                    p3, p4, p5 = p4 if passed else p3, p5 if passed else p4, p6 if passed else p5
                    value = (
                        ea * (p0 + p5)
                        + oa * (p0 - p5)
                        + eb * (p1 + p4)
                        + ob * (p1 - p4)
                        + ec * (p2 + p3)
                        + oc * (p2 - p3)
                    )
                    done[i] = value * (g0 + n * dg)
            # Cells at the block's sides are not whole: their runs are made to the end, and kept as far as they are asked for.
            if end - at == RUN:
                for i in range(RUN):
                    out[start + np.uint64(i)] = done[i]
            else:
                for i in range(end - at):
                    out[start + np.uint64(i)] = done[i]
        else:
            for j in range(end - at):
                n = np.float32(j)
                u, v = min(max(u0 + n * du, low), right), min(max(v0 + n * dv, two), bottom)
                iu, iv = int(u), int(v)
                g = u - np.float32(iu) - half
                x = g * g
                ea, oa = a0 + x * (a1 + x * (a2 + x * a3)), g * (b0 + x * (b1 + x * (b2 + x * b3)))
                eb, ob = c0 + x * (c1 + x * (c2 + x * c3)), g * (d0 + x * (d1 + x * (d2 + x * d3)))
                ec, oc = e0 + x * (e1 + x * (e2 + x * e3)), g * (f0 + x * (f1 + x * (f2 + x * f3)))
                h = v - np.float32(iv) - half
                y = h * h
                va, wa = a0 + y * (a1 + y * (a2 + y * a3)), h * (b0 + y * (b1 + y * (b2 + y * b3)))
                vb, wb = c0 + y * (c1 + y * (c2 + y * c3)), h * (d0 + y * (d1 + y * (d2 + y * d3)))
                vc, wc = e0 + y * (e1 + y * (e2 + y * e3)), h * (f0 + y * (f1 + y * (f2 + y * f3)))
                total = np.float32(0.0)
                for t in range(6):
                    r = iv - 2 + t
                    line = (ea + oa) * plane[r, iu - 2] + (eb + ob) * plane[r, iu - 1] + (ec + oc) * plane[r, iu]
                    line += (ec - oc) * plane[r, iu + 1] + (eb - ob) * plane[r, iu + 2] + (ea - oa) * plane[r, iu + 3]
                    s = (
                        va + wa
                        if t == 0
                        else (
                            vb + wb
                            if t == 1
                            else (vc + wc if t == 2 else (vc - wc if t == 3 else (vb - wb if t == 4 else va - wa)))
                        )
                    )
                    total += s * line
                out[at + j] = total * (g0 + n * dg)


@kernel
def warp(planes, window, origin, pitch, shifts, grid, y0, x0, polynomials, out):
    """Fill a block of output pixels.

    Args:
        planes: float32 (3, h, w), linear.
        window: int64 (4,): first row, rows, first column, columns of the planes that hold something; at least 8 x 8. What lies
            beyond is like the nearest.
        origin: float32 (2,), sensor x and y of the outer corner of the first pixel.
        pitch: sensor px per plane px.
        shifts: float32 (3, 2), by how much each plane's samples lie off their pixel's centre, in sensor px.
        grid: see Geometry.
        y0, x0: output position of the block.
        polynomials: see `lanczos`.
        out: float32 (3, h, w).
    """
    h, w = out.shape[1], out.shape[2]
    nodes = np.empty((7, w // STEP + 4), dtype=np.float32)
    column, taps = np.empty(FAR, dtype=np.float32), np.empty((7, RUN), dtype=np.float32)
    cells = np.empty((11, w // STEP + 3), dtype=np.float32)
    inv = np.float32(1.0) / np.float32(pitch)
    begin, end = window[2], window[2] + window[3]
    first, last = x0 // STEP + 1, (x0 + w - 1) // STEP + 2
    for i in range(h):
        _nodes(grid, y0 + i, first, last, nodes)
        for c in range(3):
            ox, oy = origin[0] + shifts[c, 0], origin[1] + shifts[c, 1]
            count = last - first
            oy += np.float32(window[0]) * np.float32(pitch)
            _cells(nodes, c, x0, w, first, count, inv, ox, oy, window[1], planes.shape[2], begin, end, cells)
            plane = planes[c, window[0] : window[0] + window[1]]
            _row(plane, begin, end, cells, x0, w, first, count, out[c, i], column, taps, polynomials)


def shrink_first(times: int) -> int:
    """Where the taps of the first output px begin, in px of the larger picture; there are six a time."""
    return times // 2 - 3 * times


@lru_cache(maxsize=16)
def shrink_weights(times: int) -> NDArray[np.float32]:
    """Lanczos' kernel of three lobes for a whole ratio, (6 times,)."""
    d = (shrink_first(times) + np.arange(6 * times) - (times - 1) / 2) / times
    w = np.where(np.abs(d) < 3, np.sinc(d) * np.sinc(d / 3), 0)
    return np.asarray(w / w.sum(), dtype=np.float32)


@kernel
def shrink(planes, times, weights, out):
    """Make planes smaller by a whole ratio, first down the columns and then along the rows.

    Args:
        planes: float32 (3, times (h + 5), times (w + 5)), from `shrink_first` before the first output px on.
        weights: see `shrink_weights`.
        out: float32 (3, h, w).
    """
    taps, wide = weights.shape[0], planes.shape[2]
    line = np.empty(wide, dtype=np.float32)
    step = np.uint64(times)
    for c in range(3):
        for i in range(out.shape[1]):
            first = planes[c, i * times]
            for j in range(wide):
                line[j] = weights[0] * first[j]
            for t in range(1, taps):
                row, k = planes[c, i * times + t], weights[t]
                for j in range(wide):
                    line[j] += k * row[j]
            row = out[c, i]
            for j in range(out.shape[2]):
                row[j] = np.float32(0.0)
            for t in range(taps):
                at, k = line[t:], weights[t]
                for j in range(out.shape[2]):
                    row[j] += k * at[np.uint64(j) * step]

"""The one resampling: from linear camera planes through the map to output pixels, with fall-off."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.optics.geometry import STEP
from tanner.core.optics.runs import (
    AT,
    DU,
    DV,
    FRAME,
    GAIN,
    GAIN_STEP,
    KEEP,
    LEFT,
    REACH,
    SLOPE,
    SPAN,
    TOP,
    U_IN,
    V_IN,
    WIDE,
    U,
    V,
    cells,
    far_run,
    near_run,
    wide_run,
)  # fmt: skip
from tanner.core.vector16 import LANES


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
def _parts(length, count, first, share):
    """Of `count` equal parts of a line of px, the first px of each, and how much of it and of the next ones lies within.

    Args:
        first: int64 (count,); share: float32 (count, n), n wide enough, sums are 1.
    """
    step = length / count
    share[:] = 0
    for k in range(count):
        start, end = k * step, (k + 1) * step
        first[k] = int(start)
        for n in range(share.shape[1]):
            at = first[k] + n
            share[k, n] = max(0.0, min(end, at + 1.0) - max(start, float(at))) / step


@kernel
def _averaged(plane, out):
    """See `averaged`, of one plane."""
    high, wide = plane.shape
    h, w = out.shape
    rows, columns = np.empty(h, np.int64), np.empty(w, np.int64)
    down, across = (
        np.empty((h, int(high / h) + 2), np.float32),
        np.empty((w, int(wide / w) + 2), np.float32),
    )
    _parts(high, h, rows, down)
    _parts(wide, w, columns, across)
    turned = across.T.copy()
    line = np.empty(wide + across.shape[1], np.float32)
    line[wide:] = 0
    for y in range(h):
        line[:wide] = 0
        for n in range(down.shape[1]):
            share = down[y, n]
            if share > 0:
                row = plane[min(rows[y] + n, high - 1)]
                for x in range(wide):
                    line[x] += share * row[x]
        row = out[y]
        row[:] = 0
        for n in range(across.shape[1]):
            share_of, from_here = turned[n], line[n:]
            for x in range(w):
                row[x] += share_of[x] * from_here[columns[x]]


def averaged(planes: NDArray[np.float32], size: tuple[int, int]) -> NDArray[np.float32]:
    """Planes (n, H, W) at a smaller size, px across and down, each px the mean of what it covers: of any ratio from 1 on."""
    w, h = size
    if h > planes.shape[1] or w > planes.shape[2]:
        raise ValueError(f"{planes.shape[1:]} cannot be made smaller to {(h, w)}")
    out = np.empty((len(planes), h, w), np.float32)
    for plane, small in zip(planes, out, strict=True):
        _averaged(np.ascontiguousarray(plane, np.float32), small)
    return out


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
    for p in range(9):
        top, bottom, line = grid[p, iy, first:], grid[p, iy + 1, first:], nodes[p]
        for j in range(last + 1 - first):
            line[j] = top[j] + fy * (bottom[j] - top[j])


WIDEN = 1.25
"""Reduction up to which no wider kernel is needed: a mean of blocks holds little of what could alias."""


@lru_cache(maxsize=64)
def lanczos(stretch: float) -> NDArray[np.float32]:
    """Lanczos' kernel as polynomials (6, 3) of the offset g from the middle between two samples, for six taps.

    Taps k and 5 - k are E(g^2) + g O(g^2) and E(g^2) - g O(g^2), normalised; exact to 0.0003,
    and to 0.00001 on samples, where g is half a px; one more power would take a seventh more time. Three lobes; where the
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
    some, sure = np.abs(g) > 1e-6, np.where(np.abs(g) > 0.499, 30.0, 1.0)
    for k in range(3):
        even, odd = (w[k] + w[5 - k]) / 2, (w[k] - w[5 - k]) / 2
        rows.append(np.polynomial.polynomial.polyfit(x, even, 2, w=sure))
        rows.append(np.polynomial.polynomial.polyfit(x[some], odd[some] / g[some], 2, w=sure[some]))
    return np.array(rows, dtype=np.float32)


@kernel
def _single(plane, low, right, u, v, p, weights):
    """One px by Lanczos, where no run can do it: at the borders, beyond which all is like the nearest.

    Args:
        low, right: first and last column that a position may lie at.
        u, v: position in the plane.
        p: float32 (6, 3), see `lanczos`; weights: float32 (2, 6), work space.
    """
    half, two = np.float32(0.5), np.float32(2.0)
    u, v = min(max(u, low), right), min(max(v, two), np.float32(plane.shape[0]) - np.float32(3.01))
    iu, iv = int(u), int(v)
    g, h = u - np.float32(iu) - half, v - np.float32(iv) - half
    x, y = g * g, h * h
    across, down = weights[0], weights[1]
    for k in range(3):
        e, o = p[2 * k], p[2 * k + 1]
        even, odd = e[0] + x * (e[1] + x * e[2]), g * (o[0] + x * (o[1] + x * o[2]))
        across[k], across[5 - k] = even + odd, even - odd
        even, odd = e[0] + y * (e[1] + y * e[2]), h * (o[0] + y * (o[1] + y * o[2]))
        down[k], down[5 - k] = even + odd, even - odd
    total = np.float32(0.0)
    for i in range(6):
        line = np.float32(0.0)
        for j in range(6):
            line += across[j] * plane[iv - 2 + i, iu - 2 + j]
        total += down[i] * line
    return total


@kernel
def _row(plane, low, right, cells, number, out, p, polynomials, weights):
    """One plane of one row by Lanczos: in runs where positions advance evenly, else px by px.

    A run goes first down the columns, along the line on which its positions lie, then along that line: the kernel's
    footprint is sheared by as much as the line is inclined, and two thirds of the products are saved.

    Args:
        cells: float32 (14, n), of which `number` count, see `runs.cells`.
        p: 18 float32, the polynomials in a row.
    """
    columns = plane.shape[1]
    for k in range(number):
        left, u, v, du = cells[LEFT, k], cells[U, k], cells[V, k], cells[DU, k]
        gain, gain_step, at, keep = cells[GAIN, k], cells[GAIN_STEP, k], int(cells[AT, k]), cells[KEEP, k]
        if left > np.float32(0.0):
            place = (int(cells[TOP, k]) - 2) * columns + int(left) - 2
            u_in, v_in, slope, wide = cells[U_IN, k], cells[V_IN, k], cells[SLOPE, k], cells[WIDE, k]
            if wide == np.float32(SPAN):
                near_run(plane, place, v_in, slope, p, u_in, du, gain, gain_step, out, at, keep)
            elif wide == np.float32(REACH):
                wide_run(plane, place, v_in, slope, p, u_in, du, gain, gain_step, out, at, keep)
            else:
                far_run(plane, place, v_in, slope, p, u_in, du, gain, gain_step, out, at, keep)
        else:
            dv = cells[DV, k]
            for j in range(int(keep)):
                n = np.float32(j)
                out[at + j] = _single(plane, low, right, u + n * du, v + n * dv, polynomials, weights) * (
                    gain + n * gain_step
                )


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
    first, last = x0 // STEP + 1, (x0 + w - 1) // STEP + 2
    number = last - first
    groups = (number + LANES - 1) // LANES
    # Beyond the last node whatever is there: what comes of it is not looked at.
    nodes = np.zeros((9, groups * LANES + 1), dtype=np.float32)
    cell = np.empty((14, groups * LANES), dtype=np.float32)
    inv, two = np.float32(1.0) / np.float32(pitch), np.float32(2.0)
    low, right = np.float32(window[2]) + two, np.float32(window[2] + window[3]) - np.float32(3.01)
    p = polynomials
    flat = (
        p[0, 0], p[0, 1], p[0, 2], p[1, 0], p[1, 1], p[1, 2], p[2, 0], p[2, 1], p[2, 2],
        p[3, 0], p[3, 1], p[3, 2], p[4, 0], p[4, 1], p[4, 2], p[5, 0], p[5, 1], p[5, 2],
    )  # fmt: skip
    frame, weights = np.empty((3, FRAME), dtype=np.float32), np.empty((2, 6), dtype=np.float32)
    for c in range(3):
        frame[c, 0], frame[c, 1], frame[c, 2] = np.float32((first - 1) * STEP - x0), np.float32(w), inv
        frame[c, 3] = origin[0] + shifts[c, 0]
        frame[c, 4] = origin[1] + shifts[c, 1] + np.float32(window[0]) * np.float32(pitch)
        frame[c, 5], frame[c, 6] = np.float32(window[1]), np.float32(planes.shape[2])
        frame[c, 7], frame[c, 8] = np.float32(window[2]), np.float32(window[2] + window[3])
    for i in range(h):
        _nodes(grid, y0 + i, first, last, nodes)
        for c in range(3):
            for group in range(groups):
                cells(nodes, c, group * LANES, frame[c], cell)
            plane = planes[c, window[0] : window[0] + window[1]]
            _row(plane, low, right, cell, number, out[c, i], flat, polynomials, weights)


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

"""Masks of areas, worked out row by row at any size: a short list of parts, each combined with what is before it.

A part lies in shares of the long edge of the sensor's picture as it stands upright, from its middle: x to the right, y down. So
crop, straightening, lens and perspective move the picture and its masks together.
"""

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.raster_row import raster_row
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.optics.geometry import STEP
from tanner.core.vector16 import LANES, alike, array, below, count, store_some

F32 = NDArray[np.float32]
STRAIGHT, ROUND, WHOLE, RASTER = range(4)
ADD, SUBTRACT, INTERSECT, EITHER, INVERT = range(5)
NUMBERS = 8
assert STEP == LANES  # a cell of the map is one vector


class Masks(NamedTuple):
    """All areas' masks as the kernel reads them.

    Attributes:
        first: int32 (areas + 1,): where each area's parts begin in the lists below.
        kind, combine: int32 (parts,). inverted: bool (parts,).
        number: float32 (parts, NUMBERS), see the kernels.
        raster: uint16 (rasters, h, w), masks that were worked out beforehand, over the whole upright frame.
    """

    first: NDArray[np.int32]
    kind: NDArray[np.int32]
    combine: NDArray[np.int32]
    inverted: NDArray[np.bool_]
    number: F32
    raster: NDArray[np.uint16]


@kernel
def _smooth(t):
    t = min(max(t, np.float32(0.0)), np.float32(1.0))
    return t * t * (np.float32(3.0) - np.float32(2.0) * t)


@kernel
def _straight(p, u, v, out, n):
    """1 at the line through (p0, p1), 0 at the one through the end: p2, p3 is the way there over its length squared."""
    a, b, dx, dy, one = p[0], p[1], p[2], p[3], np.float32(1.0)
    for j in range(n):
        out[j] = _smooth(one - (u[j] - a) * dx - (v[j] - b) * dy)


@kernel
def _round(p, u, v, out, n):
    """Centre p0, p1; rows of the matrix to the unit circle p2 to p5; p6 is 1 / softness."""
    one = np.float32(1.0)
    cx, cy, xx, xy, yx, yy, soft = p[0], p[1], p[2], p[3], p[4], p[5], p[6]
    for j in range(n):
        x, y = u[j] - cx, v[j] - cy
        a, b = xx * x + xy * y, yx * x + yy * y
        out[j] = _smooth((one - np.sqrt(a * a + b * b)) * soft)


@kernel
def _whole(p, out, n):
    """p0 everywhere."""
    for j in range(n):
        out[j] = p[0]


@kernel
def _combine(m, part, how, n):
    one = np.float32(1.0)
    if how == ADD:
        for j in range(n):
            m[j] = m[j] + part[j] - m[j] * part[j]
    elif how == SUBTRACT:
        for j in range(n):
            m[j] = m[j] * (one - part[j])
    elif how == EITHER:
        for j in range(n):
            m[j] = m[j] + part[j] - np.float32(2.0) * m[j] * part[j]
    else:
        for j in range(n):
            m[j] = m[j] * part[j]


@kernel
def mask_row(masks, area, u, v, m, part, n):
    """One area's mask along a row, 0 to 1.

    Args:
        u, v: float32 (n,), places. m: float32 (n,), filled; part: float32 (n,), work space.
    """
    begun = False
    for s in range(masks.first[area], masks.first[area + 1]):
        if masks.combine[s] == INVERT and begun:
            for j in range(n):
                m[j] = np.float32(1.0) - m[j]
            continue
        # What is the first is added to nothing: it is the mask.
        alone = not begun and (masks.combine[s] == ADD or masks.combine[s] == EITHER)
        if not begun and not alone:
            m[:n] = np.float32(1.0 if masks.combine[s] == INVERT else 0.0)
            begun = True
            continue
        row = m if alone else part
        p = masks.number[s]
        kind = masks.kind[s]
        if kind == STRAIGHT:
            _straight(p, u, v, row, n)
        elif kind == ROUND:
            _round(p, u, v, row, n)
        elif kind == WHOLE:
            _whole(p, row, n)
        else:
            raster_row(p, masks.raster, u, v, row, n)
        if masks.inverted[s]:
            for j in range(n):
                row[j] = np.float32(1.0) - row[j]
        if begun:
            _combine(m, part, masks.combine[s], n)
        begun = True
    if not begun:
        m[:n] = np.float32(0.0)


@intrinsic
def _cell(typingctx, start, slope, out, node, n):  # type: ignore[no-untyped-def]
    """What lies along a cell of the map, STEP px long: from start on, by slope more each, into out from px `node` on, within n."""
    sig = types.void(start, slope, out, node, n)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        start, slope, _, node, n = args
        data, _ = array(context, builder, signature.args[2], args[2])
        before = below(builder, builder.neg(node))
        there = builder.and_(builder.not_(before), below(builder, builder.sub(n, node)))
        store_some((count(builder) + 0.5) * slope + alike(builder, start), data, node, there)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def places_row(grid, to, y, x0, nodes, uv, n):
    """Places along a row of output px, straight lines between the nodes of the geometry's map.

    Args:
        grid: see `optics.geometry.Geometry`: green's places on the sensor stand in its rows 2 and 3.
        to: float32 (2, 3), from px of the sensor to places.
        nodes: float32 (2, more than n / STEP + 2), work space.
        uv: float32 (2, n), filled.
    """
    half, one = np.float32(0.5), np.float32(1.0)
    gy = min(max((y + STEP) // STEP, 0), grid.shape[1] - 2)
    inverse = one / np.float32(STEP)
    fy = (np.float32(y + STEP - gy * STEP) + half) * inverse
    first = min(max((x0 + STEP) // STEP, 0), grid.shape[2] - 2)
    # One node more than there are cells, and none beyond the map.
    count = min((x0 + n - 1 + STEP) // STEP, grid.shape[2] - 2) - first + 2
    ax, ay, bx, by = grid[2, gy, first:], grid[3, gy, first:], grid[2, gy + 1, first:], grid[3, gy + 1, first:]
    for axis in range(2):
        a, b, c, row = to[axis, 0], to[axis, 1], to[axis, 2], nodes[axis]
        for k in range(count):
            x, z = ax[k] + fy * (bx[k] - ax[k]), ay[k] + fy * (by[k] - ay[k])
            row[k] = a * x + b * z + c
    for axis in range(2):
        row, out = nodes[axis], uv[axis]
        for k in range(count - 1):
            # Counted from the node, not from the block: the same to the bit in every tile.
            _cell(row[k], (row[k + 1] - row[k]) * inverse, out, (first + k - 1) * STEP - x0, n)
        # The ends reach on beyond the map.
        node = (first - 1) * STEP - x0
        for j in range(min(node, n)):
            out[j] = row[0] + (row[1] - row[0]) * inverse * (np.float32(j - node) + half)
        node, last = (first + count - 3) * STEP - x0, row[count - 2]
        for j in range(max(node + STEP, 0), n):
            out[j] = last + (row[count - 1] - last) * inverse * (np.float32(j - node) + half)

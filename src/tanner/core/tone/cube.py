"""Three-dimensional tables on rows of pixels: looks from .cube files, and proofs of printers."""

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.cube import Cube
from tanner.core.colour.spaces import SPACES, working_to
from tanner.core.jit import kernel

F32 = NDArray[np.float32]
NO_CUBE = np.zeros((1, 1, 1, 4), dtype=np.float32)
NO_LINE = np.zeros((3, 1), dtype=np.float32)


def padded(table: F32) -> F32:
    """(n, n, n, 3) as the kernel reads it, (n, n, n, 4)."""
    return np.concatenate([table, np.zeros((*table.shape[:3], 1), np.float32)], axis=-1).astype(np.float32)


@kernel
def look_up_cube(x, y, z, cube):
    """Trilinear; x, y, z from 0 to 1, held to it."""
    n = cube.shape[0]
    last = np.float32(n - 1)
    zero, one = np.float32(0.0), np.float32(1.0)
    a, b, c = min(max(x, zero), one) * last, min(max(y, zero), one) * last, min(max(z, zero), one) * last
    i, j, k = min(int(a), n - 2), min(int(b), n - 2), min(int(c), n - 2)
    fa, fb, fc = a - np.float32(i), b - np.float32(j), c - np.float32(k)
    r = g = s = zero
    for di in range(2):
        wa = fa if di == 1 else one - fa
        for dj in range(2):
            wb = wa * (fb if dj == 1 else one - fb)
            for dk in range(2):
                w = wb * (fc if dk == 1 else one - fc)
                cell = cube[i + di, j + dj, k + dk]
                r += w * cell[0]
                g += w * cell[1]
                s += w * cell[2]
    return r, g, s


@kernel
def _line_at(v, line):
    n = line.shape[0]
    a = min(max(v, np.float32(0.0)), np.float32(1.0)) * np.float32(n - 1)
    i = min(int(a), n - 2)
    f = a - np.float32(i)
    return line[i] * (np.float32(1.0) - f) + line[i + 1] * f


@kernel
def _encode(v, display):
    if not display:
        return v
    m = abs(v)
    e = (
        np.float32(12.92) * m
        if m <= np.float32(0.0031308)
        else np.float32(1.055) * m ** np.float32(1 / 2.4) - np.float32(0.055)
    )
    return e if v >= np.float32(0.0) else -e


@kernel
def _decode(e, display):
    if not display:
        return e
    m = abs(e)
    v = (
        m * np.float32(1 / 12.92)
        if m <= np.float32(0.04045)
        else ((m + np.float32(0.055)) * np.float32(1 / 1.055)) ** np.float32(2.4)
    )
    return v if e >= np.float32(0.0) else -v


@kernel
def apply_cube(r, g, b, cube, line, to, back, domain, display, amount, n):
    """A look on one row of working values, in place: what the table changes is added, times the amount.

    Args:
        cube: (n, n, n, 4), or (1, 1, 1, 4) when `line` (3, n) is the table.
        to, back: working space to the look's linear space, and back.
        domain: (2, 3) low and 1 / (high - low) of the input.
        display: the table works on sRGB-encoded values.
    """
    one_dimension = cube.shape[0] < 2
    for j in range(n):
        x = to[0, 0] * r[j] + to[0, 1] * g[j] + to[0, 2] * b[j]
        y = to[1, 0] * r[j] + to[1, 1] * g[j] + to[1, 2] * b[j]
        z = to[2, 0] * r[j] + to[2, 1] * g[j] + to[2, 2] * b[j]
        ex, ey, ez = _encode(x, display), _encode(y, display), _encode(z, display)
        ux, uy, uz = (
            (ex - domain[0, 0]) * domain[1, 0],
            (ey - domain[0, 1]) * domain[1, 1],
            (ez - domain[0, 2]) * domain[1, 2],
        )
        if one_dimension:
            nx, ny, nz = _line_at(ux, line[0]), _line_at(uy, line[1]), _line_at(uz, line[2])
        else:
            nx, ny, nz = look_up_cube(ux, uy, uz, cube)
        # Beyond the domain a colour keeps its distance from the edge.
        zero, one = np.float32(0.0), np.float32(1.0)
        hx, hy, hz = (
            min(max(ux, zero), one) / domain[1, 0],
            min(max(uy, zero), one) / domain[1, 1],
            min(max(uz, zero), one) / domain[1, 2],
        )
        ex += amount * (nx - (hx + domain[0, 0]))
        ey += amount * (ny - (hy + domain[0, 1]))
        ez += amount * (nz - (hz + domain[0, 2]))
        x, y, z = _decode(ex, display), _decode(ey, display), _decode(ez, display)
        r[j] = back[0, 0] * x + back[0, 1] * y + back[0, 2] * z
        g[j] = back[1, 0] * x + back[1, 1] * y + back[1, 2] * z
        b[j] = back[2, 0] * x + back[2, 1] * y + back[2, 2] * z


@kernel
def apply_input(r, g, b, table, gain, n):
    """Balanced camera numbers of one row to working values through an ICC profile's table, in place.

    Args:
        table: see `icc.camera_input`; beyond 1 a colour keeps its proportions.
        gain: exposure, as a factor.
    """
    zero, one = np.float32(0.0), np.float32(1.0)
    for j in range(n):
        x, y, z = max(r[j], zero), max(g[j], zero), max(b[j], zero)
        m = max(one, max(x, max(y, z)))
        p, q, s = look_up_cube(np.sqrt(x / m), np.sqrt(y / m), np.sqrt(z / m), table)
        m = m * gain
        r[j], g[j], b[j] = p * p * m, q * q * m, s * s * m


class LookTable:
    """What the kernel needs of a .cube file: tables, matrices, domain."""

    def __init__(self, cube: Cube | None, display: bool, amount: float) -> None:
        to = working_to(SPACES["srgb"])
        self.cube, self.line = NO_CUBE, NO_LINE
        self.amount = np.float32(amount if cube else 0.0)
        self.display = display
        self.to, self.back = to.astype(np.float32), np.linalg.inv(to).astype(np.float32)
        self.domain = np.array([[0, 0, 0], [1, 1, 1]], dtype=np.float32)
        if cube is None:
            return
        span = np.array(cube.high) - np.array(cube.low)
        self.domain = np.array([cube.low, 1 / span], dtype=np.float32)
        if cube.table.ndim == 2:
            self.line = np.ascontiguousarray(cube.table.T)
        else:
            self.cube = padded(cube.table)


@kernel
def through_cube(coded, cube, out):
    """16-bit pixels (h, w, 3) through a table (n, n, n, 4) with values from 0 to 1, to 8 bits."""
    scale, top, half = np.float32(1 / 65535), np.float32(255.0), np.float32(0.5)
    for y in range(coded.shape[0]):
        for x in range(coded.shape[1]):
            r, g, b = look_up_cube(
                np.float32(coded[y, x, 0]) * scale,
                np.float32(coded[y, x, 1]) * scale,
                np.float32(coded[y, x, 2]) * scale,
                cube,
            )
            out[y, x, 0] = np.uint8(min(max(r, np.float32(0.0)), np.float32(1.0)) * top + half)
            out[y, x, 1] = np.uint8(min(max(g, np.float32(0.0)), np.float32(1.0)) * top + half)
            out[y, x, 2] = np.uint8(min(max(b, np.float32(0.0)), np.float32(1.0)) * top + half)

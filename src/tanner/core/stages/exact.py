"""Exact colours: the bells of `core.colour.exact` on every px, in L*a*b* of the working space."""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tanner.core.colour.exact import EXACT, LIGHT, ExactParts, solved
from tanner.core.colour.spaces import D50_XYZ, pcs_to_working
from tanner.core.jit import kernel
from tanner.core.stages.output import cube_roots
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development


class Exact(NamedTuple):
    """
    Attributes:
        to, back: (3, 3) working space to XYZ over its white, and back.
        bells: (n, 8): sample, height, 1 / reach, 1 / chroma of full height (0: greys change too).
    """

    on: bool
    to: F32
    back: F32
    bells: F32


@kernel
def _lab(rows, n):
    """From XYZ over white in rows 3 to 5, with roots in rows 0 to 2, to L*a*b* in rows 3 to 5 (source: cie15)."""
    edge, slope, start = np.float32(216 / 24389), np.float32(24389 / 27 / 116), np.float32(16 / 116)
    for k in range(3):
        for j in range(n):
            v = rows[3 + k, j]
            rows[k, j] = rows[k, j] if v > edge else slope * v + start
    for j in range(n):
        rows[3, j] = np.float32(116.0) * rows[1, j] - np.float32(16.0)
    for j in range(n):
        rows[4, j] = np.float32(500.0) * (rows[0, j] - rows[1, j])
    for j in range(n):
        rows[5, j] = np.float32(200.0) * (rows[1, j] - rows[2, j])


@kernel
def exact_row(r: F32, g: F32, b: F32, at: At, p: Exact) -> None:
    rows, n = at.work, at.n
    zero, one, two, three, four = np.float32(0.0), np.float32(1.0), np.float32(2.0), np.float32(3.0), np.float32(4.0)
    half = np.float32(LIGHT)
    for k in range(3):
        m0, m1, m2 = p.to[k, 0], p.to[k, 1], p.to[k, 2]
        for j in range(n):
            rows[3 + k, j] = m0 * r[j] + m1 * g[j] + m2 * b[j]
        cube_roots(rows[3 + k], rows[k], n)
    _lab(rows, n)
    # What is added, in rows 6, 7 and 1; the chroma in row 2; whether anything is, in row 0.
    for j in range(n):
        rows[2, j] = np.sqrt(rows[4, j] * rows[4, j] + rows[5, j] * rows[5, j])
    for row in (0, 1, 6, 7):
        for j in range(n):
            rows[row, j] = zero
    for k in range(p.bells.shape[0]):
        s0, s1, s2 = p.bells[k, 0], p.bells[k, 1], p.bells[k, 2]
        h0, h1, h2 = p.bells[k, 3], p.bells[k, 4], p.bells[k, 5]
        near, grey = p.bells[k, 6], p.bells[k, 7]
        for j in range(n):
            x, y, z = half * (rows[3, j] - s0), rows[4, j] - s1, rows[5, j] - s2
            d = min(np.sqrt(x * x + y * y + z * z) * near, one)
            q = one - d
            u = min(rows[2, j] * grey, one) if grey > zero else one
            w = q * q * q * q * (four * d + one) * u * u * (three - two * u)
            rows[0, j] += w
            rows[6, j] += w * h0
            rows[7, j] += w * h1
            rows[1, j] += w * h2
    edge, third, start = np.float32(6 / 29), np.float32(3 * (6 / 29) ** 2), np.float32(4 / 29)
    for j in range(n):
        fy = (rows[3, j] + rows[6, j] + np.float32(16.0)) / np.float32(116.0)
        fx = fy + (rows[4, j] + rows[7, j]) / np.float32(500.0)
        fz = fy - (rows[5, j] + rows[1, j]) / np.float32(200.0)
        rows[3, j] = fx * fx * fx if fx > edge else third * (fx - start)
        rows[4, j] = fy * fy * fy if fy > edge else third * (fy - start)
        rows[5, j] = fz * fz * fz if fz > edge else third * (fz - start)
    back = p.back
    for j in range(n):
        if rows[0, j] > zero:
            x, y, z = rows[3, j], rows[4, j], rows[5, j]
            r[j] = back[0, 0] * x + back[0, 1] * y + back[0, 2] * z
            g[j] = back[1, 0] * x + back[1, 1] * y + back[1, 2] * z
            b[j] = back[2, 0] * x + back[2, 1] * y + back[2, 2] * z


_BACK = pcs_to_working() @ np.diag(D50_XYZ)
BACK, TO = f32(_BACK), f32(np.linalg.inv(_BACK))
NONE: F32 = np.zeros((1, 8), np.float32)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Exact:
    pairs = [t.parts for t in development.listed(EXACT.key) if isinstance(t.parts, ExactParts)]
    if not pairs:
        return Exact(False, TO, BACK, NONE)
    bells = solved(pairs)
    if not bells.heights.any():  # just picked: what it must be is what it is
        return Exact(False, TO, BACK, NONE)
    grey = np.where(bells.full > 0, 1 / np.maximum(bells.full, 1e-9), 0)
    return Exact(
        True, TO, BACK, f32(np.hstack([bells.samples, bells.heights, 1 / bells.reach[:, None], grey[:, None]]))
    )


STAGE = Stage("exact", prepare=_prepare, row=exact_row)

"""Smooth noise and scattered places in space: no texture places are needed, so there are no seams."""

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from tanner.studio.scenes.shapes import F64, I64

F32 = NDArray[np.float32]
_LATTICE = np.random.default_rng(77).standard_normal((64, 64, 64)).astype(np.float32)
_TURN = np.linalg.qr(np.random.default_rng(5).standard_normal((3, 3)))[0]


@njit(nogil=True, fastmath=True, cache=True)  # type: ignore[untyped-decorator]
def _fill(p, lattice, out):  # type: ignore[no-untyped-def]
    for i in range(len(p)):
        x, y, z = p[i, 0], p[i, 1], p[i, 2]
        fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
        tx, ty, tz = np.float32(x - fx), np.float32(y - fy), np.float32(z - fz)
        tx, ty, tz = tx * tx * (3 - 2 * tx), ty * ty * (3 - 2 * ty), tz * tz * (3 - 2 * tz)
        ix, iy, iz = int(fx) & 63, int(fy) & 63, int(fz) & 63
        jx, jy, jz = (ix + 1) & 63, (iy + 1) & 63, (iz + 1) & 63
        a = lattice[ix, iy, iz] * (1 - tx) + lattice[jx, iy, iz] * tx
        b = lattice[ix, jy, iz] * (1 - tx) + lattice[jx, jy, iz] * tx
        c = lattice[ix, iy, jz] * (1 - tx) + lattice[jx, iy, jz] * tx
        d = lattice[ix, jy, jz] * (1 - tx) + lattice[jx, jy, jz] * tx
        out[i] = (a * (1 - ty) + b * ty) * (1 - tz) + (c * (1 - ty) + d * ty) * tz


def noise(points: F64, size: float, seed: int = 0, stretch: tuple[float, float, float] = (1, 1, 1)) -> F32:
    """Value noise at points (N, 3), deviation about 0.6, features of `size` cm; turned so that no lattice shows."""
    p = points / size / np.asarray(stretch)
    if stretch == (1, 1, 1):
        p = p @ _TURN.T
    p = p + np.random.default_rng(seed).random(3) * 64
    out = np.empty(len(p), np.float32)
    _fill(np.ascontiguousarray(p), _LATTICE, out)
    return out


def fractal(points: F64, size: float, octaves: int, seed: int = 0, gain: float = 0.5) -> F32:
    total = np.zeros(len(points), np.float32)
    for k in range(octaves):
        total += np.float32(gain**k) * noise(points, size / 2**k, seed + k)
    return total


def on_faces(points: F64, quads: I64, amount: F64 | None, count: int, rng: np.random.Generator) -> F64:
    """Random places (count, 3) on a mesh, by area and by an amount at its points."""
    a, b, d = points[quads[:, 0]], points[quads[:, 1]], points[quads[:, 3]]
    weight = np.linalg.norm(np.cross(b - a, d - a), axis=1)
    if amount is not None:
        weight = weight * amount[quads].mean(axis=1)
    f = rng.choice(len(weight), count, p=weight / weight.sum())
    u, v = rng.random((2, count, 1))
    return np.asarray(a[f] + u * (b[f] - a[f]) + v * (d[f] - a[f]))


def scattered(points: F64, quads: I64, spacing: float, rng: np.random.Generator, amount: F64 | None = None) -> F64:
    """Places about `spacing` apart: darts thrown, those too near to another taken away."""
    a, b, d = points[quads[:, 0]], points[quads[:, 1]], points[quads[:, 3]]
    area = np.linalg.norm(np.cross(b - a, d - a), axis=1)
    whole = float((area if amount is None else area * amount[quads].mean(axis=1)).sum())
    at = on_faces(points, quads, amount, int(2.2 * whole / spacing**2), rng)
    pairs = cKDTree(at).query_pairs(spacing * 0.62, output_type="ndarray")
    gone = np.zeros(len(at), bool)
    gone[pairs.max(axis=1)] = True
    return at[~gone]

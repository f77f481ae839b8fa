"""Filling a hole from the rest of a picture, on small float32 pictures (h, w, channels) of any range.

Coarse to fine, each place by the patch of the rest that fits best (source: barnes2009, wexler2007). The same each time.
"""

from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.spots.heal import F32, Mask, membrane

PATCH = 3
"""Patches are 7 x 7."""


@kernel
def _distance(f, y, x, v, u, best):
    d = np.float32(0.0)
    for i in range(-PATCH, PATCH + 1):
        for j in range(-PATCH, PATCH + 1):
            for k in range(f.shape[2]):
                e = f[y + i, x + j, k] - f[v + i, u + j, k]
                d += e * e
        if d >= best:
            return d
    return d


@kernel
def _next(state):
    """A linear congruential step (Numerical Recipes' constants; from memory): the same row of numbers on every machine."""
    return (state * np.uint64(1664525) + np.uint64(1013904223)) & np.uint64(0xFFFFFFFF)


OFF = np.float32(900.0)
"""How far off a stroke px are that do not lie on it."""


@kernel
def _goes_on(along, y, x, v, u):
    """Whether a place may be made from another: on the stroke, from what lies as far beside it."""
    return along[y, x] >= OFF or abs(along[v, u] - along[y, x]) <= np.float32(0.8)


@kernel
def _search(f, ty, tx, index, ny, nx, nd, good, along, rounds, seed, radius):
    h, w = good.shape
    state = np.uint64(seed * 7919 + 17)
    n = ty.shape[0]
    for t in range(n):
        nd[t] = _distance(f, ty[t], tx[t], ny[t], nx[t], np.float32(1e30))
    for r in range(rounds):
        forward = r % 2 == 0
        for q in range(n):
            t = q if forward else n - 1 - q
            s = -1 if forward else 1
            y, x = ty[t], tx[t]
            for g in range(2):
                a, b = (y + s, x) if g == 0 else (y, x + s)
                o = index[a, b]
                if o >= 0:
                    v, u = (ny[o] - s, nx[o]) if g == 0 else (ny[o], nx[o] - s)
                    if (
                        0 <= v < h
                        and 0 <= u < w
                        and good[v, u]
                        and (v != ny[t] or u != nx[t])
                        and _goes_on(along, y, x, v, u)
                    ):
                        d = _distance(f, y, x, v, u, nd[t])
                        if d < nd[t]:
                            nd[t], ny[t], nx[t] = d, v, u
            reach = radius
            while reach >= 1:
                state = _next(state)
                v = ny[t] + np.int64(state >> np.uint64(8)) % (2 * reach + 1) - reach
                state = _next(state)
                u = nx[t] + np.int64(state >> np.uint64(8)) % (2 * reach + 1) - reach
                if 0 <= v < h and 0 <= u < w and good[v, u] and _goes_on(along, y, x, v, u):
                    d = _distance(f, y, x, v, u, nd[t])
                    if d < nd[t]:
                        nd[t], ny[t], nx[t] = d, v, u
                reach //= 3


@kernel
def _vote(f, hole, ty, tx, ny, nx, nd, depth, sigma, along, total, weight, last):
    total[:] = np.float32(0.0)
    weight[:] = np.float32(0.0)
    count = f.shape[2]
    for t in range(ty.shape[0]):
        sure = np.exp(-nd[t] / (np.float32(2.0) * sigma)) * depth[ty[t], tx[t]] + np.float32(1e-12)
        for i in range(-PATCH, PATCH + 1):
            for j in range(-PATCH, PATCH + 1):
                y, x = ty[t] + i, tx[t] + j
                if hole[y, x]:
                    # The last time only the middles of patches count: no blur.
                    s = sure / np.float32((1 + i * i + j * j) ** 12) if last else sure
                    if along[y, x] < OFF and along[ty[t], tx[t]] >= OFF:
                        # What lies on the stroke is not outvoted by what lies beside it.
                        continue
                    for k in range(count):
                        total[y, x, k] += s * f[ny[t] + i, nx[t] + j, k]
                    weight[y, x] += s
    for y in range(hole.shape[0]):
        for x in range(hole.shape[1]):
            if hole[y, x] and weight[y, x] > 0:
                for k in range(count):
                    f[y, x, k] = total[y, x, k] / weight[y, x]


def _level(
    f: F32, hole: Mask, near: tuple[NDArray[np.int64], NDArray[np.int64]] | None, rounds: tuple[int, int], seed: int,
    radius: int, forbidden: Mask, along: F32,
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:  # fmt: skip
    """One scale: patches are found for all that the hole touches, and vote; where each was found, (h, w) twice."""
    h, w = hole.shape
    wanted = _grown_square(hole)
    edge = np.ones_like(hole)
    edge[PATCH : h - PATCH, PATCH : w - PATCH] = False
    good = ~wanted & ~edge & ~_grown_square(forbidden)
    wanted &= ~edge
    ty, tx = (a.astype(np.int64) for a in np.nonzero(wanted))
    gy, gx = np.nonzero(good)
    if not len(gy) or not len(ty):
        return np.zeros((h, w), np.int64), np.zeros((h, w), np.int64)
    index = np.full((h, w), -1, np.int64)
    index[ty, tx] = np.arange(len(ty))
    rng = np.random.default_rng(seed)
    pick = rng.integers(0, len(gy), len(ty))
    ny, nx = gy[pick].astype(np.int64), gx[pick].astype(np.int64)
    along = _held(along, good, ty, tx, ny, nx, rng)
    held = along[ty, tx] < OFF
    if near is not None:
        v, u = np.clip(near[0][ty, tx], 0, h - 1), np.clip(near[1][ty, tx], 0, w - 1)
        ok = good[v, u] & (~held | (np.abs(along[v, u] - along[ty, tx]) <= 0.8))
        ny[ok], nx[ok] = v[ok], u[ok]
    nd = np.empty(len(ty), np.float32)
    depth = np.float32(1.1) ** -cv2.distanceTransform(hole.astype(np.uint8), cv2.DIST_L2, 3)
    total, weight = np.zeros_like(f), np.zeros((h, w), np.float32)
    if near is not None:
        # Laid with what the coarser scale found, as it is: what is enlarged is soft, and would find what is soft.
        nd[:] = 1
        sharp = np.float32(1.0)
        _vote(f, hole, ty, tx, ny, nx, nd, depth.astype(np.float32), sharp, along, total, weight, True)
    for e in range(rounds[0]):
        _search(f, ty, tx, index, ny, nx, nd, good, along, rounds[1], seed + e, radius)
        sigma = np.float32(float(np.percentile(nd, 75)) * 0.3 + 1e-9)
        final = e >= rounds[0] // 2
        _vote(f, hole, ty, tx, ny, nx, nd, depth.astype(np.float32), sigma, along, total, weight, final)
    my, mx = np.zeros((h, w), np.int64), np.zeros((h, w), np.int64)
    my[ty, tx], mx[ty, tx] = ny, nx
    return my, mx


def _held(
    along: F32, good: Mask, ty: NDArray[np.int64], tx: NDArray[np.int64], ny: NDArray[np.int64], nx: NDArray[np.int64],
    rng: np.random.Generator,
) -> F32:  # fmt: skip
    """Begin what lies on the stroke with what lies as far beside it outside of the hole; where there is none, it is as all else."""
    result = along.copy()
    ay, ax = np.nonzero(good & (along < OFF))
    beside = np.rint(along[ay, ax]) if len(ay) else np.zeros(0)
    for offset in np.unique(np.rint(along[ty, tx][along[ty, tx] < OFF])):
        mine = np.flatnonzero(np.rint(along[ty, tx]) == offset)
        there = np.flatnonzero(beside == offset)
        if len(there):
            pick = rng.integers(0, len(there), len(mine))
            ny[mine], nx[mine] = ay[there[pick]], ax[there[pick]]
        else:
            result[ty[mine], tx[mine]] = OFF
    return result


def beside(shape: tuple[int, int], line: NDArray[np.float64], wide: float) -> F32:
    """How far px (h, w) lie beside a line (N, 2) of x, y, to its left or right; `OFF` from `wide` on."""
    h, w = shape
    y, x = np.mgrid[0:h, 0:w].astype(np.float64)
    best = np.full(shape, np.inf)
    side = np.zeros(shape)
    for (ax, ay), (bx, by) in pairwise(line):
        dx, dy = bx - ax, by - ay
        t = np.clip(((x - ax) * dx + (y - ay) * dy) / max(dx * dx + dy * dy, 1e-9), 0, 1)
        far = np.hypot(x - ax - t * dx, y - ay - t * dy)
        nearer = far < best
        best[nearer] = far[nearer]
        side[nearer] = np.sign((dx * (y - ay) - dy * (x - ax))[nearer])
    return np.where(best <= wide, best * side, OFF).astype(np.float32)


def _grown_square(mask: Mask) -> Mask:
    side = 2 * PATCH + 1
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((side, side), np.uint8)) > 0)


def filled(picture: F32, hole: Mask, forbidden: Mask, seed: int = 0, along: NDArray[np.float64] | None = None) -> F32:
    """A hole filled from the rest of a picture. The same for the same seed.

    Args:
        forbidden: what must not be taken from; along: points (N, 2) of a stroke through the hole, x and y in px: what lies
            within a tenth of the hole beside it goes on with what lies as far beside it outside.
    """
    full, inner = picture.astype(np.float32).copy(), hole.copy()
    inner[[0, -1]] = False
    inner[:, [0, -1]] = False
    pictures, holes, bad = [full], [inner], [forbidden]
    wide = (
        max(float(PATCH + 1), 0.05 * max(np.ptp(np.nonzero(hole)[0]), np.ptp(np.nonzero(hole)[1])))
        if along is not None
        else 0.0
    )
    while (
        cv2.distanceTransform(holes[-1].astype(np.uint8), cv2.DIST_L2, 3).max() > 5 and min(pictures[-1].shape[:2]) > 40
    ):
        p, m = pictures[-1], holes[-1]
        h, w = m.shape
        size = (w + 1) // 2, (h + 1) // 2
        weight = (~m).astype(np.float32)
        under = cv2.resize(weight, size, interpolation=cv2.INTER_AREA)
        over = cv2.resize(p * weight[..., None], size, interpolation=cv2.INTER_AREA).reshape(size[1], size[0], -1)
        pictures.append(np.ascontiguousarray(over / np.maximum(under, 1e-3)[..., None]))
        holes.append(under < 0.5)
        bad.append(cv2.resize(bad[-1].astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0)
    last = len(pictures) - 1
    f = membrane(pictures[-1], holes[-1])
    near = None
    for k in range(last, -1, -1):
        if k < last:
            h, w = holes[k].shape
            g = pictures[k].copy()
            g[holes[k]] = cv2.resize(f, (w, h), interpolation=cv2.INTER_LINEAR).reshape(h, w, -1)[holes[k]]
            yy, xx = np.mgrid[0:h, 0:w]
            assert near is not None
            near = (
                2 * near[0].repeat(2, 0).repeat(2, 1)[:h, :w] + yy % 2,
                2 * near[1].repeat(2, 0).repeat(2, 1)[:h, :w] + xx % 2,
            )
            f = g
        f = np.ascontiguousarray(f, np.float32)
        rounds = (12, 3) if k == last else (6, 2) if k > 1 else (2, 2) if k else (1, 1)
        share = 0.5**k
        band = (
            np.full(holes[k].shape, OFF)
            if along is None
            else beside(holes[k].shape, (along + 0.5) * share - 0.5, max(1.5, wide * share))
        )
        radius = max(holes[k].shape) if k >= last - 1 else 27 if k else 3
        near = _level(f, holes[k], near, rounds, seed + 100 * k, radius, bad[k], band)
    result = picture.copy()
    result[inner] = f[inner]
    return result

"""Healing in the gradient domain, and filling from patches, on small float32 pictures (h, w, channels) of any range.

Healing takes the place near by whose rim is most alike, and spreads what the two rims differ by smoothly over it: the solution
of Laplace's equation (source: perez2003). Filling goes coarse to fine, each place by the patch of the rest that fits best
(source: barnes2009, wexler2007). Both give the same each time.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
PATCH = 3
"""Patches are 7 x 7."""
RIM, REACH, GROW = 4, 3.0, 1
"""px of the rim that is compared; how far off a source may lie, in sizes of the spot; px that a hole is grown by."""


@kernel
def _relax(f, inside, rounds, omega):
    h, w, count = f.shape
    for _ in range(rounds):
        for parity in range(2):
            for y in range(1, h - 1):
                for x in range(1 + (y + parity) % 2, w - 1, 2):
                    if inside[y, x]:
                        for k in range(count):
                            mean = np.float32(0.25) * (
                                f[y - 1, x, k] + f[y + 1, x, k] + f[y, x - 1, k] + f[y, x + 1, k]
                            )
                            f[y, x, k] += omega * (mean - f[y, x, k])


def membrane(values: F32, inside: Mask) -> F32:
    """A smooth continuation of values (h, w, c) into a hole, coarse to fine; the border of the array is never inside."""
    h, w = inside.shape
    f = values.astype(np.float32).copy()
    if min(h, w) > 12 and inside.sum() > 48:
        weight = (~inside).astype(np.float32)
        size = (w + 1) // 2, (h + 1) // 2
        under = cv2.resize(weight, size, interpolation=cv2.INTER_AREA)
        over = cv2.resize(f * weight[..., None], size, interpolation=cv2.INTER_AREA).reshape(size[1], size[0], -1)
        hole = under < 1e-3
        hole[[0, -1]] = False
        hole[:, [0, -1]] = False
        small = membrane(over / np.maximum(under, 1e-3)[..., None], hole)
        large = cv2.resize(small, (w, h), interpolation=cv2.INTER_LINEAR).reshape(h, w, -1)
        f[inside] = large[inside]
        _relax(f, inside, 24, np.float32(1.3))
    else:
        f[inside] = f[~inside].mean(axis=0) if (~inside).any() else 0
        _relax(f, inside, 160, np.float32(1.7))
    return f


def _grown(mask: Mask, by: int) -> Mask:
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * by + 1, 2 * by + 1))
    return np.asarray(cv2.dilate(mask.astype(np.uint8), disc) > 0)


def _box(mask: Mask, rim: int) -> tuple[int, int, int, int]:
    ys, xs = np.nonzero(mask)
    h, w = mask.shape
    return max(0, ys.min() - rim), max(0, xs.min() - rim), min(h, ys.max() + rim + 1), min(w, xs.max() + rim + 1)


def best_source(picture: F32, hole: Mask, forbidden: Mask, another: int = 0) -> tuple[int, int] | None:
    """How far off (dx, dy) the place lies whose rim is most like a hole's; None where there is none.

    Args:
        forbidden: px that no source may touch; another: how many better ones are passed over, each away from those before.
    """
    y0, x0, y1, x1 = _box(hole, RIM)
    here = hole[y0:y1, x0:x1]
    weight = (~here & ~forbidden[y0:y1, x0:x1]).astype(np.float32)
    total = float(weight.sum())
    h, w = here.shape
    if total < 4 or h > picture.shape[0] or w > picture.shape[1]:
        return None

    def match(a: F32, b: F32) -> F32:
        return np.asarray(cv2.matchTemplate(np.ascontiguousarray(a), np.ascontiguousarray(b), cv2.TM_CCORR))

    inner, count = here.astype(np.float32), float(here.sum())
    cost: F32 | None = None
    # Light, and one difference of colour, tell places apart as well as all channels do.
    light = picture.mean(axis=2)
    for plane in (light, picture[..., 0] - picture[..., -1]):
        band = plane - plane.mean()
        own = band[y0:y1, x0:x1]
        first, second = match(band, weight), match(band * band, weight)
        off = second - 2 * match(band, weight * own) + float((weight * own * own).sum())
        off -= (first - float((weight * own).sum())) ** 2 / total
        # What lies inside of a source must be as lively as what is around the hole: no other speck is brought in, and no calm.
        in1, in2 = match(band, inner), match(band * band, inner)
        around = float((weight * own * own).sum()) / total - (float((weight * own).sum()) / total) ** 2
        lively = np.abs(in2 / count - (in1 / count) ** 2 - around)
        step = (in1 / count - first / total) ** 2
        part = np.asarray(off / total + lively + step, np.float32)
        cost = part if cost is None else cost + part
    assert cost is not None
    # How much of each place is no source: sums of a box, by sums from the corner on.
    sums = cv2.integral((forbidden | hole).astype(np.uint8))
    clash = (sums[h:, w:] - sums[:-h, w:] - sums[h:, :-w] + sums[:-h, :-w]) > 0
    yy, xx = np.mgrid[0 : cost.shape[0], 0 : cost.shape[1]]
    far = np.hypot(yy - y0, xx - x0) / max(h, w)
    cost = cost * (1 + 0.1 * far)
    cost[clash] = np.inf
    for n in range(another + 1):
        if not np.isfinite(cost).any():
            return None
        sy, sx = np.unravel_index(int(np.argmin(cost)), cost.shape)
        if n < another:
            cost[max(0, sy - h // 2) : sy + h // 2 + 1, max(0, sx - w // 2) : sx + w // 2 + 1] = np.inf
    return int(sx - x0), int(sy - y0)


def healed(picture: F32, hole: Mask, by: tuple[int, int] | None) -> tuple[F32, float]:
    """A hole healed from a place (dx, dy) off, or by its surroundings alone; and the step that is left at its rim.

    The step is the deviation of what the two rims differ by, over that of the rim's own finest differences: about 1 is no seam.
    """
    box = _box(hole, RIM)
    return _joined(picture, hole, box, None if by is None else shifted(picture, box, by))


def healed_from(picture: F32, hole: Mask, there: F32) -> tuple[F32, float]:
    """The same from another picture of the same px, whose light is first made that of the rim."""
    y0, x0, y1, x1 = box = _box(hole, RIM)
    rim = ~hole[y0:y1, x0:x1]
    other = there[y0:y1, x0:x1]
    gain = picture[y0:y1, x0:x1][rim].mean(axis=0) / np.maximum(other[rim].mean(axis=0), 1e-6) if rim.any() else 1.0
    return _joined(picture, hole, box, (other * np.clip(gain, 0.1, 10.0)).astype(np.float32))


def _joined(picture: F32, hole: Mask, box: tuple[int, int, int, int], there: F32 | None) -> tuple[F32, float]:
    y0, x0, y1, x1 = box
    target, inside = picture[y0:y1, x0:x1], hole[y0:y1, x0:x1].copy()
    inside[[0, -1]] = False
    inside[:, [0, -1]] = False
    if there is None:
        new, differs = membrane(target, inside), np.zeros_like(target)
    else:
        differs = target - there
        new = membrane(differs, inside) + there
    result = picture.copy()
    result[y0:y1, x0:x1][inside] = new[inside]
    rim = ~inside
    own = target - cv2.blur(target, (3, 3)).reshape(target.shape)
    noise = float(np.sqrt((own[rim] ** 2).mean())) if rim.any() else 0.0
    left = differs[rim] - differs[rim].mean(axis=0) if rim.any() else differs
    return result, float(np.sqrt((left**2).mean()) / max(2.2 * noise, 1e-6))


def shifted(picture: F32, box: tuple[int, int, int, int], by: tuple[int, int]) -> F32:
    """A box of a picture from (dx, dy) off; beyond the picture its border goes on."""
    y0, x0, y1, x1 = box
    ys = np.clip(np.arange(y0, y1) + by[1], 0, picture.shape[0] - 1)
    xs = np.clip(np.arange(x0, x1) + by[0], 0, picture.shape[1] - 1)
    return np.asarray(picture[ys][:, xs])


# --- filling ---------------------------------------------------------------------------------------


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


@kernel
def _search(f, ty, tx, index, ny, nx, nd, good, rounds, seed, radius):
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
                    if 0 <= v < h and 0 <= u < w and good[v, u] and (v != ny[t] or u != nx[t]):
                        d = _distance(f, y, x, v, u, nd[t])
                        if d < nd[t]:
                            nd[t], ny[t], nx[t] = d, v, u
            reach = radius
            while reach >= 1:
                state = _next(state)
                v = ny[t] + np.int64(state >> np.uint64(8)) % (2 * reach + 1) - reach
                state = _next(state)
                u = nx[t] + np.int64(state >> np.uint64(8)) % (2 * reach + 1) - reach
                if 0 <= v < h and 0 <= u < w and good[v, u]:
                    d = _distance(f, y, x, v, u, nd[t])
                    if d < nd[t]:
                        nd[t], ny[t], nx[t] = d, v, u
                reach //= 3


@kernel
def _vote(f, hole, ty, tx, ny, nx, nd, depth, sigma, total, weight, last):
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
                    s = sure / np.float32((1 + i * i + j * j) ** 3) if last else sure
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
    last: bool, radius: int, forbidden: Mask,
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
    pick = np.random.default_rng(seed).integers(0, len(gy), len(ty))
    ny, nx = gy[pick].astype(np.int64), gx[pick].astype(np.int64)
    if near is not None:
        v, u = np.clip(near[0][ty, tx], 0, h - 1), np.clip(near[1][ty, tx], 0, w - 1)
        ok = good[v, u]
        ny[ok], nx[ok] = v[ok], u[ok]
    nd = np.empty(len(ty), np.float32)
    depth = np.float32(1.1) ** -cv2.distanceTransform(hole.astype(np.uint8), cv2.DIST_L2, 3)
    total, weight = np.zeros_like(f), np.zeros((h, w), np.float32)
    for e in range(rounds[0]):
        _search(f, ty, tx, index, ny, nx, nd, good, rounds[1], seed + e, radius)
        sigma = np.float32(float(np.percentile(nd, 75)) * 0.3 + 1e-9)
        _vote(f, hole, ty, tx, ny, nx, nd, depth.astype(np.float32), sigma, total, weight, last and e == rounds[0] - 1)
    my, mx = np.zeros((h, w), np.int64), np.zeros((h, w), np.int64)
    my[ty, tx], mx[ty, tx] = ny, nx
    return my, mx


def _grown_square(mask: Mask) -> Mask:
    side = 2 * PATCH + 1
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((side, side), np.uint8)) > 0)


def filled(picture: F32, hole: Mask, forbidden: Mask, seed: int = 0) -> F32:
    """A hole filled from the rest of a picture; forbidden: what must not be taken from. The same for the same seed."""
    full, inner = picture.astype(np.float32).copy(), hole.copy()
    inner[[0, -1]] = False
    inner[:, [0, -1]] = False
    pictures, holes, bad = [full], [inner], [forbidden]
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
        radius = max(holes[k].shape) if k >= last - 1 else 27 if k else 3
        near = _level(f, holes[k], near, rounds, seed + 100 * k, k == 0, radius, bad[k])
    result = picture.copy()
    result[inner] = f[inner]
    return result

"""Healing in the gradient domain, on small float32 pictures (h, w, channels) of any range.

Healing takes the place near by whose rim is most alike, and spreads what the two rims differ by smoothly over it: the solution
of Laplace's equation (source: perez2003).
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
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

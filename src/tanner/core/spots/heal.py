"""Healing in the gradient domain, on small float32 pictures (h, w, channels) of any range.

Healing takes the place near by whose rim is most alike, and spreads what the two rims differ by smoothly over it: the solution
of Laplace's equation (source: perez2003).
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.spots.search import RIM, box_of

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
REACH, GROW = 3.0, 1
"""How far off a source may lie, in sizes of the spot; px that a hole is grown by."""


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


def healed(picture: F32, hole: Mask, by: tuple[int, int] | None) -> tuple[F32, float]:
    """A hole healed from a place (dx, dy) off, or by its surroundings alone; and the step that is left at its rim.

    The step is the deviation of what the two rims differ by, over that of the rim's own finest differences: about 1 is no seam.
    """
    box = box_of(hole, RIM)
    return _joined(picture, hole, box, None if by is None else shifted(picture, box, by))


def healed_from(picture: F32, hole: Mask, there: F32) -> tuple[F32, float]:
    """The same from another picture of the same px, whose light is first made that of the rim."""
    y0, x0, y1, x1 = box = box_of(hole, RIM)
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

"""Blur in areas: what is out of focus, from what lies in the area alone, so that nothing of the subject bleeds into it.

The blurred picture is made at a small size (see `render.guide.blurred`), where a disc of light has a few px, and read between
its px: it has nothing fine in it. It comes first, in linear light, where a lens blurs.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tanner.core.jit import kernel
from tanner.core.stages.stage import F32, At, Stage, StageFrame

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

NOTHING: F32 = np.zeros((3, 2, 2), np.float32)


class Blur(NamedTuple):
    """
    Attributes:
        planes: (3, gh, gw), the whole picture blurred, as plane values.
    """

    on: bool
    planes: F32


@kernel
def _read(plane, row, fy, x0, sx, n, out):
    h, w = plane.shape
    half, zero, right = np.float32(0.5), np.float32(0.0), np.float32(w - 1)
    above, below = plane[row], plane[min(row + 1, h - 1)]
    for j in range(n):
        x = min(max((np.float32(x0 + j) + half) * sx - half, zero), right)
        k = min(np.int64(x), w - 2)
        fx = x - np.float32(k)
        a = above[k] + fx * (above[k + 1] - above[k])
        b = below[k] + fx * (below[k + 1] - below[k])
        out[j] = a + fy * (b - a)


@kernel
def blur_row(r: F32, g: F32, b: F32, at: At, p: Blur) -> None:
    h, w = p.planes.shape[1], p.planes.shape[2]
    sx, sy = np.float32(w) / np.float32(at.width), np.float32(h) / np.float32(at.height)
    y = min(max((np.float32(at.y) + np.float32(0.5)) * sy - np.float32(0.5), np.float32(0.0)), np.float32(h - 1))
    row = min(np.int64(y), h - 2)
    fy = y - np.float32(row)
    _read(p.planes[0], row, fy, at.x0, sx, at.n, r)
    _read(p.planes[1], row, fy, at.x0, sx, at.n, g)
    _read(p.planes[2], row, fy, at.x0, sx, at.n, b)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Blur:
    return Blur(False, NOTHING)


STAGE = Stage("blur", prepare=_prepare, row=blur_row, again=("areas.blur",), kind=Blur)

"""Overlapping frames made into one panorama.

Where the camera looked is found by OpenCV's stitching (features, bundle adjustment); the frames themselves are laid out
here, in linear light: projected onto a sphere, a cylinder or a plane, brought to one exposure by what they share, and
blended where they overlap.
"""

from collections.abc import Sequence
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.merge.frames import F32, FramePart, MergeError, Say

Projection = Literal["sphere", "cylinder", "flat"]
_WARPERS = {"sphere": "spherical", "cylinder": "cylindrical", "flat": "plane"}
MOST_PIXELS = 120_000_000


def stitched(parts: Sequence[FramePart], projection: Projection, say: Say) -> tuple[F32, list[int], float]:
    """Camera numbers (H, W, 3) cut to what is full; which parts are in it; and by how many EV it is to be shown darker.

    Frames of less light are lifted to those of most, so that what is clipped in any of them stays clipped.

    Raises:
        MergeError: the frames do not overlap enough, or the picture would be too large.
    """
    say(0.02, "looking for what the frames share")
    stitcher = cv2.Stitcher.create(cv2.Stitcher_PANORAMA)
    stitcher.setWaveCorrection(projection != "flat")
    seen = [cv2.cvtColor(p.seen, cv2.COLOR_GRAY2BGR) for p in parts]
    status = stitcher.estimateTransform(seen)
    if status != cv2.Stitcher_OK:
        raise MergeError("The frames do not overlap enough to be joined. A third of each should be seen in the next.")
    used = [int(i) for i in np.ravel(stitcher.component())]
    cameras = stitcher.cameras()
    if len(used) < 2:
        raise MergeError("Only one of the frames could be placed. A third of each should be seen in the next.")
    work = float(stitcher.workScale())
    full = parts[used[0]].pixels.shape[1] / parts[used[0]].seen.shape[1]
    focal = float(np.median([c.focal for c in cameras])) / work * full
    warper = cv2.PyRotationWarper(_WARPERS[projection], focal)
    placed = []
    for index, camera in zip(used, cameras, strict=True):
        k = camera.K().astype(np.float32)
        k[:2] *= full / work
        rotation = camera.R.astype(np.float32)
        h, w = parts[index].pixels.shape[:2]
        x, y, rw, rh = warper.warpRoi((w, h), k, rotation)
        placed.append((index, k, rotation, (x, y, rw, rh)))
    left = min(p[3][0] for p in placed)
    top = min(p[3][1] for p in placed)
    width = max(p[3][0] + p[3][2] for p in placed) - left
    height = max(p[3][1] + p[3][3] for p in placed) - top
    if width * height > MOST_PIXELS:
        hint = "Choose the cylinder." if projection == "flat" else "Choose fewer frames."
        raise MergeError(f"The panorama would have {width} × {height} px. {hint}")
    total = np.zeros((height, width, 3), np.float32)
    weight = np.zeros((height, width), np.float32)
    gains: list[float] = []
    for n, (index, k, rotation, (x, y, _, _)) in enumerate(placed):
        say(0.1 + 0.8 * n / len(placed), f"frame {n + 1} of {len(placed)}")
        pixels = parts[index].pixels
        corner, warped = warper.warp(pixels, k, rotation, cv2.INTER_CUBIC, cv2.BORDER_REFLECT)
        _, share = warper.warp(_feather(pixels.shape[:2]), k, rotation, cv2.INTER_LINEAR, cv2.BORDER_CONSTANT)
        x, y = int(corner[0]) - left, int(corner[1]) - top
        h, w = share.shape
        window = np.s_[y : y + h, x : x + w]
        gains.append(_gain(total[window], weight[window], warped, share))
        total[window] += warped * (share * gains[-1])[..., None]
        weight[window] += share
    say(0.92, "cutting")
    total /= np.maximum(weight, 1e-6)[..., None]
    t, b, lo, r = _full_part(weight > 1e-4)
    lift = 1 / min(gains)
    return np.ascontiguousarray(np.maximum(total[t:b, lo:r] * np.float32(lift), 0)), used, float(np.log2(lift))


def _feather(shape: tuple[int, int]) -> F32:
    """Weights of a frame: 1 in the middle, falling to nearly nothing at its borders."""
    h, w = shape
    y = 1 - np.abs(np.linspace(-1, 1, h))
    x = 1 - np.abs(np.linspace(-1, 1, w))
    return np.maximum(np.outer(y, x).astype(np.float32) ** 1.5, 1e-3)


def _gain(total: F32, weight: F32, pixels: F32, share: F32) -> float:
    """The factor that gives a frame the level of what is there already, over what both show unclipped."""
    both = (weight > 1e-3) & (share > 1e-3)
    if both.sum() < 500:
        return 1.0
    there = total[both] / weight[both][:, None]
    here = pixels[both]
    good = (here.max(axis=1) < 0.9) & (there.max(axis=1) < 0.9) & (here.min(axis=1) > 0.003)
    if good.sum() < 500:
        return 1.0
    return float(np.clip(np.median(there[good].sum(axis=1) / here[good].sum(axis=1)), 0.125, 8.0))


def _full_part(mask: NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """The largest rectangle of full pixels: top, bottom, left, right. On a coarse grid, then drawn in by its step."""
    step = max(1, max(mask.shape) // 400)
    small = cv2.erode(mask.astype(np.uint8), np.ones((2 * step + 1, 2 * step + 1), np.uint8), borderValue=0)[
        ::step, ::step
    ]
    heights = np.zeros(small.shape[1], int)
    best: tuple[int, Any] = (0, (0, 1, 0, 1))
    for row in range(small.shape[0]):
        heights = np.where(small[row] > 0, heights + 1, 0)
        stack: list[int] = []
        for column in range(len(heights) + 1):
            now = heights[column] if column < len(heights) else 0
            while stack and heights[stack[-1]] >= now:
                tall = int(heights[stack.pop()])
                first = stack[-1] + 1 if stack else 0
                if tall * (column - first) > best[0]:
                    best = tall * (column - first), (row - tall + 1, row + 1, first, column)
            stack.append(column)
    t, b, lo, r = best[1]
    return t * step, min(mask.shape[0], (b - 1) * step + 1), lo * step, min(mask.shape[1], (r - 1) * step + 1)

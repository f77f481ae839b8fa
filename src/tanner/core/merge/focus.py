"""Frames of one setup at different focus, made into one that is sharp all over.

Frames are laid on the one in the middle by an affine map (enhanced correlation, source: evangelidis2008), then their
Laplacian pyramids are merged level by level, each place from the frame that has most detail there (source: burt1993),
with the choice smoothed so that no patchwork is seen.
"""

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.merge.frames import F32, FramePart, MergeError, Say

LEAST_LIKE = 0.6


def merged_focus(parts: Sequence[FramePart], say: Say) -> F32:
    """Camera numbers (H, W, 3), in the frame of the part in the middle.

    Raises:
        MergeError: a frame does not show the same setup.
    """
    middle = len(parts) // 2
    base = parts[middle]
    h, w = base.pixels.shape[:2]
    levels = max(3, int(np.log2(min(h, w))) - 4)
    total: list[F32] = []
    best: list[F32] = []
    for n, part in enumerate(parts):
        say(n / len(parts), f"frame {n + 1} of {len(parts)}")
        pixels = part.pixels
        if n != middle:
            pixels = _laid_on(part, base)
        # In roots, where detail counts as it is seen.
        roots = np.sqrt(np.maximum(pixels, 0))
        for level, (band, strength) in enumerate(_bands(roots, levels)):
            if n == 0:
                total.append(band.copy())
                best.append(strength)
                continue
            last = level == levels
            # The coarsest level is a mean: exposure that breathes a little leaves no steps.
            if last:
                total[level] += band
            else:
                share = _smooth(strength > best[level], level)[..., None]
                total[level] += share * (band - total[level])
                best[level] = np.maximum(best[level], strength)
    total[-1] /= len(parts)
    say(0.95, "putting the picture together")
    picture = total[-1]
    for band in total[-2::-1]:
        picture = cv2.pyrUp(picture, dstsize=(band.shape[1], band.shape[0])) + band
    return np.asarray(np.maximum(picture, 0) ** 2, dtype=np.float32)


def _smooth(choice: NDArray[np.bool_], level: int) -> F32:
    return cv2.GaussianBlur(choice.astype(np.float32), (0, 0), 2.5 if level < 3 else 1.0)


def _bands(roots: F32, levels: int) -> list[tuple[F32, F32]]:
    """Laplacian levels, fine to coarse, with the strength of detail in each; the last is what remains."""
    result = []
    now = roots
    for _ in range(levels):
        small = cv2.pyrDown(now)
        band = now - cv2.pyrUp(small, dstsize=(now.shape[1], now.shape[0]))
        strength = cv2.GaussianBlur(np.abs(band).sum(axis=-1), (0, 0), 2.0)
        result.append((band, strength))
        now = small
    result.append((now, np.zeros(now.shape[:2], np.float32)))
    return result


def _laid_on(part: FramePart, base: FramePart) -> F32:
    """A part warped onto the base: focusing changes the scale a little, and hands may have moved."""
    if part.seen.shape != base.seen.shape:
        raise MergeError(f"{part.facts.path.rsplit('/', 1)[-1]} has another size than the others.")
    warp = np.eye(2, 3, dtype=np.float32)
    # Blurred alike, so that focus itself is not what is compared.
    a, b = (cv2.GaussianBlur(p.seen, (0, 0), 3.0).astype(np.float32) for p in (base, part))
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 80, 1e-6)
    try:
        like, warp = cv2.findTransformECC(a, b, warp, cv2.MOTION_AFFINE, stop)
    except cv2.error:
        like = 0.0
    name = part.facts.path.rsplit("/", 1)[-1]
    if like < LEAST_LIKE:
        raise MergeError(f"{name} does not show the same setup as the frame in the middle. Leave it out.")
    scale = base.pixels.shape[1] / base.seen.shape[1]
    # The same map for positions of full size: pixel centres are at +0.5.
    m = warp.astype(np.float64)
    m[:, 2] = m[:, 2] * scale + (scale - 1) / 2 * (1 - m[:, 0] - m[:, 1])
    h, w = base.pixels.shape[:2]
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    return cv2.warpAffine(part.pixels, m, (w, h), flags=flags, borderMode=cv2.BORDER_REPLICATE)

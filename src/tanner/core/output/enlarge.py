"""Enlarging a finished picture along its edges, where plain resampling leaves steps and halos.

A pixel is taken as the mean of the area that it covers, as a sensor measures it, so that the enlarged picture, made small
again, is the picture (back-projection, source: irani1991). Along edges the result is smoothed in the direction of the edge
(after the structure tensor, source: weickert1999), and it stays within the range of the pixels around it.
"""

from collections.abc import Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.sharpen import Sharpening
from tanner.core.stages.sharpening import sharpen_block

F32 = NDArray[np.float32]
ROUNDS = 3
BAND = 256
"""Rows of the result that are worked on at once."""
BLOCK, AROUND = 128, 12
"""Rows of the picture that are prepared at once, and what more of it on each side is looked at."""
WIDE = 4096
"""Columns of the result that are worked on at once; the library that resamples takes no more than 32,767."""
ROOM = np.float32(0.1)
"""How far the result may leave the range of the 3 x 3 pixels around it, as a share of that range."""


def prepared(part: F32) -> F32:
    """What plain enlargement has to start from, so that the result's means over the pixels are the pixels."""
    z = part.copy()
    for _ in range(ROUNDS):
        large = cv2.resize(z, None, fx=2, fy=2, interpolation=cv2.INTER_LANCZOS4)
        z += part - cv2.resize(large, (part.shape[1], part.shape[0]), interpolation=cv2.INTER_AREA)
    return z


class _Rows:
    """The prepared picture, and the range that each pixel may have, block by block of rows: never all of it at once."""

    def __init__(self, pixels: NDArray[np.uint16]) -> None:
        self.pixels = pixels
        self.blocks: dict[int, F32] = {}

    def between(self, first: int, last: int) -> F32:
        """float32 (3, rows, W, 3): what enlargement starts from, the least and the most. Blocks above are forgotten."""
        numbers = range(first // BLOCK, -(-last // BLOCK))
        self.blocks = {n: found for n, found in self.blocks.items() if n >= numbers.start}
        for n in numbers:
            if n not in self.blocks:
                self.blocks[n] = self._block(n * BLOCK)
        top = numbers.start * BLOCK
        return np.concatenate([self.blocks[n] for n in numbers], axis=1)[:, first - top : last - top]

    def _block(self, top: int) -> F32:
        h = len(self.pixels)
        first, last = max(0, top - AROUND), min(h, top + BLOCK + AROUND)
        part = self.pixels[first:last].astype(np.float32) * np.float32(1 / 65535)
        kernel = np.ones((3, 3), np.uint8)
        low, high = cv2.erode(part, kernel), cv2.dilate(part, kernel)
        room = ROOM * (high - low)
        inner = slice(top - first, top - first + min(BLOCK, h - top))
        return np.stack([v[inner] for v in (prepared(part), low - room, high + room)])


def _tangent(level: F32, scale: float) -> tuple[F32, F32, F32]:
    """Unit vectors along the edges of a picture, and how much of an edge there is, 0 to 1."""
    gx, gy = cv2.Sobel(level, cv2.CV_32F, 1, 0), cv2.Sobel(level, cv2.CV_32F, 0, 1)
    sigma = 0.7 * scale
    xx, yy, xy = (cv2.GaussianBlur(v, (0, 0), sigma) for v in (gx * gx, gy * gy, gx * gy))
    root = np.sqrt((xx - yy) ** 2 + 4 * xy * xy)
    angle = 0.5 * np.arctan2(2 * xy, xx - yy) + np.float32(np.pi / 2)
    clear = (root / (xx + yy + np.float32(1e-7))) ** 2
    return np.cos(angle), np.sin(angle), clear.astype(np.float32)


def enlarged(
    pixels: NDArray[np.uint16], size: tuple[int, int], strip: int = 128, medium: Sharpening | None = None
) -> Iterator[NDArray[np.uint16]]:
    """The picture (H, W, 3) at a larger size, in strips of rows from the top.

    Args:
        size: width and height, at least those of the picture; medium: sharpening of the result.
    """
    h, w = pixels.shape[:2]
    width, height = size
    rows = _Rows(pixels)
    scale = max(width / w, height / h)
    margin = int(np.ceil(4 * scale)) + 2 + (medium.radius if medium else 0)
    waiting = np.empty((0, width, 3), np.uint16)
    for top in range(0, height, BAND):
        bottom = min(height, top + BAND)
        band = np.empty((bottom - top, width, 3), np.uint16)
        for left in range(0, width, WIDE):
            right = min(width, left + WIDE)
            box = max(0, left - margin), max(0, top - margin), min(width, right + margin), min(height, bottom + margin)
            part = _piece(rows, box, (w / width, h / height), scale)
            if medium:
                part = _sharpened(part, medium)
            inner = part[top - box[1] : bottom - box[1], left - box[0] : right - box[0]]
            band[:, left:right] = np.clip(np.rint(inner * 65535), 0, 65535)
        rest = np.concatenate([waiting, band])
        whole = len(rest) if bottom == height else len(rest) // strip * strip
        for y in range(0, whole, strip):
            yield rest[y : min(y + strip, whole)]
        waiting = rest[whole:]


def _piece(rows: _Rows, box: tuple[int, int, int, int], step: tuple[float, float], scale: float) -> F32:
    """A part of the enlarged picture."""
    left, top, right, bottom = box
    h, w = rows.pixels.shape[:2]
    half = 0.5
    xs = (np.arange(left, right) + half) * step[0] - half
    ys = (np.arange(top, bottom) + half) * step[1] - half
    # Only what this part looks at, so that positions stay exact however large the picture is.
    x0, x1 = max(0, int(xs[0]) - 6), min(w, int(xs[-1]) + 8)
    y0, y1 = max(0, int(ys[0]) - 6), min(h, int(ys[-1]) + 8)
    planes = rows.between(y0, y1)
    mx, my = np.meshgrid((xs - x0).astype(np.float32), (ys - y0).astype(np.float32))

    def at(plane: F32, how: int) -> F32:
        found: F32 = cv2.remap(plane[:, x0:x1], mx, my, how, borderMode=cv2.BORDER_REPLICATE)
        return found

    part = np.clip(at(planes[0], cv2.INTER_LANCZOS4), at(planes[1], cv2.INTER_LINEAR), at(planes[2], cv2.INTER_LINEAR))
    tx, ty, clear = _tangent(part @ np.array([0.25, 0.5, 0.25], np.float32), scale)
    gx, gy = np.meshgrid(np.arange(right - left, dtype=np.float32), np.arange(bottom - top, dtype=np.float32))
    smooth = part * np.float32(0.4)
    for far, share in ((0.5, 0.2), (1.0, 0.1)):
        for way in (-far * scale, far * scale):
            dx, dy = gx + tx * np.float32(way), gy + ty * np.float32(way)
            smooth += np.float32(share) * cv2.remap(part, dx, dy, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(part + clear[..., None] * (smooth - part), np.float32)


def _sharpened(part: F32, medium: Sharpening) -> F32:
    m = medium.radius
    planes = np.ascontiguousarray(np.moveaxis(cv2.copyMakeBorder(part, m, m, m, m, cv2.BORDER_REPLICATE), -1, 0))
    work = np.empty((2, *planes.shape[1:]), np.float32)
    sharpen_block(
        planes, m, np.array([medium.amount, medium.corners], np.float32), np.zeros(4, np.float32), np.float32(medium.threshold),
        np.float32(medium.edge_threshold), medium.half, work[0], work[1], False, np.zeros((0, 0), np.float32),
    )  # fmt: skip
    return np.ascontiguousarray(np.moveaxis(planes[:, m:-m, m:-m], 0, -1))

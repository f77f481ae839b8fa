"""What matters in a frame: the area whose look is held constant over a series, found again in each frame.

An area is a mask over the small developed picture, with a kind and a confidence from 0 to 1. Whatever cannot be found is
said, never guessed.
"""

from dataclasses import dataclass
from typing import Annotated

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import StringConstraints

from tanner.core.errors import TannerError
from tanner.core.series.kinds import Box

OwnArea = Annotated[str, StringConstraints(pattern=r"^(area|colour):[0-9a-f]{8}$")]
EDGE = 320
"""Long edge of the picture that areas are found and measured on."""
LEAST = 60
"""px that an area must have to say anything."""


class NoArea(TannerError):
    """The area is not in the frame, with what to do instead."""


@dataclass(frozen=True)
class Area:
    """A mask (h, w) over the small picture."""

    kind: str
    mask: NDArray[np.bool_]
    confidence: float
    words: str = ""


def drawn(shape: tuple[int, int], box: Box) -> Area:
    """An area that was drawn: x0, y0, x1, y1 in shares of the picture.

    Raises:
        NoArea: it holds too little.
    """
    h, w = shape
    x0, x1 = sorted((box[0], box[2]))
    y0, y1 = sorted((box[1], box[3]))
    inside = np.zeros(shape, bool)
    inside[max(0, round(y0 * h)) : min(h, round(y1 * h)), max(0, round(x0 * w)) : min(w, round(x1 * w))] = True
    if inside.sum() < LEAST:
        raise NoArea("The drawn area is too small. Draw it over more of the picture.")
    return Area("drawn", inside, 1.0)


def outline(area: Area, most: int = 60) -> list[list[list[float]]]:
    """The rims of an area, those of its holes too, as closed lines in shares of the picture, the largest first, each of at most so many points."""
    h, w = area.mask.shape
    lines, _ = cv2.findContours(area.mask.astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    result = []
    for line in sorted(lines, key=cv2.contourArea, reverse=True)[:8]:
        reach = 0.8
        while len(simple := cv2.approxPolyDP(line, reach, True)) > most:
            reach *= 1.4
        if len(simple) > 2 and cv2.contourArea(line) > 0.004 * h * w:
            result.append([[round((x + 0.5) / w, 4), round((y + 0.5) / h, 4)] for x, y in simple[:, 0]])
    return result


def backdrop(picture: NDArray[np.uint8]) -> Area:
    """The large smooth area that is connected to the border.

    Even places are those where colour changes little from one to the next; of their connected parts the largest that lies
    along the border is taken, without its rim.

    Raises:
        NoArea: no such area is large enough.
    """
    lab = cv2.cvtColor(cv2.GaussianBlur(picture, (0, 0), 1.6).astype(np.float32) / 255, cv2.COLOR_RGB2Lab)
    change = np.zeros(picture.shape[:2], np.float32)
    for plane in cv2.split(lab):
        change += (
            cv2.Sobel(plane, cv2.CV_32F, 1, 0, scale=0.125) ** 2 + cv2.Sobel(plane, cv2.CV_32F, 0, 1, scale=0.125) ** 2
        )
    change = np.sqrt(change)
    # Noisy frames change from place to place everywhere: what is even is judged by their quietest third.
    limit = float(np.clip(2.2 * np.quantile(change, 0.3), 0.6, 2.0))
    even = (change < limit).astype(np.uint8)
    even = cv2.morphologyEx(even, cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    count, labels = cv2.connectedComponents(even, connectivity=4)
    border = np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]])
    best, found = 0.0, 0
    for n in range(1, count):
        along, size = float((border == n).mean()), float((labels == n).mean())
        if size > 0.02 and along * size > best:
            best, found = along * size, n
    if not found:
        raise NoArea("No even backdrop reaches the border of this frame. Draw an area instead.")
    mask = cv2.erode((labels == found).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    if mask.sum() < LEAST:
        raise NoArea("The backdrop of this frame is too small. Draw an area instead.")
    along, size = float((border == found).mean()), float(mask.mean())
    confidence = min(1.0, size / 0.15) * min(1.0, along / 0.3)
    return Area("backdrop", mask, round(confidence, 2), f"{size:.0%} of the frame")


def found_again(reference: NDArray[np.uint8], area: Area, picture: NDArray[np.uint8]) -> Area:
    """A drawn area in another frame: at the same place for a camera that stood still, else moved with what is around it.

    By features of both pictures and the turn, scale and shift that most of them agree on.

    Raises:
        NoArea: too few features agree.
    """
    grey = [cv2.createCLAHE(2.0, (8, 8)).apply(cv2.cvtColor(p, cv2.COLOR_RGB2GRAY)) for p in (reference, picture)]
    sift = cv2.SIFT.create(600, contrastThreshold=0.02)
    (k0, d0), (k1, d1) = (sift.detectAndCompute(g, None) for g in grey)
    agree, way = 0, None
    if d0 is not None and d1 is not None and min(len(k0), len(k1)) >= 8:
        pairs = cv2.BFMatcher().knnMatch(d0, d1, k=2)
        good = [p[0] for p in pairs if len(p) == 2 and p[0].distance < 0.78 * p[1].distance]
        if len(good) >= 6:
            a = np.array([k0[m.queryIdx].pt for m in good], np.float32)
            b = np.array([k1[m.trainIdx].pt for m in good], np.float32)
            way, inliers = cv2.estimateAffinePartial2D(a, b, ransacReprojThreshold=3.0)
            agree = int(inliers.sum()) if inliers is not None else 0
    if way is None or agree < 6:
        raise NoArea("The area is not found again in this frame. Draw it there, or match by the backdrop.")
    h, w = picture.shape[:2]
    moved = cv2.warpAffine(area.mask.astype(np.uint8), way, (w, h), flags=cv2.INTER_NEAREST) > 0
    if moved.sum() < max(LEAST, 0.3 * area.mask.sum()):
        raise NoArea("The area lies outside of this frame. Draw it there, or match by the backdrop.")
    scale = float(np.hypot(way[0, 0], way[1, 0]))
    shift = float(np.hypot(way[0, 2], way[1, 2]))
    moved_far = shift > 3 or abs(scale - 1) > 0.02
    return Area(
        "drawn", moved, round(min(1.0, agree / 25), 2), "moved with the picture" if moved_far else "at the same place"
    )

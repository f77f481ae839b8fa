"""Measured on a frame, for choosing among near-alikes: how sharp it is where it matters, closed eyes, clipped skin.

Sharpness compares the same thing at two scales: how strongly it changes from one px to the next, against how strongly over
a few. Exposure, contrast and what is seen change both alike; blur takes the first away, whatever its cause.
"""

from dataclasses import asdict, dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.find import EDGE, faces_in
from tanner.core.areas.look import AreaLook
from tanner.core.areas.networks import EYES
from tanner.core.raw.facts import FrameFacts
from tanner.core.series.area import NoArea, backdrop

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
Box = tuple[float, float, float, float]
"""x, y, width and height in shares of the upright frame."""
FINE, COARSE = 1.0, 4.0
"""Scales in px of the derivatives that are compared, on a picture with a long edge of up to 2048 px."""
DIRECTIONS = 8
MOVED = 0.55
"""Share of sharpness that is left along one direction, against the one across it, below which a blur is of movement."""
CLOSED = 0.17
"""Opening of the lids over the width of the eye below which an eye counts as closed. Chosen on the demo's people and one
public-domain portrait: open ones gave 0.24 and up, closed ones 0.163 at most."""
OPEN = 0.32
"""The same of an eye that is wide open."""
SHUT = (CLOSED / 2) / (OPEN - CLOSED / 2)
"""What `measured` says of an eye that just counts as closed: from nothing, half of `CLOSED`, to 1, `OPEN`."""
CLIPPED = 0.98
"""Share of white at which skin counts as clipped."""


@dataclass(frozen=True)
class Hints:
    """
    Attributes:
        sharp: 0 (nothing but blur) to about 1; only frames of the same thing can be compared by it.
        where: face, subject, focus (the area that the file names) or frame: what it was measured on; box: x, y, width, height of that in shares of the upright frame.
        along: 0 to 1, sharpness in the direction that has least of it over that across: low where the camera or the subject moved.
        eyes: how far the eyes of the largest face are open, 0 closed, 1 wide; None without a face that is seen from the front.
        clipped: share of the face's px that are white in a channel; None without a face.
    """

    sharp: float
    where: str
    box: Box
    along: float
    eyes: float | None = None
    clipped: float | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def focused(facts: FrameFacts) -> Box | None:
    """What the file says was focused on, as x, y, width, height in shares of the upright frame; None where it says nothing.

    EXIF 2.3, SubjectArea: a point, a circle or a rectangle, in px before the orientation is applied.
    """
    said = facts.subject_area
    if len(said) < 2:
        return None
    x, y = said[0] / facts.width, said[1] / facts.height
    point = 0.12 * min(facts.width, facts.height)
    across, down = said[2] if len(said) > 2 else point, said[-1] if len(said) > 2 else point
    w, h = across / facts.width, down / facts.height
    if facts.orientation >= 5:
        x, y, w, h = y, x, h, w
    if facts.orientation in (2, 3, 6, 7):
        x = 1 - x
    if facts.orientation in (3, 4, 7, 8):
        y = 1 - y
    if not (0 <= x <= 1 and 0 <= y <= 1):
        return None  # of a picture of another size
    return _shares(np.array([x - w / 2, y - h / 2]), np.array([x + w / 2, y + h / 2]), (1, 1))


def measured(look: AreaLook, focus: Box | None = None) -> Hints:
    """What can be said of a frame; see `Hints`. focus: what the file says was focused on, see `focused`."""
    picture = look.picture(EDGE)
    luma = np.ascontiguousarray(look.planes.mean(axis=0))
    h, w = picture.shape[:2]
    faces = faces_in(picture)
    if faces:
        points = faces[0]
        low, high = points.min(axis=0), points.max(axis=0)
        box = _shares(low, high, (w, h))
        # Of a face the eyes are what must be sharp.
        around = np.concatenate([points[e] for e in EYES])
        grown = 0.25 * float(high[0] - low[0])
        part = _part(luma, _shares(around.min(axis=0) - grown, around.max(axis=0) + grown, (w, h)))
        sharp, along = sharpness(part)
        return Hints(round(sharp, 4), "face", box, round(along, 3), _opening(points), _clipped(look, box))
    try:
        even = backdrop(picture).mask
        if not 0.02 < (~even).mean() < 0.9:
            raise NoArea("no subject")
        share = np.array([w / even.shape[1], h / even.shape[0]])
        ends = np.array([_middle(~even, axis) for axis in (0, 1)], float)  # columns, then rows
        low, high = ends[:, 0] * share, ends[:, 1] * share
        where, box = "subject", _shares(low, high, (w, h))
    except NoArea:
        where, box = ("focus", focus) if focus else ("frame", (0.0, 0.0, 1.0, 1.0))
    sharp, along = sharpness(_part(luma, box))
    return Hints(round(sharp, 4), where, box, round(along, 3))


def _middle(mask: NDArray[np.bool_], axis: int) -> tuple[int, int]:
    """Where all but the outer thirtieth of a mask lies along the other axis: its rim at the frame's border does not count."""
    mass = np.cumsum(mask.sum(axis=axis))
    first, last = np.searchsorted(mass, mass[-1] * np.array([1 / 30, 29 / 30]))
    return int(first), int(last) + 1


def _shares(low: F64, high: F64, size: tuple[int, int]) -> Box:
    low, high = np.clip(low / size, 0, 1), np.clip(high / size, 0, 1)
    x, y, w, h = (round(float(v), 4) for v in (*low, *(high - low)))
    return x, y, w, h


def _part(luma: F32, box: Box) -> F32:
    h, w = luma.shape
    x0, y0 = int(box[0] * w), int(box[1] * h)
    x1, y1 = max(x0 + 48, int((box[0] + box[2]) * w)), max(y0 + 48, int((box[1] + box[3]) * h))
    return luma[y0:y1, x0:x1]


def sharpness(luma: F32) -> tuple[float, float]:
    """How sharp a plane of light is, 0 to about 1, and how much less along one direction than across it (1: alike).

    The finest tenth of its tiles with most at the coarse scale is used: edges of what is seen, not its even parts. Noise is
    taken off by what the tiles with least at the coarse scale have at the fine one.

    Args:
        luma: (h, w), linear, any scale.
    """
    scale = float(np.quantile(luma, 0.99)) or 1.0
    coded = np.sqrt(np.clip(luma / np.float32(scale), 0, 1.5))  # so that noise is about the same everywhere
    tile = max(8, min(luma.shape) // 24)
    fine, coarse = _energies(coded, FINE, tile), _energies(coded, COARSE, tile)
    strength = coarse.sum(axis=0)
    order = np.argsort(strength)
    noise = fine[:, order[: max(1, order.size // 5)]].mean(axis=1)
    most = order[-max(1, order.size // 10) :]
    above = np.maximum(fine[:, most].mean(axis=1) - noise, 0.0)
    below = np.maximum(coarse[:, most].mean(axis=1), 1e-12)
    total = float(above.sum() / below.sum())
    # Derivatives that are weighed by their scale (Lindeberg): an ideal edge has the ratio FINE / COARSE of energies.
    sharp = float(np.sqrt(total * COARSE / FINE))
    return sharp, _along(coded, tile)


def _along(coded: F32, tile: int) -> float:
    """The least share of fine detail along a direction against across it; detail by second derivatives, which see edges across alone."""
    fine, coarse = _bends(coded, FINE, tile), _bends(coded, COARSE, tile)
    order = np.argsort(coarse.sum(axis=0))
    noise = fine[:, order[: max(1, order.size // 5)]].mean(axis=1)
    most = order[-max(1, order.size // 4) :]
    above = np.maximum(fine[:, most].mean(axis=1) - noise, 0.0)
    below = np.maximum(coarse[:, most].mean(axis=1), 1e-12)
    ratio = above / below
    across = np.roll(ratio, DIRECTIONS // 2)
    # Without edges across there is nothing to tell.
    seen = below > 0.15 * below.max()
    both = seen & np.roll(seen, DIRECTIONS // 2)
    along = float((ratio[both] / np.maximum(across[both], 1e-9)).min()) if both.any() else 1.0
    return min(along, 1.0)


def _bends(coded: F32, sigma: float, tile: int) -> F64:
    """Energy of the second derivative at a scale in each direction and tile, (DIRECTIONS, tiles), weighed by the scale."""
    soft = cv2.GaussianBlur(coded, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
    xx, yy, xy = (
        cv2.Sobel(soft, cv2.CV_32F, dx, dy, ksize=3, scale=s)
        for dx, dy, s in ((2, 0, 0.25), (0, 2, 0.25), (1, 1, 0.25))
    )
    size = max(1, coded.shape[1] // tile), max(1, coded.shape[0] // tile)
    rows = []
    for angle in np.arange(DIRECTIONS) * np.pi / DIRECTIONS:
        c, s = float(np.cos(angle)), float(np.sin(angle))
        bend = np.float32(sigma**2) * (c * c * xx + 2 * c * s * xy + s * s * yy)
        rows.append(cv2.resize(bend * bend, size, interpolation=cv2.INTER_AREA).ravel())
    return np.array(rows, np.float64)


def _energies(coded: F32, sigma: float, tile: int) -> F64:
    """Energy of the first derivatives at a scale in each direction and tile, (DIRECTIONS, tiles), weighed by the scale."""
    soft = cv2.GaussianBlur(coded, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
    gx = cv2.Sobel(soft, cv2.CV_32F, 1, 0, ksize=1, scale=0.5) * np.float32(sigma)
    gy = cv2.Sobel(soft, cv2.CV_32F, 0, 1, ksize=1, scale=0.5) * np.float32(sigma)
    size = max(1, coded.shape[1] // tile), max(1, coded.shape[0] // tile)
    xx, yy, xy = (
        cv2.resize(p, size, interpolation=cv2.INTER_AREA).ravel().astype(np.float64)
        for p in (gx * gx, gy * gy, gx * gy)
    )
    angles = np.arange(DIRECTIONS) * np.pi / DIRECTIONS
    c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
    return np.asarray(c * c * xx + s * s * yy + 2 * c * s * xy, np.float64)


def _opening(points: F64) -> float | None:
    """How far the eyes are open: the gap of the lids over the width of the eye, of the more open one; None in profile."""
    found = []
    widths = []
    for corner, upper, lower, other in (
        (33, (159, 158, 160), (145, 153, 144), 133),
        (263, (386, 385, 387), (374, 380, 373), 362),
    ):
        across = points[other] - points[corner]
        width = float(np.linalg.norm(across))
        widths.append(width)
        normal = np.array([-across[1], across[0]]) / max(width, 1e-6)
        gap = np.mean([abs(float((points[u] - points[d]) @ normal)) for u, d in zip(upper, lower, strict=True)])
        found.append(float(gap) / max(width, 1e-6))
    # In profile the far eye lies off the face: the wider of both is the one that is seen.
    if min(widths) < 0.35 * max(widths):
        return None
    return round(float(np.clip((max(found) - CLOSED / 2) / (OPEN - CLOSED / 2), 0, 1)), 2)


def _clipped(look: AreaLook, box: tuple[float, float, float, float]) -> float:
    h, w = look.planes.shape[1:]
    x0, y0, x1, y1 = box[0] * w, box[1] * h, (box[0] + box[2]) * w, (box[1] + box[3]) * h
    face = look.planes[:, int(y0) : max(int(y0) + 1, int(y1)), int(x0) : max(int(x0) + 1, int(x1))]
    return round(float((face.max(axis=0) >= CLIPPED).mean()), 4)

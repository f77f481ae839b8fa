"""Small pictures of one spot of a frame: before, after, and as other proposals would look."""

from collections.abc import Mapping
from typing import Any, Literal

import cv2
import numpy as np

from tanner.core.adjust.registry import develop
from tanner.core.errors import TannerError
from tanner.core.output.jpeg import encode_strip
from tanner.core.render import full_size, render
from tanner.core.render.views import shares_at
from tanner.core.spots.apply import spots_of
from tanner.core.spots.canvas import lying
from tanner.web.viewer.viewer import Viewer

Shown = Literal["before", "after", "proposal"]
AROUND = 5.0
"""Sizes of a spot that its picture shows."""
LEAST = 40
"""px at 100 % that it shows at least."""


def spot_picture(
    viewer: Viewer, path: str, values: Mapping[str, Any], ident: str, shown: Shown, number: int, edge: int
) -> bytes:
    """A JPEG of at most `edge` px of a spot and what is around it.

    Args:
        number: which proposal, where one is asked for.

    Raises:
        TannerError: there is no such spot.
    """
    entry = viewer.entry(path)
    source = entry.future.result()
    development = develop(values)
    spot = next((s for i, s in spots_of(development) if i == ident), None)
    if spot is None:
        raise TannerError("This spot is no longer there.")
    if shown == "before":
        # Without any: it costs nothing, and no other spot is healed anew for it.
        development = develop({k: v for k, v in values.items() if not k.startswith("spots/")})
    elif shown == "proposal":
        development = develop({**values, f"spots/{ident}/another": number, f"spots/{ident}/source": []})
    spot = lying(spot)
    with entry.lock:
        full = full_size(source, development)
        at = np.array(shares_at(source, development, spot.path)) * full
        low, high = at.min(axis=0), at.max(axis=0)
        # The picture's scale along its long edge is near enough that of the frame.
        side = max(float((high - low).max()) + AROUND * spot.size * max(full), LEAST)
        middle = (low + high) / 2
        scale = min(1.0, edge / side)
        size = max(1, round(full[0] * scale)), max(1, round(full[1] * scale))
        half = side * scale / 2
        left, top = (int(np.clip(round(m * scale - half), 0, max(0, s - 8))) for m, s in zip(middle, size, strict=True))
        right, bottom = min(size[0], left + max(8, round(2 * half))), min(size[1], top + max(8, round(2 * half)))
        pixels = render(source, development, size, region=(left, top, right, bottom), draft=True)
    if max(pixels.shape[:2]) < edge:
        more = edge / max(pixels.shape[:2])
        pixels = cv2.resize(pixels, None, fx=more, fy=more, interpolation=cv2.INTER_CUBIC)
    return encode_strip(pixels, 88, "444")

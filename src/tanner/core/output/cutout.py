"""Cut-outs: a subject without its backdrop, its mask as a picture, its outline as lines."""

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas import find
from tanner.core.areas.found import seen_in
from tanner.core.colour.spaces import SPACES
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.source import Source
from tanner.core.render.guide import look_of
from tanner.core.render.masking import KINDS, found_area, mask_of, named, place_maps

F32 = NDArray[np.float32]
PIECE, AROUND = 384, 48
"""px of pieces along the edge, and around them, in which the subject's own colours are worked out."""


def mask_for(source: Source, development: Development, name: str, size: tuple[int, int]) -> F32:
    """The mask of an area by its name, or of what is found by what it is, (h, w) from 0 to 1.

    Raises:
        SettingsError: there is no such area. NotFound: it is not in this frame.
    """
    if name in KINDS:
        return mask_of(source, development, found_area(name), size)
    return mask_of(source, development, named(development, name).id, size)


def without_fringe(pixels: NDArray[Any], alpha: F32) -> NDArray[Any]:
    """The subject's own colours at its edge: what of a px is backdrop is taken out of it (source: germer2020).

    Args:
        pixels: (h, w, 3) encoded, uint8 or uint16, changed where the mask is neither 0 nor 1.
    """
    from tanner.core.areas.matting import estimate_foreground_ml

    most = np.float32(255 if pixels.dtype == np.uint8 else 65535)
    edge = (alpha > 0.004) & (alpha < 0.996)
    h, w = alpha.shape
    for top in range(0, h, PIECE):
        for left in range(0, w, PIECE):
            inner = slice(top, min(h, top + PIECE)), slice(left, min(w, left + PIECE))
            if not edge[inner].any():
                continue
            y0, x0 = max(0, top - AROUND), max(0, left - AROUND)
            outer = slice(y0, min(h, top + PIECE + AROUND)), slice(x0, min(w, left + PIECE + AROUND))
            own = estimate_foreground_ml(
                np.ascontiguousarray(pixels[outer], np.float32) / most, np.ascontiguousarray(alpha[outer], np.float32)
            )
            own = own[top - y0 : top - y0 + alpha[inner].shape[0], left - x0 : left - x0 + alpha[inner].shape[1]]
            part, where = pixels[inner], edge[inner]
            part[where] = np.rint(np.clip(own[where], 0, 1) * most).astype(pixels.dtype)
    return pixels


def shade_for(
    source: Source, development: Development, size: tuple[int, int], region: tuple[int, int, int, int]
) -> F32:
    """How much light is left on the backdrop, (h, w) from 0 to 1, over a region of a picture: the subject's cast shadow."""
    shade = shade_of(source)
    u, v = place_maps(source, development, size, region)
    h, w = shade.shape
    long = max(w, h)
    x, y = u * long + (w - 1) / 2, v * long + (h - 1) / 2
    found = cv2.remap(
        shade, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
    )
    return np.asarray(found, np.float32)


def shade_of(source: Source) -> F32:
    """How much light is left on the backdrop, over the whole sensor at `find.EDGE`; 1 everywhere where there is none."""
    seen = seen_in(source.memory, lambda: look_of(source))
    try:
        return find.shade(seen)
    except find.NotFound:
        return np.ones(seen.picture.shape[:2], np.float32)


def on_ground(pixels: NDArray[Any], alpha: F32, spec: OutputSpec, shade: F32 | None) -> NDArray[Any]:
    """The subject on a plain ground, its shadow on it where there is one.

    Args:
        pixels: (h, w, 3) in the spec's space, without fringe; shade: (h, w), see `shade_of`.
    """
    space, most = SPACES[spec.space], np.float32(255 if pixels.dtype == np.uint8 else 65535)
    ground = np.array(spec.colour, np.float32) / 255
    if shade is None:
        under: Any = ground
    else:
        under = space.encode(space.decode(ground) * shade[..., None])
    a = alpha[..., None]
    laid = a * (pixels / most) + (1 - a) * under
    return np.asarray(np.rint(np.clip(laid, 0, 1) * most), pixels.dtype)


def svg(alpha: F32, title: str) -> bytes:
    """The outline of a mask as one path in px of the picture, holes with even-odd."""
    h, w = alpha.shape
    lines, _ = cv2.findContours((alpha > 0.5).astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    parts = []
    for line in lines:
        if abs(cv2.contourArea(line)) < max(4.0, 2e-6 * h * w):
            continue
        points = cv2.approxPolyDP(line, 0.6, True)[:, 0] + 0.5
        parts.append("M" + "L".join(f"{x:g} {y:g}" for x, y in points) + "Z")
    safe = title.replace("&", "&amp;").replace("<", "&lt;")
    text = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{w}" height="{h}" viewBox="0 0 {w} {h}"><title>{safe}</title>'
        f'<path fill-rule="evenodd" d="{"".join(parts)}"/></svg>\n'
    )
    return text.encode()

"""Pieces of a frame at full size by any method against noise, worked out for the piece alone: for comparing them."""

from concurrent.futures import Executor
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.noise import stage
from tanner.core.noise.controls import Method, Noise
from tanner.core.noise.methods import as_colour, as_source
from tanner.core.noise.model import MODEL, noise_model
from tanner.core.optics.resample import sensor_range
from tanner.core.raw.source import Source
from tanner.core.render.guide import GUIDES, base_layer
from tanner.core.render.strips import render
from tanner.core.render.views import full_size, geometry_groups, geometry_of

MARGIN = 120
"""Sensor px around a piece that have a say in it, by the method that looks farthest."""
Region = tuple[int, int, int, int]


def with_method(development: Development, method: Method) -> Development:
    noise = development.groups["noise"].model_copy(update={"method": method, "enabled": True})
    return Development({**development.groups, "noise": noise})


def piece(
    source: Source, development: Development, method: Method, region: Region, pool: Executor | None = None
) -> NDArray[Any]:
    """A part of the finished picture at its own scale, uint8 (h, w, 3), with its noise taken out by a method.

    Args:
        region: left, top, right, bottom in px of the finished picture.
    """
    chosen = with_method(development, method)
    noise: Noise = chosen.group(Noise)
    size = full_size(source, chosen)
    if method == "none" or (method != "quick" and not stage.waits(source, noise)):
        return render(source, chosen, size, region=region, pool=pool)
    patched = _patched(source, chosen, noise, region)
    # The base layer belongs to the whole picture.
    patched.memory.put(GUIDES, geometry_groups(chosen), base_layer(source, chosen, True))
    plain = with_method(development, "none")
    faults = plain.groups["noise"].model_copy(update={"hot_pixels": False, "moire": 0.0})
    return render(patched, Development({**plain.groups, "noise": faults}), size, region=region, pool=pool)


def _patched(source: Source, development: Development, noise: Noise, region: Region) -> Source:
    """The whole sensor with quiet numbers where the region lies, and nothing elsewhere."""
    geometry = geometry_of(source, development, full_size(source, development))
    reach = np.empty(4, dtype=np.float32)
    sensor_range(geometry.grid, region[1], region[3], region[0], region[2], reach)
    w, h = source.size
    left, right = (int(np.clip(v, 0, w)) // 2 * 2 for v in (reach[0] - MARGIN, reach[1] + MARGIN))
    top, bottom = (int(np.clip(v, 0, h)) // 2 * 2 for v in (reach[2] - MARGIN, reach[3] + MARGIN))
    right, bottom = max(right, left + 64), max(bottom, top + 64)
    left, top = max(0, min(left, w - 64)), max(0, min(top, h - 64))
    part = source.data[..., top:bottom, left:right]
    facts = source.facts.model_copy(update={"path": "", "width": part.shape[-1], "height": part.shape[-2]})
    cut = Source(facts, np.ascontiguousarray(part))
    if source.facts.kind == "bayer":
        cut.memory.put(MODEL, None, noise_model(source))
    quiet = stage.denoised_source(cut, noise, threads=2)
    whole = np.zeros((*quiet.data.shape[:-2], h, w), quiet.data.dtype)
    whole[..., top : top + part.shape[-2], left : left + part.shape[-1]] = quiet.data
    if quiet is cut or quiet.facts.kind == source.facts.kind != "bayer":
        return Source(source.facts, whole, profiles=source.profiles, gain_maps=source.gain_maps)
    return as_source(source, whole) if whole.ndim == 2 else as_colour(source, whole)


def sample_region(source: Source, development: Development) -> tuple[float, float]:
    """Where methods differ most: the darkest place that has detail, in shares of the finished picture."""
    w, h = full_size(source, development)
    share = min(1.0, 640 / max(w, h))
    size = max(16, round(w * share)), max(16, round(h * share))
    picture = render(source, with_method(development, "none"), size, draft=True).astype(np.float32) / 255
    level = cv2.GaussianBlur(picture.mean(axis=2), (0, 0), 12.0)
    fine = picture.mean(axis=2) - cv2.GaussianBlur(picture.mean(axis=2), (0, 0), 2.0)
    detail = np.sqrt(cv2.GaussianBlur(fine * fine, (0, 0), 12.0)) / (level + 0.05)
    inner = np.zeros(level.shape, bool)
    edge_y, edge_x = size[1] // 10, size[0] // 10
    inner[edge_y : size[1] - edge_y, edge_x : size[0] - edge_x] = True
    dark = inner & (level <= np.quantile(level[inner], 0.35)) & (level > 0.01)
    at = np.where(dark if dark.any() else inner, detail, -1)
    y, x = np.unravel_index(int(at.argmax()), at.shape)
    return (float(x) + 0.5) / size[0], (float(y) + 0.5) / size[1]

"""What lies between a scene and the sensor's numbers: dust on the sensor, a pane of glass, focus that is off, a shake.

Places are made up, and known: that is what the frames are for.
"""

from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.studio.exposure import LENSES, Exposure, discs

F32 = NDArray[np.float32]
COUNT = 25
GAP_MM = 1.5
"""From the sensor to the face of its cover glass, where dust lies: a cone of light of this height shades the px below."""
SENSOR_MM = 36.0


def dust() -> list[dict[str, float]]:
    """Specks on the sensor: place from 0 to 1 across and down the sensor, radius in mm, and how dark they are."""
    rng = np.random.default_rng(2026)
    found: list[dict[str, float]] = []
    while len(found) < COUNT:
        x, y = rng.uniform(0.03, 0.97, 2)
        if all(abs(x - f["x"]) + abs(y - f["y"]) > 0.06 for f in found):
            radius = 0.02 + 0.05 * rng.random() ** 1.5
            found.append({"x": round(float(x), 5), "y": round(float(y), 5), "radius_mm": round(float(radius), 4),
                          "dark": round(float(rng.uniform(0.55, 0.95)), 3)})  # fmt: skip
    return found


def _disc(radius: float, size: int) -> F32:
    """A disc of a radius in px with soft edges, in the middle of a square of an odd size."""
    y, x = np.mgrid[:size, :size] - (size - 1) / 2
    return np.clip(radius + 0.5 - np.hypot(x, y), 0, 1).astype(np.float32)


def dust_shade(shot: Exposure) -> F32:
    """Light that dust lets through, (H, W) from 0 to 1: softer and weaker at wide apertures.

    A speck's shadow is its disc, spread by the disc of light that the lens's opening casts from the speck's height
    (source: common optics): gap / f-number across.
    """
    shade = np.ones((shot.height, shot.width), np.float32)
    px = shot.width / SENSOR_MM
    spread = GAP_MM / LENSES[shot.lens].aperture / 2 * px
    for speck in dust():
        radius = speck["radius_mm"] * px
        size = 2 * int(np.ceil(radius + spread + 2)) + 1
        light = _disc(spread, size)
        shadow = cv2.filter2D(_disc(radius, size), -1, light / light.sum(), borderType=cv2.BORDER_CONSTANT)
        left, top = round(speck["x"] * shot.width) - size // 2, round(speck["y"] * shot.height) - size // 2
        part = shade[max(top, 0) : top + size, max(left, 0) : left + size]
        h, w = part.shape
        dy, dx = max(-top, 0), max(-left, 0)
        part *= 1 - np.float32(speck["dark"]) * shadow[dy : dy + h, dx : dx + w]
    return shade


def glass() -> list[dict[str, Any]]:
    """What the pane before the scene has, in parts of the frame's height from its left top corner as the sensor lies."""
    rng = np.random.default_rng(77)
    found: list[dict[str, Any]] = []
    for kind, count in (("bubble", 9), ("drop", 7), ("scratch", 6)):
        for _ in range(count):
            x, y = rng.uniform(0.12, 1.38), rng.uniform(0.08, 0.92)
            thing: dict[str, Any] = {"kind": kind, "place": [round(float(x), 4), round(float(y), 4)]}
            if kind == "scratch":
                angle, length = rng.uniform(0, np.pi), rng.uniform(0.06, 0.22)
                thing |= {"angle": round(float(angle), 4), "length": round(float(length), 4), "width": 0.0011,
                          "bend": round(float(rng.uniform(-0.25, 0.25)), 3)}  # fmt: skip
            else:
                radius = rng.uniform(0.006, 0.014) if kind == "drop" else rng.uniform(0.0025, 0.007)
                thing["radius"] = round(float(radius), 4)
            found.append(thing)
    return found


@lru_cache(maxsize=1)
def pane(width: int, height: int) -> tuple[F32, F32, F32, F32]:
    """How a pane moves the picture (dx, dy in px), what it lets through and what it adds in parts of the mean light."""
    y, x = np.mgrid[:height, :width].astype(np.float32)
    dx, dy = np.zeros_like(x), np.zeros_like(x)
    through, added = np.ones_like(x), np.zeros_like(x)
    for thing in glass():
        cx, cy = thing["place"][0] * height, thing["place"][1] * height
        if thing["kind"] == "scratch":
            c, s = np.cos(thing["angle"]), np.sin(thing["angle"])
            half, wide = thing["length"] * height / 2, thing["width"] * height
            along, across = (x - cx) * c + (y - cy) * s, (y - cy) * c - (x - cx) * s
            across = across - thing["bend"] * (along**2 / half - half / 3)
            line = np.exp(-((across / wide) ** 2)) * np.clip((half - np.abs(along)) / (4 * wide), 0, 1)
            added += 0.30 * line
            continue
        r = thing["radius"] * height
        rx, ry = (x - cx) / r, (y - cy) / r
        far = np.hypot(rx, ry)
        inside = np.clip((1 - far) * r / 1.5, 0, 1)
        rim = np.exp(-(((far - 0.93) * r / 1.6) ** 2))
        if thing["kind"] == "drop":
            # A drop turns what lies behind it upside down, and is bright where it looks to the light.
            bend = inside * 5.0 * (1 - 0.55 * far**2)
            dx -= bend * rx * r * 0.55
            dy -= bend * ry * r * 0.55
            through *= 1 - 0.30 * rim - 0.12 * inside * np.clip(ry, 0, 1)
            added += 0.55 * np.exp(-(((rx + 0.35) / 0.22) ** 2) - ((ry + 0.4) / 0.18) ** 2)
        else:
            bend = inside * far**3
            dx += bend * rx * r * 0.8
            dy += bend * ry * r * 0.8
            through *= 1 - 0.45 * rim
            added += 0.25 * np.exp(-(((rx + 0.3) / 0.3) ** 2) - ((ry + 0.3) / 0.3) ** 2)
    return dx, dy, through, added


def _kernel(radius: float) -> F32:
    disc = _disc(radius, 2 * int(np.ceil(radius)) + 3)
    return disc / disc.sum()


def out_of_focus(scene: F32, shot: Exposure) -> F32:
    """Planes (3, h, w) of a rendered scene as a lens sees them whose focus is off by `shot.focus`.

    The rendering's own blur is there already: what is missing to the wanted disc is added, in steps of half as much
    again, mixed between. What a near thing hides of the far is not known and stays sharp at its rim.
    """
    wanted, there = discs(shot, shot.focus, shot.opening), discs(shot, 0.0, 0.0)
    more = np.sqrt(np.maximum(wanted**2 - there**2, 0))
    radius = cv2.resize(more.astype(np.float32), scene.shape[:0:-1], interpolation=cv2.INTER_LINEAR)
    radius *= np.float32(shot.span * max(scene.shape[1:]) / max(shot.width, shot.height))
    picture = np.ascontiguousarray(np.moveaxis(scene, 0, -1))
    steps = [0.0, 0.6]
    while steps[-1] < min(float(radius.max()), 60.0):
        steps.append(steps[-1] * 1.5)
    result = np.zeros_like(picture)
    for n, step in enumerate(steps):
        low = steps[n - 1] if n else -1.0
        high = steps[n + 1] if n + 1 < len(steps) else np.inf
        weight = np.where(
            radius <= step, (radius - low) / (step - low), 1 if high == np.inf else (high - radius) / (high - step)
        )
        weight = np.clip(weight, 0, 1).astype(np.float32)
        if weight.max() > 0:
            blurred = picture if step == 0 else cv2.filter2D(picture, -1, _kernel(step), borderType=cv2.BORDER_REFLECT)
            result += weight[..., None] * blurred
    return np.ascontiguousarray(np.moveaxis(result, -1, 0))


def shaken(scene: F32, shot: Exposure) -> F32:
    """Planes (3, h, w) drawn along a straight way of `shot.moved` px of the frame."""
    scale = shot.span * max(scene.shape[1:]) / max(shot.width, shot.height)
    dx, dy = shot.moved[0] * scale, shot.moved[1] * scale
    reach = int(np.ceil(max(abs(dx), abs(dy)) / 2)) + 1
    kernel = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, 8 * reach + 1):
        x, y = reach + t * dx, reach + t * dy
        ix, iy = int(x), int(y)
        fx, fy = x - ix, y - iy
        for oy, wy in ((0, 1 - fy), (1, fy)):
            for ox, wx in ((0, 1 - fx), (1, fx)):
                if wx * wy > 0:
                    kernel[iy + oy, ix + ox] += wx * wy
    kernel /= kernel.sum()
    return np.stack([cv2.filter2D(plane, -1, kernel, borderType=cv2.BORDER_REFLECT) for plane in scene])

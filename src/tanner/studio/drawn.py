"""Scenes of the made-up workshop Alder & Finch, drawn by us: lamps, an instrument, threads, a chart.

A scene paints layers, each with a coverage, a material and a shade. What a material looks like (to a
camera under a light, or to an ideal observer) is asked of the canvas, so that one scene gives the
camera's picture and the truth alike.
"""

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
Look = Callable[[str], NDArray[np.float64]]


class Canvas:
    """A picture being painted: x runs from -w/h to w/h, y from -1 (top) to 1."""

    def __init__(self, width: int, height: int, look: Look, seed: int = 1) -> None:
        self.width, self.height, self.look = width, height, look
        self.unit = np.float32(height / 2)
        span = np.float32(width / height)
        self.x = np.linspace(-span, span, width, dtype=np.float32)[None, :]
        self.y = np.linspace(-1, 1, height, dtype=np.float32)[:, None]
        self.pixels = np.zeros((height, width, 3), dtype=np.float32)
        self.rng = np.random.default_rng(seed)

    def near(self, cx: float, cy: float, a: float, b: float) -> "Canvas":
        """The part within a of cx and b of cy, sharing the pixels: small things need no whole picture."""
        left, right = np.searchsorted(self.x[0], [cx - a, cx + a])
        top, bottom = np.searchsorted(self.y[:, 0], [cy - b, cy + b])
        part = object.__new__(Canvas)
        part.look, part.unit, part.rng = self.look, self.unit, self.rng
        part.x, part.y = self.x[:, left:right], self.y[top:bottom]
        part.pixels = self.pixels[top:bottom, left:right]
        part.height, part.width = part.pixels.shape[:2]
        return part

    def fill(self, material: str, shade: F32 | float) -> None:
        shade_map = np.broadcast_to(np.asarray(shade, dtype=np.float32), (self.height, self.width))
        self.pixels[:] = shade_map[..., None] * self.look(material).astype(np.float32)

    def layer(self, distance: F32, material: str, shade: F32 | float, soft: float = 1.0) -> None:
        """Paint where `distance` (in units, negative inside) says, with an edge `soft` px wide."""
        cover = np.clip(0.5 - distance * self.unit / np.float32(soft), 0, 1)
        value = np.broadcast_to(np.asarray(shade, dtype=np.float32), (self.height, self.width))
        part = self.pixels
        colour = self.look(material).astype(np.float32)
        for c in range(3):
            part[..., c] += cover * (value * colour[c] - part[..., c])

    def darken(self, amount: F32) -> None:
        self.pixels *= (1 - amount)[..., None]

    def glint(self, amount: F32) -> None:
        """Mirror light of the lamp itself."""
        self.pixels += amount[..., None] * self.look("white").astype(np.float32)

    def grain(self, scale_x: float, scale_y: float, seed: int) -> F32:
        """Smooth noise with mean 0 and deviation near 1; scales in px."""
        rng = np.random.default_rng(seed)
        small = rng.standard_normal(
            (max(2, int(self.height / scale_y)), max(2, int(self.width / scale_x))), dtype=np.float32
        )
        return np.asarray(cv2.resize(small, (self.width, self.height), interpolation=cv2.INTER_CUBIC))


def box(x: F32, y: F32, cx: float, cy: float, w: float, h: float, r: float = 0.0) -> F32:
    dx, dy = np.abs(x - cx) - (w - r), np.abs(y - cy) - (h - r)
    outside = np.hypot(np.maximum(dx, 0), np.maximum(dy, 0))
    return (outside + np.minimum(np.maximum(dx, dy), 0) - r).astype(np.float32)


def _ellipse(x: F32, y: F32, cx: float, cy: float, a: float, b: float) -> F32:
    d = np.sqrt(((x - cx) / a) ** 2 + ((y - cy) / b) ** 2)
    return ((d - 1) * min(a, b)).astype(np.float32)


def _sweep(c: Canvas, material: str = "sweep", level: float = 1.0) -> None:
    """A seamless backdrop: brighter below, a soft pool of light."""
    pool = np.exp(-((c.x * 0.55) ** 2) - ((c.y - 0.35) * 0.8) ** 2)
    c.fill(material, (level * (0.62 + 0.38 * pool)).astype(np.float32))


def _shadow(c: Canvas, cx: float, cy: float, a: float, b: float, depth: float) -> None:
    d = ((c.x - cx) / a) ** 2 + ((c.y - cy) / b) ** 2
    c.darken((depth * np.exp(-d * 1.6)).astype(np.float32))


def lamp(c: Canvas, turn: float) -> None:
    """A table lamp with a linen shade and a brass stem on a glazed foot."""
    _sweep(c)
    _shadow(c, 0.22, 0.74, 0.75, 0.14, 0.55)
    lean = 0.03 * np.sin(turn)
    whole, c = c, c.near(0, 0.45, 0.45, 0.5)
    x, y = c.x, c.y
    round_ = np.clip((x - lean * 0.5) / 0.035, -1, 1)
    stem = box(x, y, lean * 0.5, 0.2, 0.032, 0.46)
    rings = 0.12 * np.sin(y * 160) * (np.abs(y - 0.2) < 0.08)
    c.layer(stem, "brass", (0.35 + 0.65 * np.sqrt(np.maximum(1 - round_**2, 0)) + rings).astype(np.float32))
    foot = np.maximum(_ellipse(x, y, 0, 0.66, 0.36, 0.2), -(y - 0.5) + 0 * x)
    side = np.clip(x / 0.36, -1, 1)
    speckle = 1 + 0.05 * c.grain(5, 5, 7)
    c.layer(foot, "glaze", ((0.35 + 0.65 * np.sqrt(1 - 0.95 * side**2)) * speckle).astype(np.float32))
    c.layer(_ellipse(x, y, 0, 0.665, 0.1, 0.02), "brass", 0.9)
    c.glint((0.5 * np.exp(-(((x + 0.12) / 0.025) ** 2) - ((y - 0.6) / 0.035) ** 2)).astype(np.float32))
    c = whole.near(0, -0.42, 0.8, 0.45)
    x, y = c.x, c.y
    half = 0.30 + 0.42 * (y + 0.85) * 0.5
    shade = np.maximum(np.abs(x - lean) - half, np.abs(y + 0.42) - 0.4).astype(np.float32)
    across = np.clip((x - lean) / half, -1, 1)
    depth = np.arcsin(across) + turn
    weave = 1 + 0.07 * np.sin(y * c.unit * 0.9) * np.sin(depth * 420) + 0.05 * c.grain(60, 2.2, 3)
    folds = 1 + 0.10 * np.cos(depth * 24)
    c.layer(shade, "linen", ((0.4 + 0.62 * np.sqrt(1 - 0.9 * across**2)) * weave * folds).astype(np.float32))
    for edge in (-0.82, -0.02):
        band = np.maximum(np.abs(x - lean) - half, np.abs(y - edge) - 0.012).astype(np.float32)
        c.layer(band, "brass", (0.4 + 0.6 * (1 - across**2)).astype(np.float32))
    c = whole.near(0.9, 0.8, 0.72, 0.1)
    x, y = c.x, c.y
    cord = np.abs(y - 0.8 - 0.05 * np.sin(x * 5 + turn)) - 0.006 + np.maximum(0.2 - x, 0)
    c.layer(cord.astype(np.float32), "black", 1.0)


def _turned(c: Canvas, x: float, y: float, reach: float, ca: np.float32, sa: np.float32) -> tuple[Canvas, F32, F32]:
    """The part of a canvas around a place of the turned instrument, with the instrument's own coordinates."""
    k = c.near(float(ca * x - sa * y), float(ca * y + sa * x), reach * 0.5 + 0.1 if reach > 0.3 else reach, reach)
    return k, (ca * k.x + sa * k.y).astype(np.float32), (ca * k.y - sa * k.x).astype(np.float32)


def instrument(c: Canvas, turn: float) -> None:
    """A small string instrument, upright: spruce top with grain, rosette, frets and four strings."""
    _sweep(c, level=0.9)
    ca, sa = np.float32(np.cos(turn)), np.float32(np.sin(turn))
    _shadow(c, 0.1, 0.5, 0.6, 0.62, 0.5)
    c_all, c = c, c.near(0, 0.33, 0.66, 0.64)
    x, y = ca * c.x + sa * c.y, ca * c.y - sa * c.x
    body = np.minimum(_ellipse(x, y, 0, 0.52, 0.40, 0.34), _ellipse(x, y, 0, 0.08, 0.30, 0.26))
    rings = np.sin(x * 190 + 3 * c.grain(300, 900, 5)) * 0.06 + 0.03 * c.grain(2.5, 120, 9)
    bulge = 1 - 0.25 * (x / 0.42) ** 2
    c.layer(body - np.float32(0.016), "walnut", 0.8)
    c.layer(body, "spruce", (bulge * (0.95 + rings)).astype(np.float32))
    c = c_all
    k, x, y = _turned(c, 0, 0.16, 0.16, ca, sa)
    hole = np.hypot(x, y - 0.16).astype(np.float32)
    for radius, name in ((0.125, "walnut"), (0.112, "maple"), (0.1, "walnut"), (0.09, "black")):
        k.layer(hole - np.float32(radius), name, 0.9)
    k, x, y = _turned(c, 0, -0.45, 0.58, ca, sa)
    k.layer(box(x, y, 0, -0.42, 0.052, 0.48), "maple", (0.9 + 0.06 * k.grain(2, 90, 4)).astype(np.float32))
    for n in range(12):
        at = -0.86 + 0.7 * (1 - 2 ** (-n / 12)) * 1.6
        f, fx, fy = _turned(c, 0, at, 0.07, ca, sa)
        f.layer(box(fx, fy, 0, at, 0.052, 0.0035), "brass", 1.0)
    k, x, y = _turned(c, 0, -0.88, 0.2, ca, sa)
    k.layer(box(x, y, 0, -0.9, 0.075, 0.085, 0.03), "walnut", (1 + 0.1 * k.grain(2, 60, 8)).astype(np.float32))
    for side in (-1, 1):
        for peg in (0, 1):
            k.layer(_ellipse(x, y, side * 0.1, -0.93 + 0.075 * peg, 0.024, 0.018), "steel", 0.95)
    k, x, y = _turned(c, 0, 0.6, 0.16, ca, sa)
    k.layer(box(x, y, 0, 0.6, 0.13, 0.018, 0.01), "walnut", 0.9)
    k, x, y = _turned(c, 0, -0.14, 0.78, ca, sa)
    for number in range(4):
        at = (number - 1.5) * 0.024
        string = np.maximum(np.abs(x - at * (1 + 0.25 * (y + 0.9))) - 0.0016, np.abs(y + 0.14) - 0.75)
        k.layer(string.astype(np.float32), "steel", 1.5)
    k, x, y = _turned(c, -0.2, 0.4, 0.4, ca, sa)
    k.glint((0.10 * np.exp(-(((x + 0.2) / 0.08) ** 2) - ((y - 0.4) / 0.2) ** 2)).astype(np.float32))


def bench(c: Canvas, turn: float) -> None:
    """The workbench: spools of thread, chisels, a paper card, on walnut."""
    plank = np.sin(c.y * 9 + 0.6 * c.grain(700, 160, 2)) * 0.05 + 0.05 * c.grain(220, 3, 6)
    fall = 1.05 - 0.22 * c.x / 1.5
    c.fill("walnut", (fall * (1.5 + 3 * plank)).astype(np.float32))
    threads = ("red thread", "ochre thread", "green thread", "blue thread", "linen")
    for index, name in enumerate(threads):
        cx, cy = -1.12 + 0.56 * index, -0.28 + 0.10 * np.sin(turn * 2 + 1.7 * index)
        k = c.near(cx, cy, 0.5, 0.62)
        _shadow(k, cx + 0.06, cy + 0.36, 0.26, 0.1, 0.5)
        side = np.clip((k.x - cx) / 0.2, -1, 1)
        turned = 0.3 + 0.7 * np.sqrt(np.maximum(1 - side**2, 0))
        wind = 1 + 0.28 * np.sin((k.y - 0.05 * (k.x - cx)) * k.unit * 0.55)
        k.layer(box(k.x, k.y, cx, cy, 0.2, 0.28, 0.02), name, (turned * wind).astype(np.float32), 1.5)
        for end in (-0.3, 0.3):
            rim = _ellipse(k.x, k.y, cx, cy + end, 0.225, 0.045)
            k.layer(rim, "maple", (0.55 + 0.5 * turned).astype(np.float32))
    for index in range(3):
        cy = 0.42 + 0.16 * index
        k = c.near(0.0, cy, 1.2, 0.12)
        _shadow(k, 0.1, cy + 0.05, 0.9, 0.04, 0.4)
        across = np.clip((k.y - cy) / 0.04, -1, 1)
        shine = (0.35 + 0.75 * np.exp(-((across + 0.35) ** 2) * 5)).astype(np.float32)
        k.layer(box(k.x, k.y, -0.35, cy, 0.5, 0.024), "steel", shine + 0.03 * k.grain(90, 1.5, 11))
        wood = 0.5 + 0.6 * np.sqrt(1 - 0.9 * across**2) + 0.03 * k.grain(80, 2, 12)
        k.layer(box(k.x, k.y, 0.48, cy, 0.36, 0.045, 0.03), "maple", wood.astype(np.float32))
        ferrule = (0.4 + 0.7 * (1 - across**2)).astype(np.float32)
        k.layer(box(k.x, k.y, 0.13, cy, 0.03, 0.04, 0.01), "brass", ferrule)
    k = c.near(1.12, 0.6, 0.26, 0.32)
    k.layer(box(k.x, k.y, 1.12, 0.6, 0.24, 0.3), "paper", 0.95)
    for n in range(9):
        k.layer(box(k.x, k.y, 1.12, 0.40 + 0.05 * n, 0.17 - 0.05 * (n % 3), 0.004), "black", 1.0)


CHART_BOX = (-0.93, -0.62, 0.93, 0.62)
"""Left, top, right, bottom of the chart's 6 x 4 field in scene units."""


def patch_centres() -> list[tuple[float, float]]:
    """Scene positions of the 24 patch centres, in reading order."""
    x0, y0, x1, y1 = CHART_BOX
    return [(x0 + (c + 0.5) * (x1 - x0) / 6, y0 + (r + 0.5) * (y1 - y0) / 4) for r in range(4) for c in range(6)]


def chart(c: Canvas, turn: float) -> None:
    """The 24-patch chart on the backdrop, evenly lit, under its light."""
    from tanner.studio.light import chart as patches

    c.fill("sweep", 0.9)
    x0, _, x1, y1 = CHART_BOX
    c.layer(box(c.x, c.y, 0, 0, x1 + 0.06, y1 + 0.06, 0.02), "black", 1.0)
    size = (x1 - x0) / 6 * 0.43
    for (cx, cy), name in zip(patch_centres(), patches(), strict=True):
        k = c.near(cx, cy, size + 0.02, size + 0.02)
        k.layer(box(k.x, k.y, cx, cy, size, size), f"patch:{name}", 1.0)


SCENES: dict[str, Callable[[Canvas, float], None]] = {
    "lamp": lamp,
    "instrument": instrument,
    "bench": bench,
    "chart": chart,
}

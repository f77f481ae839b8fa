"""Drawn scenes that lie flat before the camera: plain paper, cloth from two dye lots, a card of colours with known Lab."""

from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np

from tanner.core.colour.spaces import D50_XYZ, adaptation
from tanner.core.colour.spectra import WAVELENGTHS, Spectrum, daylight, library, xyz_of
from tanner.studio import light
from tanner.studio.drawn import Canvas, box

ROWS, COLUMNS = 5, 8
CARD = (-1.12, -0.70, 1.12, 0.70)
"""Left, top, right, bottom of the card's field in scene units."""
LOTS = {"first lot": (-1.5, -0.02), "second lot": (0.02, 1.5)}
"""From where to where across the cloth of each dye lot lies, in scene units."""


@cache
def dyed() -> dict[str, Spectrum]:
    """Reflectances, made up: the card's patches, row by row, and the two lots of the same clay-red cloth."""
    found = {}
    for row in range(ROWS):
        for column in range(COLUMNS):
            if row == ROWS - 1:  # greys
                found[f"card:{row}:{column}"] = np.full_like(WAVELENGTHS, 0.86 * 0.62**column)
                continue
            centre, strength = 430 + 30 * column, (0.45, 1.1, 2.2, 3.4)[row]
            other = 430 + (30 * column + 165) % 240
            dark = strength * light.bell(centre, 34) + 0.35 * strength * (row % 2) * light.bell(other, 30)
            found[f"card:{row}:{column}"] = 0.84 * np.exp(-dark)
    base = 0.10 + 0.42 * light.step(588, 20)
    found["lot:first lot"] = base
    found["lot:second lot"] = 0.94 * base * np.exp(-0.16 * light.bell(610, 40) + 0.10 * light.bell(470, 40))
    return found


@cache
def true_lab(name: str) -> tuple[float, float, float]:
    """L*a*b* of a dyed surface for D50 and the 2 degree observer, adapted from daylight of 5,000 K."""
    lit = daylight(5000)
    white = xyz_of(np.ones_like(lit), lit)
    values = library().XYZ_to_Lab(adaptation(white, D50_XYZ) @ xyz_of(dyed()[name], lit), library().XYZ_to_xy(D50_XYZ))
    return float(values[0]), float(values[1]), float(values[2])


def plain(c: Canvas, turn: float) -> None:
    """A sheet of paper, out of focus: what shows the sensor's own dust."""
    c.fill("paper", (0.86 + 0.05 * np.exp(-(c.x**2) - c.y**2)).astype(np.float32))


def dye_lots(c: Canvas, turn: float) -> None:
    """One cloth from two lots, sewn together: a twill with its threads, and soft folds that only change the light."""
    rng = np.random.default_rng(5)
    fold = np.zeros((c.height, c.width), np.float32)
    for _ in range(7):
        angle, at, wide = rng.uniform(-0.5, 0.5), rng.uniform(-1.5, 1.5), rng.uniform(0.1, 0.35)
        across = (c.x - at) * np.cos(angle) + c.y * np.sin(angle)
        fold += (rng.uniform(-0.16, 0.16) * np.exp(-((across / wide) ** 2))).astype(np.float32)
    along = (c.x + 0.5 * c.y) * c.unit
    twill = 0.07 * np.sin(along * 0.62) + 0.05 * np.sin((c.x - 1.9 * c.y) * c.unit * 0.31)
    thread = 0.04 * c.grain(2.2, 7, 3) + 0.03 * c.grain(9, 2.2, 4)
    light_there = (0.86 + fold + twill + thread).astype(np.float32)
    seam = np.exp(-((c.x / 0.012) ** 2)) * (0.10 + 0.10 * np.sin(c.y * c.unit * 0.25))
    c.fill("lot:first lot", light_there * (1 - seam).astype(np.float32))
    right = np.broadcast_to(-c.x, (c.height, c.width)).astype(np.float32)
    c.layer(right, "lot:second lot", light_there * (1 - seam).astype(np.float32), 1.5)


def _centres() -> list[tuple[str, float, float]]:
    x0, y0, x1, y1 = CARD
    step_x, step_y = (x1 - x0) / COLUMNS, (y1 - y0) / ROWS
    return [
        (f"card:{r}:{k}", x0 + (k + 0.5) * step_x, y0 + (r + 0.5) * step_y) for r in range(ROWS) for k in range(COLUMNS)
    ]


def colour_card(c: Canvas, turn: float) -> None:
    """Forty patches of dyed paper on grey board."""
    c.fill("sweep", 0.9)
    c.layer(box(c.x, c.y, 0, 0, CARD[2] + 0.06, CARD[3] + 0.06, 0.02), "black", 1.0)
    for name, x, y in _centres():
        near = c.near(x, y, 0.16, 0.16)
        near.layer(box(near.x, near.y, x, y, 0.118, 0.118, 0.006), name, 1.0)


FLAT: dict[str, Callable[[Canvas, float], None]] = {"plain": plain, "dye-lots": dye_lots, "colour-card": colour_card}


def look_of(lit: Spectrum, camera: str) -> Callable[[str], Any]:
    """What a material looks like to a camera under a light."""

    @cache
    def look(name: str) -> Any:
        reflectance = dyed()[name] if name in dyed() else light.material(name)
        return light.camera_response(reflectance, lit, camera)

    return look


def truth(scene: str, aspect: float) -> dict[str, Any]:
    """What is known of a flat scene: places from 0 to 1 in an upright picture of an aspect (width / height)."""

    def at(x: float, y: float) -> list[float]:
        return [round((x / aspect + 1) / 2, 5), round((y + 1) / 2, 5)]

    if scene == "colour-card":
        half = 0.118
        return {"card": [{"patch": name, "lab_d50": [round(v, 3) for v in true_lab(name)],
                          "corners": [at(x - half, y - half), at(x + half, y - half), at(x + half, y + half), at(x - half, y + half)]}
                         for name, x, y in _centres()]}  # fmt: skip
    if scene == "dye-lots":
        return {"lots": [{"lot": lot, "lab_d50": [round(v, 3) for v in true_lab(f"lot:{lot}")],
                          "from": at(low, -1)[0], "to": at(high, 1)[0]} for lot, (low, high) in LOTS.items()]}  # fmt: skip
    return {}

"""Where px lie: from the finished picture to the sensor, kept with the source while the same is asked for."""

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas.place import to_places
from tanner.core.memory import Slot
from tanner.core.optics.crop import Crop, kept
from tanner.core.optics.geometry import STEP, Geometry, build, kept_size
from tanner.core.optics.lens import Optics
from tanner.core.optics.perspective import Perspective
from tanner.core.optics.view import View, orientation_of
from tanner.core.raw.source import Source
from tanner.core.spots.apply import key_of
from tanner.core.spots.declare import SPOTS

F32 = NDArray[np.float32]
VIEWS: Slot[tuple[View, str]] = Slot("views", keep=4, shared=True)
"""From ideal places to the sensor's, by orientation, lens corrections and perspective."""
GEOMETRIES: Slot[Geometry] = Slot("geometries", keep=4, heavy=True, shared=True)
"""Maps, by the groups that affect geometry and the output's size."""


def full_size(source: Source, development: Development) -> tuple[int, int]:
    """Width and height that the development keeps at the source's own scale."""
    crop = development.group(Crop)
    return kept_size(source.size, orientation_of(source.facts.orientation, crop), crop)


def geometry_groups(development: Development) -> tuple[Any, ...]:
    """What a place in the picture depends on: a key for everything that is kept with a geometry."""
    return (*development.affecting("geometry"), *key_of(development))


def geometry_only(development: Development, **other: Any) -> Development:
    """A development of which only the geometry is left, with other groups in their places."""
    groups = {k: g if g.affects == "geometry" else type(g)() for k, g in development.groups.items()}
    # Spots stay: what is measured on a frame is measured without them.
    return Development({**groups, **other}, {SPOTS.key: development.lists.get(SPOTS.key, ())})


def view_of(source: Source, development: Development) -> tuple[View, str]:
    """From ideal places to the sensor's, and a warning or "".

    A correction that folds the picture over is left out, with its reason.
    """
    optics, perspective = development.group(Optics), development.group(Perspective)
    orientation = orientation_of(source.facts.orientation, development.group(Crop))

    def make() -> tuple[View, str]:
        lens, warning = source.lens_by(optics.chosen_lens)
        view = View(source.size, orientation, optics, perspective, lens, lens.projection if lens else "rectilinear")
        if view.bends:
            # Only here: without it in the file, a whole database is read for it.
            view = replace(view, focal=source.focal[0])
        if view.folds():
            warning = "These corrections fold the picture over, so they are left out. Lower the strengths, or choose another lens."
            view = View(source.size, orientation, Optics(), Perspective(), None)
        return view, warning

    return source.memory.get(VIEWS, (orientation, optics, perspective), make)


def geometry_of(source: Source, development: Development, output: tuple[int, int]) -> Geometry:
    """The map of a frame at an output size."""

    def make() -> Geometry:
        return build(view_of(source, development)[0], development.group(Crop), output)

    return source.memory.get(GEOMETRIES, (tuple(development.affecting("geometry")), output), make)


def across(source: Source, development: Development, output: tuple[int, int]) -> F32:
    """Where output px lie from the middle of the frame: the first one and the steps, in half diagonals of the frame, (4,)."""
    crop = development.group(Crop)
    up = view_of(source, development)[0].upright
    cx, cy, w, h = kept(crop, *up)
    half = math.hypot(*up) / 2
    sx, sy = w / output[0], h / output[1]
    return np.array(
        [(cx - w / 2 + sx / 2) / half, (cy - h / 2 + sy / 2) / half, sx / half, sy / half], dtype=np.float32
    )


def places(
    source: Source, development: Development, output: tuple[int, int], steps: int = 16
) -> list[list[list[float]]]:
    """Where px of the output lie on the frame: rows of [x, y] at even steps over it, as masks take them (see `areas.masks`)."""
    geometry = geometry_of(source, development, output)
    facts = source.facts
    to = to_places((facts.width, facts.height), facts.orientation).astype(np.float64)
    w, h = output
    x = np.linspace(0, w, steps + 1) / STEP + 1
    y = np.linspace(0, h, steps + 1) / STEP + 1
    i = np.clip(y.astype(int), 0, geometry.grid.shape[1] - 2)
    j = np.clip(x.astype(int), 0, geometry.grid.shape[2] - 2)
    fy, fx = (y - i)[:, None], (x - j)[None, :]
    nodes = geometry.grid[2:4].astype(np.float64)

    def at(di: int, dj: int) -> NDArray[np.float64]:
        found: NDArray[np.float64] = nodes[:, i + di][:, :, j + dj]
        return found

    sensor = (at(0, 0) * (1 - fx) + at(0, 1) * fx) * (1 - fy) + (at(1, 0) * (1 - fx) + at(1, 1) * fx) * fy
    found = np.einsum("kc,cij->kij", to[:, :2], sensor) + to[:, 2][:, None, None]
    result: list[list[list[float]]] = np.round(np.moveaxis(found, 0, -1), 5).tolist()
    return result


def shares_at(source: Source, development: Development, wanted: Sequence[Sequence[float]]) -> list[tuple[float, float]]:
    """Where places of the frame lie on the finished picture, in shares of its width and height: `places` turned round."""
    full = full_size(source, development)
    scale = min(1.0, 1000 / max(full))
    grid = np.array(places(source, development, (max(1, round(full[0] * scale)), max(1, round(full[1] * scale)))))
    return [_share_at(grid, np.asarray(place, np.float64)) for place in wanted]


def _share_at(grid: NDArray[np.float64], wanted: NDArray[np.float64]) -> tuple[float, float]:
    n = len(grid) - 1

    def at(u: float, v: float) -> NDArray[np.float64]:
        i, j = (min(max(math.floor(t * n), 0), n - 1) for t in (v, u))
        fy, fx = v * n - i, u * n - j
        top, bottom = (grid[k, j] + fx * (grid[k, j + 1] - grid[k, j]) for k in (i, i + 1))
        return np.asarray(top + fy * (bottom - top))

    u, v, h = 0.5, 0.5, 1e-3
    for _ in range(8):  # Newton's steps: the map is smooth
        here = at(u, v)
        slope = np.stack([(at(u + h, v) - here) / h, (at(u, v + h) - here) / h], axis=1)
        if abs(np.linalg.det(slope)) < 1e-12:
            break
        du, dv = np.linalg.solve(slope, wanted - here)
        u, v = float(u + du), float(v + dv)
    return u, v

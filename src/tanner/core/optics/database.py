"""The open lens database (lensfun, through lensfunpy), with the user's own XML files beside it."""

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import TannerError
from tanner.core.raw.facts import FrameFacts

log = logging.getLogger(__name__)
Array = NDArray[np.float64]
OWN = "Measured here"
"""Maker of the lenses in files that Tanner makes."""
PROJECTIONS = {
    "RECTILINEAR": "rectilinear", "FISHEYE": "equidistant", "PANORAMIC": "cylinder", "EQUIRECTANGULAR": "plate",
    "FISHEYE_ORTHOGRAPHIC": "orthographic", "FISHEYE_STEREOGRAPHIC": "stereographic",
    "FISHEYE_EQUISOLID": "equisolid", "FISHEYE_THOBY": "thoby", "UNKNOWN": "rectilinear",
}  # fmt: skip
NODES, MARGIN = 240, 3
"""Steps of the grid along the longer side, and how many more lie outside: a spline is worst at its ends."""


class LensError(TannerError):
    """A lens or a lens file that cannot be used, with the reason."""


@dataclass(frozen=True)
class DatabaseLens:
    """A lens of the open database (lensfun), for one focal length, aperture and distance."""

    name: str
    size: tuple[int, int]
    coordinates: Array  # (nodes y, nodes x, 3, 2) in px of the active area
    gains: Array  # (nodes y, nodes x)
    projection: str
    step: int  # px between nodes; the first lies MARGIN steps before the middle of the first pixel
    source: str = "open lens database"

    def _sample(self, field: Array, x: Array, y: Array) -> Array:
        from scipy.ndimage import map_coordinates

        at = np.stack([(y - 0.5) / self.step + MARGIN, (x - 0.5) / self.step + MARGIN])
        result: Array = map_coordinates(field, at, order=3, mode="nearest")
        return result

    def positions(self, x: Array, y: Array) -> Array:
        planes = [
            [(x, y)[axis] + self._sample(self.coordinates[..., plane, axis], x, y) for axis in range(2)]
            for plane in range(3)
        ]
        return np.array(planes)

    def gain(self, x: Array, y: Array) -> Array:
        return self._sample(self.gains, x, y)


@lru_cache(maxsize=2)
def _database(files: tuple[tuple[str, float], ...]) -> Any:
    """The database with extra files; their times are in the key, so that a changed file is read again."""
    import lensfunpy

    if not files:
        return lensfunpy.Database(load_common=False)
    try:
        return lensfunpy.Database(paths=[name for name, _ in files], load_common=False)
    except Exception as error:
        log.warning("lens files: %s", error)
        return lensfunpy.Database(load_common=False)


def database(folders: Sequence[Path] = ()) -> Any:
    """lensfunpy's database and the .xml files of these folders; other databases on the machine are left out."""
    files = sorted(p for f in folders if f.is_dir() for p in f.glob("*.xml"))
    return _database(tuple((str(p), p.stat().st_mtime) for p in files))


def check_file(data: bytes, where: str) -> int:
    """How many lenses an XML file of the database's form holds.

    Raises:
        LensError: it cannot be read, or holds none.
    """
    import lensfunpy

    try:
        found = lensfunpy.Database(xml=data.decode("utf-8"), load_common=False, load_bundled=False)
        count = len(found.lenses)
    except Exception as error:
        raise LensError(f"{where} is no lens file of the open database's form ({error}).") from None
    if not count:
        raise LensError(f"{where} holds no lens.")
    return count


def key_of(lens: Any) -> str:
    """How a lens is named in settings: maker and model, and its crop factor, for lenses that were measured twice."""
    return f"{lens.maker}: {lens.model} ({lens.crop_factor:.3g})"


def about(lens: Any) -> dict[str, Any]:
    """A lens as plain data."""
    focal = f"{lens.min_focal:g}" if lens.min_focal == lens.max_focal else f"{lens.min_focal:g}–{lens.max_focal:g}"
    has = [
        word
        for word, found in (
            ("distortion", lens.calib_distortion), ("lateral colour", lens.calib_tca), ("light fall-off", lens.calib_vignetting)
        )
        if found
    ]  # fmt: skip
    return {
        "key": key_of(lens),
        "maker": lens.maker,
        "model": lens.model,
        "focal": focal,
        "crop_factor": round(lens.crop_factor, 3),
        "type": lens.type.name.lower().replace("_", " "),
        "has": has,
    }


def search(text: str, folders: Sequence[Path] = (), limit: int = 60) -> list[dict[str, Any]]:
    """Lenses whose maker, model and focal lengths hold every word of a text, best known first."""
    words = text.lower().split()
    found = []
    for lens in database(folders).lenses:
        entry = about(lens)
        line = f"{entry['maker']} {entry['model']} {entry['focal']}mm".lower()
        if entry["has"] and all(w in line for w in words):
            found.append(entry)
    found.sort(key=lambda e: (-len(e["has"]), e["maker"].lower(), e["model"].lower(), e["crop_factor"]))
    return found[:limit]


def crop_factor(make: str, model: str) -> float | None:
    """How much smaller than 36 x 24 mm the database says a camera's sensor is."""
    try:
        cameras = database(()).find_cameras(make, model) if model else []
    except Exception as error:
        log.warning("lens database: %s", error)
        return None
    return float(cameras[0].crop_factor) if cameras else None


def find(facts: FrameFacts, folders: Sequence[Path] = ()) -> DatabaseLens | None:
    """The database's correction for a frame by the names in its EXIF, or None."""
    if not (facts.lens and (facts.focal_length_mm or 0) > 0):
        return None
    try:
        db = database(folders)
        cameras = db.find_cameras(facts.make, facts.model)
        if not cameras:
            # A lens that the user measured carries its camera's name, and is found by its own.
            own = [x for x in db.lenses if facts.lens.lower() == x.model.lower() and x.maker == OWN]
            return measured(own[0], own[0].crop_factor, facts) if own else None
        lenses = db.find_lenses(cameras[0], None, facts.lens)
    except Exception as error:  # the library raises its own and ctypes errors alike
        log.warning("lens database: %s", error)
        return None
    if not lenses or lenses[0].score < 60:
        return None
    return measured(lenses[0], cameras[0].crop_factor, facts)


def by_name(key: str, facts: FrameFacts, folders: Sequence[Path] = ()) -> DatabaseLens:
    """A lens that was chosen by hand, for a frame.

    Raises:
        LensError: it is not in the database, or cannot serve this frame; with what to do.
    """
    db = database(folders)
    plain = key.lower().strip()
    wanted = [x for x in db.lenses if key_of(x).lower() == plain] or [
        x
        for x in db.lenses
        if plain in (x.model.lower(), f"{x.maker}: {x.model}".lower(), f"{x.maker} {x.model}".lower())
    ]
    if not wanted:
        raise LensError(f"The lens {key} is not in the database. Search for it with `tanner lens list`.")
    cameras = db.find_cameras(facts.make, facts.model)
    crop = cameras[0].crop_factor if cameras else wanted[0].crop_factor
    lens = min(wanted, key=lambda x: (x.crop_factor > crop * 1.05, abs(x.crop_factor - crop)))
    if not (facts.focal_length_mm or 0) > 0 and lens.min_focal != lens.max_focal:
        raise LensError(f"{lens.model} is a zoom, and the frame does not say at which focal length it was taken.")
    found = measured(lens, crop, facts)
    if found is None:
        raise LensError(f"{lens.model} has no correction that can be used for this frame.")
    return found


def measured(lens: Any, crop: float, facts: FrameFacts) -> DatabaseLens | None:
    """A lens at a frame's focal length, aperture and distance, on a coarse grid (the maps are smooth).

    The library is asked at the frame's own size, row by row: a small picture would be centred and scaled a little
    differently, by some px of the large one.
    """
    import lensfunpy

    size = (facts.width, facts.height)
    focal = facts.focal_length_mm or lens.min_focal
    step = -(-max(size) // NODES)
    columns, rows = (np.arange(-MARGIN, -(-(n - 1) // step) + MARGIN + 1) * step for n in size)
    try:
        mod = lensfunpy.Modifier(lens, crop, *size)
        # The lens's own way of drawing is kept here: projections are Tanner's own step.
        flags = lensfunpy.ModifyFlags.DISTORTION | lensfunpy.ModifyFlags.TCA
        mod.initialize(
            focal, facts.aperture or 8.0, facts.distance_m or 10.0, scale=1.0, pixel_format=np.float32, flags=flags
        )
        maps = _map_at(mod, columns, rows)
        light = _light_at(lens, crop, focal, facts, columns, rows)
    except Exception as error:
        log.warning("lens database: %s", error)
        return None
    shift = np.zeros((len(rows), len(columns), 3, 2))
    if maps is not None:
        shift = maps - np.stack(np.meshgrid(columns, rows), axis=-1)[:, :, None, :]
    if not np.isfinite(shift).all() or not np.isfinite(light).all() or (light <= 0).any():
        log.warning("lens database: %s gives no finite map at %s mm", lens.model, focal)
        return None
    projection = PROJECTIONS.get(lens.type.name, "rectilinear")
    return DatabaseLens(lens.model, size, shift, light, projection, step)


def _map_at(mod: Any, columns: NDArray[np.intp], rows: NDArray[np.intp]) -> Array | None:
    """The library's map (rows, columns, 3, 2) at some pixels; None when the lens bends nothing.

    Each is the mean over the pixels around it: the library iterates in single precision, and its map jitters by up to
    0.3 px from pixel to pixel near the edges of a large frame.
    """
    half = int(columns[1] - columns[0]) // 2
    first, width = int(columns[0]) - half, int(columns[-1] - columns[0]) + 2 * half + 1
    lines = []
    for row in rows:
        line = mod.apply_subpixel_geometry_distortion(xu=float(first), yu=float(row), width=width, height=1)
        if line is None:
            return None
        sums = np.cumsum(np.concatenate([np.zeros((1, 3, 2)), line.reshape(width, 3, 2).astype(np.float64)]), axis=0)
        at = columns - first
        lines.append((sums[at + half + 1] - sums[at - half]) / (2 * half + 1))
    return np.stack(lines)


def _light_at(
    lens: Any, crop: float, focal: float, facts: FrameFacts, columns: NDArray[np.intp], rows: NDArray[np.intp]
) -> Array:
    """The library's factors against fall-off at the nodes.

    It depends on the distance from the centre alone, so it is read from a small picture and fitted over that distance: a
    large one would take hundreds of megabytes.
    """
    import lensfunpy

    w, h = facts.width, facts.height
    share = 240 / max(w, h)
    nx, ny = max(8, round(w * share)), max(8, round(h * share))
    mod = lensfunpy.Modifier(lens, crop, nx, ny)
    mod.initialize(focal, facts.aperture or 8.0, facts.distance_m or 10.0, pixel_format=np.float32)
    gain = np.ones((ny, nx, 3), dtype=np.float32)
    if not mod.apply_color_modification(gain):
        return np.ones((len(rows), len(columns)))

    def far(x: Array, y: Array, width: int, height: int) -> Array:
        # The library counts from the middle of the first pixel to that of the last.
        cx, cy = (width - 1) / 2, (height - 1) / 2
        return np.asarray(((x[None] - cx) ** 2 + (y[:, None] - cy) ** 2) / cx**2)

    from scipy.interpolate import PchipInterpolator

    own = np.sqrt(far(np.arange(nx, dtype=float), np.arange(ny, dtype=float), nx, ny).ravel())
    order = np.argsort(own)
    parts = [order[p] for p in np.array_split(np.arange(len(order)), 300) if len(p)]
    radius = np.array([own[p].mean() for p in parts])
    level = np.array([gain[..., 1].ravel()[p].mean(dtype=np.float64) for p in parts])
    curve = PchipInterpolator(radius, level, extrapolate=True)
    return np.maximum(curve(np.sqrt(far(columns.astype(float), rows.astype(float), w, h))), 1e-3)

"""Lens corrections against lensfunpy's own maps at the picture's full size (source: the open lens database)."""

import lensfunpy
import numpy as np
import pytest

from tanner.core.optics import database
from tanner.core.raw.facts import FrameFacts

SIZE = (6000, 4000)


def _pairs() -> list[tuple[int, float]]:
    """Lenses of every model kind: (index, focal length)."""
    lenses = database.database().lenses
    chosen: list[tuple[int, float]] = []
    kinds: dict[tuple[str, str, str, str], int] = {}
    for index, lens in enumerate(lenses):
        if not lens.calib_distortion:
            continue
        first = lens.calib_distortion[len(lens.calib_distortion) // 2]
        colour = lens.calib_tca[0].model.name if lens.calib_tca else "none"
        light = "light" if lens.calib_vignetting else "none"
        kind = (first.model.name, colour, light, lens.type.name)
        if kinds.get(kind, 0) >= 3:
            continue
        kinds[kind] = kinds.get(kind, 0) + 1
        chosen.append((index, float(first.focal)))
    return chosen


PAIRS = _pairs()


def test_there_are_enough_of_all_kinds() -> None:
    assert len(PAIRS) >= 20
    models = {m.model.name for i, _ in PAIRS for m in database.database().lenses[i].calib_distortion}
    assert {"POLY3", "PTLENS"} <= models
    assert {"RECTILINEAR", "FISHEYE"} <= {database.database().lenses[i].type.name for i, _ in PAIRS}


@pytest.mark.parametrize(("index", "focal"), PAIRS)
def test_maps_agree_with_the_library(index: int, focal: float) -> None:
    """Within 0.2 px (fisheyes, where it jitters most, 1.1) and 0.25 % at 24 MP: our grid against the library's map on some rows, edges included.

    The library's map itself jitters by up to 0.3 px from pixel to pixel near the edges (it iterates in single precision),
    so that a smooth curve through each row is what ours is compared with.
    """
    lens = database.database().lenses[index]
    w, h = SIZE
    facts = FrameFacts(path="x", kind="bayer", width=w, height=h, focal_length_mm=focal, aperture=8.0, distance_m=10.0)
    found = database.measured(lens, lens.crop_factor, facts)
    assert found is not None
    mod = lensfunpy.Modifier(lens, lens.crop_factor, w, h)
    # Projections are Tanner's own step (tests/core/test_projections.py), so that every lens is asked for its own.
    flags = lensfunpy.ModifyFlags.DISTORTION | lensfunpy.ModifyFlags.TCA
    mod.initialize(focal, 8.0, 10.0, scale=1.0, pixel_format=np.float32, flags=flags)
    allowed = 0.2 if lens.type.name == "RECTILINEAR" else 1.1
    x = np.arange(0, w, 61)
    for row in (0, 1371, h - 1):
        line = mod.apply_subpixel_geometry_distortion(xu=0, yu=float(row), width=w, height=1)
        at = found.positions(x + 0.5, np.full(len(x), row + 0.5)) - 0.5
        if line is None:
            wanted = np.stack([np.stack([x, np.full(len(x), row)], -1)] * 3, axis=1)
        else:
            every = np.arange(0, w, 5)
            curves = [[np.polynomial.Chebyshev.fit(every, line[0, ::5, c, k], 16)(x) for k in (0, 1)] for c in range(3)]
            wanted = np.moveaxis(np.array(curves), -1, 0)
        assert np.abs(np.moveaxis(at, (0, 1), (-2, -1)) - wanted).max() < allowed
    small = lensfunpy.Modifier(lens, lens.crop_factor, 600, 400)
    small.initialize(focal, 8.0, 10.0, pixel_format=np.float32)
    light = np.ones((400, 600, 3), dtype=np.float32)
    small.apply_color_modification(light)
    yy, xx = np.mgrid[0:400:19, 0:600:23]
    gain = found.gain(xx / 599 * (w - 1) + 0.5, yy / 399 * (h - 1) + 0.5)
    # Outside of a fisheye's circle there is no light, and the library's factors run off.
    lit = (light[yy, xx, 1] > 0) & (light[yy, xx, 1] < 3)
    assert lit.mean() > 0.4
    assert np.abs(gain[lit] / light[yy, xx, 1][lit] - 1).max() < (0.0025 if allowed < 1 else 0.01)

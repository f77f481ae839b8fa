"""Healing on a face of which a picture without blemishes is known: what is told to be one goes, and the skin beside it stays."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tanner.core.adjust.registry import develop
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.studio.camera import take
from tanner.studio.series import series

SIZE = (1080, 1620)


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> tuple[Source, Source, list[dict[str, Any]]]:
    """The face with blemishes and without them, taken alike by a camera that stands upright, and where the blemishes are."""
    shot = next(s for s in series() if s.scene == "wren-6")
    shot = replace(shot, upright=False, width=1740, height=2610, iso=100)
    taken = []
    for scene in ("wren-6", "wren-6-clear"):
        path: Path = tmp_path_factory.mktemp("face") / f"{scene}.dng"
        path.write_bytes(take(replace(shot, scene=scene), compress=False))
        taken.append(read(path))
    known = [s for s in shot.truth()["in_the_scene"]["spots"] if s["kind"] == "blemish"]
    return taken[0], taken[1], known


def as_seen(source: Source, values: dict[str, Any]) -> np.ndarray:
    return np.asarray(render(source, develop(values), SIZE), np.float64)


def test_healed_blemishes_are_nearer_to_the_face_without_them(
    both: tuple[Source, Source, list[dict[str, Any]]],
) -> None:
    spotted, clear, known = both
    lens, (w, h) = spotted.lens, spotted.size
    assert lens is not None and len(known) >= 8
    values: dict[str, Any] = {}
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
    inside, around = np.zeros((2, SIZE[1], SIZE[0]), bool)
    for n, spot in enumerate(known):
        at = spot["place"][0] * w, spot["place"][1] * h
        px, py = (float(np.ravel(v)[0]) for v in lens.positions(np.array([[at[0]]]), np.array([[at[1]]]))[1])
        long = max(w, h)
        values |= {
            f"spots/{n:08x}/kind": "spot",
            f"spots/{n:08x}/path": [[(px - w / 2) / long, (py - h / 2) / long]],
            f"spots/{n:08x}/size": 2.2 * spot["radius"],
        }
        away = np.hypot(x + 0.5 - spot["place"][0] * SIZE[0], y + 0.5 - spot["place"][1] * SIZE[1])
        inside |= away < spot["radius"] * max(SIZE)
        around |= away < 3.5 * spot["radius"] * max(SIZE)
    truth, before, after = as_seen(clear, {}), as_seen(spotted, {}), as_seen(spotted, values)
    errors = [np.abs(v - truth)[..., 1] for v in (before, after)]
    # Of what stood out more than noise does, most is gone; nothing changes further away.
    noise = errors[0][~around].mean()
    assert errors[0][inside].mean() > 3 * noise
    assert errors[1][inside].mean() - noise < 0.4 * (errors[0][inside].mean() - noise)
    assert np.array_equal(before[~around & ~_dilated(around)], after[~around & ~_dilated(around)])


def _dilated(mask: np.ndarray) -> np.ndarray:
    """Everything within twelve px: what a spot's softness and the resampling reach."""
    import cv2

    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((25, 25), np.uint8)), bool)

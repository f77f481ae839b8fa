"""Noise and moire in areas: over all the same as for the whole frame, in a part only there, small as large, off as none."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest

from tanner.core.adjust.registry import develop
from tanner.core.noise.by_areas import mask_to
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.studio.camera import take
from tanner.studio.demo import frames

WHOLE = {"kind": "whole"}
ROUND = {"kind": "round", "at": [0.0, 0.0], "radii": [0.16, 0.16], "softness": 0.1}
SIZE = (480, 320)


@pytest.fixture(scope="module")
def noisy(tmp_path_factory: pytest.TempPathFactory) -> Source:
    shot = replace(next(s for s in frames() if s.scene == "detail"), iso=6400, width=960, height=640)
    path = tmp_path_factory.mktemp("noise") / "a.dng"
    path.write_bytes(take(shot, compress=False))
    return read(path)


def area(shape: dict[str, Any], **values: float) -> dict[str, Any]:
    start = "areas/0000000a/"
    return {start + "kind": "area", start + "shapes": [shape], **{start + f"noise.{k}": v for k, v in values.items()}}


def shown(source: Source, values: dict[str, Any], size: tuple[int, int] = SIZE, **how: Any) -> np.ndarray:
    fresh = Source(source.facts, source.data, profiles=source.profiles, gain_maps=source.gain_maps)
    return render(fresh, develop(values), size, **how).astype(float)


def grain(picture: np.ndarray, part: tuple[slice, slice]) -> float:
    light = picture[part].mean(axis=2).astype(np.float32)
    return float((light - cv2.GaussianBlur(light, (0, 0), 1.5)).std())


MIDDLE, CORNER = (slice(140, 180), slice(220, 260)), (slice(10, 60), slice(10, 60))


@pytest.mark.parametrize("method", ["quick", "fine"])
@pytest.mark.parametrize(("change", "whole"), [({"luminance": -100.0}, {"noise.luminance": 0.0}), ({"colour": -60.0}, {"noise.colour": 40.0})])  # fmt: skip
def test_over_all_it_is_what_the_whole_frame_has(
    noisy: Source, method: str, change: dict[str, float], whole: dict[str, float]
) -> None:
    base = {"noise.method": method}
    assert np.abs(shown(noisy, base | area(WHOLE, **change)) - shown(noisy, base | whole)).max() <= 1


def test_in_a_part_it_is_there_only(noisy: Source) -> None:
    base = {"noise.method": "quick"}
    plain, bare = shown(noisy, base), shown(noisy, base | {"noise.luminance": 0.0, "noise.colour": 0.0})
    got = shown(noisy, base | area(ROUND, luminance=-100.0, colour=-100.0))
    assert np.abs(got[CORNER] - plain[CORNER]).max() <= 1
    assert np.abs(got[MIDDLE] - bare[MIDDLE]).max() <= 1 < np.abs(got[MIDDLE] - plain[MIDDLE]).max()


def test_a_part_can_be_quiet_where_the_frame_has_no_method(noisy: Source) -> None:
    plain, quiet = shown(noisy, {}), shown(noisy, {"noise.method": "quick"})
    got = shown(noisy, area(ROUND, luminance=100.0, colour=100.0))
    assert np.abs(got[CORNER] - plain[CORNER]).max() <= 1
    assert grain(got, MIDDLE) == pytest.approx(grain(quiet, MIDDLE), rel=0.02) and grain(got, MIDDLE) < 0.95 * grain(
        plain, MIDDLE
    )


def test_small_views_show_what_the_file_has(noisy: Source) -> None:
    values = {"noise.method": "quick"} | area(ROUND, luminance=-100.0)
    small = shown(noisy, values, (160, 106), draft=True)
    large = shown(noisy, values, (960, 640))
    reduced = cv2.resize(large, (160, 106), interpolation=cv2.INTER_AREA)
    off = float(-10 * np.log10(((small - reduced) ** 2).mean() / 255**2))
    plain = cv2.resize(shown(noisy, {"noise.method": "quick"}, (960, 640)), (160, 106), interpolation=cv2.INTER_AREA)
    other = shown(noisy, {"noise.method": "quick"}, (160, 106), draft=True)
    without = float(-10 * np.log10(((other - plain) ** 2).mean() / 255**2))
    assert off > min(without - 1.5, 45)


def test_moire_in_a_part(noisy: Source) -> None:
    whole = shown(noisy, {"noise.moire": 100.0})
    got = shown(noisy, area(ROUND, moire=100.0))
    plain = shown(noisy, {})
    assert np.abs(got[CORNER] - plain[CORNER]).max() <= 1 and np.abs(got[MIDDLE] - whole[MIDDLE]).max() <= 1


@pytest.mark.parametrize("quiet", [{"enabled": False}, {"amount": 0.0}, {"present": False}])
def test_off_it_is_bit_identical_to_none(noisy: Source, quiet: dict[str, Any]) -> None:
    base = {"noise.method": "quick"}
    off = base | area(ROUND, luminance=-100.0) | {f"areas/0000000a/{k}": v for k, v in quiet.items()}
    assert np.array_equal(shown(noisy, base), shown(noisy, off))


def test_an_area_that_is_not_found_changes_nothing(noisy: Source) -> None:
    lost = area({**ROUND, "holds": "subject"}, luminance=-100.0) | {
        "areas/0000000a/found": [1, 0, 0, 0, 1, 0, 0, 0, 0.0]
    }
    base = {"noise.method": "quick"}
    assert np.abs(shown(noisy, base) - shown(noisy, base | lost)).max() <= 1


@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
@pytest.mark.parametrize("side", [1, 4])
def test_masks_lie_on_the_sensor_as_they_do_on_the_frame(noisy: Source, orientation: int, side: int) -> None:
    source = Source(noisy.facts.model_copy(update={"orientation": orientation}), noisy.data)
    w, h = source.size
    up = (h, w) if orientation in (1, 3) else (w, h)
    mask = np.zeros((up[0] // 4, up[1] // 4), np.float32)
    mask[: up[0] // 8, : up[1] // 8] = 1  # the upper left quarter, upright
    on = mask_to(mask, source, side, (0, h // side), w // side)
    corner = {1: (0, 0), 3: (-1, -1), 6: (-1, 0), 8: (0, -1)}[orientation]
    assert on.shape == (h // side, w // side) and on[corner] == 1 and on.mean() == pytest.approx(0.25, abs=0.01)


def test_a_file_with_it_is_written(noisy: Source, tmp_path: Path) -> None:
    values = {"noise.method": "quick"} | area(ROUND, luminance=-50.0, moire=40.0)
    assert shown(noisy, values, noisy.size).shape == (640, 960, 3)

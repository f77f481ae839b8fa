"""Matching: offsets found on made-up series whose drift is known."""

from pathlib import Path

import cv2
import numpy as np
import pytest
from made import exposure

from tanner.core.adjust.registry import defaults
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import as_shot_white
from tanner.core.series.area import NoArea, backdrop, drawn, found_again
from tanner.core.series.match import colour_of, match, measured, moved, picture_of
from tanner.studio.camera import take

LOOK = {
    **defaults(raw=True, lens=True),
    "light.exposure": 0.3,
    "light.contrast": 15.0,
    "light.shadows": 20.0,
    "colour.vibrance": 10.0,
}


def shot(folder: Path, name: str, **drift: float) -> Source:
    path = folder / f"{name}.DNG"
    path.write_bytes(take(exposure(path.name, width=420, height=280, **drift)))
    return read(path)


@pytest.fixture(scope="module")
def reference(tmp_path_factory: pytest.TempPathFactory) -> Source:
    return shot(tmp_path_factory.mktemp("match"), "R")


@pytest.mark.parametrize("ev", [-1.0, -0.4, 0.25, 0.9])
def test_exposure_that_drifted_is_brought_back(ev: float, reference: Source, tmp_path: Path) -> None:
    """Within 0.05 EV, and hardly any colour left over."""
    target = measured(reference, LOOK, backdrop(picture_of(reference, LOOK)))
    other = shot(tmp_path, "A", ev=ev, seed=8)
    found = match(other, LOOK, backdrop(picture_of(other, LOOK)), target)
    assert found.offsets["ev"] == pytest.approx(-ev, abs=0.05)
    assert abs(found.offsets["mired"]) < 3 and abs(found.offsets["tint"]) < 2
    assert found.after < 0.2 < found.before and not found.limited


@pytest.mark.parametrize("kelvin", [3000.0, 4200.0, 7000.0])
def test_light_that_the_camera_took_for_another_is_brought_back(
    kelvin: float, reference: Source, tmp_path: Path
) -> None:
    """Frames in one light that the camera took for another: within 3 mired and 2 of tint of the truth."""
    target = measured(reference, LOOK, backdrop(picture_of(reference, LOOK)))
    other = shot(tmp_path, "B", believed=kelvin, ev=0.1)
    found = match(other, LOOK, backdrop(picture_of(other, LOOK)), target, limits={"ev": 2, "mired": 250, "tint": 60})
    as_shot = xy_to_temperature(as_shot_white(other))
    settings = {"white.tint": as_shot[1], **moved(LOOK, found.offsets, as_shot)}
    true_kelvin, true_tint = xy_to_temperature(as_shot_white(reference))
    assert abs(1e6 / settings["white.temperature"] - 1e6 / true_kelvin) < 3
    assert abs(settings["white.tint"] - true_tint) < 2 and found.offsets["ev"] == pytest.approx(-0.1, abs=0.05)


def spread(labs: list[np.ndarray]) -> float:
    """The largest CIEDE2000 between an area and the median of all."""
    return float(ciede2000(np.array(labs), np.median(np.array(labs), axis=0)).max())


def test_a_series_agrees_after_matching(reference: Source, tmp_path: Path) -> None:
    target = measured(reference, LOOK, backdrop(picture_of(reference, LOOK)))
    before, after = [target], [target]
    for n, (ev, believed) in enumerate(((0.5, 5500.0), (-0.7, 5000.0), (0.2, 6200.0), (-0.3, 4600.0))):
        other = shot(tmp_path, f"S{n}", ev=ev, believed=believed, iso=800, seed=20 + n)
        area = backdrop(picture_of(other, LOOK))
        found = match(other, LOOK, area, target)
        before.append(measured(other, LOOK, area))
        after.append(np.array(found.lab))
    assert spread(before) > 5 and spread(after) < 1.0


def test_one_kind_leaves_the_other_alone(reference: Source, tmp_path: Path) -> None:
    target = measured(reference, LOOK, backdrop(picture_of(reference, LOOK)))
    other = shot(tmp_path, "C", ev=0.5, believed=4800.0)
    area = backdrop(picture_of(other, LOOK))
    only = match(other, LOOK, area, target, "exposure")
    assert set(only.offsets) == {"ev"} and only.lab[0] == pytest.approx(target[0], abs=0.1)
    white = match(other, LOOK, area, target, "white")
    assert set(white.offsets) == {"mired", "tint"} and np.allclose(white.lab[1:], target[1:], atol=0.1)


def test_limits_are_kept_and_told(reference: Source, tmp_path: Path) -> None:
    target = measured(reference, LOOK, backdrop(picture_of(reference, LOOK)))
    other = shot(tmp_path, "D", ev=-1.0)
    found = match(other, LOOK, backdrop(picture_of(other, LOOK)), target, limits={"ev": 0.5, "mired": 50, "tint": 20})
    assert found.offsets["ev"] == 0.5 and found.limited == ("ev",) and found.after < found.before


# --- areas --------------------------------------------------------------------------------------------


def test_the_backdrop_is_the_even_area_along_the_border() -> None:
    picture = np.full((200, 300, 3), 190, np.uint8)
    picture += np.linspace(0, 20, 300).astype(np.uint8)[None, :, None]
    rng = np.random.default_rng(1)
    picture[60:180, 100:200] = rng.integers(0, 255, (120, 100, 3))
    cv2.circle(picture, (150, 110), 25, (90, 90, 90), -1)  # even, but not along the border
    area = backdrop(picture)
    assert area.mask[10, 10] and area.mask[10, 290] and not area.mask[110, 150] and not area.mask[100, 120]
    assert area.confidence == 1.0
    with pytest.raises(NoArea, match="Draw"):
        backdrop(rng.integers(0, 255, (200, 300, 3)).astype(np.uint8))


def test_a_drawn_area_is_found_again_where_the_picture_moved(reference: Source) -> None:
    picture = picture_of(reference, LOOK)
    h, w = picture.shape[:2]
    area = drawn((h, w), (0.4, 0.35, 0.6, 0.65))
    way = cv2.getRotationMatrix2D((w / 2, h / 2), 6, 0.9) + np.array([[0, 0, 14], [0, 0, -9]])
    other = cv2.warpAffine(picture, way, (w, h), borderMode=cv2.BORDER_REPLICATE)
    found = found_again(picture, area, other)
    wanted = cv2.warpAffine(area.mask.astype(np.uint8), way, (w, h)) > 0
    assert (found.mask & wanted).sum() / (found.mask | wanted).sum() > 0.85 and "moved" in found.words
    assert found_again(picture, area, picture).words == "at the same place"
    with pytest.raises(NoArea, match="not found"):
        found_again(picture, area, np.full_like(picture, 128))
    with pytest.raises(NoArea, match="too small"):
        drawn((h, w), (0.4, 0.4, 0.4, 0.4))


def test_black_and_clipped_areas_say_nothing() -> None:
    mask = np.ones((40, 40), bool)
    for value in (0, 255):
        with pytest.raises(NoArea, match="clipped"):
            colour_of(np.full((40, 40, 3), value, np.uint8), mask)
    half = np.full((40, 40, 3), 255, np.uint8)
    half[:20] = 118
    assert colour_of(half, mask)[0] == pytest.approx(49.6, abs=0.5)  # the clipped half has no say

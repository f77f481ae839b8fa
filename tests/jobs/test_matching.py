"""Matching as a process does it, on simulated series whose drift is known: exposure, light, noise; contrast; what cannot be."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from made import exposure

from tanner.core.adjust.registry import defaults
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.raw.reader import read
from tanner.core.render import as_shot_white
from tanner.core.series.area import NoArea
from tanner.core.series.match import moved, picture_of, shot_as
from tanner.core.series.tone_match import scale_of
from tanner.jobs.match.matching import MatchWish, Reference, figures_of, matched, reading_of
from tanner.studio.camera import take

LOOK = {**defaults(raw=True, lens=True), "light.contrast": 10.0, "light.shadows": 15.0, "colour.vibrance": 8.0}


def shot(folder: Path, name: str, scene: str, **drift: Any) -> str:
    path = folder / f"{name}.DNG"
    more = {"width": 900, "height": 600, "span": 0.95, **drift}
    path.write_bytes(take(exposure(path.name, scene, turn=0.0, **more)))
    return str(path)


DRIFTS = ((-0.9, 4200.0, 100), (0.55, 7300.0, 200), (-0.35, 3050.0, 100), (0.95, 5000.0, 200), (0.1, 6200.0, 400))
"""EV, what the light is taken for, ISO. A small frame has the noise of a 24 MP one at 40 times the ISO, once both are shown small."""


@pytest.mark.parametrize(
    ("kind", "scenes", "upright"),
    [("backdrop", ("lamp-1", "lamp-3", "lamp-5"), False), ("skin", ("wren-1",), True)],
)
def test_a_simulated_series_comes_together(kind: Any, scenes: tuple[str, ...], upright: bool, tmp_path: Path) -> None:
    """Exposure up to 1 EV off, light taken for 3,050 to 7,300 K, noise, products turned: within 0.05 EV, 3 mired
    and 2 of tint of what the simulated camera knows; the area's spread over the set within 1.0 CIEDE2000."""
    more = {"lens": "portrait" if upright else "standard", "upright": upright}
    first = shot(tmp_path, "R", scenes[0], **more)
    start = Reference(first, LOOK, kind=kind, most=4.5)
    truth = xy_to_temperature(as_shot_white(read(Path(first))))
    labs = []
    for n, (ev, believed, iso) in enumerate(DRIFTS):
        path = shot(tmp_path, f"F{n}", scenes[n % len(scenes)], ev=ev, believed=believed, iso=iso, seed=n + 2, **more)
        found = matched(start, MatchWish(path, LOOK), "both")
        assert found["confidence"] > 0.4 and found["after"] < 0.3 < found["before"]
        assert abs(found["ev"] + ev) < 0.05, found
        camera = shot_as(read(Path(path)), LOOK)
        offsets = {k: found[k] for k in ("ev", "mired", "tint")}
        after = {"white.temperature": camera[0], "white.tint": camera[1], **moved(LOOK, offsets, camera)}
        assert abs(1e6 / after["white.temperature"] - 1e6 / truth[0]) < 3 and abs(after["white.tint"] - truth[1]) < 2
        reading = reading_of(start, MatchWish(path, moved(LOOK, offsets, camera)))
        labs.append(reading["lab"])
        assert reading["outline"]
    spread = ciede2000(np.array(labs), np.median(np.array(labs), axis=0))
    assert spread.max() < 1.0


def test_the_figures_of_a_reference_serve_without_it(tmp_path: Path) -> None:
    first = shot(tmp_path, "R", "lamp-1")
    figures = figures_of(Reference(first, LOOK))
    stored = Reference("", {}, kind=figures["kind"], lab=tuple(figures["lab"]), scale=tuple(figures["scale"]))
    Path(first).unlink()
    found = matched(stored, MatchWish(shot(tmp_path, "F", "lamp-1", ev=-0.6, seed=3), LOOK), "exposure")
    assert found["ev"] == pytest.approx(0.6, abs=0.05) and found["mired"] == 0


def test_contrast_black_and_white_point_are_matched_on_purpose(tmp_path: Path) -> None:
    look = {**LOOK, "light.contrast": 32.0, "light.black_point": -14.0, "light.white_point": 12.0}
    first, other = shot(tmp_path, "R", "lamp-1"), shot(tmp_path, "F", "lamp-1", ev=-0.4, seed=5)
    plain = matched(Reference(first, look), MatchWish(other, LOOK), "both")
    found = matched(Reference(first, look, tone=True), MatchWish(other, LOOK), "both")
    assert plain["values"] == {} and found["values"] and found["after"] < 0.5

    def scale(match: dict[str, Any]) -> Any:
        source = read(Path(other))
        offsets = {k: match[k] for k in ("ev", "mired", "tint")}
        values = moved({**LOOK, **match["values"]}, offsets, shot_as(source, LOOK))
        return scale_of(picture_of(source, values, 16), None)

    wanted = scale_of(picture_of(read(Path(first)), look, 16), None)
    before, after = (float(np.abs(scale(m) - wanted).max()) for m in (plain, found))
    assert after < 1.5 < before


def test_what_cannot_be_matched_says_why(tmp_path: Path) -> None:
    first, black = shot(tmp_path, "R", "lamp-1"), shot(tmp_path, "B", "lamp-1", ev=-12.0)
    with pytest.raises(NoArea, match="black"):
        matched(Reference(first, LOOK), MatchWish(black, LOOK), "both")
    with pytest.raises(NoArea, match="the reference"):
        matched(Reference(black, LOOK), MatchWish(first, LOOK), "both")
    with pytest.raises(NoArea, match="the reference: No face"):
        matched(Reference(first, LOOK, kind="face"), MatchWish(first, LOOK), "both")
    assert "No face" in reading_of(None, MatchWish(first, LOOK), "skin")["trouble"]


def test_a_reference_with_areas_and_spots_is_one_all_the_same(lamp: Path) -> None:
    """Their values are lists and mappings, not numbers."""
    more = {
        "areas/7f3a91c2/kind": "area",
        "areas/7f3a91c2/shapes": [{"kind": "round", "at": [0.0, 0.0], "radii": [0.2, 0.2]}],
        "areas/7f3a91c2/light.exposure": 0.3,
        "spots/00000000/kind": "spot",
        "spots/00000000/path": [[0.1, 0.1]],
        "spots/00000000/size": 0.02,
    }
    wish = MatchWish(str(lamp), LOOK | more)
    plain = reading_of(None, wish)
    assert "trouble" not in plain
    by = reading_of(Reference(str(lamp), LOOK | more), wish)
    assert "trouble" not in by and np.allclose(by["lab"], plain["lab"], atol=0.05)
    boxed = reading_of(Reference(str(lamp), LOOK | more, box=(0.05, 0.05, 0.3, 0.4)), wish)
    assert "trouble" not in boxed

"""The second demo shoot: what its series are said to hold is in their frames."""

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray

from tanner.core.colour.spectra import library
from tanner.studio import flat, light, pictures
from tanner.studio.camera import DRAWN, mosaic, radiance
from tanner.studio.exposure import Exposure, discs
from tanner.studio.faults import dust, dust_shade, glass, out_of_focus, pane
from tanner.studio.series import FOLDER, say_what_is_known, series, set_names

SMALL = {"width": 870, "height": 580}


def _of(part: str) -> list[Exposure]:
    return [s for s in series() if part in set_names()[s.name]]


def _green(shot: Exposure) -> NDArray[np.float32]:
    """Noise-free green of a frame at half size, as the scene lies."""
    values = mosaic(shot)[1]
    green = (values[0::2, 1::2] + values[1::2, 0::2]) / 2
    return np.rot90(green, -1) if shot.upright else green


def test_the_series_are_complete_and_their_scenes_ship() -> None:
    shots = series()
    rendered = {s.scene for s in shots if s.scene not in DRAWN}
    apart = {f"{s.scene}-{name}" for s in shots for name, _ in s.lights}
    assert rendered | apart <= set(pictures.names())
    sizes = {part: len(_of(part)) for part in ("burst", "apart", "bracket", "focus", "panorama", "glass", "dust on")}
    assert sizes == {"burst": 48, "apart": 5, "bracket": 5, "focus": 7, "panorama": 5, "glass": 12, "dust on": 12}
    assert len({s.name for s in shots}) == len(shots)
    assert [s.taken for s in shots] == sorted(s.taken for s in shots)


def test_dust_is_where_it_is_said_to_be_and_softer_at_a_wide_aperture() -> None:
    plain = replace(_of("Plain paper")[0], width=1740, height=1160)
    ratio = mosaic(plain)[1] / mosaic(replace(plain, dusty=False))[1]
    seen = cv2.GaussianBlur(ratio, (0, 0), 0.7)
    for speck in dust():
        x, y = round(speck["x"] * plain.width), round(speck["y"] * plain.height)
        assert seen[y - 2 : y + 3, x - 2 : x + 3].min() < 0.97
    assert len(dust()) == 25
    narrow, wide = dust_shade(replace(plain, lens="close")), dust_shade(replace(plain, lens="portrait"))
    assert narrow.min() < wide.min() - 0.2
    # The light that a speck takes in all does not depend on the aperture.
    assert (1 - narrow).sum() == pytest.approx((1 - wide).sum(), rel=0.02)


def test_the_pane_stays_while_the_lamp_turns() -> None:
    shots = _of("behind glass")
    assert len({s.scene for s in shots}) == 12 and len({(s.span, s.shift) for s in shots}) == 1
    small = replace(shots[0], **SMALL)
    with_pane, without = mosaic(small)[1], mosaic(replace(small, behind_glass=False))[1]
    change = np.abs(with_pane / np.maximum(without, 1e-4) - 1)
    for thing in glass():
        x, y = (round(v * small.height) for v in thing["place"])
        reach = max(3, round(thing.get("radius", 0.004) * small.height) + 2)
        assert change[max(y - reach, 0) : y + reach, max(x - reach, 0) : x + reach].max() > 0.02, thing
    _, _, through, added = pane(small.width, small.height)
    quiet = (through == 1) & (added < 1e-6)
    assert np.median(change[quiet]) == 0 and quiet.mean() > 0.9


def test_the_lamps_lights_add_up_to_all_of_them() -> None:
    shots = [replace(s, **SMALL) for s in _of("its lights apart")]
    assert [s.lights[0][0] for s in shots[:4]] == list(pictures.LIGHTS) and len(shots[4].lights) == 4
    values = [mosaic(s)[1] for s in shots]
    apart = np.abs(np.sum(values[:4], axis=0) - values[4])
    # The lens's resampling may fall below black beside a bright edge, which no sensor does.
    assert apart.max() < 0.01 and (apart < 1e-4).mean() > 0.999
    # And all of them are the scene that was rendered with all of them.
    together = _green(shots[4])
    whole = _green(replace(shots[4], lights=()))
    near = (
        cv2.resize(together, (58, 38), interpolation=cv2.INTER_AREA),
        cv2.resize(whole, (58, 38), interpolation=cv2.INTER_AREA),
    )
    assert np.median(np.abs(near[0] / near[1] - 1)) < 0.02


def test_the_bracket_is_as_far_apart_as_its_shutter_says() -> None:
    shots = [replace(s, **SMALL) for s in _of("bracket")]
    greens = [_green(s) for s in shots]
    for a, b, x, y in zip(greens, greens[1:], shots, shots[1:], strict=False):
        assert np.median(b / np.maximum(a, 1e-6)) == pytest.approx(y.shutter / x.shutter, rel=1e-3)
    assert greens[-1].max() > 1 > greens[0].max()  # from all there to clipped


def test_each_part_of_the_plate_is_sharp_in_one_of_seven() -> None:
    shots = [replace(s, width=1740, height=1160) for s in _of("focus steps")]
    greens = [_green(s) for s in shots]

    def sharpness(g: NDArray[np.float32], rows: slice) -> float:
        return float(np.abs(cv2.Laplacian(np.log(np.maximum(g, 1e-4)), cv2.CV_32F))[rows].mean())

    far = [sharpness(g, slice(60, 160)) for g in greens]
    near = [sharpness(g, slice(420, 540)) for g in greens]
    assert int(np.argmax(near)) < int(np.argmax(far))
    assert max(near) > 1.3 * near[-1] and max(far) > 1.3 * far[0]


def test_places_of_the_truth_agree_between_the_panoramas_frames() -> None:
    """Corners of the shelves by the truth of two frames: what is around them is the same, turned and warped little."""
    one, two = (replace(s, width=1740, height=1160, lens="close") for s in _of("panorama")[1:3])
    greens = [np.log(np.maximum(_green(s), 1e-4)) for s in (one, two)]
    checked = 0
    known = [s.truth()["in_the_scene"]["straight_edges"] for s in (one, two)]
    for a, b in zip(*known, strict=True):
        for p, q in zip(a, b, strict=True):
            if not all(0.08 < v < 0.92 for v in (*p, *q)):
                continue
            patches = []
            for g, (x, y) in ((greens[0], p), (greens[1], q)):
                h, w = g.shape
                patches.append(g[round(y * h) - 20 : round(y * h) + 20, round(x * w) - 20 : round(x * w) + 20])
            match = cv2.matchTemplate(patches[1], np.ascontiguousarray(patches[0][8:32, 8:32]), cv2.TM_CCOEFF_NORMED)
            _, best, _, at = cv2.minMaxLoc(match)
            if np.std(patches[0]) > 0.2:
                assert best > 0.7 and abs(at[0] - 8) <= 3 and abs(at[1] - 8) <= 3
                checked += 1
    assert checked >= 3


def test_the_card_shows_its_colours_where_it_says() -> None:
    shot = replace(next(s for s in series() if s.scene == "colour-card"), **SMALL, lens="close")
    seen = radiance(shot, shot.width, shot.height)
    for patch in flat.truth("colour-card", shot.width / shot.height)["card"]:
        x, y = np.mean(patch["corners"], axis=0) * [shot.width, shot.height]
        exact = light.camera_response(flat.dyed()[patch["patch"]], shot.spectrum(), shot.camera)
        assert seen[:, int(y), int(x)] == pytest.approx(exact, rel=1e-4)
    card = {p["patch"]: p["lab_d50"] for p in flat.truth("colour-card", 1.5)["card"]}
    assert len(card) == 40 and len({tuple(v) for v in card.values()}) == 40
    assert np.abs([card["card:4:3"][1], card["card:4:3"][2]]).max() < 0.02  # greys are grey
    lots = [p["lab_d50"] for p in flat.truth("dye-lots", 1.5)["lots"]]
    assert 2 < float(library().delta_E(*lots, method="CIE 2000")) < 8


def test_focus_that_is_off_spreads_a_point_to_the_disc_that_is_said() -> None:
    """A thin lens (source: common optics): second moments of a spread point against the disc's, in px of the scene."""
    shot = replace(_of("Lamp, burst")[0], focus=40.0, span=1.0, width=2880, height=1920)
    scene = np.zeros((3, 1920, 2880), np.float32)
    y, x = 1300, 1500  # on the lamp's foot
    scene[:, y, x] = 1
    spread = out_of_focus(scene, shot)[1]
    assert spread.sum() == pytest.approx(1, rel=0.03)
    rows, columns = np.mgrid[:1920, :2880]
    moment = float((spread * ((rows - y) ** 2 + (columns - x) ** 2)).sum())
    wanted = discs(shot, 40.0, 0.0)[y // 8, x // 8]
    there = discs(shot, 0.0, 0.0)[y // 8, x // 8]
    assert wanted > 3
    # Half of a disc's squared radius is its second moment.
    assert moment == pytest.approx((wanted**2 - there**2) / 2, rel=0.15)


def test_frames_of_an_older_version_are_taken_anew(tmp_path: Path) -> None:
    say_what_is_known(tmp_path)
    known = json.loads((tmp_path / "series-truth.json").read_text())
    assert len(known["frames"]) == 107 and len(known["dust"]) == 25 and (tmp_path / "README.md").exists()
    taken = tmp_path / FOLDER / "SR0001.DNG"
    taken.write_bytes(b"x")
    say_what_is_known(tmp_path)
    assert taken.exists()
    (tmp_path / "series-truth.json").write_text("{}")
    say_what_is_known(tmp_path)
    assert not taken.exists()

"""Hints for choosing: sharpness on pictures that were blurred by known amounts, movement against focus, closed eyes, groups."""

import subprocess
from dataclasses import replace
from datetime import datetime, timedelta
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import pytest
from made import exposure
from PIL import Image, ImageOps
from skimage import data

from tanner.core.areas.drawing import Grid
from tanner.core.areas.look import AreaLook
from tanner.core.areas.networks import face_points
from tanner.core.choosing.alike import UNLIKE, Near, copies, groups, unlike_moved
from tanner.core.choosing.hints import CLOSED, MOVED, SHUT, _opening, focused, measured, sharpness
from tanner.core.raw.reader import read
from tanner.core.series.sets import Sighting, unlikeness
from tanner.jobs.tasks import descriptor, hints_of, picture, starting
from tanner.studio.camera import take
from tanner.studio.series import series, set_names

PICTURES = ("camera", "coins", "brick", "moon", "astronaut", "coffee", "chelsea", "rocket")
FULL_SCALE_E = 4000.0
"""Electrons at white: as a small sensor at ISO 1600 has them."""


def linear(name: str) -> np.ndarray:
    """A picture that ships with scikit-image, as light."""
    picture = getattr(data, name)()
    grey = picture if picture.ndim == 2 else cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
    return (cv2.resize(grey, None, fx=1.6, fy=1.6, interpolation=cv2.INTER_AREA).astype(np.float32) / 255) ** 2.2


def taken(light: np.ndarray, seed: int, exposure: float = 1.0) -> np.ndarray:
    """Light as a sensor sees it: with shot noise."""
    electrons = np.random.default_rng(seed).poisson(np.clip(light * exposure, 0, 1) * FULL_SCALE_E)
    return (electrons / FULL_SCALE_E).astype(np.float32)


@pytest.mark.parametrize("exposure", [1.0, 0.35])
def test_the_sharper_of_two_is_told_in_95_of_100_pairs(exposure: float) -> None:
    """Pairs of one picture whose blur differs by a fifth, with noise of their own and a shift: as a burst has them."""
    right = total = 0
    for name in PICTURES:
        light = linear(name)
        blurs = 0.8 * 1.2 ** np.arange(9)  # px: 0.8 to 3.4
        found = []
        for k, sigma in enumerate(blurs):
            blurred = cv2.GaussianBlur(light, (0, 0), float(sigma))
            h, w = light.shape
            moved = blurred[k * 3 % 7 : h - 7 + k * 3 % 7, k * 5 % 11 : w - 11 + k * 5 % 11]
            found.append(sharpness(taken(moved, k, exposure * (1 + 0.1 * (k % 3))))[0])
        total += len(blurs) - 1
        right += sum(a > b for a, b in pairwise(found))
    assert right >= 0.95 * total, f"{right} of {total}"


def test_exposure_and_noise_hardly_change_the_figure() -> None:
    light = cv2.GaussianBlur(linear("astronaut"), (0, 0), 1.2)
    found = [sharpness(taken(light, seed, exposure))[0] for seed in (1, 2) for exposure in (1.0, 0.5, 0.25)]
    assert max(found) < 1.1 * min(found)


@pytest.mark.parametrize("name", ["astronaut", "coffee", "chelsea", "camera"])
@pytest.mark.parametrize("angle", [0, 30, 90])
def test_movement_is_told_from_focus(name: str, angle: int) -> None:
    light = linear(name)
    kernel = np.zeros((15, 15), np.float32)
    way = np.array([np.cos(np.radians(angle)), np.sin(np.radians(angle))])
    for step in np.linspace(-6, 6, 60):
        x, y = np.rint(7 + step * way).astype(int)
        kernel[y, x] = 1
    moved = sharpness(taken(cv2.filter2D(light, -1, kernel / kernel.sum()), 1))[1]
    soft = sharpness(taken(cv2.GaussianBlur(light, (0, 0), 2.5), 1))[1]
    sharp = sharpness(taken(light, 1))[1]
    assert moved < MOVED < min(soft, sharp), (moved, soft, sharp)


def test_a_plane_without_anything_is_no_trouble() -> None:
    assert sharpness(np.zeros((50, 60), np.float32))[0] == 0.0
    assert np.isfinite(sharpness(np.full((50, 60), 0.5, np.float32))).all()


def test_eyes_that_are_open_and_eyes_that_are_closed() -> None:
    """The public-domain portrait that ships with scikit-image, and its points with the upper lids brought to the lower ones."""
    picture = data.astronaut()
    points, sure = face_points(picture, (170, 65, 110, 140))
    assert sure > 9
    opened = _opening(points)
    assert opened is not None and opened > 0.6
    closed = points.copy()
    for upper, lower in zip((159, 158, 160, 386, 385, 387), (145, 153, 144, 374, 380, 373), strict=True):
        closed[upper] = closed[lower] + 0.1 * (points[upper] - points[lower])
    assert _opening(closed) == 0.0
    profile = points.copy()
    profile[[362, 386, 385, 387, 374, 380, 373]] = profile[263] + 0.2 * (
        points[[362, 386, 385, 387, 374, 380, 373]] - points[263]
    )
    assert _opening(profile) is None and CLOSED < 0.2


def _sighting(key: int, seconds: float, tone: float, **more: object) -> Sighting:
    rng = np.random.default_rng(5)
    values = rng.uniform(0, 50, 192)
    values[:96] += tone
    fields: dict[str, object] = {
        "key": key, "camera": "Alder One", "lens": "L", "focal_length_mm": 55.0, "light_mired": 200.0,
        "taken": datetime(2026, 3, 1) + timedelta(seconds=seconds), "name": f"A{key}", "descriptor": values.tolist(), "upright": False,
    }  # fmt: skip
    return Sighting(**(fields | more))  # type: ignore[arg-type]


def test_near_alikes_are_grouped_by_time_and_likeness() -> None:
    burst = [_sighting(k, k * 2.0, 0.5 * k) for k in range(4)]
    later = [_sighting(10, 200.0, 0.0), _sighting(11, 202.0, 0.0)]
    other = [
        _sighting(20, 204.0, 40.0),
        _sighting(21, 205.0, 40.0, camera="Heron 5"),
        _sighting(22, 206.0, 40.0, descriptor=[]),
    ]
    assert groups([*later, *burst, *other]) == [[0, 1, 2, 3], [10, 11], [20], [21], [22]]
    assert groups(burst, Near(gap_s=1.0)) == [[0], [1], [2], [3]]
    # Slow change does not make one group of a whole sitting.
    drift = [_sighting(k, k * 2.0, 5.0 * k) for k in range(12)]
    assert len(groups(drift)) > 1


def test_copies_are_of_one_moment_and_one_look() -> None:
    same = [_sighting(1, 0, 0), _sighting(2, 0, 0), _sighting(3, 1, 0)]
    assert copies(same) == {2: 1}


@pytest.mark.parametrize("orientation", range(1, 9))
def test_the_focus_area_of_a_file_is_found_where_the_picture_shows_it(orientation: int, tmp_path: Path) -> None:
    """EXIF's SubjectArea, written by exiftool; the upright picture by Pillow's own reading of the orientation."""
    picture = np.full((400, 600, 3), 20, np.uint8)
    cv2.rectangle(picture, (90, 40), (150, 120), (255, 255, 255), -1)
    cv2.imwrite(str(tmp_path / "a.jpg"), picture)
    said = ["-SubjectArea=120 80 60 80", f"-Orientation#={orientation}"]
    subprocess.run(["exiftool", "-q", "-overwrite_original", *said, str(tmp_path / "a.jpg")], check=True)
    found = focused(read(tmp_path / "a.jpg").facts)
    assert found is not None
    with Image.open(tmp_path / "a.jpg") as image:
        upright = np.asarray(ImageOps.exif_transpose(image).convert("L"))
    rows, columns = np.nonzero(upright > 128)
    h, w = upright.shape
    expected = columns.min() / w, rows.min() / h, np.ptp(columns) / w, np.ptp(rows) / h
    assert np.allclose(found, expected, atol=0.01)


def test_the_focus_area_serves_where_there_is_no_face_and_no_subject() -> None:
    rng = np.random.default_rng(3)
    light = 0.4 + 0.01 * rng.random((300, 400)).astype(np.float32)
    planes = np.stack([light] * 3)
    look = AreaLook(planes, np.eye(3), Grid.of((400, 300), 400))
    assert measured(look).where == "frame"
    named = measured(look, (0.2, 0.3, 0.3, 0.3))
    assert named.where == "focus" and named.box == (0.2, 0.3, 0.3, 0.3)


def test_a_file_that_names_no_focus_area_says_so(lamp: Path) -> None:
    assert focused(read(lamp).facts) is None


def test_bursts_of_the_simulator_are_its_groups(tmp_path: Path) -> None:
    """A long burst on which the thing is turned little by little, another scene, and the first one again later: by its truth."""
    truth: list[list[int]] = []
    frames: list[Sighting] = []
    for scene, count, begin, turn in (
        ("lamp-1", 14, 0.0, 0.05),
        ("table-top", 6, 20.0, 0.0),
        ("lamp-2", 5, 600.0, 0.05),
    ):
        truth.append([])
        for n in range(count):
            key = len(frames)
            more = {"turn": turn * n, "ev": 0.03 * (n % 3), "seed": key, "believed": 5500 + 40 * (n % 4)}
            path = tmp_path / f"B{key:04d}.DNG"
            path.write_bytes(take(exposure(path.name, scene, **more)))
            source = read(path)
            look = picture(source, starting(source.facts, lens=source.lens is not None), 256)
            frames.append(_sighting(key, begin + 0.5 * n, 0.5, descriptor=tuple(descriptor(look))))
            truth[-1].append(key)
    assert groups(frames) == truth


def test_a_burst_held_by_hand_is_a_group_though_the_camera_moves(tmp_path: Path) -> None:
    """The demo's burst of a sitting, by its truth: six and six of one pose, with a pause; then the other pose."""
    shots = [s for s in series() if set_names()[s.name] == "Wren, burst"][6:15]
    frames = []
    for key, shot in enumerate(shots):
        path = tmp_path / shot.name
        path.write_bytes(take(replace(shot, width=660, height=440, taken=shots[0].taken, focus=0.0)))
        source = read(path)
        look = picture(source, starting(source.facts, lens=source.lens is not None), 256)
        # One moment apart, so that likeness alone decides.
        frames.append(_sighting(key, 1.0 * key, 0.5, descriptor=tuple(descriptor(look))))
    assert groups(frames) == [[0, 1, 2, 3, 4, 5], [6, 7, 8]]
    apart = [unlikeness(frames[n], frames[n + 1]) for n in range(5)]
    assert max(apart) > UNLIKE  # told apart when nothing is moved over the other


def test_of_the_burst_the_frame_with_the_blink_is_told_and_no_other(tmp_path: Path) -> None:
    shots = [s for s in series() if set_names()[s.name] == "Wren, burst"][6:12]
    assert sum(s.scene == "wren-blink" for s in shots) == 1
    for shot in shots:
        path = tmp_path / shot.name
        path.write_bytes(take(shot))
        eyes = hints_of(str(path))["eyes"]
        assert eyes is not None and (eyes < SHUT) == (shot.scene == "wren-blink"), (shot.name, eyes)


def test_moving_over_one_another_is_a_distance() -> None:
    rng = np.random.default_rng(4)
    one, two = (_sighting(k, 0.0, 0.5, descriptor=tuple(rng.uniform(0, 100, 192))) for k in range(2))
    assert unlike_moved(one, one) == pytest.approx(0, abs=1e-9)
    assert unlike_moved(one, two) == pytest.approx(unlike_moved(two, one))
    assert unlike_moved(one, two) > 0.15

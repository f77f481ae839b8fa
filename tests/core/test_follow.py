"""Where a lead's mask lies on another frame: known shifts, turns, sizes and perspective; and what is not the same thing."""

import math
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from tanner.core.areas.follow import Features, again, by_faces, features
from tanner.core.areas.look import AreaLook
from tanner.core.areas.place import SURE
from tanner.core.raw.reader import read
from tanner.core.render.guide import look_of
from tanner.studio.camera import take
from tanner.studio.demo import frames

FULL = 6000
"""Long edge in px of 24 megapixels: errors are told at that size."""


def seen(folder: Path, scene: str, number: int = 0) -> AreaLook:
    shot = [s for s in frames() if s.scene == scene][number]
    path = folder / f"{scene}-{number}.dng"
    path.write_bytes(take(shot, compress=False))
    return look_of(read(path))


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> AreaLook:
    return seen(tmp_path_factory.mktemp("follow"), "table-top")


def moved(look: AreaLook, places: np.ndarray) -> AreaLook:
    """A frame as it looks when its places lie elsewhere, by a perspective map of places."""
    h, w = look.planes.shape[1:]
    to = np.array([[max(h, w), 0, (w - 1) / 2], [0, max(h, w), (h - 1) / 2], [0, 0, 1.0]])
    px = to @ places @ np.linalg.inv(to)
    planes = [
        cv2.warpPerspective(p, px, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE) for p in look.planes
    ]
    noise = np.random.default_rng(1).normal(0, 0.002, look.planes.shape)
    return replace(look, planes=(np.stack(planes) * 1.3 + noise).astype(np.float32))


def similar(dx: float, dy: float, scale: float, degrees: float) -> np.ndarray:
    c, s = scale * math.cos(math.radians(degrees)), scale * math.sin(math.radians(degrees))
    return np.array([[c, -s, dx], [s, c, dy], [0, 0, 1.0]])


SLANT = np.array([[1.02, 0.03, 0.02], [-0.02, 1.0, -0.03], [0.06, -0.04, 1.0]])


@pytest.mark.parametrize(
    "way",
    [similar(0.06, -0.03, 1, 0), similar(0.0, 0.02, 1.0, 14), similar(-0.03, 0.0, 1.25, -4), SLANT],
    ids=["shifted", "turned", "nearer", "at a slant"],
)
def test_a_rigid_subject_is_found_within_two_pixels(table: AreaLook, way: np.ndarray) -> None:
    """Light 1.3 times as strong, with noise; the edge of a mask in the middle of the frame, at 24 megapixels."""
    w, h = table.grid.size
    mask = np.zeros((h, w), np.float32)
    cv2.circle(mask, (w // 2, h // 2), h // 4, 1, -1)
    found = again(features(table, mask), features(moved(table, way)), mask)
    assert found[8] > 0.4
    turn = np.linspace(0, 2 * np.pi, 60)
    edge = np.column_stack([0.25 * np.cos(turn) * h / w, 0.25 * np.sin(turn) * h / w, np.ones(60)])
    wanted, got = edge @ way.T, edge @ np.append(found[:8], 1).reshape(3, 3).T
    off = np.linalg.norm(wanted[:, :2] / wanted[:, 2:] - got[:, :2] / got[:, 2:], axis=1) * FULL
    assert off.max() < 2


def test_what_is_not_there_is_not_found(table: AreaLook, tmp_path: Path) -> None:
    there = features(table)
    for scene in ("lamp-1", "workshop-1", "wren-1"):
        assert again(there, features(seen(tmp_path, scene)))[8] < SURE
    even = replace(table, planes=np.full_like(table.planes, 0.4))
    assert again(there, features(even))[8] == 0 and again(features(even), there)[8] == 0


def test_a_mask_that_has_left_the_frame_is_not_found(table: AreaLook) -> None:
    w, h = table.grid.size
    mask = np.zeros((h, w), np.float32)
    mask[:, : w // 5] = 1
    found = again(features(table, mask), features(moved(table, similar(-0.25, 0, 1, 0))), mask)
    assert found[8] < SURE


def test_frames_of_one_place_from_another_view(tmp_path: Path) -> None:
    """The demo's table top, slid along under the camera: the frames' own framing is the truth."""
    shots = [s for s in frames() if s.scene == "table-top"]
    first, other = (seen(tmp_path, "table-top", n) for n in (0, 3))
    found = again(features(first), features(other))
    by = (shots[0].corner()[0] - shots[3].corner()[0]) / shots[0].span
    assert found[8] > 0.8 and abs(found[2] - by) * FULL < 8 and abs(found[5]) * FULL < 8


def test_features_are_kept_as_they_are(table: AreaLook) -> None:
    found = features(table)
    back = Features.unpacked(found.packed())
    assert np.abs(back.at - found.at).max() < 1e-6 and np.array_equal(back.grey, found.grey)
    assert np.abs(back.what - found.what).max() <= 0.5


def test_by_the_points_of_a_face() -> None:
    points = np.random.default_rng(2).uniform(-0.1, 0.1, (468, 2))
    before = [1.0, 0, 0, 0, 1, 0, 0, 0, 0.1]
    way = similar(0.1, 0.05, 1.2, 10)
    there = (np.column_stack([points, np.ones(468)]) @ way.T)[:, :2]
    px = there * 900 + ((900 - 1) / 2, (600 - 1) / 2)
    found = by_faces(points, [px], (600, 900), before)
    assert found[8] > 0.8 and np.abs(np.append(found[:8], 1).reshape(3, 3) - way).max() < 1e-3
    # A head that was turned away: its points fit badly.
    px[:, 0] = px[:, 0].mean() + 0.3 * (px[:, 0] - px[:, 0].mean())
    assert by_faces(points, [px], (600, 900), before) == before and by_faces(points, [], (600, 900), before) == before

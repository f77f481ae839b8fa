"""Faces, skin, grey patch and grey card, found on pictures of our own and on public-domain ones."""

from collections.abc import Callable
from functools import cache

import cv2
import numpy as np
import pytest
import skimage.data
from numpy.typing import NDArray

from tanner.core.colour.spaces import SPACES
from tanner.core.profile.chart import published24
from tanner.core.profile.detect import shows_chart
from tanner.core.series.area import EDGE, NoArea, outline
from tanner.core.series.subjects import area_of, faces
from tanner.studio import bands, light, pictures

Picture = NDArray[np.uint8]


@cache
def scene(name: str) -> Picture:
    """A scene of ours as a plain sRGB-like picture, 1000 px."""
    weights = bands.weights(light.sensitivities("Alder One"), light.light(5500)).astype(np.float32)
    linear = np.moveaxis(pictures.planes(name), 0, -1) @ weights.T
    linear /= linear.reshape(-1, 3).mean(axis=0) / linear.mean()
    seen = np.clip(linear / np.percentile(linear, 99.5), 0, 1) ** (1 / 2.2) * 255
    return sized(seen.astype(np.uint8), 1000)


def sized(picture: Picture, edge: int) -> Picture:
    share = edge / max(picture.shape[:2])
    way = cv2.INTER_AREA if share < 1 else cv2.INTER_LINEAR
    return np.asarray(cv2.resize(picture, None, fx=share, fy=share, interpolation=way), np.uint8)


def at(picture: Picture) -> Callable[[int], Picture]:
    return lambda edge: sized(picture, edge)


def turned(picture: Picture, degrees: float) -> Picture:
    h, w = picture.shape[:2]
    way = cv2.getRotationMatrix2D((w / 2, h / 2), degrees, 1)
    return np.asarray(cv2.warpAffine(picture, way, (w, h), borderMode=cv2.BORDER_REFLECT), np.uint8)


PORTRAITS = ("rowan-1", "rowan-2", "rowan-4", "wren-1", "wren-2", "wren-5")
"""Scenes with a face turned to the camera."""


@pytest.mark.parametrize("share", [1.0, 0.5, 0.25])
@pytest.mark.parametrize("degrees", [0, -20, 20, 90, 180, 270])
def test_the_face_of_a_public_domain_portrait_is_found(share: float, degrees: float) -> None:
    """The astronaut of scikit-image (NASA, public domain), smaller and turned; where the face is comes from memory."""
    small = sized(skimage.data.astronaut(), round(512 * share))
    found = faces(turned(small, degrees))
    assert found and found[0][1] >= 0.75
    (x, y, w, h), _ = found[0]
    h0, w0 = small.shape[:2]
    # The middle of the face, 224 across and 120 down in the whole picture of 512.
    angle = np.deg2rad(degrees)
    dx, dy = 224 / 512 * w0 - w0 / 2, 120 / 512 * h0 - h0 / 2
    middle = w0 / 2 + dx * np.cos(angle) + dy * np.sin(angle), h0 / 2 - dx * np.sin(angle) + dy * np.cos(angle)
    assert np.hypot(x + w / 2 - middle[0], y + h / 2 - middle[1]) < 0.4 * max(w, h)


@pytest.mark.parametrize("name", PORTRAITS)
def test_faces_and_skin_of_our_portraits_are_found(name: str) -> None:
    picture = scene(name)
    face, skin = area_of("face", at(picture)), area_of("skin", at(picture))
    assert face.mask.shape == sized(picture, EDGE).shape[:2]
    assert face.confidence >= 0.75 and skin.confidence > 0.4
    assert (skin.mask & face.mask).sum() > 0.95 * skin.mask.sum()
    small = cv2.cvtColor(sized(picture, EDGE).astype(np.float32) / 255, cv2.COLOR_RGB2Lab)
    # Even: skin spreads less than the face around it, and is a colour of skin (reddish yellow).
    assert small[skin.mask][:, 1:].std(axis=0).max() < small[face.mask][:, 1:].std(axis=0).max() + 0.5
    assert (small[skin.mask].mean(axis=0)[1:] > 2).all()
    assert outline(face) and all(0 <= v <= 1 for line in outline(face) for point in line for v in point)


def faceless() -> list[Picture]:
    """More than 50 pictures without a face: scikit-image's (whole, turned and in parts), and our scenes of things."""
    whole = [
        skimage.data.coffee(), skimage.data.rocket(), skimage.data.immunohistochemistry(), skimage.data.retina(),
        skimage.data.hubble_deep_field(),
        *(np.dstack([v] * 3) for v in (
            skimage.data.brick(), skimage.data.grass(), skimage.data.gravel(), skimage.data.coins(), skimage.data.moon(),
            skimage.data.page(), skimage.data.text(), skimage.data.clock(),
        )),
    ]  # fmt: skip
    parts = [
        p[y * p.shape[0] // 2 : (y + 1) * p.shape[0] // 2, x * p.shape[1] // 2 : (x + 1) * p.shape[1] // 2]
        for p in whole[5:11]
        for y in (0, 1)
        for x in (0, 1)
    ]
    ours = [scene(n) for n in pictures.names() if not n.startswith(("rowan", "wren", "both"))]
    return [sized(np.ascontiguousarray(p), 640) for p in [*whole, *parts, *ours]]


def test_no_face_is_found_where_there_is_none() -> None:
    all_of_them = faceless()
    assert len(all_of_them) >= 50
    found = [n for n, picture in enumerate(all_of_them) if faces(picture)]
    assert found == []


def test_a_frame_without_a_face_says_so() -> None:
    for kind in ("face", "skin"):
        with pytest.raises(NoArea, match="No face"):
            area_of(kind, at(scene("table-top")))  # type: ignore[arg-type]


def test_the_grey_patch_of_a_chart_is_found() -> None:
    picture = scene("colour-chart")
    found = area_of("chart", at(picture))
    lab = cv2.cvtColor(sized(picture, EDGE).astype(np.float32) / 255, cv2.COLOR_RGB2Lab)[found.mask]
    # Balanced to the mean of the scene only, so nearly grey; one patch, so even.
    assert np.hypot(*lab.mean(axis=0)[1:]) < 12 and lab[:, 0].std() < 3 and 25 < lab[:, 0].mean() < 85
    with pytest.raises(NoArea, match="No colour chart"):
        area_of("chart", at(scene("lamp-1")))


def test_frames_of_a_chart_are_told_from_all_others() -> None:
    """At the size of the Sheet's pictures."""
    found = [
        n
        for n in pictures.names()
        if shows_chart(SPACES["srgb"].decode(sized(scene(n), 512) / 255).astype(np.float32), published24())
    ]
    assert found == ["colour-chart"]


def test_a_grey_card_is_found_and_nothing_else_is_taken_for_one() -> None:
    rng = np.random.default_rng(4)
    picture = np.clip(rng.normal(150, 30, (600, 800, 3)), 0, 255).astype(np.uint8)
    corners = np.array([[300, 200], [470, 215], [460, 330], [295, 320]], np.int32)
    cv2.fillConvexPoly(picture, corners, (126, 118, 108))
    found = area_of("card", at(picture))
    inside = cv2.fillConvexPoly(np.zeros((600, 800), np.uint8), corners, 1)
    share = sized(inside.astype(np.uint8) * 255, EDGE) > 128
    assert (found.mask & share).sum() > 0.98 * found.mask.sum() and found.mask.sum() > 0.5 * share.sum()
    assert found.confidence > 0.6
    cv2.fillConvexPoly(picture, corners, (180, 90, 60))
    with pytest.raises(NoArea, match="No grey card"):
        area_of("card", at(picture))

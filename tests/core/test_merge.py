"""Panoramas and focus stacks of simulated frames with known scenes."""

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from tanner.core.merge.focus import merged_focus
from tanner.core.merge.frames import FramePart, MergeError, as_dng, one_kind, part_of
from tanner.core.merge.panorama import stitched
from tanner.core.raw.reader import read
from tanner.studio.camera import take
from tanner.studio.demo import frames


def quiet(share: float, text: str) -> None:
    assert 0 <= share <= 1 and text


@pytest.fixture(scope="module")
def swept(tmp_path_factory: pytest.TempPathFactory) -> list[FramePart]:
    """Three overlapping framings of the workshop, of different exposure."""
    folder = tmp_path_factory.mktemp("swept")
    wide = next(s for s in frames() if s.scene == "workshop-1")
    parts = []
    for n, (aside, ev) in enumerate(((-0.6, 0.0), (0.0, 0.4), (0.6, -0.3))):
        shot = replace(wide, name=f"{n}.dng", span=0.5, shift=(aside, 0.0), ev=wide.ev + ev, width=1740, height=1160)
        path = folder / shot.name
        path.write_bytes(take(shot))
        parts.append(part_of(read(path), 800_000))
    return parts


@pytest.mark.parametrize("projection", ["cylinder", "flat"])
def test_frames_become_one_wider_picture_without_steps(swept: list[FramePart], projection: str) -> None:
    picture, used, lifted = stitched(swept, projection, quiet)  # type: ignore[arg-type]
    h, w = swept[0].pixels.shape[:2]
    assert used == [0, 1, 2] and picture.shape[1] > 1.3 * w and picture.shape[0] > 0.8 * h
    assert lifted >= 0 and picture.min() >= 0
    # Where the middle frame lies, it is found again at the level of the whole.
    grey = cv2.cvtColor(np.sqrt(np.clip(picture, 0, 1)), cv2.COLOR_RGB2GRAY)
    middle = cv2.cvtColor(np.sqrt(np.clip(swept[1].pixels, 0, 1)), cv2.COLOR_RGB2GRAY)
    piece = np.ascontiguousarray(middle[h // 3 : h * 2 // 3, w // 3 : w * 2 // 3])
    assert cv2.matchTemplate(grey, piece, cv2.TM_CCOEFF_NORMED).max() > 0.9


def test_frames_that_do_not_overlap_are_refused(swept: list[FramePart]) -> None:
    noise = np.random.default_rng(1).integers(0, 255, swept[0].seen.shape).astype(np.uint8)
    with pytest.raises(MergeError, match=r"overlap|placed"):
        stitched([swept[0], FramePart(swept[0].pixels, noise, swept[0].facts)], "cylinder", quiet)
    with pytest.raises(MergeError, match="at least two"):
        one_kind([swept[0].facts])
    with pytest.raises(MergeError, match="different cameras"):
        one_kind([swept[0].facts, swept[0].facts.model_copy(update={"model": "Alder Two"})])


def test_the_result_is_a_linear_dng_that_others_read(swept: list[FramePart], tmp_path: Path) -> None:
    """Through LibRaw: numbers to a 16-bit step, colour data, and marks that the lens is undone already."""
    path = tmp_path / "wide.dng"
    part = swept[1]
    path.write_bytes(as_dng(part.pixels, part.facts))
    source = read(path)
    assert source.facts.kind == "camera" and source.size == part.pixels.shape[1::-1]
    assert np.abs(np.moveaxis(source.data, 0, -1) - np.clip(part.pixels, 0, 1)).max() < 1e-5
    assert set(source.facts.applied) == {"distortion", "lateral_colour", "fall_off"}
    assert source.facts.neutral == pytest.approx(part.facts.neutral, abs=1e-5)
    assert np.allclose(source.facts.colour_matrices, part.facts.colour_matrices, atol=1e-5)
    assert source.facts.taken == part.facts.taken and source.lens is None


def blurred(part: FramePart, near: bool) -> FramePart:
    """Sharp at the left or at the right, blurred more and more on the other side; scaled a little as lenses do."""
    h, w = part.pixels.shape[:2]
    soft = cv2.GaussianBlur(part.pixels, (0, 0), 6)
    share = np.clip(np.linspace(-1, 2, w) if near else np.linspace(2, -1, w), 0, 1)[None, :, None].astype(np.float32)
    pixels = part.pixels * (1 - share) + soft * share
    if near:
        m = np.array([[1.004, 0, -0.002 * w], [0, 1.004, -0.002 * h]])
        pixels = cv2.warpAffine(pixels, m, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    grey = np.sqrt(np.clip(pixels.mean(axis=-1), 0, 1))
    return FramePart(np.ascontiguousarray(pixels), (grey / grey.max() * 255).astype(np.uint8), part.facts)


def test_what_is_sharp_in_any_frame_is_sharp_in_the_result(swept: list[FramePart]) -> None:
    part = swept[1]
    near, far = blurred(part, True), blurred(part, False)
    merged = merged_focus([near, far], quiet)
    inner = np.s_[20:-20, 20:-20]

    def off(picture: np.ndarray) -> float:
        return float(
            np.sqrt(np.mean((np.sqrt(np.maximum(picture, 0)) - np.sqrt(np.maximum(part.pixels, 0)))[inner] ** 2))
        )

    assert off(merged) < 0.5 * min(off(near.pixels), off(far.pixels))
    # No shift of level.
    assert merged.mean() == pytest.approx(part.pixels.mean(), rel=0.02)
    other = FramePart(part.pixels, np.roll(part.seen[::-1], 200, axis=1).copy(), part.facts)
    with pytest.raises(MergeError, match="same setup"):
        merged_focus([other, part], quiet)

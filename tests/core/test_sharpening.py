"""Sharpening and enlarging: crisper edges, bounded overshoot, nothing done twice."""

import cv2
import numpy as np
import pytest

from tanner.core.adjust.registry import develop
from tanner.core.noise.sharpen import Detail, capture, for_output
from tanner.core.output.enlarge import enlarged, prepared
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.stages.sharpening import OVERSHOOT


def edge(size: int = 160, sigma: float = 1.0) -> Source:
    """A slanted edge of a finished picture, as soft as a lens makes it."""
    y, x = np.mgrid[0 : size * 4, 0 : size * 4] / 4
    step = np.where(x - size / 2 + (y - size / 2) * 0.09 > 0, 0.5, 0.12).astype(np.float32)
    soft = cv2.resize(cv2.GaussianBlur(step, (0, 0), 4 * sigma), (size, size), interpolation=cv2.INTER_AREA)
    facts = FrameFacts(path="", kind="finished", width=size, height=size)
    return Source(facts, np.ascontiguousarray(np.stack([soft] * 3)))


def mtf50(picture: np.ndarray) -> float:
    """Frequency (cycles a px) at which contrast is half, of the slanted edge (after ISO 12233's method)."""
    level = (picture.astype(np.float64) / 255) ** 2.2 if picture.dtype == np.uint8 else picture
    grey = level.mean(axis=2)[20:-20, 20:-20]
    h, w = grey.shape
    y, x = np.mgrid[0:h, 0:w]
    across = x - w / 2 + (y - h / 2) * 0.09
    bins = np.round(across / np.hypot(1, 0.09) * 4).astype(int)
    middle = np.abs(bins) < 60
    line = np.array([grey[bins == b].mean() for b in range(-60, 61)])
    assert middle.any()
    spread = np.diff(line) * np.hanning(120)
    mtf = np.abs(np.fft.rfft(spread, 1024))
    mtf /= mtf[0]
    return float(np.argmax(mtf < 0.5) / 1024 * 4)


def test_capture_sharpening_raises_mtf_and_keeps_overshoot() -> None:
    source = edge()
    plain, sharp = (
        render(source, develop({"detail.amount": a, "detail.radius": 1.0}), (160, 160)) for a in (0.0, 150.0)
    )
    assert mtf50(sharp) > 1.2 * mtf50(plain)
    # Beyond the range of the plain picture by no more than the stated share of its contrast.
    span = float(np.ptp(plain))
    assert plain.min() - sharp.min() <= OVERSHOOT * span + 1.5 and sharp.max() - plain.max() <= OVERSHOOT * span + 1.5


def test_even_areas_are_spared() -> None:
    rng = np.random.default_rng(0)
    source = edge()
    source.data[:] += rng.normal(0, 0.004, source.data.shape).astype(np.float32)
    here = {"detail.amount": 150.0, "detail.threshold": 0.0}
    plain, all_over, spared = (
        render(source, develop(s), (160, 160)).astype(float) for s in ({}, here, {**here, "detail.mask": 100.0})
    )
    flat = np.s_[20:140, 10:50]
    assert all_over[flat].std() > 1.05 * plain[flat].std() and spared[flat].std() < 1.02 * plain[flat].std()
    assert mtf50(spared.astype(np.uint8)) > 1.05 * mtf50(plain.astype(np.uint8))
    shown = render(source, develop({**here, "detail.mask": 100.0}), (160, 160), show_sharpening=True)
    assert shown[70:90, 76:84].mean() > 110 and shown[flat].mean() < 60
    assert render(source, develop({}), (160, 160), show_sharpening=True).max() == 0


def test_corners_get_more() -> None:
    source = Source(edge().facts, np.tile(np.where(np.arange(160) // 4 % 2, 0.3, 0.5).astype(np.float32), (3, 160, 1)))
    source = Source(source.facts, np.stack([cv2.GaussianBlur(p, (0, 0), 1.0) for p in source.data]))
    plain, sharp = (render(source, develop({"detail.corners": c}), (160, 160)).astype(float) for c in (0.0, 200.0))
    change = np.abs(sharp - plain).mean(axis=2)
    corner, middle = change[4:20, 4:20].mean(), change[72:88, 72:88].mean()
    assert corner > 1.5 and middle < 0.15 * corner


def test_capture_sharpening_shrinks_with_the_picture() -> None:
    detail = Detail(amount=100, radius=0.8)
    whole, half, small = (capture(detail, s) for s in (1.0, 2.0, 8.0))
    assert whole and half and small
    assert whole.amount == half.amount == 1.0 and small.amount < 0.15
    assert len(half.half) <= len(whole.half)
    assert capture(Detail(), 1.0) is None


def test_output_sharpening_follows_the_medium() -> None:
    assert for_output("none", 1, (3000, 2000), 300) is None and for_output("screen", 0, (3000, 2000), 300) is None
    matte, glossy = (for_output(d, 1, (3000, 2000), 300) for d in ("matte", "glossy"))
    assert matte and glossy and matte.amount > glossy.amount and len(matte.half) >= len(glossy.half)
    large = for_output("glossy", 1, (9000, 6000), 300)
    assert large and len(large.half) > len(glossy.half)


@pytest.mark.parametrize("times", [2, 2.7, 6])
def test_enlarging_along_edges_is_closer_to_the_scene_than_plain_resampling(times: float) -> None:
    """A picture made small as a sensor does it, by the mean over its pixels, and enlarged again."""
    side = round(96 * times)
    y, x = np.mgrid[0:side, 0:side] / side
    scene = 0.3 + 0.25 * np.tanh(30 * np.sin(9 * (x + 0.3 * y))) + 0.1 * (np.hypot(x - 0.5, y - 0.5) < 0.3)
    scene = cv2.GaussianBlur(
        np.stack([scene, scene * 0.8, scene * 0.6], axis=-1).astype(np.float32), (0, 0), 0.25 * times
    )
    small = cv2.resize(scene, (96, 96), interpolation=cv2.INTER_AREA)
    numbers = np.rint(small * 65535).astype(np.uint16)
    strips = list(enlarged(numbers, (side, side), strip=32))
    found = np.concatenate(strips) / 65535
    assert found.shape == scene.shape and all(len(s) == 32 for s in strips[:-1])
    plain = cv2.resize(small, (side, side), interpolation=cv2.INTER_LANCZOS4)
    inner = np.s_[12:-12, 12:-12]
    assert np.mean((found - scene)[inner] ** 2) < 0.9 * np.mean((plain - scene)[inner] ** 2)


def test_the_enlarged_picture_made_small_is_the_picture() -> None:
    rng = np.random.default_rng(2)
    picture = cv2.GaussianBlur(rng.uniform(0, 1, (80, 120, 3)).astype(np.float32), (0, 0), 1.0)
    large = cv2.resize(prepared(picture), None, fx=2, fy=2, interpolation=cv2.INTER_LANCZOS4)
    back = cv2.resize(large, (120, 80), interpolation=cv2.INTER_AREA)
    assert np.abs(back - picture).max() < 0.01


def test_bands_and_columns_leave_no_seams(monkeypatch: pytest.MonkeyPatch) -> None:
    from tanner.core.output import enlarge

    picture = np.random.default_rng(4).integers(0, 65535, (70, 90, 3)).astype(np.uint16)
    picture = cv2.GaussianBlur(picture, (0, 0), 1.5)
    medium = for_output("matte", 1, (270, 210), 300)
    whole = np.concatenate(list(enlarged(picture, (270, 210), medium=medium)))
    monkeypatch.setattr(enlarge, "BAND", 50)
    monkeypatch.setattr(enlarge, "WIDE", 64)
    monkeypatch.setattr(enlarge, "BLOCK", 16)
    parts = np.concatenate(list(enlarged(picture, (270, 210), medium=medium)))
    assert np.abs(whole.astype(int) - parts).max() <= 2


@pytest.mark.parametrize("method", ["quick", "fine", "learned"])
def test_methods_against_noise_keep_the_edges_of_low_iso(method: str) -> None:
    """MTF50 of the slanted edge at least 97 % of before, at the noise of ISO 100."""
    from test_noise import balanced, frame

    from tanner.core.noise.methods import cleaned

    picture = np.moveaxis(edge(200, 0.6).data, 0, -1)
    source = frame(picture, electrons=40_000.0)
    before, after = (mtf50(np.moveaxis(balanced(s), 0, -1)) for s in (source, cleaned(source, method)))
    assert 0.2 < before < 0.5 and after >= 0.97 * before

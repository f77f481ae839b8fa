"""One order, two ways to run it: the same picture by strips, by regions, from kept planes and reduced."""

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np
import pytest

from tanner.core.adjust.registry import defaults, develop
from tanner.core.optics.resample import averaged
from tanner.core.raw import blocks
from tanner.core.raw.blocks import AVERAGES
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import (
    full_size,
    guide,
    linear,
    linear_of,
    make_plan,
    outside,
    render,
    render_strips,
    strips,
    views,
)
from tanner.core.stages import tone

FULL = {
    **defaults(raw=True, lens=True),
    "light.exposure": 0.3,
    "light.shadows": 30.0,
    "light.local_contrast": 25.0,
    "colour.vibrance": 20.0,
    "detail.amount": 80.0,
}


def difference(a: np.ndarray, b: np.ndarray) -> int:
    assert a.shape == b.shape
    return int(np.abs(a.astype(int) - b.astype(int)).max())


@pytest.mark.parametrize("size", [(600, 400), (431, 287), (300, 200), (150, 100), (90, 60), (900, 600)])
def test_strips_regions_and_kept_planes_agree(source: Source, size: tuple[int, int]) -> None:
    development = develop(FULL)
    whole = render(source, development, size)
    strips = np.concatenate(list(render_strips(make_plan(source, development, size))))
    kept = render(source, development, size, keep=True)
    w, h = size
    box = (w // 5, h // 4, w - w // 7, h - h // 6)
    region = render(source, development, size, region=box)
    assert difference(whole, strips) == 0
    assert difference(whole, kept) <= 1
    assert difference(whole[box[1] : box[3], box[0] : box[2]], region) <= 1


def test_threads_change_nothing(source: Source) -> None:
    development = develop(FULL)
    with ThreadPoolExecutor(3) as pool:
        assert (
            difference(render(source, development, (600, 400)), render(source, development, (600, 400), pool=pool)) == 0
        )


def test_another_strip_height_gives_the_same_picture(source: Source, monkeypatch: pytest.MonkeyPatch) -> None:
    development = develop(FULL)
    before = render(source, development, (600, 400))
    monkeypatch.setattr(strips, "STRIP", 48)
    assert difference(before, render(source, development, (600, 400))) <= 1


@pytest.mark.parametrize("share", [2, 3, 4])
def test_a_proxy_is_the_full_size_reduced(source: Source, share: int) -> None:
    """Without sharpening, which works at the size that is written, by design."""
    wanted = {k: v for k, v in FULL.items() if not k.startswith("detail")}
    development = develop(wanted)
    w, h = full_size(source, development)
    full = render(source, development, (w, h)).astype(np.float32)
    small = render(source, development, (w // share, h // share)).astype(np.float32)
    reduced = cv2.resize(
        full[: h // share * share, : w // share * share], (w // share, h // share), interpolation=cv2.INTER_AREA
    )
    inner = np.abs(small - reduced)[4:-4, 4:-4]
    assert inner.mean() < 1.5
    assert np.percentile(inner, 99) < 12


def test_sixteen_bits_agree_with_eight(source: Source) -> None:
    development = develop(FULL)
    eight = render(source, development, (300, 200))
    sixteen = render(source, development, (300, 200), bits=16)
    assert sixteen.dtype == np.uint16
    assert np.abs(sixteen / 257.0 - eight).max() < 0.75


def oriented(lamp: Path, orientation: int) -> Source:
    source = read(lamp)
    return Source(source.facts.model_copy(update={"orientation": orientation}), source.data)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_orientation_is_honoured(lamp: Path, orientation: int) -> None:
    """Against the transforms of the EXIF standard, tag 0x0112 (source: exif30)."""
    plain = render(oriented(lamp, 1), develop({}), (300, 200))
    turned = {
        1: plain,
        2: plain[:, ::-1],
        3: plain[::-1, ::-1],
        4: plain[::-1],
        5: plain.transpose(1, 0, 2),
        6: np.rot90(plain, -1),
        7: plain[::-1, ::-1].transpose(1, 0, 2),
        8: np.rot90(plain, 1),
    }[orientation]
    source = oriented(lamp, orientation)
    size = (300, 200) if orientation < 5 else (200, 300)
    assert full_size(source, develop({})) == ((600, 400) if orientation < 5 else (400, 600))
    assert np.abs(render(source, develop({}), size).astype(int) - turned.astype(int)).mean() < 0.6


@pytest.mark.parametrize("angle", [-45, -20, -3.3, 0.4, 12, 45])
@pytest.mark.parametrize("crop", [{}, {"crop.left": 0.6, "crop.bottom": 0.5}])
def test_straightening_leaves_no_empty_corner(source: Source, angle: float, crop: dict[str, float]) -> None:
    """The kept rectangle's corners lie inside the frame."""
    from tanner.core.optics.crop import Crop, kept

    model = develop({"crop.straighten": angle, **crop}).group(Crop)
    cx, cy, w, h = kept(model, 600, 400)
    a = np.radians(angle)
    for i, j in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        x, y = cx + i * w / 2, cy + j * h / 2
        ux, uy = np.cos(a) * x + np.sin(a) * y, np.cos(a) * y - np.sin(a) * x
        assert abs(ux) <= 300.01 and abs(uy) <= 200.01
    assert w > 10 and h > 10


def test_a_crop_can_be_taken_back(source: Source) -> None:
    before = render(source, develop({}), (300, 200))
    render(source, develop({"crop.left": 0.4, "crop.straighten": 8.0}), (180, 160))
    assert difference(before, render(source, develop({}), (300, 200))) == 0


def test_exposure_is_one_stop_per_ev(source: Source) -> None:
    """With no curve, a stop doubles linear values (source: iec61966-2-1 for the decoding)."""
    from tanner.core.colour.spaces import SPACES

    size = (300, 200)
    dark = SPACES["srgb"].decode(render(source, develop({"light.exposure": -2.0}), size, bits=16) / 65535.0)
    light = SPACES["srgb"].decode(render(source, develop({"light.exposure": -1.0}), size, bits=16) / 65535.0)
    inner = (light > 0.02) & (light < 0.6)
    assert inner.sum() > 10000
    assert np.abs(light[inner] / dark[inner] - 2).max() < 0.02


def test_caches_stay_bounded(source: Source) -> None:
    for n in range(12):
        render(source, develop({"crop.left": 0.01 * n, "light.shadows": 10.0}), (200 + n, 150), keep=True)
    slots = [guide.GUIDES, linear.BINNED, outside.BACKDROPS, strips.PLANES, views.GEOMETRIES, views.VIEWS, tone.TABLES]
    held = [len(source.memory.keys(slot)) for slot in slots]
    assert max(held) <= 4 and sum(held) >= 6


def test_cancelling_stops_a_render(source: Source) -> None:
    plan = make_plan(source, develop(FULL), (600, 400))
    with pytest.raises(strips.Cancelled):
        strips._strip(plan, 0, 128, 0, 600, stop=lambda: True)


@pytest.mark.parametrize(("smaller", "fine"), [(270, False), (200, False), (250, True), (80, True)])
def test_several_sizes_in_one_pass_are_what_each_would_be_alone(lamp: Path, smaller: int, fine: bool) -> None:
    """Blocks that a full-size picture leaves for smaller ones: the same to the bit, and nothing is demosaiced twice."""
    development = develop({"optics.distortion": 100.0, "crop.straighten": 1.0, "light.shadows": 30.0})
    sizes = [full_size(read(lamp), development), (smaller, round(smaller * 2 / 3))]

    def made(source: Source, size: tuple[int, int]) -> np.ndarray:
        return np.concatenate(list(render_strips(make_plan(source, development, size, fine=fine))))

    alone = [made(read(lamp), s) for s in sizes]
    together = read(lamp)
    together.wanted = frozenset({2, 3})
    for size, expected in zip(sizes, alone, strict=True):
        assert np.array_equal(made(together, size), expected)
    boxes = list(together.memory.all(AVERAGES))
    assert any(b.there.mean() > 0.6 for b in boxes)


def test_what_lies_beyond_the_sensor_is_never_read_from_blocks_that_are_not_there(lamp: Path) -> None:
    """A crop beyond the picture looks far outside; blocks that nobody filled hold whatever was in memory."""
    development = develop({"crop.left": -0.3, "crop.outside": "empty"})
    source = read(lamp)
    boxes = blocks.of(source, 2)
    assert boxes is not None
    boxes.planes[:] = np.nan
    width, height = full_size(source, development)
    planes = linear.render_planes(linear_of(source, development, (width // 2, height // 2)))
    assert boxes.there.any() and np.isfinite(planes).all()


def test_what_is_no_number_becomes_black_and_ends_nothing(lamp: Path) -> None:
    """Tables are looked up by px values: one that is no number must not be a place in them."""
    source = read(lamp)
    development = develop({"light.shadows": 30.0, "colour.vibrance": 10.0, "detail.amount": 60.0})
    plan = make_plan(source, development, (300, 200))
    planes = np.full((3, 40, 64), 0.2, np.float32)
    planes[0, 10, 5], planes[1, 11, 6], planes[2, 12, 7] = np.nan, np.inf, -np.inf
    planes[:, 20, 20], planes[:, 30, 30] = np.nan, 1e30
    m = plan.margin
    out = np.empty((40 - 2 * m, 64 - 2 * m, 3), np.uint8)
    strips.finish(plan, planes, 0, 0, out)
    assert np.isfinite(planes).all()
    assert out[20 - m, 20 - m].max() == 0 and out[5, 40].min() > 50


def test_a_smaller_plane_is_the_mean_of_what_each_px_covers() -> None:
    """Against OpenCV's INTER_AREA, at ratios that are whole and that are not, and the same size."""
    rng = np.random.default_rng(3)
    planes = rng.random((2, 41, 67)).astype(np.float32)
    for size in ((67, 41), (66, 40), (46, 28), (33, 20), (20, 13), (9, 41), (1, 1)):
        wanted = [cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in planes]
        assert np.abs(averaged(planes, size) - np.stack(wanted).reshape(2, size[1], size[0])).max() < 1e-5
    with pytest.raises(ValueError, match="smaller"):
        averaged(planes, (68, 41))

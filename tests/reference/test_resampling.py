"""The one resampling against direct float64 references: aliasing, sharpness, and against a chain of single steps."""

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tanner.core.adjust.registry import develop
from tanner.core.optics.lens import OpcodeLens
from tanner.core.optics.perspective import rotation
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import read
from tanner.core.raw.source import LENSES, Source
from tanner.core.render import full_size, linear_of, render_planes

Array = np.ndarray


def source_of(planes: Array, lens: OpcodeLens | None = None, focal: float = 35.0) -> Source:
    """Linear camera RGB, so that nothing but the resampling lies between it and the result."""
    h, w = planes.shape[1:]
    facts = FrameFacts(path="x", kind="camera", width=w, height=h, focal_length_35mm=focal, focal_length_mm=focal)
    source = Source(facts, np.ascontiguousarray(planes, np.float32))
    source.memory.put(LENSES, "", (lens, ""))
    return source


def resampled(source: Source, size: tuple[int, int], **values: object) -> Array:
    return render_planes(linear_of(source, develop({k.replace("__", "."): v for k, v in values.items()}), size))


def zone_plate(n: int, most: float) -> Array:
    """Circles of ever finer lines, up to `most` cycles a px at the edge's middle."""
    y, x = np.mgrid[0:n, 0:n] + 0.5 - n / 2
    return 0.5 + 0.4 * np.cos(np.pi * most / (n / 2) * (x * x + y * y))


@pytest.mark.parametrize(("scale", "allowed"), [(1.7, 0.16), (2.0, 0.19), (3.0, 0.15), (4.3, 0.12)])
def test_a_zone_plate_that_is_reduced_holds_no_false_circles(scale: float, allowed: float) -> None:
    """What is finer than the output can show must turn grey: its contrast that is left is the aliasing.

    The stated levels are those of the mean over blocks that comes before the interpolation (docs/optics.md).
    """
    n = 960
    plate = zone_plate(n, 0.5)
    size = round(n / scale), round(n / scale)
    out = resampled(source_of(np.stack([plate] * 3)), size)[1]
    y, x = np.mgrid[0 : size[1], 0 : size[0]] + 0.5 - size[0] / 2
    r = np.hypot(x, y) * scale / (n / 2)
    # Frequencies from 1.35 times the output's limit on, where nothing true is left.
    beyond = (r > 1.35 / scale) & (r < 0.98) & (np.abs(x) < size[0] / 2 - 6) & (np.abs(y) < size[1] / 2 - 6)
    assert np.abs(out[beyond] - 0.5).std() / (0.4 / np.sqrt(2)) < allowed


def mtf50(edge: Array) -> float:
    """Cycles a px at half of the contrast, of a slightly slanted dark-to-light edge (source: iso12233, e-SFR)."""
    h, w = edge.shape
    middles = []
    for row in edge:
        d = np.abs(np.diff(row))
        middles.append((d * (np.arange(w - 1) + 1.0)).sum() / d.sum())
    slope, start = np.polyfit(np.arange(h), middles, 1)
    x = np.arange(w)[None] + 0.5 - (start + slope * np.arange(h)[:, None])
    bins = np.floor(x * 4).astype(int)
    low = bins.min()
    spread = np.bincount((bins - low).ravel(), edge.ravel()) / np.maximum(np.bincount((bins - low).ravel()), 1)
    middle = -low
    line = np.diff(spread[middle - 60 : middle + 60]) * np.hamming(119)
    spectrum = np.abs(np.fft.rfft(line, 4096))
    spectrum /= spectrum[0]
    f = np.fft.rfftfreq(4096, 0.25)
    # The bins' own width, and the differences', are taken out.
    spectrum /= np.maximum(np.sinc(f * 0.25) * np.sinc(f * 0.25), 0.3)
    return float(f[np.argmax(spectrum < 0.5)])


def slanted(h: int, w: int, shift: float = 0.0) -> Array:
    """An edge at 5 degrees, sampled as square px would: its MTF50 is about 0.45 cycles a px before a lens's blur."""
    from math import erf

    y, x = np.mgrid[0:h, 0:w] + 0.5
    off = (x - w / 2 - shift) + np.tan(np.radians(5)) * (y - h / 2)
    return 0.2 + 0.6 * (0.5 + 0.5 * np.vectorize(erf)(off / 0.85))


def test_sharpness_is_kept_by_a_shift_of_half_a_pixel() -> None:
    """A crop that moves everything by half a px, the worst for an interpolation: at most 5 % of MTF50 are lost."""
    h, w = 160, 160
    source = source_of(np.stack([slanted(h, w)] * 3))
    before = mtf50(slanted(h, w)[20:-20, 20:-20])
    moved = resampled(source, (w - 1, h), crop__left=0.5 / w, crop__right=1 - 0.5 / w)[1]
    direct = slanted(h, w - 1, 0.0)
    assert np.abs(moved - direct)[20:-20, 20:-20].max() < 0.03
    after = mtf50(moved[20:-20, 20:-20].astype(np.float64))
    assert 0.25 < before < 0.5
    assert after > 0.95 * before


def test_one_resampling_equals_the_chain_of_single_steps() -> None:
    """Lens, perspective, straightening, crop and scale: places followed step by step in float64, within 0.5/255."""
    w, h = 640, 420
    lens = OpcodeLens(np.array([[1.0, -0.04, 0.01, 0, 0, 0]]), None, (w, h))

    def scene(x: Array, y: Array) -> Array:
        return 0.45 + 0.2 * np.sin(x / 23.0) * np.cos(y / 31.0) + 0.1 * np.sin((x + 2 * y) / 57.0)

    y, x = np.mgrid[0:h, 0:w] + 0.5
    source = source_of(np.stack([scene(x, y)] * 3), lens, focal=35.0)
    values = {"optics__distortion": 100.0, "perspective__vertical": 6.0, "perspective__horizontal": -3.0,
              "crop__straighten": 4.0, "crop__left": 0.15, "crop__right": 0.85, "crop__top": 0.2, "crop__bottom": 0.8}  # fmt: skip
    from tanner.core.optics.crop import Crop, kept
    from tanner.core.render import view_of

    development = develop({k.replace("__", "."): v for k, v in values.items()})
    crop = development.group(Crop)
    cx, cy, kw, kh = kept(crop, w, h)
    size = round(kw * 0.9), round(kh * 0.9)
    out = resampled(source, size, **values)[1]
    fx, fy, scale = view_of(source, development)[0].frame
    focal = 35 / 43.2666 * np.hypot(w, h)
    oy, ox = np.mgrid[0 : size[1], 0 : size[0]] + 0.5
    # crop and scale
    gx, gy = cx + (ox / size[0] - 0.5) * kw, cy + (oy / size[1] - 0.5) * kh
    # straighten
    a = np.radians(4.0)
    px = fx + scale * (np.cos(a) * gx + np.sin(a) * gy)
    py = fy + scale * (np.cos(a) * gy - np.sin(a) * gx)
    # perspective
    at = np.tensordot(rotation(6.0, -3.0), np.stack([px / focal, py / focal, np.ones_like(px)]), axes=1)
    ux, uy = at[0] / at[2] * focal + w / 2, at[1] / at[2] * focal + h / 2
    # lens, by the specification's formula
    far = np.hypot(w / 2, h / 2)
    dx, dy = (ux - w / 2) / far, (uy - h / 2) / far
    r2 = dx * dx + dy * dy
    f = 1 - 0.04 * r2 + 0.01 * r2 * r2
    wanted = scene(w / 2 + far * f * dx, h / 2 + far * f * dy)
    assert np.abs(out - wanted).max() < 0.5 / 255


def test_enlarging_and_turning_leave_the_level() -> None:
    flat = source_of(np.full((3, 200, 300), 0.37))
    for values in ({"crop__straighten": 13.0}, {"perspective__vertical": 15.0}, {"crop__left": 0.6}):
        out = resampled(flat, (333, 207), **values)
        assert np.abs(out - 0.37).max() < 1e-4


@pytest.mark.parametrize(
    ("scale", "least"), [(1.5, 50), (2.0, 50), (2.93, 50), (3.3, 50), (4.4, 50), (7.5, 50), (12.0, 50), (24.0, 50)]
)
def test_reduced_pictures_against_pillows_lanczos_in_linear_light(lamp: Path, scale: float, least: float) -> None:
    """Planes of the sensor's linear light against Pillow's antialiased Lanczos of the full-size planes in float.

    As files are reduced. How far apart two good filters are is told by Pillow's own: its Lanczos and its mean over areas
    differ by 50 to 53 dB here.
    """
    development = develop({})
    width, height = full_size(read(lamp), development)
    full = render_planes(linear_of(read(lamp), development, (width, height)))
    size = round(width / scale), round(height / scale)
    got = render_planes(linear_of(read(lamp), development, size, fine=True)).astype(np.float64)
    expected = np.stack([np.asarray(Image.fromarray(p).resize(size, Image.Resampling.LANCZOS)) for p in full])
    assert 10 * np.log10(1 / np.mean((got - expected) ** 2)) >= least

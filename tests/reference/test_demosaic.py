"""Demosaicing and the neutral path against LibRaw on the same file, and against the known truth.

Pictures: those that ship with scikit-image (public domain or CC0, see its data module).
"""

import warnings
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import rawpy

from tanner.core.adjust.registry import develop
from tanner.core.colour.spaces import SPACES, xy_to_xyz
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render

NEUTRAL = np.array([0.5, 1.0, 0.6])
WHITE, BLACK = 16383, 512
# XYZ to camera of a made-up camera that sees exactly the working primaries of sRGB, unbalanced.
MATRIX = np.diag(NEUTRAL) @ np.linalg.inv(
    np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]])
)


def picture(name: str) -> np.ndarray:
    """Linear RGB, (H, W, 3), even sizes."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from skimage import data

    rgb = getattr(data, name)()[..., :3]
    h, w = rgb.shape[0] // 2 * 2, rgb.shape[1] // 2 * 2
    return SPACES["srgb"].decode(rgb[:h, :w] / 255.0) * 0.8 + 0.004


def raw_file(linear: np.ndarray, path: Path) -> Path:
    """A noise-free Bayer file of a picture, seen by the made-up camera in D65 light."""
    mosaic = np.empty(linear.shape[:2])
    camera = linear * NEUTRAL
    mosaic[0::2, 0::2], mosaic[1::2, 1::2] = camera[0::2, 0::2, 0], camera[1::2, 1::2, 2]
    mosaic[0::2, 1::2], mosaic[1::2, 0::2] = camera[0::2, 1::2, 1], camera[1::2, 0::2, 1]
    numbers = np.rint(mosaic * (WHITE - BLACK) + BLACK).astype(np.uint16)
    neutral = MATRIX @ xy_to_xyz((0.3127, 0.3290))
    neutral = neutral / neutral.max()
    tags = DngTags(
        make="Maker",
        model="Model",
        black=BLACK,
        white=WHITE,
        pattern=(0, 1, 1, 2),
        neutral=(float(neutral[0]), float(neutral[1]), float(neutral[2])),
        matrices=(MATRIX,),
        illuminants=(21,),
        taken=datetime(2026, 3, 12),
    )
    path.write_bytes(write_bayer_dng(numbers, tags, compress=False))
    return path


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    """Of gamma-coded values, without a border of 8 px, in dB."""
    x, y = SPACES["srgb"].encode(a)[8:-8, 8:-8], SPACES["srgb"].encode(b)[8:-8, 8:-8]
    return float(-10 * np.log10(((x - y) ** 2).mean()))


def developed(source: Source) -> np.ndarray:
    w, h = source.size
    pixels = render(source, develop({}), (w, h), bits=16)
    return SPACES["srgb"].decode(pixels / 65535.0)


def libraw(path: Path, method: "rawpy.DemosaicAlgorithm") -> np.ndarray:
    with rawpy.imread(str(path)) as raw:
        rgb = raw.postprocess(
            demosaic_algorithm=method,
            use_camera_wb=True,
            gamma=(1, 1),
            no_auto_bright=True,
            output_bps=16,
            output_color=rawpy.ColorSpace.sRGB,
            adjust_maximum_thr=0.0,
        )
    return rgb / 65535.0


@pytest.mark.parametrize("name", ["astronaut", "coffee", "chelsea"])
def test_not_below_ahd(name: str, tmp_path: Path) -> None:
    truth = picture(name)
    path = raw_file(truth, tmp_path / "x.dng")
    ahd = libraw(path, rawpy.DemosaicAlgorithm.AHD)
    ahd = ahd * (truth.mean() / ahd.mean())
    found = developed(read(path))
    assert found.shape == truth.shape
    assert psnr(found, truth) >= psnr(ahd, truth)
    assert psnr(found, truth) > 33


@pytest.mark.parametrize("name", ["astronaut", "coffee"])
def test_the_neutral_path_agrees_with_libraw(name: str, tmp_path: Path) -> None:
    """White balance, matrix and scale, in linear light: the median block of 16 x 16 px within 0.1 % of LibRaw's,
    nine of ten within 2 %. The rest are edges, where the two interpolations differ (each of them differs
    from the truth by as much there).
    """
    path = raw_file(picture(name), tmp_path / "x.dng")
    a, b = developed(read(path)), libraw(path, rawpy.DemosaicAlgorithm.AHD)
    h, w = a.shape[0] // 16 * 16, a.shape[1] // 16 * 16

    def blocks(x: np.ndarray) -> np.ndarray:
        return x[:h, :w].reshape(h // 16, 16, w // 16, 16, 3).mean(axis=(1, 3))

    x, y = blocks(a), blocks(b)
    lit = (y > 0.05) & (y < 0.7)
    ratio = x[lit] / y[lit]
    assert abs(np.median(ratio) - 1) < 0.001
    assert np.percentile(np.abs(ratio - 1), 90) < 0.02


@pytest.mark.parametrize("pattern", [(0, 1, 1, 2), (1, 0, 2, 1), (1, 2, 0, 1), (2, 1, 1, 0)])
def test_every_bayer_order(pattern: tuple[int, int, int, int], tmp_path: Path) -> None:
    """A field of one colour keeps it, whatever the order of the filters."""
    colour = np.array([0.2, 0.5, 0.1])
    mosaic = np.array(colour)[np.tile(np.array(pattern).reshape(2, 2), (80, 100))]
    tags = DngTags(
        make="Maker", model="Model", black=BLACK, white=WHITE, pattern=pattern, neutral=(0.5, 1.0, 0.6), matrices=(MATRIX,), illuminants=(21,)
    )  # fmt: skip
    path = tmp_path / "x.dng"
    path.write_bytes(write_bayer_dng(np.rint(mosaic * (WHITE - BLACK) + BLACK).astype(np.uint16), tags, compress=False))
    source = read(path)
    from tanner.core.render import camera_numbers

    found = camera_numbers(source, develop({}), 0.5, 0.5, 0.02)
    assert found == pytest.approx(colour, abs=0.002)


def test_the_mean_over_eight_pictures() -> None:
    """Both ways along a direction, half and half: 37.3 dB by the ratio alone, 37.1 dB by menon2007 (docs/colour.md)."""
    from bench.demosaic import mosaic_of, ours, psnr
    from bench.noise import pictures

    found = [psnr(ours(mosaic_of(linear)), linear) for _, linear in pictures(False)]
    assert len(found) == 8 and np.mean(found) > 37.9

"""Histogram, clipping marks and values at a place, on pictures whose numbers are known."""

import numpy as np
import pytest

from tanner.core.measure import histogram, mark_clipping, values_at


def test_counts_and_clipping() -> None:
    pixels = np.full((100, 100, 3), 128, np.uint8)
    pixels[:25, :, 0] = 255
    pixels[75:, :, 2] = 0
    found = histogram(pixels, step=1)
    assert found["high"] == [25.0, 0.0, 0.0] and found["low"] == [0.0, 0.0, 25.0]
    assert found["bins"][1][128] == 10000 and sum(found["bins"][3]) == 10000
    # Grey has the luminance of its own value.
    assert found["bins"][3][128] == 5000


def test_luminance_of_green_is_its_share_of_white() -> None:
    """sRGB green has 71.5 % of white's luminance (source: iec61966-2-1): 0.7152 encodes to 219.9."""
    pixels = np.zeros((10, 10, 3), np.uint8)
    pixels[..., 1] = 255
    bins = np.array(histogram(pixels, step=1)["bins"][3])
    assert abs(int(bins.argmax()) - 220) <= 1


def test_marks_change_only_what_is_clipped() -> None:
    pixels = np.full((40, 40, 3), 90, np.uint8)
    pixels[10:20, 10:20, 1] = 255
    pixels[25:35, 25:35, 0] = 0
    marked = mark_clipping(pixels)
    changed = (marked != pixels).any(axis=2)
    inside = np.zeros((40, 40), bool)
    inside[10:20, 10:20] = True
    inside[25:35, 25:35] = True
    assert not changed[~inside].any()
    assert 20 <= changed[10:20, 10:20].sum() <= 80 and 20 <= changed[25:35, 25:35].sum() <= 80
    assert (pixels[10:20, 10:20, 1] == 255).all()


def test_values_at_a_place() -> None:
    pixels = np.full((20, 20, 3), 119, np.uint8)
    found = values_at(pixels, 10, 10)
    assert found is not None and found["rgb"] == [119, 119, 119]
    # 119 is L* 50.0 of mid-grey, neutral in a* and b*.
    assert found["lab"] == pytest.approx([50.0, 0.0, 0.0], abs=0.1)
    assert values_at(pixels, 20, 5) is None and values_at(pixels, -1, 5) is None

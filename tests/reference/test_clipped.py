"""Clipped places against the truth and against LibRaw's ways, on pictures that ship with scikit-image.

Each picture is taken one and two stops too bright by a noise-free camera, and brought back: what is clipped in one, two or
three channels is compared with what was there. The table is in docs/colour.md, made by `python -m bench.highlights`.
"""

from pathlib import Path

import numpy as np
import pytest
from bench.highlights import MATRIX, NAMES, NEUTRAL, WAYS, scores

from tanner.core.adjust.registry import develop
from tanner.core.colour.spaces import SPACES
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import make_plan, render

BLACK, WHITE = 512, 16383


@pytest.fixture
def field(tmp_path: Path):
    """A frame of patches of one camera colour each, in shares of the sensor's white."""

    def made(*colours: tuple[float, float, float], vignette: float = 0.0) -> Source:
        mosaic = np.empty((160, 160 * len(colours)))
        for n, colour in enumerate(colours):
            part = np.array(colour)[np.tile([[0, 1], [1, 2]], (80, 80))]
            mosaic[:, 160 * n : 160 * (n + 1)] = np.minimum(part, 1)
        tags = DngTags(
            "Alder", "Alder One", BLACK, WHITE, (0, 1, 1, 2), (0.5, 1.0, 0.6), (MATRIX,), (21,),
        )  # fmt: skip
        path = tmp_path / "x.dng"
        path.write_bytes(write_bayer_dng(np.rint(mosaic * (WHITE - BLACK) + BLACK).astype(np.uint16), tags))
        return read(path)

    return made


def linear(source: Source, place: int = 80, **values: object) -> np.ndarray:
    """Balanced linear sRGB (camera colours, with this matrix) in the middle of each patch."""
    pixels = render(source, develop(values), source.size, bits=16)
    return SPACES["srgb"].decode(pixels[80, place::160] / 65535)


def test_what_is_not_clipped_keeps_its_colour(field) -> None:
    """A leaf's green at 96 and 99 % of white is twice and eight times that of half as much light, less a step."""
    leaf = np.array([0.28, 1.0, 0.13])
    source = field(*(tuple(leaf * s) for s in (0.96, 0.99, 0.12)))
    found = linear(source, **{"light.exposure": -0.5, "light.clipped_colour": 100.0})
    for n, share in ((0, 0.96), (1, 0.99)):
        assert np.allclose(found[n] * 0.12 / share, found[2], rtol=0.004, atol=2e-4)
    # The control has nothing to do there, to the bit.
    plan, other = (make_plan(source, develop({"light.clipped_colour": v}), source.size) for v in (0.0, 100.0))
    assert plan.parameters.camera.clipped.amount == 0 and other.parameters.camera.clipped.amount == 1
    a, b = (render(source, develop({"light.clipped_colour": v}), source.size, bits=16) for v in (0.0, 100.0))
    assert np.array_equal(a[:, :300], b[:, :300])


def test_a_clipped_channel_is_told_by_its_surroundings(field) -> None:
    """A patch of the same colour whose green is clipped lies beside unclipped ones: nearer to it; at 0 % it is white."""
    petal = np.array([0.40, 0.75, 0.20])
    source = field(tuple(petal), tuple(petal * 1.6), tuple(petal * 0.9))
    off = {"light.exposure": -1.0}
    truth = petal * 1.6 / NEUTRAL / 2
    rebuilt, white = linear(source, 12, **off)[1], linear(source, 12, **off, **{"light.clipped_colour": 0.0})[1]
    plain = np.minimum(petal * 1.6, 1) / NEUTRAL / 2
    assert np.abs(rebuilt - truth).max() < 0.95 * np.abs(plain - truth).max()
    assert np.ptp(white) < 0.01 and np.ptp(rebuilt) > 0.2


def test_evened_corners_are_not_taken_for_clipped(tmp_path: Path) -> None:
    """Fall-off's gain lifts values beyond the sensor's white, which they never reached."""
    from tanner.core.raw.dng import opcode_list

    colour = np.array([0.25, 0.8, 0.2])
    mosaic = colour[np.tile([[0, 1], [1, 2]], (100, 150))]
    tags = DngTags(
        "Alder", "Alder One", BLACK, WHITE, (0, 1, 1, 2), (0.5, 1.0, 0.6), (MATRIX,), (21,),
        opcodes3=opcode_list(None, np.array([0.9, 0, 0, 0, 0])),
    )  # fmt: skip
    path = tmp_path / "x.dng"
    path.write_bytes(write_bayer_dng(np.rint(mosaic * (WHITE - BLACK) + BLACK).astype(np.uint16), tags))
    source = read(path)
    plan = make_plan(source, develop({"optics.fall_off": 100.0, "light.exposure": -1.0}), source.size)
    assert plan.linear.geometry.grid[6].max() > 1.7
    pixels = SPACES["srgb"].decode(
        render(source, develop({"optics.fall_off": 100.0, "light.exposure": -1.0}), source.size, bits=16) / 65535
    )
    corner, middle = pixels[4, 4], pixels[100, 150]
    assert np.allclose(corner / corner[1], middle / middle[1], atol=0.005)


@pytest.mark.parametrize("curve", [0.0, 50.0, 100.0])
@pytest.mark.parametrize("ev", [0.0, -0.5, -1.0, -2.0])
def test_sensor_white_stays_white_and_what_is_below_is_linear(field, ev: float, curve: float) -> None:
    grey = tuple(tuple(NEUTRAL * s) for s in (0.2, 0.4, 0.7, 4.0))
    source = field(*grey)
    found = linear(source, **{"light.exposure": ev, "profile.curve_strength": curve})
    assert found[3].min() > 0.97
    if not curve:
        for n, s in enumerate((0.2, 0.4, 0.7)):
            assert np.allclose(found[n], s * 2**ev, rtol=0.003)


@pytest.mark.parametrize("ev", [1, 2])
def test_nearer_to_the_truth_than_others(ev: int, tmp_path: Path) -> None:
    """In the mean over the eight pictures, in each column at most the best of the others."""
    found = scores(NAMES, ev, tmp_path / "x.dng")
    for column in range(3):
        best = min(found[way][column] for way in WAYS if way != "ours")
        if np.isfinite(best):
            assert found["ours"][column] <= best, (column, found)
    assert len(NAMES) == 8 and np.isfinite(found["ours"][:2]).all()

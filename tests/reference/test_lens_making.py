"""A lens measured from simulated frames with a known lens, and how straight known lines become."""

import xml.etree.ElementTree as ElementTree
from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import develop
from tanner.core.lensmake.fit import MakeError, straightness
from tanner.core.lensmake.make import joined, make_lens
from tanner.core.optics import database
from tanner.core.optics.lens import OpcodeLens
from tanner.core.optics.view import View
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import LENSES, Source
from tanner.core.render import render

SIZE = (3000, 2000)
WARP = np.array([[1 + seam, -0.06, 0.012, 0.0, 0.0, 0.0] for seam in (-0.0003, 0.0, 0.0004)])
VIGNETTE = np.array([0.5, 0.2, 0.1, 0.0, 0.0])


def frame(lens: OpcodeLens | None, *, even: bool = False, vignette: bool = False) -> Source:
    """A Bayer frame of a grid of lines, or of an even surface, seen through a lens.

    Each colour's pixels are where that colour is recorded; the picture is smooth, so that it holds no aliasing.
    """
    w, h = SIZE
    data = np.empty((h, w), np.uint16)
    rng = np.random.default_rng(5)
    for y0, x0, plane in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        y, x = np.mgrid[y0:h:2, x0:w:2] + 0.5
        ix, iy = x.copy(), y.copy()
        if lens is not None:
            for _ in range(10):
                at = lens.positions(ix, iy)[plane]
                ix, iy = ix + x - at[0], iy + y - at[1]
        value = np.full(x.shape, 0.45)
        if not even:
            for places, size in ((ix, w), (iy, h)):
                # Dark bars with soft edges every 210 px.
                off = np.abs((places - size / 2 + 105) % 210 - 105)
                value = value * (1 - 0.85 / (1 + np.exp((off - 12) * 2.2)))
        if vignette and lens is not None:
            value = value / lens.gain(x, y)
        noise = rng.normal(0, 0.002, x.shape)
        data[y0::2, x0::2] = np.clip(np.rint((value + noise) * 15000 + 500), 0, 15500)
    facts = FrameFacts(
        path="grid.dng", kind="bayer", width=w, height=h, make="Alder", model="Alder One", lens="Finch 20 mm test",
        focal_length_mm=20.0, focal_length_35mm=20.0, aperture=4.0, black=(500,) * 4, white=15500, pattern=(0, 0),
        colour_matrices=((0.9, -0.3, -0.1, -0.4, 1.2, 0.2, -0.05, 0.2, 0.6),), illuminants=(21,),
    )  # fmt: skip
    return Source(facts, data)


@pytest.fixture(scope="module")
def grid() -> Source:
    return frame(OpcodeLens(WARP, None, SIZE))


@pytest.fixture(scope="module")
def made(grid: Source) -> tuple[str, dict]:  # type: ignore[type-arg]
    return make_lens([grid], frame(OpcodeLens(WARP, VIGNETTE, SIZE), even=True, vignette=True))


def test_straight_lines_become_straight(made: tuple[str, dict]) -> None:  # type: ignore[type-arg]
    report = made[1]
    # Half of 24 MP across: 0.15 px here are 0.3 px there.
    assert report["distortion"]["before"] > 1.0 and report["distortion"]["after"] < 0.15
    assert report["distortion"]["lines"] >= 20
    assert report["lateral_colour"]["before"] > 0.4 and report["lateral_colour"]["after"] < 0.12
    assert report["fall_off"]["before"] > 0.6 and report["fall_off"]["after"] < 0.03


def test_the_file_gives_the_known_lens_back(made: tuple[str, dict], grid: Source, tmp_path: Path) -> None:  # type: ignore[type-arg]
    """Read through lensfunpy, by whom the form is defined: positions and light against the simulated lens."""
    xml, report = made
    assert ElementTree.fromstring(xml.split("\n", 1)[1]).tag == "lensdatabase"
    (tmp_path / "own.xml").write_text(xml)
    found = database.find(grid.facts, [tmp_path])
    assert found is not None and found.name == "Finch 20 mm test"
    assert np.array_equal(database.by_name(report["key"], grid.facts, [tmp_path]).coordinates, found.coordinates)
    truth = OpcodeLens(WARP, VIGNETTE, SIZE)
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(60, 2940, 17), np.linspace(60, 1940, 13)))
    ours, wanted = found.positions(x, y), truth.positions(x, y)
    # A plumb line cannot know the scale: it is taken out.
    ours, wanted = (v[1] - np.array(SIZE)[:, None] / 2 for v in (ours, wanted))
    scale = float((ours * wanted).sum() / (ours * ours).sum())
    assert np.hypot(*(ours * scale - wanted)).max() < 1.0
    seams = [found.positions(x, y)[p] - found.positions(x, y)[1] for p in (0, 2)]
    known = [truth.positions(x, y)[p] - truth.positions(x, y)[1] for p in (0, 2)]
    assert max(float(np.hypot(*(a - b)).max()) for a, b in zip(seams, known, strict=True)) < 0.2
    light = found.gain(x, y) / truth.gain(x, y)
    assert np.abs(light / np.median(light) - 1).max() < 0.02


def test_a_zoom_is_measured_at_several_lengths(made: tuple[str, dict], grid: Source, tmp_path: Path) -> None:  # type: ignore[type-arg]
    """What was measured before at another focal length stays, and lengths between are interpolated."""
    xml, report = made
    longer = xml.replace('focal="20"', 'focal="60"').replace(f'a="{report["distortion"]["a"]:.6f}"', 'a="0.05"')
    assert longer.count('focal="60"') == xml.count('focal="20"') and 'a="0.05"' in longer
    both = joined(longer, xml)
    assert joined(both, "not XML") == both
    (tmp_path / "own.xml").write_text(both)
    x, y = np.array([60.0]), np.array([60.0])
    at = {}
    for focal in (20.0, 40.0, 60.0):
        facts = grid.facts.model_copy(update={"focal_length_mm": focal})
        at[focal] = float(database.by_name(report["key"], facts, [tmp_path]).positions(x, y)[1, 0, 0])
    assert at[60.0] != pytest.approx(at[20.0], abs=5) and min(at[20.0], at[60.0]) < at[40.0] < max(at[20.0], at[60.0])
    # The same length again takes the older's place.
    assert joined(longer, both).count("<distortion") == 2


def test_strength_0_leaves_and_200_bends_the_other_way() -> None:
    """The residual of known lines: gone at 100 %, as much the other way at 200 %, within a tenth.

    By a lens of usual distortion: of a strong one (6 %) the double is a third more, as inverses of polynomials are.
    """
    lens = OpcodeLens(np.array([[1.0, -0.018, 0.003, 0.0, 0.0, 0.0]]), None, (6000, 4000))
    sags = {}
    for strength in (0.0, 100.0, 200.0):
        optics = develop({"optics.distortion": strength}).groups["optics"]
        perspective = develop({}).groups["perspective"]
        view = View((6000, 4000), 1, optics, perspective, lens, focal=5000.0)  # type: ignore[arg-type]
        # Where lines that are straight in life appear: their recorded places, looked up in the ideal picture.
        t = np.linspace(-2500, 2500, 41)
        wanted, _ = view.positions(t, np.full(41, -1500.0))
        recorded = lens.positions(t + 3000, np.full(41, 500.0))[1]
        x, y = t.copy(), np.full(41, -1500.0)
        for _ in range(40):
            at, _ = view.positions(x, y)
            x, y = x + recorded[0] - at[1, 0], y + recorded[1] - at[1, 1]
        off = np.stack([x, y], axis=1)
        sags[strength] = float(y[20] - (y[0] + y[-1]) / 2)
        if strength == 100.0:
            assert np.abs(straightness([off])).max() < 0.01
            assert np.allclose(wanted[1], recorded, atol=1e-6)
    assert abs(sags[100.0]) < 0.05 and abs(sags[0.0]) > 8
    assert sags[200.0] == pytest.approx(-sags[0.0], rel=0.1)


def test_rendered_lines_are_straight(grid: Source) -> None:
    """The same in the developed picture: edges found in it, with the known lens on."""
    from tanner.core.lensmake.edges import chains

    lens = OpcodeLens(WARP, None, SIZE)
    source = Source(grid.facts, grid.data)
    source.memory.put(LENSES, "", (lens, ""))
    worst = {}
    for strength in (0.0, 100.0):
        pixels = render(source, develop({"optics.distortion": strength, "optics.lateral_colour": strength}), SIZE)
        found = chains(np.ascontiguousarray(pixels[..., 1].astype(np.float32) / 255))
        assert len(found) > 30
        worst[strength] = float(np.sqrt(np.mean(straightness([c.points for c in found[:40]]) ** 2)))
    assert worst[100.0] < 0.15 < worst[0.0]


def test_frames_that_cannot_be_used_are_refused_with_what_to_do(grid: Source) -> None:
    even = frame(None, even=True)
    with pytest.raises(MakeError, match="long edges were found"):
        make_lens([even])
    other = Source(grid.facts.model_copy(update={"focal_length_mm": 35.0}), grid.data)
    with pytest.raises(MakeError, match="one lens"):
        make_lens([grid, other])
    with pytest.raises(MakeError, match="not even"):
        make_lens([], grid)
    bright = Source(even.facts, np.full_like(even.data, 15500))
    with pytest.raises(MakeError, match="clipped"):
        make_lens([], bright)
    with pytest.raises(MakeError, match="raw files"):
        make_lens([Source(grid.facts.model_copy(update={"kind": "finished"}), grid.data)])

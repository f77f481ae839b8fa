"""White balance and camera colour: the chart as the simulated camera took it, against its published values.

Patches: the 24-patch chart's spectra as measured by Ohta (1997) and its published colours, both from the data
that colour-science ships. Light: CIE illuminants. The camera is ours, its sensitivities smooth and made up;
so what is tested is the whole path from mosaic to colour, and how well two matrices can do.
"""

from pathlib import Path
from types import ModuleType

import numpy as np
import pytest
from made import exposure

from tanner.core.adjust.registry import develop
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import D50_XYZ, SPACES, adaptation, xy_to_xyz
from tanner.core.colour.spectra import WAVELENGTHS, xyz_of
from tanner.core.colour.white import picked
from tanner.core.measure import xyz_to_lab
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import camera_numbers, render
from tanner.studio import light
from tanner.studio.camera import take
from tanner.studio.drawn import patch_centres

SIZE = (600, 400)
LENS = {"optics.distortion": 100.0, "optics.lateral_colour": 100.0, "optics.fall_off": 100.0}


def place(x: float, y: float) -> tuple[float, float]:
    """Scene units to shares of the picture: the short side is 2 units."""
    return 0.5 + x / 3, 0.5 + y / 2


@pytest.fixture(scope="module", params=[2856.0, 5500.0, 6500.0, 7500.0])
def shot(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[float, Source]:
    kelvin: float = request.param
    path = tmp_path_factory.mktemp("chart") / "chart.dng"
    path.write_bytes(take(exposure(scene="chart", kelvin=kelvin, believed=kelvin)))
    return kelvin, read(path)


def measured(source: Source, wanted: dict[str, object]) -> np.ndarray:
    """XYZ (D50) of the 24 patches, as rendered to a wide linear space, scaled so that the white patch fits."""
    pixels = render(source, develop({**LENS, **wanted}), SIZE, space="prophoto", bits=16)
    linear = SPACES["prophoto"].decode(pixels / 65535.0)
    values = []
    for x, y in patch_centres():
        u, v = place(x, y)
        cx, cy = int(u * SIZE[0]), int(v * SIZE[1])
        values.append(linear[cy - 9 : cy + 10, cx - 9 : cx + 10].reshape(-1, 3).mean(axis=0))
    return np.array(values) @ SPACES["prophoto"].to_pcs().T


def published(colour: ModuleType, kelvin: float) -> np.ndarray:
    """XYZ of the patches from their published spectra by the reference library, brought to D50."""
    lit = light.light(kelvin)
    sd = colour.SpectralDistribution(dict(zip(WAVELENGTHS, lit, strict=True)))
    shape = colour.SpectralShape(380, 730, 5)
    cmfs = colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"].copy().align(shape)
    result = []
    white = None
    for reflectance in [np.ones_like(lit), *light.chart().values()]:
        patch = colour.SpectralDistribution(dict(zip(WAVELENGTHS, reflectance, strict=True)))
        xyz = colour.sd_to_XYZ(patch, cmfs, sd, method="Integration") / 100
        if white is None:
            white = xyz / xyz[1]
            continue
        result.append(adaptation(white, D50_XYZ) @ xyz)
    return np.array(result)


def test_patches(colour: ModuleType, shot: tuple[float, Source]) -> None:
    kelvin, source = shot
    truth, found = published(colour, kelvin), measured(source, {})
    found = found * (truth[18:22, 1].sum() / found[18:22, 1].sum())
    error = ciede2000(xyz_to_lab(found), xyz_to_lab(truth))
    assert error.mean() < 1.6
    assert error.max() < 5.0
    greys = error[18:]
    assert greys.max() < 1.2


def test_published_colours_of_the_chart(colour: ModuleType) -> None:
    """Our spectra under illuminant C give the colours that were published for the chart in 1976.

    Source: the chart's published xyY of 1976 ("ColorChecker 1976" in the reference library); the spectra were
    measured on another specimen twenty years later, so that differences of about one unit are to be expected.
    """
    data = colour.CCS_COLOURCHECKERS["ColorChecker 1976"]
    lit = np.interp(WAVELENGTHS, colour.SDS_ILLUMINANTS["C"].wavelengths, colour.SDS_ILLUMINANTS["C"].values)
    white = xyz_of(np.ones_like(lit), lit)
    errors = []
    for values, reflectance in zip(data.data.values(), light.chart().values(), strict=True):
        x, y, big_y = np.ravel(values)
        theirs = adaptation(xy_to_xyz(tuple(data.illuminant)), D50_XYZ) @ (xy_to_xyz((x, y)) * big_y)
        ours = adaptation(white, D50_XYZ) @ xyz_of(reflectance, lit)
        errors.append(float(ciede2000(xyz_to_lab(ours), xyz_to_lab(theirs))))
    assert np.mean(errors) < 1.0 and max(errors) < 2.0


def test_a_pick_on_the_grey_patch_makes_it_grey(shot: tuple[float, Source]) -> None:
    """As shot the camera may be wrong; a pick sets temperature and tint from the patch."""
    _, source = shot
    x, y = patch_centres()[20]
    u, v = place(x, y)
    wanted: dict[str, object] = {**LENS, "white.temperature": 4300.0, "white.tint": 20.0}
    numbers = camera_numbers(source, develop(wanted), u, v, 0.015)
    found = measured(source, {**wanted, **picked(source.camera, numbers)})
    lab = xyz_to_lab(found[20] / found[18:22, 1].max())
    assert np.hypot(lab[1], lab[2]) < 0.7


def test_as_shot_white_is_the_light(shot: tuple[float, Source]) -> None:
    from tanner.core.colour.temperature import xy_to_temperature
    from tanner.core.render import as_shot_white

    kelvin, source = shot
    found, _ = xy_to_temperature(as_shot_white(source))
    assert 1e6 / found == pytest.approx(1e6 / kelvin, abs=3)


def test_temperature_moves_the_right_way(shot: tuple[float, Source]) -> None:
    """Taking the light for warmer makes the picture cooler."""
    _, source = shot
    cool, warm = measured(source, {"white.temperature": 3000.0}), measured(source, {"white.temperature": 8000.0})
    grey_cool, grey_warm = xyz_to_lab(cool[20]), xyz_to_lab(warm[20])
    assert grey_cool[2] < grey_warm[2] - 10


def test_interpolation_between_two_lights(source: Source) -> None:
    """At either calibration light its own matrix is used; between, in inverse temperature (source: dng17)."""
    from tanner.core.colour.temperature import temperature_to_xy

    camera = source.camera

    def at(kelvin: float) -> np.ndarray:
        return camera._between(camera.colour, temperature_to_xy(kelvin))

    assert np.allclose(at(2850.0), camera.colour[0], atol=1e-5)
    assert np.allclose(at(6504.0), camera.colour[1], atol=1e-5)
    assert np.allclose(at(2000.0), camera.colour[0])
    middle = 2 / (1 / 2850 + 1 / 6504)
    assert np.allclose(at(middle), (camera.colour[0] + camera.colour[1]) / 2, atol=1e-4)
    # White stays white at any light.
    for kelvin in (2500, 4000, 5500, 9000):
        xy = temperature_to_xy(kelvin, 5.0)
        assert camera.to_working(xy) @ camera.white_numbers(xy) == pytest.approx(np.ones(3), abs=2e-3)


def test_three_lights_are_weighed_as_a_strict_reader_weighs_them() -> None:
    """Weights that were read off one, for A, D65 and D55: .00 / .12 / .88 at 4,600 K and 1 / 0 / 0 at 3,200 K."""
    from tanner.core.colour.camera import CameraColour
    from tanner.core.colour.spectra import light
    from tanner.core.colour.temperature import temperature_to_xy

    eye = np.eye(3)
    camera = CameraColour(
        colour=(eye, 2 * eye, 4 * eye),
        kelvin=(2856.0, 6504.0, 5503.0),
        places=tuple(light(n)[2] for n in ("A", "D65", "D55")),
    )
    for kelvin, wanted in ((4600.0, (0.0, 0.12, 0.88)), (3200.0, (1.0, 0.0, 0.0))):
        assert camera._shares(temperature_to_xy(kelvin), 3) == pytest.approx(wanted, abs=0.025)
    for n, name in enumerate(("A", "D65", "D55")):
        assert camera._shares(light(name)[2], 3)[n] == pytest.approx(1, abs=1e-6)


def test_three_matrices_without_tables_are_three(tmp_path: Path) -> None:
    """They were used as two; what the file says of its third light counts, by code or by chromaticity."""
    from tanner.core.raw.dng import DngTags, write_bayer_dng
    from tanner.core.tiff.dng import CODES
    from tanner.core.tiff.ifd import RATIONAL, SHORT, SRATIONAL, entry

    base = np.array([[0.9, -0.3, -0.1], [-0.4, 1.2, 0.2], [0.0, 0.2, 0.6]])
    kept = {CODES["IlluminantData3"]: entry(7, b"\0\0" + entry(RATIONAL, (0.3457, 0.3585)).data)}
    for k, (scale, code) in enumerate(((1.0, 17), (1.3, 21), (0.7, 255)), 1):
        kept[CODES[f"ColorMatrix{k}"]] = entry(SRATIONAL, base * [[scale], [1], [1]])
        kept[CODES[f"CalibrationIlluminant{k}"]] = entry(SHORT, code)
    tags = DngTags("Alder", "Alder One", 512, 16383, (0, 1, 1, 2), (0.5, 1.0, 0.6), (base,), (21,), kept=kept)
    path = tmp_path / "three.dng"
    path.write_bytes(write_bayer_dng(np.full((64, 96), 3000, np.uint16), tags))
    from tanner.core.raw.reader import read

    camera = read(path).camera
    assert len(camera.colour) == 3 and camera.places[2] == pytest.approx((0.3457, 0.3585), abs=1e-6)
    assert camera.xyz_to_camera((0.3457, 0.3585)) == pytest.approx(base * [[0.7], [1], [1]], abs=1e-5)

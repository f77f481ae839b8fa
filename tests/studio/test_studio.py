"""The simulated camera: its files are valid, and their truth is known."""

import json
from pathlib import Path

import numpy as np
import pytest
import rawpy
from made import exposure

from tanner.core.colour.spectra import WAVELENGTHS, xyz_of
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.reader import read
from tanner.jobs.tasks import embedded_preview
from tanner.studio import light, pictures
from tanner.studio.camera import BLACK, WHITE, mosaic, noise_profile, take
from tanner.studio.demo import frames, make_shoot
from tanner.studio.drawn import SCENES, patch_centres


def test_the_demo_has_enough_frames_in_their_sets() -> None:
    shots = frames()
    assert len(shots) >= 36 and len({s.name for s in shots}) == len(shots)
    assert {s.scene for s in shots} <= set(pictures.names())
    assert all(s.width * s.height >= 8_000_000 for s in shots)
    assert len({s.scene.rstrip("-0123456789") for s in shots}) >= 7
    assert {s.iso for s in shots if s.taken.hour > 15} == {3200, 6400, 12800}
    assert {s.camera for s in shots} == set(light.CAMERAS)
    other = {s.scene for s in shots if s.camera == "Alder Two"}
    assert len(other & {s.scene for s in shots if s.camera == "Alder One"}) >= 4
    assert {(s.source or s.kelvin) for s in shots if s.scene == "colour-chart"} == {5500.0, 2856.0, 7500.0, "led"}


@pytest.mark.parametrize("scene", list(SCENES))
def test_every_scene_is_exposed_sensibly(scene: str) -> None:
    numbers, values = mosaic(exposure(scene=scene))
    assert numbers.min() >= 0 and numbers.max() <= WHITE
    assert 0.02 < np.median(values) < 0.6 and (values > 0.99).mean() < 0.01
    assert values.std() > 0.03


def test_noise_is_what_the_file_says() -> None:
    """Variance of the mosaic against NoiseProfile (source: dng17): scale * value + offset."""
    shot = exposure(iso=3200, scene="chart")
    numbers, values = mosaic(shot)
    scale, offset = noise_profile(3200)
    residual = (numbers.astype(np.float64) - BLACK) / (WHITE - BLACK) - values
    for low in (0.03, 0.1, 0.25):
        band = (values > low) & (values < low * 1.3)
        expected = scale * values[band].mean() + offset
        assert residual[band].var() == pytest.approx(expected, rel=0.1)
        assert abs(residual[band].mean()) < 0.001


def test_noise_falls_with_iso() -> None:
    assert noise_profile(6400)[0] == pytest.approx(64 * noise_profile(100)[0])


def test_light_drift_is_in_stops() -> None:
    _, a = mosaic(exposure(ev=0.0))
    _, b = mosaic(exposure(ev=-1.0))
    assert np.median(a / np.maximum(b, 1e-6)) == pytest.approx(2.0, rel=1e-3)


def test_other_libraries_read_the_files(tmp_path: Path) -> None:
    path = tmp_path / "x.dng"
    path.write_bytes(take(exposure(scene="instrument", upright=True)))
    with rawpy.imread(str(path)) as raw:
        assert raw.raw_image.shape == (400, 600) and raw.sizes.flip == 6
        assert list(raw.black_level_per_channel) == [BLACK] * 4 and raw.white_level == WHITE
    preview = embedded_preview(str(path))
    assert preview is not None and preview[:2] == b"\xff\xd8"
    assert embedded_preview(str(tmp_path / "x.jpg")) is None


@pytest.mark.parametrize("compress", [True, False])
def test_files_hold_every_number(tmp_path: Path, compress: bool) -> None:
    rng = np.random.default_rng(8)
    pixels = rng.integers(0, WHITE, (120, 200)).astype(np.uint16)
    tags = DngTags(
        make="M", model="N", black=BLACK, white=WHITE, pattern=(0, 1, 1, 2), neutral=(0.5, 1, 0.6),
        matrices=(np.eye(3),), illuminants=(21,), baseline_exposure=0.5, orientation=8,
    )  # fmt: skip
    path = tmp_path / "x.dng"
    path.write_bytes(write_bayer_dng(pixels, tags, compress))
    source = read(path)
    assert np.array_equal(source.data, pixels)
    assert source.facts.baseline_exposure == 0.5 and source.facts.orientation == 8


def test_patches_lie_where_they_are_said_to_lie() -> None:
    """Each patch's mosaic value is its reflectance through the camera: checked on its green pixels."""
    lit = light.light(5500.0)
    shot = exposure(scene="chart", lens="standard")
    _, values = mosaic(shot)
    names = list(light.chart())
    for index in (12, 13, 18, 20, 22):
        x, y = patch_centres()[index]
        cx, cy = int((0.5 + x / 3) * 600), int((0.5 + y / 2) * 400)
        green = values[cy // 2 * 2 - 4 : cy // 2 * 2 + 4 : 2, cx // 2 * 2 - 3 : cx // 2 * 2 + 5 : 2]
        expected = light.camera_response(light.material(f"patch:{names[index]}"), lit)[1] * 0.62
        assert green.mean() == pytest.approx(expected, rel=0.25)  # fall-off of the lens takes up to a fifth


def test_sensitivities_see_white_as_the_tags_say() -> None:
    matrix, forward = light.fitted_matrices(6504.0)
    white = light.camera_response(np.ones_like(WAVELENGTHS), light.light(6504.0))
    from tanner.core.colour.spaces import D50_XYZ

    assert forward @ np.ones(3) == pytest.approx(D50_XYZ, abs=1e-6)
    assert matrix @ xyz_of(np.ones_like(WAVELENGTHS), light.light(6504.0)) == pytest.approx(white)


def test_a_shoot_is_made_once_and_its_truth_kept(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    shots = [exposure(f"S{n}.DNG", seed=n) for n in range(7)]
    make_shoot(tmp_path, shots)
    assert "take 7 frames" in capsys.readouterr().out
    assert len(list((tmp_path / "shoot").glob("*.DNG"))) == 3
    assert len(list((tmp_path / "card" / "DCIM" / "100ALDER").glob("*.DNG"))) == 4
    truth = json.loads((tmp_path / "truth.json").read_text())
    assert truth["frames"][3]["scene"] == "lamp" and truth["frames"][3]["white_level"] == 0.62
    # As on a camera's card: the file's time is that of its exposure, and Import sorts by it.
    for file in tmp_path.rglob("*.DNG"):
        assert int(file.stat().st_mtime) == int(shots[0].taken.timestamp())
    (tmp_path / "shoot" / "S0.DNG").unlink()
    make_shoot(tmp_path, shots)
    assert "take 1 frames" in capsys.readouterr().out
    make_shoot(tmp_path, shots)
    assert capsys.readouterr().out == ""

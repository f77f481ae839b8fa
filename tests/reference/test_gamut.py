"""Colours outside an output space, ICC profiles by a second library, proofs, looks and automatic white balance."""

import io
import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from made import exposure
from PIL import ImageCms

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour import spectra
from tanner.core.colour.cube import Cube, CubeError, read_cube, write_cube
from tanner.core.colour.printing import IccError, check_icc, proof_table, to_icc
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.spaces import SPACES, icc_profile, oklab_cones, outside, working_to
from tanner.core.profile.make import chart_neutral, chart_picture
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import camera_picture, development_cube, render
from tanner.core.stages.output import Output, bring_in, output_row
from tanner.core.stages.stage import WORK_ROWS, At
from tanner.core.tone.cube import LookTable, apply_cube
from tanner.studio.camera import take
from tanner.studio.demo import frames

RNG = np.random.default_rng(7)


def oklab(rgb: np.ndarray) -> np.ndarray:
    """By colour-science, from linear sRGB (source: ottosson2020)."""
    colour = spectra.library()
    matrix = colour.RGB_COLOURSPACES["sRGB"].matrix_RGB_to_XYZ
    return np.asarray(colour.XYZ_to_Oklab(rgb @ np.asarray(matrix).T))


def brought(rgb: np.ndarray) -> np.ndarray:
    rows = np.zeros((WORK_ROWS, len(rgb)), np.float32)
    rows[:3] = rgb.T
    bring_in(rows, oklab_cones(SPACES["srgb"]).astype(np.float32), len(rgb))
    return rows[:3].T.copy()


def test_a_colour_that_is_brought_in_keeps_hue_and_lightness() -> None:
    rgb = RNG.uniform(-0.35, 1.25, (600, 3))
    rgb = rgb[(rgb.min(axis=1) < -0.02) & (oklab(rgb)[:, 0] > 0.2) & (oklab(rgb)[:, 0] < 0.93)]
    start, end = oklab(rgb), oklab(brought(rgb))
    assert len(rgb) > 150
    assert np.abs(start[:, 0] - end[:, 0]).max() < 0.004
    strong = np.hypot(end[:, 1], end[:, 2]) > 0.03
    turn = np.degrees(np.arctan2(start[:, 2], start[:, 1]) - np.arctan2(end[:, 2], end[:, 1]))
    assert np.abs((turn + 180) % 360 - 180)[strong].max() < 1.5
    assert (np.hypot(end[:, 1], end[:, 2]) <= np.hypot(start[:, 1], start[:, 2]) + 1e-3).all()


def test_it_reaches_the_edge_and_leaves_what_is_inside() -> None:
    found = brought(np.array([[1.2, -0.2, 0.1], [-0.1, 0.9, 0.0], [2.0, 2.0, 2.0], [-0.1, -0.1, -0.1]]))
    assert found.min() >= 0 and found.max() <= 1
    assert found[:2].min(axis=1) == pytest.approx(np.zeros(2), abs=0.003)
    assert found[2] == pytest.approx(np.ones(3)) and found[3] == pytest.approx(np.zeros(3))
    inside = RNG.random((3, 50)).astype(np.float32)
    rows = [row.copy() for row in inside]
    at = At(0, 0, 50, 1, 50, np.zeros((WORK_ROWS, 50), np.float32), np.zeros((4, 50), np.float32), np.full(1, -2))
    output_row(*rows, at, Output(True, np.eye(3, dtype=np.float32), oklab_cones(SPACES["srgb"]).astype(np.float32)))
    assert np.abs(np.stack(rows) ** 2 - inside).max() < 1e-6


def test_the_mark_tells_what_is_outside() -> None:
    working = np.array([[0.5, 0.5, 0.5], [0.0, 0.6, 0.0], [0.9, 0.05, 0.02]], dtype=np.float32)
    assert outside(working, "srgb").tolist() == [False, True, True]
    assert not outside(working, "prophoto").any()
    assert (working @ working_to(SPACES["srgb"]).T)[1].min() < 0


@pytest.mark.parametrize("version", [2, 4])
@pytest.mark.parametrize("name", list(SPACES))
def test_profiles_made_here_are_read_by_littlecms(name: str, version: int) -> None:
    """Primaries, white and a round trip, by Pillow's LittleCMS, for both versions; all of them are small."""
    data = icc_profile(name, version)
    profile = ImageCms.ImageCmsProfile(io.BytesIO(data)).profile
    assert profile.version == pytest.approx(4.4 if version == 4 else 2.4, abs=0.05) and len(data) < 3000
    assert check_icc(data, "x") == f"Tanner {SPACES[name].title}"
    columns = [np.array(getattr(profile, f"{c}_colorant")[0]) for c in ("red", "green", "blue")]
    assert np.stack(columns, axis=1) == pytest.approx(SPACES[name].to_pcs(), abs=2e-4)
    ramp = np.rint(np.linspace(2000, 65535, 200)).astype(np.uint16)
    grey = np.repeat(ramp[None, :, None], 3, axis=2)
    out = to_icc(grey, data, "relative", False, 16)[0] / 65535
    wanted = SPACES[name].encode(SPACES["prophoto"].decode(grey[0] / 65535))
    assert np.abs(out - wanted).max() < 0.004


def test_profiles_of_other_kinds_are_refused() -> None:
    for wrong, words in ((b"hello", "no ICC profile"), (icc_profile("srgb")[:200], "ICC")):
        with pytest.raises(IccError, match=words):
            check_icc(wrong, "x.icc")
    grey = bytearray(icc_profile("srgb"))
    grey[16:20] = b"CMYK"
    with pytest.raises(IccError, match="CMYK"):
        check_icc(bytes(grey), "x.icc")


def test_a_proof_shows_the_picture_and_what_it_loses() -> None:
    table, lost = proof_table(icc_profile("srgb"), "relative", True, False)
    n = len(table)
    at = np.linspace(0, 1, n)
    wanted = SPACES["srgb"].encode(SPACES["prophoto"].decode(at))
    assert np.abs(table[np.arange(n), np.arange(n), np.arange(n), 0] - wanted).max() < 0.01
    assert not lost[np.arange(n), np.arange(n), np.arange(n)].any()
    assert lost[2, n - 1, 2] and lost.mean() > 0.2


# --- looks -------------------------------------------------------------------------------------------------


def test_cubes_come_back_and_bad_ones_are_refused() -> None:
    table = RNG.random((5, 5, 5, 3)).astype(np.float32)
    again = read_cube(write_cube(Cube("Evening", table), ["a comment"]), "x.cube")
    assert again.title == "Evening" and np.abs(again.table - table).max() < 1e-6
    one = read_cube("LUT_1D_SIZE 3\nDOMAIN_MAX 2 2 2\n0 0 0\n.5 .5 .5\n1 1 1\n", "x.cube")
    assert one.table.shape == (3, 3) and one.high == (2, 2, 2)
    wrong = {
        "LUT_3D_SIZE 2\n0 0 0\n": "has 1 rows", "0 0 0\n": "says no size", "LUT_3D_SIZE 999\n": "a size from",
        "LUT_1D_SIZE 2\n0 0\n1 1 1\n": "line 2: three numbers", "LUT_1D_SIZE 2\nnan 0 0\n": "not known|three numbers",
        "WHAT 3\n": "WHAT is not known", "LUT_1D_SIZE 2\nDOMAIN_MAX 0 1 1\n0 0 0\n1 1 1\n": "domain is empty",
    }  # fmt: skip
    for text, words in wrong.items():
        with pytest.raises(CubeError, match=words) as error:
            read_cube(text, "bad.cube")
        assert "bad.cube" in str(error.value)


def test_a_look_changes_colours_as_its_table_says() -> None:
    """Against scipy's interpolation in float64, in and beyond the domain, at half and full amount."""
    from scipy.interpolate import RegularGridInterpolator

    table = RNG.random((9, 9, 9, 3)).astype(np.float32)
    at = np.linspace(0, 1, 9)
    reference = RegularGridInterpolator((at, at, at), table.astype(np.float64))
    display = RNG.uniform(0, 1, (300, 3))
    working = (SPACES["srgb"].decode(display) @ np.linalg.inv(working_to(SPACES["srgb"])).T).astype(np.float32)
    for amount in (0.5, 1.0):
        look = LookTable(Cube("x", table), True, amount)
        rows = [np.ascontiguousarray(working[:, c]) for c in range(3)]
        apply_cube(
            *rows, look.cube, look.line, look.to, look.back, look.domain, look.display, look.amount, len(working)
        )
        found = SPACES["srgb"].encode(np.stack(rows, axis=1) @ working_to(SPACES["srgb"]).T)
        assert np.abs(found - (display + amount * (reference(display) - display))).max() < 2e-3


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    path = tmp_path_factory.mktemp("raw") / "a.dng"
    path.write_bytes(take(exposure(scene="chart")))
    return read(path)


def test_a_development_given_out_as_cube_gives_the_same_picture(
    source: Source, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The plain picture through the look is the developed one, up to the table's steps."""
    values = {"light.exposure": 0.6, "light.contrast": 30.0, "colour.saturation": 25.0, "profile.curve_strength": 100.0}
    start = {"optics.distortion": 100.0, "optics.fall_off": 100.0}
    text = development_cube(source, develop({**start, **values}), "Mine")
    (tmp_path / "mine.cube").write_text(text)
    monkeypatch.setattr(PROFILE_STORE, "folders", [tmp_path])
    wanted = render(source, develop({**start, **values}), (300, 200)).astype(int)
    found = render(source, develop({**start, "profile.look": "mine"}), (300, 200)).astype(int)
    assert np.abs(wanted - found).mean() < 1.0 and np.percentile(np.abs(wanted - found), 99) < 8
    assert "Global part" in text.splitlines()[0]


def camera_icc(curve: bytes) -> bytes:
    """An input profile with made-up primaries, from one of our own."""
    data = bytearray(icc_profile("p3", 2))
    data[12:16] = b"scnr"
    (count,) = struct.unpack_from(">I", data, 128)
    for i in range(count):
        signature, offset, _ = struct.unpack_from(">4sII", data, 132 + 12 * i)
        if signature in (b"rTRC", b"gTRC", b"bTRC"):
            data[offset : offset + len(curve)] = curve
            struct.pack_into(">I", data, 132 + 12 * i + 8, len(curve))
    return bytes(data)


@pytest.mark.parametrize("gamma", [1.0, 1.8])
def test_a_camera_can_have_an_icc_profile(
    gamma: float, source: Source, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Through the matrix or the table, against LittleCMS on the same balanced numbers; exposure comes after."""
    icc = camera_icc(b"curv\0\0\0\0" + struct.pack(">IH", 1, round(gamma * 256)))
    (tmp_path / f"mine{gamma}.icc").write_bytes(icc)
    monkeypatch.setattr(PROFILE_STORE, "folders", [tmp_path])
    camera, warning = source.colour_by(f"mine{gamma}")
    assert warning == "" and (camera.working is None) == (gamma != 1.0)
    start = {"optics.distortion": 100.0, "optics.fall_off": 100.0}
    numbers = camera_picture(source, 300) / np.array(source.facts.neutral)
    wanted = to_icc_numbers(np.clip(numbers, 0, 1), icc)
    found = render(source, develop({**start, "profile.camera": f"mine{gamma}"}), (300, 200), space="prophoto", bits=16)
    found = SPACES["prophoto"].decode(found / 65535)
    usable = (wanted.max(axis=-1) < 0.8) & (numbers.max(axis=-1) < 0.9)
    assert np.percentile(np.abs(found - wanted)[usable], 99) < 0.004
    brighter = render(
        source,
        develop({**start, "profile.camera": f"mine{gamma}", "light.exposure": 0.5}),
        (300, 200),
        space="prophoto",
        bits=16,
    )
    ratio = SPACES["prophoto"].decode(brighter / 65535)[usable].mean() / found[usable].mean()
    assert ratio == pytest.approx(2**0.5, rel=0.03)


def to_icc_numbers(numbers: np.ndarray, icc: bytes) -> np.ndarray:
    """Linear working values by LittleCMS."""
    import imagecodecs

    coded = np.rint(numbers * 65535).astype(np.uint16)
    out = imagecodecs.cms_transform(
        coded, icc, icc_profile("prophoto"), colorspace="rgb", outcolorspace="rgb", flags=0x100
    )
    return SPACES["prophoto"].decode(np.asarray(out, dtype=float) / 65535)


# --- white balance ---------------------------------------------------------------------------------------------


def test_white_balance_from_the_chart_is_that_of_the_light(source: Source) -> None:
    neutral = chart_neutral(source)
    assert neutral == pytest.approx(np.array(source.facts.neutral), rel=0.02)


def test_automatic_white_balance_stays_near_the_light() -> None:
    """Angle between white under the found and the true light, on the simulated series: never more than 5 degrees worse than the
    white as shot, which is right there within 7; portraits have no grey in them, and are held by their skin.
    """
    from tanner.core.colour.auto_white import angle, find_white, settings_numbers
    from tanner.jobs.measure.tasks import _skin_numbers
    from tanner.studio import light

    errors, over = [], []
    shots = {s.scene: s for s in frames() if s.camera == "Alder One" and s.iso <= 400}
    for shot in shots.values():
        source = _read(replace(shot, width=1080, height=720))
        lit = shot.spectrum()
        truth = light.camera_response(np.ones_like(lit), lit)
        picture = chart_picture(source)
        found = find_white(source.camera, picture, source.facts.neutral, _skin_numbers(source, picture))
        errors.append(angle(settings_numbers(source.camera, found.values), truth))
        over.append(errors[-1] - angle(np.array(source.facts.neutral), truth))
    assert np.median(errors) < 4 and max(over) < 5.2, (errors, over)


def _read(shot: object) -> Source:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.dng"
        path.write_bytes(take(shot))  # type: ignore[arg-type]
        found = read(path)
        return Source(found.facts, found.data.copy())


def test_defaults_do_not_choose_a_profile() -> None:
    assert "profile.camera" not in defaults(raw=True, lens=True)

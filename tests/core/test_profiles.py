"""Camera profiles: files that come back identical, tags by a second reader, tables against a plain float64 reading."""

import colorsys
import io
import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from made import exposure

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.camera import with_profile
from tanner.core.colour.dcp import (
    CODES,
    CameraProfile,
    HueSatTable,
    ProfileError,
    dng_entries,
    read_dcp,
    read_directory,
    write_dcp,
)
from tanner.core.colour.profile_store import PROFILE_STORE, ProfileStore, fits, load
from tanner.core.colour.temperature import temperature_to_xy
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.core.tone.light import Light, profile_curve, tone_of
from tanner.core.tone.table import apply_table, packed
from tanner.studio.camera import take

RNG = np.random.default_rng(4)


def table(
    hues: int = 90, sats: int = 30, vals: int = 1, size: float = 1.0, srgb: bool = False, seed: int = 1
) -> HueSatTable:
    rng = np.random.default_rng(seed)
    cells = np.empty((hues, sats, vals, 3), np.float32)
    cells[..., 0] = rng.uniform(-20, 20, cells.shape[:3]) * size
    cells[..., 1:] = 1 + rng.uniform(-0.25, 0.25, (*cells.shape[:3], 2)) * size
    return HueSatTable(cells, srgb)


def profile(**more: object) -> CameraProfile:
    eye = np.array([[0.9, -0.3, -0.1], [-0.4, 1.2, 0.2], [-0.05, 0.2, 0.6]])
    forward = np.array([[0.5, 0.3, 0.1642], [0.25, 0.7, 0.05], [0.02, 0.1, 0.7049]])
    start = CameraProfile(
        name="Bench light",
        model="Alder Alder One",
        illuminants=(17, 21),
        colour=(eye, eye * 1.05),
        forward=(forward, forward),
    )
    return replace(start, **more)  # type: ignore[arg-type]


FULL = profile(
    hue_sat=(table(seed=1), table(seed=2)), look=table(36, 8, 16, seed=3, srgb=True),
    curve=np.array([[0, 0], [0.1, 0.16], [0.5, 0.7], [1, 1]]), baseline=0.35, black="none", copyright="CC0", policy=3,
)  # fmt: skip


def same(a: CameraProfile, b: CameraProfile) -> None:
    for name in ("name", "model", "illuminants", "black", "policy", "copyright", "lights"):
        assert getattr(a, name) == getattr(b, name), name
    assert a.baseline == pytest.approx(b.baseline, abs=1e-6)
    for name in ("colour", "forward", "reduction"):
        assert all(np.allclose(x, y, atol=1e-6) for x, y in zip(getattr(a, name), getattr(b, name), strict=True))
    for x, y in zip([*a.hue_sat, a.look], [*b.hue_sat, b.look], strict=True):
        assert (x is None) == (y is None)
        assert x is None or (x.srgb == y.srgb and np.array_equal(x.cells, y.cells))
    assert (a.curve is None) == (b.curve is None) and (a.curve is None or np.allclose(a.curve, b.curve, atol=1e-7))


@pytest.mark.parametrize(
    "wanted",
    [
        profile(),
        FULL,
        profile(illuminants=(17, 21, 255), colour=FULL.colour + (FULL.colour[0] * 0.97,), forward=(),
                lights=(None, None, (0.38, 0.37)), hue_sat=(table(8, 4),) * 3),
        profile(illuminants=(21,), colour=(np.arange(12).reshape(4, 3) / 10 + np.eye(4, 3),), forward=(), reduction=(np.eye(3, 4),)),
    ],
    ids=["matrices", "everything", "three lights", "four colours"],
)  # fmt: skip
def test_files_come_back_identical(wanted: CameraProfile) -> None:
    data = write_dcp(wanted)
    found = read_dcp(data)
    same(found, wanted)
    assert write_dcp(found) == data and found.content == wanted.content


def test_tags_have_the_types_that_the_specification_gives_them() -> None:
    """Types and counts by tifffile, a second reader (source: dng17, chapter 4), on the same directory as a TIFF."""
    data = write_dcp(FULL)
    kinds = {
        "UniqueCameraModel": (2, None), "ProfileName": (2, None), "ProfileCopyright": (2, None), "ProfileEmbedPolicy": (4, 1),
        "CalibrationIlluminant1": (3, 1), "CalibrationIlluminant2": (3, 1), "ColorMatrix1": (10, 9), "ForwardMatrix2": (10, 9),
        "ProfileHueSatMapDims": (4, 3), "ProfileHueSatMapData1": (11, 90 * 30 * 3), "ProfileLookTableDims": (4, 3),
        "ProfileLookTableData": (11, 36 * 8 * 16 * 3), "ProfileLookTableEncoding": (4, 1), "ProfileToneCurve": (11, 8),
        "BaselineExposureOffset": (10, 1), "DefaultBlackRender": (4, 1),
    }  # fmt: skip
    with tifffile.TiffFile(io.BytesIO(data[:2] + struct.pack("<H", 42) + data[4:])) as tiff:
        tags = tiff.pages[0].tags
        for name, (kind, count) in kinds.items():
            tag = tags[CODES[name]]
            assert int(tag.dtype) == kind and count in (None, tag.count), name
        codes = [t.code for t in tags]
        assert codes == sorted(codes)
        matrix = np.array(tags[CODES["ColorMatrix1"]].value, dtype=float)
        assert np.allclose(matrix[::2] / matrix[1::2], FULL.colour[0].ravel(), atol=1e-6)


def plain(rgb: np.ndarray, cells: np.ndarray, srgb: bool) -> np.ndarray:
    """One pixel through a table in float64, step by step from the words of the specification (source: dng17)."""
    hues, sats, vals, _ = cells.shape
    h, s, v = colorsys.rgb_to_hsv(*rgb)

    def encode(x: float) -> float:
        return 12.92 * x if x <= 0.0031308 else 1.055 * x ** (1 / 2.4) - 0.055

    def decode(x: float) -> float:
        return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4

    e = encode(v) if srgb else v
    at = (h * hues, min(s, 1) * (sats - 1), min(max(e, 0), 1) * (vals - 1))
    low = [int(np.floor(at[0])), min(int(at[1]), sats - 2), min(int(at[2]), max(vals - 2, 0))]
    out = np.zeros(3)
    for i in (0, 1):
        for j in (0, 1):
            for k in (0, 1) if vals > 1 else (0,):
                w = np.prod(
                    [1 - abs(a - (b + d)) for a, b, d in zip(at, low, (i, j, k), strict=True)][: 3 if vals > 1 else 2]
                )
                out += w * cells[(low[0] + i) % hues, low[1] + j, low[2] + k]
    h, s = (h + out[0] / 360) % 1, min(s * out[1], 1)
    v = decode(min(e * out[2], 1)) if srgb else v * out[2]
    return np.array(colorsys.hsv_to_rgb(h, s, v))


def through(rgb: np.ndarray, t: HueSatTable) -> np.ndarray:
    rows = [np.ascontiguousarray(rgb[:, c], dtype=np.float32) for c in range(3)]
    n = len(rgb)
    apply_table(*rows, *packed(t.cells, t.srgb), np.float32(1), n)
    return np.stack(rows, axis=1)


@pytest.mark.parametrize(("vals", "srgb"), [(1, False), (1, True), (16, False), (16, True)])
def test_tables_are_applied_as_the_specification_says(vals: int, srgb: bool) -> None:
    t = table(36, 8, vals, size=0.2 if vals > 1 else 1.0, srgb=srgb)
    rgb = np.concatenate(
        [RNG.random((400, 3)), RNG.random((200, 3)) * 0.02, np.eye(3), np.full((1, 3), 0.4), np.zeros((1, 3))]
    )
    wanted = np.array([plain(p, t.cells.astype(np.float64), srgb) for p in rgb])
    assert np.abs(through(rgb, t) - wanted).max() < 2e-4
    assert np.sqrt(((through(rgb, t) - wanted) ** 2).mean()) < 2e-5


@given(st.lists(st.floats(0, 8, width=32), min_size=3, max_size=3), st.booleans())
@settings(max_examples=200, deadline=None)
def test_a_table_of_nothing_changes_nothing(rgb: list[float], srgb: bool) -> None:
    cells = np.zeros((6, 4, 3, 3), np.float32)
    cells[..., 1:] = 1
    pixel = np.array([rgb], dtype=np.float32)
    assert np.allclose(through(pixel, HueSatTable(cells, srgb)), pixel, rtol=3e-4, atol=1e-5)


@given(st.floats(-20, 20), st.floats(0.8, 1.2), st.lists(st.floats(0.05, 0.7), min_size=3, max_size=3))
@settings(max_examples=100, deadline=None)
def test_a_shift_and_its_inverse_cancel(shift: float, factor: float, rgb: list[float]) -> None:
    there, back = np.ones((6, 4, 1, 3), np.float32), np.ones((6, 4, 1, 3), np.float32)
    there[..., 0], there[..., 2] = shift, factor
    back[..., 0], back[..., 2] = -shift, 1 / factor
    pixel = np.array([rgb])
    assert np.allclose(through(through(pixel, HueSatTable(there)), HueSatTable(back)), pixel, atol=2e-4)


def test_tone_curve_keeps_its_points_and_its_strength_scales_it() -> None:
    points = FULL.curve
    assert points is not None
    assert profile_curve(points, points[:, 0]) == pytest.approx(points[:, 1], abs=1e-9)
    x = np.linspace(0, 1, 50)
    whole, half, none = (tone_of(x, Light(), Levels(), Curve(), s, points) for s in (1.0, 0.5, 0.0))
    assert none == pytest.approx(x) and half == pytest.approx((whole + x) / 2)


def test_three_lights_each_rule_at_their_own_white() -> None:
    three = profile(
        illuminants=(17, 21, 255), lights=(None, None, (0.38, 0.39)), forward=(),
        colour=tuple(FULL.colour[0] * f for f in (1.0, 1.1, 1.3)), hue_sat=tuple(table(6, 3, seed=s) for s in (1, 2, 3)),
    )  # fmt: skip
    colour = with_profile(Source(_facts(), np.zeros((0, 0))).camera, three)
    for k, xy in enumerate(colour.places):
        assert np.allclose(colour.xyz_to_camera(xy), three.colour[k], rtol=1e-6)
        found = colour.hue_sat_at(xy)
        assert found and np.allclose(found.cells, three.hue_sat[k].cells, atol=1e-4)
    middle = tuple(np.mean(colour.places, axis=0))
    shares = colour._shares(middle, 3)
    # The farthest light counts nothing; the others share.
    assert shares.sum() == pytest.approx(1) and (shares >= 0).all() and shares.max() < 1 - 1e-4


def test_four_colours_become_three_through_the_reduction() -> None:
    """White stays white; without a reduction the least-squares inverse does (source: dng17, chapter 6)."""
    colour4 = np.vstack([FULL.colour[0], [0.2, 0.7, 0.3]])
    reduce = np.array([[1.0, 0, 0, 0], [0, 0.5, 0, 0.5], [0, 0, 1, 0]])
    for reduction in ((reduce,), ()):
        four = profile(illuminants=(21,), colour=(colour4,), forward=(), reduction=reduction)
        start = Source(_facts(), np.zeros((0, 0))).camera
        made = replace(with_profile(start, four), analog_balance=np.ones(4))
        for kelvin in (3000, 5500, 8000):
            xy = temperature_to_xy(kelvin, 4)
            assert made.to_working(xy) @ made.white_numbers(xy) == pytest.approx(np.ones(3), abs=1e-6)


def _facts() -> "object":
    from tanner.core.raw.facts import FrameFacts

    return FrameFacts(path="x", kind="bayer", width=600, height=400, make="Alder", model="Alder One",
                      colour_matrices=(tuple(FULL.colour[0].ravel()),), illuminants=(21,))  # fmt: skip


# --- in files and in pictures ---------------------------------------------------------------------------


@pytest.fixture(scope="module")
def frame(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("raw") / "a.dng"
    path.write_bytes(take(exposure(scene="chart")))
    return path


@pytest.fixture
def shelf(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(PROFILE_STORE, "folders", [tmp_path])
    return tmp_path


def shown(source: Source, **values: object) -> np.ndarray:
    start = defaults(raw=True, lens=True)
    return render(source, develop({**start, **values}), (300, 200)).astype(int)


def test_a_profile_on_the_shelf_changes_the_picture_at_once(frame: Path, shelf: Path) -> None:
    source = read(frame)
    start = shown(source)
    own = from_tags_of(source)
    (shelf / "same.dcp").write_bytes(write_dcp(own))
    assert np.abs(shown(source, **{"profile.camera": "same"}) - start).max() <= 1
    (shelf / "table.dcp").write_bytes(write_dcp(replace(own, hue_sat=(table(seed=9), table(seed=9)))))
    assert np.abs(shown(source, **{"profile.camera": "table"}) - start).max() > 8
    (shelf / "bright.dcp").write_bytes(write_dcp(replace(own, baseline=1.0)))
    brighter = shown(source, **{"profile.camera": "bright"})
    assert np.abs(brighter - shown(source, **{"light.exposure": 1.0})).max() <= 1


def from_tags_of(source: Source) -> CameraProfile:
    camera = source.camera
    return CameraProfile("own", "Alder One", source.facts.illuminants, camera.colour, camera.forward)


def test_exposure_after_a_plain_table_is_exposure(frame: Path, shelf: Path) -> None:
    source = read(frame)
    none = np.ones((6, 4, 1, 3), np.float32)
    none[..., 0] = 0
    (shelf / "none.dcp").write_bytes(
        write_dcp(replace(from_tags_of(source), hue_sat=(HueSatTable(none),), look=HueSatTable(none)))
    )
    for ev in (0.0, 1.5, -2.0):
        a, b = (
            shown(source, **{"light.exposure": ev}),
            shown(source, **{"light.exposure": ev, "profile.camera": "none"}),
        )
        assert np.abs(a - b).max() <= 2 and np.abs(a - b).mean() < 0.05


def test_profiles_inside_a_file_are_found_and_used(frame: Path, tmp_path: Path) -> None:
    """The main directory's profile and one behind ExtraCameraProfiles, added to a DNG by hand."""
    data = bytearray(frame.read_bytes())
    extra = write_dcp(replace(from_tags_of(read(frame)), name="Second", baseline=0.5))
    while len(data) % 2:
        data += b"\0"
    place = len(data)
    data += extra
    (at,) = struct.unpack_from("<I", data, 4)
    (count,) = struct.unpack_from("<H", data, at)
    entries = [bytes(data[at + 2 + 12 * i : at + 14 + 12 * i]) for i in range(count)]
    curve = np.array([[0, 0], [0.4, 0.6], [1, 1]], dtype="<f4").tobytes()
    where = len(data)
    data += curve
    entries.append(struct.pack("<HHII", CODES["ProfileToneCurve"], 11, 6, where))
    entries.append(struct.pack("<HHII", CODES["ExtraCameraProfiles"], 4, 1, place))
    entries.append(struct.pack("<HHI", CODES["ProfileName"], 2, 4) + b"In\0\0")
    entries.sort(key=lambda e: struct.unpack_from("<H", e)[0])
    new = len(data)
    data += struct.pack("<H", len(entries)) + b"".join(entries) + b"\0\0\0\0"
    struct.pack_into("<I", data, 4, new)
    path = tmp_path / "b.dng"
    path.write_bytes(data)
    source = read(path)
    assert source.facts.profiles == ("In", "Second") and not source.facts.warnings
    plain_one = shown(read(frame))
    assert np.abs(shown(source) - plain_one).max() > 5  # the embedded curve stands in for ours
    assert np.abs(shown(source, **{"profile.camera": "matrix"}) - plain_one).max() == 0
    second = shown(source, **{"profile.camera": "embedded-2"})
    assert np.abs(second - shown(read(frame), **{"light.exposure": 0.5})).max() <= 1


def test_what_is_missing_or_for_another_camera_is_said(frame: Path, shelf: Path) -> None:
    source = read(frame)
    colour, warning = source.colour_by("gone")
    assert "gone is not there" in warning and colour is source.camera
    (shelf / "other.dcp").write_bytes(write_dcp(profile(model="Finch Nine")))
    assert "is for Finch Nine" in source.colour_by("other")[1]
    assert fits(profile(), source.facts) and fits(profile(model=""), source.facts)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda d: b"JFIF" + d[4:], "does not begin"),
        (lambda d: d[:2] + b"\x2a\0" + d[4:], "magic number"),
        (lambda d: d[:200], "beyond the end"),
        (lambda d: _count(d, "ProfileHueSatMapData1", 90 * 30 * 3 - 3), "its dimensions ask for"),
        (lambda d: _count(d, "ColorMatrix1", 7), "neither 9 nor 12"),
        (lambda d: _count(d, "ProfileLookTableData", 2**31), "more than any profile"),
        (lambda d: _count(d, "ProfileToneCurve", 7), "no list of points"),
    ],
)
def test_broken_files_are_refused_with_the_reason(change: object, words: str, tmp_path: Path) -> None:
    path = tmp_path / "bad.dcp"
    path.write_bytes(change(write_dcp(FULL)))  # type: ignore[operator]
    with pytest.raises(ProfileError, match=words) as error:
        load(path)
    assert "bad.dcp" in str(error.value)
    shelf = ProfileStore()
    shelf.add(tmp_path)
    assert shelf.find("bad") is None


def _count(data: bytes, name: str, count: int) -> bytes:
    out = bytearray(data)
    (number,) = struct.unpack_from("<H", out, 8)
    for i in range(number):
        if struct.unpack_from("<H", out, 10 + 12 * i)[0] == CODES[name]:
            struct.pack_into("<I", out, 14 + 12 * i, count)
    return bytes(out)


def test_no_numbers_in_a_table_are_refused() -> None:
    broken = table(6, 4)
    broken.cells[0, 0, 0, 0] = np.nan
    with pytest.raises(ProfileError, match="no numbers"):
        read_dcp(write_dcp(profile(hue_sat=(broken,))))


@given(st.binary(max_size=400))
@settings(max_examples=200, deadline=None)
def test_noise_is_refused_and_nothing_else_happens(data: bytes) -> None:
    with pytest.raises(ProfileError):
        read_dcp(b"II\x52\x43" + data)


def test_big_endian_files_are_read() -> None:
    """A directory written by hand in the other byte order."""
    matrix = b"".join(struct.pack(">ii", v, 1000) for v in (900, -300, -100, -400, 1200, 200, -50, 200, 600))
    head = b"MM" + struct.pack(">HI", 0x4352, 8) + struct.pack(">H", 2)
    entries = struct.pack(">HHII", CODES["ColorMatrix1"], 10, 9, 38) + struct.pack(
        ">HHIHH", CODES["CalibrationIlluminant1"], 3, 1, 21, 0
    )
    found = read_dcp(head + entries + b"\0\0\0\0" + matrix)
    assert np.allclose(found.colour[0], FULL.colour[0]) and found.illuminants == (21,)


def test_a_profile_can_go_into_a_dng_as_tags() -> None:
    tags = {code: (e.kind, e.count) for code, e in dng_entries(FULL).items()}
    assert tags[CODES["ForwardMatrix1"]] == (10, 9) and CODES["UniqueCameraModel"] not in tags
    assert read_directory(write_dcp(FULL))["ProfileName"] == "Bench light"

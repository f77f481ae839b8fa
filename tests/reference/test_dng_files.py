"""Every kind of DNG that Tanner writes, under the strict checker, and what copies say of their originals."""

import dataclasses
import re
import struct
from pathlib import Path

import numpy as np
import pytest
from dng_checker import problems
from made import exposure

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.dcp import CameraProfile, HueSatTable, dng_entries, write_dcp
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import SPACES
from tanner.core.measure import xyz_to_lab
from tanner.core.merge.frames import as_dng, part_of
from tanner.core.noise.methods import Strength
from tanner.core.noise.prepass import denoise_file
from tanner.core.output.develop import encode
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.dng import DngTags, opcode_list, write_bayer_dng
from tanner.core.raw.reader import read
from tanner.core.render import full_size, render
from tanner.core.tiff.dng import CODES
from tanner.core.tiff.ifd import DOUBLE, LONG, RATIONAL, SRATIONAL, byte_order, entry
from tanner.core.tiff.ifd import read as read_ifd
from tanner.studio.camera import take


def table(hues: int, sats: int, vals: int, phase: float) -> HueSatTable:
    """Smooth, as real ones are: a rough one would make much of the last bits of noise."""
    h, s, v = np.meshgrid(
        np.arange(hues) / hues, np.arange(sats) / (sats - 1), np.arange(vals) / max(1, vals - 1), indexing="ij"
    )
    wave = np.sin(2 * np.pi * h + phase)
    return HueSatTable(
        np.stack([25 * wave * s, 1 + 0.3 * wave, 1 + 0.3 * wave * s * (1 - v)], axis=-1).astype(np.float32)
    )


@pytest.fixture(scope="module")
def told(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A frame whose file says a lot: profile with tables, look and curve, a second profile, calibration, baselines."""
    frame = tmp_path_factory.mktemp("told") / "M0001.dng"
    frame.write_bytes(take(exposure("M0001.dng", "lamp", iso=100)))
    source = read(frame)
    facts = source.facts
    matrices = tuple(np.array(m).reshape(3, 3) for m in facts.colour_matrices)
    forward = tuple(np.array(m).reshape(3, 3) for m in facts.forward_matrices)
    profile = CameraProfile(
        "Warm bench", "Alder Alder One", (17, 21), matrices, forward, hue_sat=(table(24, 8, 1, 1), table(24, 8, 1, 2)),
        look=table(12, 6, 4, 3), curve=np.array([[0, 0], [0.2, 0.28], [0.6, 0.75], [1, 1]]), baseline=0.2,
        calibration_signature="com.example.finch",
    )  # fmt: skip
    calibration = np.diag([1.04, 1.0, 0.97])
    entries = dng_entries(profile) | {
        CODES["CameraCalibration1"]: entry(SRATIONAL, calibration),
        CODES["CameraCalibration2"]: entry(SRATIONAL, calibration),
        CODES["CameraCalibrationSignature"]: entry(2, "com.example.finch"),
        CODES["AnalogBalance"]: entry(RATIONAL, (1.02, 1.0, 0.99)),
        CODES["BaselineExposure"]: entry(SRATIONAL, 0.35),
        CODES["BaselineNoise"]: entry(RATIONAL, 1.25),
        CODES["BaselineSharpness"]: entry(RATIONAL, 0.75),
        CODES["LinearResponseLimit"]: entry(RATIONAL, 0.98),
        CODES["NoiseProfile"]: entry(DOUBLE, facts.noise_profile),
    }
    second = write_dcp(dataclasses.replace(profile, name="Second", look=None, hue_sat=(), curve=None))
    tags = DngTags(
        facts.make, facts.model, 512, 16383, (0, 1, 1, 2), facts.neutral, matrices, facts.illuminants, kept=entries,
        profiles=(second,), opcodes3=opcode_list(np.array([[1.01, -0.02, 0, 0, 0, 0]]), None), iso=100,
    )  # fmt: skip
    path = frame.parent / "T0001.dng"
    path.write_bytes(write_bayer_dng(source.data, tags))
    return path


def archive(path: Path, target: Path, **more: object) -> Path:
    source = read(path)
    due = develop(defaults(raw=True, lens=source.lens is not None))
    data, _ = encode(source, due, OutputSpec(format="dng", ppi=254, **more))
    target.write_bytes(data)
    return target


def test_the_simulated_camera(originals: Path, tmp_path: Path) -> None:
    for name in ("T0001.DNG", "T0011.DNG", "T0021.DNG"):
        assert problems(originals / name) == []
    plain = tmp_path / "plain.dng"
    plain.write_bytes(take(exposure(), compress=False))
    assert problems(plain) == []


def test_a_file_that_says_a_lot(told: Path) -> None:
    assert problems(told) == []
    assert read(told).facts.profiles == ("Warm bench", "Second")


@pytest.mark.parametrize("method", ["quick", "fine", "learned"])
def test_quiet_copies(noisy_lamp: Path, tmp_path: Path, method: str) -> None:
    made = denoise_file(noisy_lamp, method, Strength(), tmp_path)
    assert problems(Path(made["target"])) == []


def test_archives_and_merged_frames(told: Path, noisy_lamp: Path, tmp_path: Path) -> None:
    for n, path in enumerate((told, noisy_lamp)):
        linear = archive(path, tmp_path / f"{n}.dng")
        assert problems(linear) == []
        data = linear.read_bytes()
        main, _ = read_ifd(data, byte_order(data)[1], "<")
        assert main[CODES["XResolution"]].values == main[CODES["YResolution"]].values == (254.0,)
        part = part_of(read(path), 200_000)
        merged = tmp_path / f"{n}-merged.dng"
        merged.write_bytes(as_dng(part.pixels, part.facts))
        assert problems(merged) == []


def flaw(data: bytearray, name: str, code: int) -> bytes:
    """The file with one tag of its first directory renumbered, or its first value changed."""
    at = struct.unpack_from("<I", data, 4)[0]
    for i in range(struct.unpack_from("<H", data, at)[0]):
        place = at + 2 + 12 * i
        if struct.unpack_from("<H", data, place)[0] == CODES[name]:
            struct.pack_into("<I", data, place + 8, code)
    return bytes(data)


@pytest.mark.parametrize(
    ("name", "value", "word"),
    [("WhiteLevel", 40000, "WhiteLevel"), ("NewSubfileType", 1, "full picture"), ("BitsPerSample", 12, "BitsPerSample|bits|WhiteLevel"),
     ("SubIFDs", 0, "lies outside|not in the table|missing|ordered|order"), ("DNGBackwardVersion", 1, "asks more of a reader"),
     ("ImageWidth", 598, "JPEG|digest|reshape")],
)  # fmt: skip
def test_the_checker_sees_flaws(lamp: Path, tmp_path: Path, name: str, value: int, word: str) -> None:
    path = tmp_path / "flawed.dng"
    path.write_bytes(flaw(bytearray(lamp.read_bytes()), name, value))
    try:
        found = " ".join(problems(path))
    except (struct.error, ValueError, KeyError) as error:
        found = f"missing or out of order: {error}"
    assert re.search(word, found), found


KEPT = (
    "ColorMatrix1", "ColorMatrix2", "ForwardMatrix1", "CameraCalibration1", "CameraCalibration2", "AnalogBalance",
    "CameraCalibrationSignature", "ProfileCalibrationSignature", "AsShotNeutral", "BaselineExposure", "BaselineNoise",
    "BaselineSharpness", "LinearResponseLimit", "NoiseProfile", "ProfileName", "ProfileHueSatMapData1",
    "ProfileHueSatMapData2", "ProfileLookTableData", "ProfileToneCurve", "BaselineExposureOffset",
)  # fmt: skip


def entries(path: Path) -> dict[str, bytes]:
    data = path.read_bytes()
    main, _ = read_ifd(data, byte_order(data)[1], "<")
    return {name: main[code].data for name, code in CODES.items() if code in main}


def shown(path: Path, **settings: object) -> np.ndarray:
    """Lab of a frame as it opens, small."""
    source = read(path)
    values = defaults(raw=True, lens=source.lens is not None, applied=source.facts.applied)
    development = develop({**values, "noise.method": "none", "detail.amount": 0.0, **settings})
    w, h = full_size(source, development)
    pixels = render(source, development, (150, round(150 * h / w)), bits=16)
    linear = SPACES["srgb"].decode(pixels / 65535) @ SPACES["srgb"].to_pcs().T
    # Means of 10 x 10 px: noise is not the cause then.
    return xyz_to_lab(linear).reshape(10, 10, 15, 10, 3).mean(axis=(1, 3))


def test_copies_keep_what_their_original_says(told: Path, tmp_path: Path) -> None:
    wanted, first = entries(told), shown(told)
    second = shown(told, **{"profile.camera": "embedded-2"})
    assert ciede2000(first, second).mean() > 1  # the two profiles do differ
    made = {"archive": archive(told, tmp_path / "archive.dng")}
    for method in ("quick", "fine"):
        made[method] = Path(denoise_file(told, method, Strength(luminance=0, colour=0), tmp_path)["target"])
    for name, path in made.items():
        said = entries(path)
        assert {k for k in KEPT if said.get(k) != wanted[k]} == set(), name
        assert ("OpcodeList3" in said) == (name != "archive")
        assert read(path).facts.profiles == ("Warm bench", "Second")
        off = ciede2000(first, shown(path))
        assert np.median(off) < 0.15 and off.mean() < 0.3, (name, off.mean())
        off = ciede2000(second, shown(path, **{"profile.camera": "embedded-2"}))
        assert off.mean() < 0.3, (name, off.mean())


def test_big_endian_originals_are_kept_in_our_order() -> None:
    from tanner.core.raw.copies import _light
    from tanner.core.tiff.ifd import Entry

    stored = struct.pack(">H4I", 0, 3127, 10000, 3290, 10000)
    assert _light(Entry(7, len(stored), stored)).data == struct.pack("<H4I", 0, 3127, 10000, 3290, 10000)
    assert entry(LONG, 7).data == b"\x07\0\0\0"

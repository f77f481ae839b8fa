"""Reading files: every kind, and every kind of trouble, told with the file's name and what to do."""

import io
import struct
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from made import exposure

from tanner.core.adjust.registry import develop
from tanner.core.colour.spaces import icc_profile
from tanner.core.errors import UnreadableFile
from tanner.core.raw.opcodes import lens_fields, split
from tanner.core.raw.plain import PlainMosaic, plain_mosaic
from tanner.core.raw.reader import read
from tanner.core.render import render
from tanner.studio.camera import take


def test_facts_of_a_raw_file(lamp: Path) -> None:
    facts = read(lamp).facts
    assert (facts.kind, facts.width, facts.height, facts.orientation) == ("bayer", 600, 400, 1)
    assert (facts.make, facts.model, facts.lens) == ("Alder", "Alder One", "Finch 55 mm")
    assert (facts.iso, facts.aperture, facts.focal_length_mm) == (100, 8.0, 55.0)
    assert facts.exposure_s == pytest.approx(1 / 125)
    assert (facts.taken is not None and facts.taken.isoformat() == "2026-03-12T09:00:00") or facts.taken
    assert len(facts.colour_matrices) == len(facts.forward_matrices) == 2
    assert facts.illuminants == (17, 21)
    assert len(facts.noise_profile) == 6 and facts.warp is not None and len(facts.warp) == 3
    assert facts.opcodes == ("FixVignetteRadial", "WarpRectilinear")
    assert facts.warnings == ()


def test_facts_alone_read_no_pixels(lamp: Path) -> None:
    assert read(lamp, pixels=False).data.size == 0


def test_what_the_decoder_gives_is_what_the_camera_wrote(lamp: Path) -> None:
    """Lossless, black and white as written: against the simulated camera's own numbers."""
    from made import series

    from tanner.studio.camera import BLACK, WHITE, mosaic

    source = read(lamp)
    numbers, _ = mosaic(series()[0])
    assert np.array_equal(source.data, numbers)
    assert source.facts.black == (BLACK,) * 4 and source.facts.white == WHITE


# --- other kinds -----------------------------------------------------------------------------------

GREY = 0.4


def dng(pixels: np.ndarray, photometric: int, extra: list[tuple[int, int, int, object, bool]]) -> bytes:
    buffer = io.BytesIO()
    tags = [
        (50706, 1, 4, b"\x01\x04\x00\x00", True),
        (50707, 1, 4, b"\x01\x04\x00\x00", True),
        (50708, 2, 6, "Maker", True),
        (271, 2, 6, "Maker", True),
        (272, 2, 6, "Model", True),
        (50717, 4, 1, 16383, True),
        (50721, 10, 9, tuple(v for m in np.eye(3).ravel() for v in (int(m * 10000), 10000)), True),
        (50778, 3, 1, 21, True),
        (50728, 5, 3, (1, 1, 1, 1, 1, 1), True),
        *extra,
    ]
    tifffile.imwrite(
        buffer,
        pixels,
        photometric=photometric,
        metadata=None,
        extratags=tags,
        planarconfig=1 if pixels.ndim == 3 else None,
    )
    return buffer.getvalue()


def test_linear_dng(tmp_path: Path) -> None:
    ramp = np.broadcast_to(np.linspace(1000, 12000, 200), (120, 200)).astype(np.uint16)
    path = tmp_path / "linear.dng"
    path.write_bytes(dng(np.stack([ramp, ramp // 2, ramp // 4], axis=-1), 34892, []))
    source = read(path)
    assert source.facts.kind == "camera" and source.data.shape == (3, 120, 200)
    assert source.data[0] == pytest.approx(ramp / 16383, abs=1e-3)
    assert source.data[2] == pytest.approx((ramp // 4) / 16383, abs=1e-3)
    assert render(source, develop({}), (100, 60)).shape == (60, 100, 3)


def test_x_trans(tmp_path: Path) -> None:
    """A 6 x 6 colour filter array: LibRaw interpolates, Tanner goes on from linear camera colour."""
    pattern = np.array(
        [[1, 2, 1, 1, 0, 1], [0, 1, 0, 2, 1, 2], [1, 2, 1, 1, 0, 1], [1, 0, 1, 1, 2, 1], [2, 1, 2, 0, 1, 0], [1, 0, 1, 1, 2, 1]]
    )  # fmt: skip
    colour = np.array([4000, 8000, 2000])
    tile = colour[np.tile(pattern, (100, 100))].astype(np.uint16)
    extra = [(33421, 3, 2, (6, 6), True), (33422, 1, 36, bytes(pattern.astype(np.uint8).ravel()), True)]
    path = tmp_path / "x.dng"
    path.write_bytes(dng(tile, 32803, extra))
    source = read(path)
    assert source.facts.kind == "camera" and source.facts.mosaic == "6 × 6"
    middle = source.data[:, 60:-60, 60:-60].mean(axis=(1, 2))
    assert middle / middle[1] == pytest.approx([0.5, 1.0, 0.25], abs=0.02)


@pytest.mark.parametrize("suffix", [".jpg", ".png", ".tif"])
@pytest.mark.parametrize("bits", [8, 16])
def test_finished_pictures_come_back_as_they_were(tmp_path: Path, suffix: str, bits: int) -> None:
    if suffix == ".jpg" and bits == 16:
        pytest.skip("JPEG has 8 bits")
    yy, xx = np.mgrid[0:90, 0:140]
    rgb = np.stack([40 + xx, 60 + yy, 200 - xx // 2], axis=-1).astype(np.uint8)
    deep = rgb.astype(np.uint16) * 257 if bits == 16 else rgb
    path = tmp_path / f"f{suffix}"
    if suffix == ".tif":
        tifffile.imwrite(path, deep, photometric="rgb", iccprofile=icc_profile("srgb"))
    else:
        assert cv2.imwrite(str(path), deep[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 100])
    source = read(path)
    assert source.facts.kind == "finished" and not source.facts.is_raw
    out = render(source, develop({}), (140, 90))
    assert np.abs(out.astype(int) - rgb)[2:-2, 2:-2].max() <= (6 if suffix == ".jpg" else 2)


def test_a_wide_gamut_picture_is_not_taken_for_srgb(tmp_path: Path) -> None:
    rgb = np.full((64, 64, 3), (200, 80, 60), np.uint8)
    plain, wide = tmp_path / "a.tif", tmp_path / "b.tif"
    tifffile.imwrite(plain, rgb, photometric="rgb")
    tifffile.imwrite(wide, rgb, photometric="rgb", iccprofile=icc_profile("widegamut1998"))
    a = render(read(plain), develop({}), (64, 64))[32, 32].astype(int)
    b = render(read(wide), develop({}), (64, 64))[32, 32].astype(int)
    assert b[0] > a[0] + 10


def test_grey_tiff(tmp_path: Path) -> None:
    path = tmp_path / "g.tif"
    tifffile.imwrite(path, np.full((64, 80), 30000, np.uint16), photometric="minisblack")
    out = render(read(path), develop({}), (80, 64))
    assert out[30, 40] == pytest.approx(np.full(3, 30000 / 257), abs=1.5)


# --- trouble ----------------------------------------------------------------------------------------


def test_trouble_is_told_with_the_name(tmp_path: Path, lamp: Path) -> None:
    whole = lamp.read_bytes()
    cases = {
        "empty.dng": b"",
        "text.dng": b"this is no picture at all" * 40,
        "cut.dng": whole[: len(whole) // 3],
        "cut.jpg": b"\xff\xd8\xff\xe0" + bytes(200),
        "mislabelled.jpg": whole,
        "mislabelled.tif": b"GIF89a" + bytes(100),
        "zero.png": bytes(1000),
        "odd näme \u202e.dng": b"II*\0" + bytes(50),
    }
    for name, content in cases.items():
        path = tmp_path / name
        path.write_bytes(content)
        with pytest.raises(UnreadableFile) as caught:
            read(path)
        assert str(caught.value).startswith(name) and caught.value.reason
    with pytest.raises(UnreadableFile, match="cannot be opened"):
        read(tmp_path / "gone.dng")


def test_a_hollow_file_is_no_black_picture(tmp_path: Path) -> None:
    path = tmp_path / "hollow.dng"
    path.write_bytes(
        dng(
            np.zeros((120, 200), np.uint16),
            32803,
            [(33421, 3, 2, (2, 2), True), (33422, 1, 4, bytes((0, 1, 1, 2)), True)],
        )
    )
    with pytest.raises(UnreadableFile, match="zero"):
        read(path)


def test_a_huge_declared_size_is_refused_before_memory_is_taken(tmp_path: Path) -> None:
    """A PNG header that promises 100,000 x 100,000 px."""
    import zlib

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 100_000, 100_000, 8, 2, 0, 0, 0))
    path = tmp_path / "huge.png"
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(bytes(100))) + chunk(b"IEND", b""))
    with pytest.raises(UnreadableFile, match="more than the 120 megapixels"):
        read(path)


def test_tags_that_lead_in_circles_end(tmp_path: Path) -> None:
    """An IFD whose next IFD is itself."""
    entry = struct.pack("<HHII", 256, 4, 1, 64) + struct.pack("<HHII", 50706, 1, 4, 1)
    body = struct.pack("<H", 2) + entry + struct.pack("<I", 8)
    path = tmp_path / "loop.dng"
    path.write_bytes(b"II*\0" + struct.pack("<I", 8) + body + bytes(500))
    with pytest.raises(UnreadableFile):
        read(path)


@pytest.mark.parametrize("seed", range(12))
def test_damaged_bytes_never_end_in_another_error(tmp_path: Path, lamp: Path, seed: int) -> None:
    """Flipped bytes in the head give a picture or an UnreadableFile, nothing else."""
    rng = np.random.default_rng(seed)
    data = bytearray(lamp.read_bytes())
    for at in rng.integers(8, 2500, 30):
        data[at] = int(rng.integers(0, 256))
    path = tmp_path / "damaged.dng"
    path.write_bytes(data)
    try:
        source = read(path)
        assert source.data.size
    except UnreadableFile as error:
        assert error.reason


def test_hostile_opcode_lists() -> None:
    assert split(b"") == []
    assert split(struct.pack(">I", 2**31)) == []
    cut = struct.pack(">IIIII", 1, 1, 0x01030000, 1, 10**9) + bytes(8)
    assert split(cut) == [(1, bytes(8))]
    assert lens_fields(cut)[0] == {} and "cannot be used" in lens_fields(cut)[1][0]
    nan = struct.pack(">I", 1) + struct.pack(">8d", *[float("nan")] * 8)
    assert lens_fields(struct.pack(">IIIII", 1, 1, 0, 0, len(nan)) + nan)[0] == {}


def test_a_file_without_a_matrix_says_so(tmp_path: Path) -> None:
    rng = np.random.default_rng(0)
    tile = rng.integers(500, 9000, (120, 200)).astype(np.uint16)
    buffer = io.BytesIO()
    tags = [
        (50706, 1, 4, b"\x01\x04\x00\x00", True),
        (33421, 3, 2, (2, 2), True),
        (33422, 1, 4, bytes((0, 1, 1, 2)), True),
    ]
    tifffile.imwrite(buffer, tile, photometric=32803, metadata=None, extratags=tags)
    path = tmp_path / "plain.dng"
    path.write_bytes(buffer.getvalue())
    source = read(path)
    assert any("matrix" in w for w in source.facts.warnings)
    assert render(source, develop({}), (100, 60)).std() > 1


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("threads", [1, 2, 7])
def test_a_plain_mosaic_is_read_in_either_order_of_bytes(tmp_path: Path, order: str, threads: int) -> None:
    path, wanted = tmp_path / "plain.dng", np.arange(31 * 17, dtype=np.uint16).reshape(31, 17) * 119
    path.write_bytes(bytes(100) + wanted.astype(f"{order}u2").tobytes() + bytes(10))
    found = PlainMosaic(path, 100, (31, 17), order, (0, 0, 0, 0), 65535, "RGGB").pixels(threads)
    assert found.dtype == np.uint16 and np.array_equal(found, wanted)


def test_a_plain_mosaic_is_what_libraw_decodes(tmp_path: Path) -> None:
    """Numbers and black level of a DNG without compression, read as they lie, against LibRaw's; others are left to it."""
    import rawpy

    path = tmp_path / "plain.dng"
    path.write_bytes(take(exposure("P.DNG"), compress=False))
    found = plain_mosaic(path, (600, 400), (600, 400))
    assert found is not None
    with rawpy.imread(str(path)) as raw:
        assert np.array_equal(found.pixels(), raw.raw_image_visible)
        colours = "".join("RGBG"[c] for c in raw.raw_pattern.ravel())
        assert found.white == raw.white_level and found.colours == colours
        assert found.black == tuple(
            float(raw.black_level_per_channel[raw.raw_pattern[y, x]]) for y in (0, 1) for x in (0, 1)
        )
    source = read(path)
    assert source.decoder is None or np.array_equal(source.data, found.pixels())
    packed = tmp_path / "packed.dng"
    packed.write_bytes(take(exposure("P.DNG"), compress=True))
    assert plain_mosaic(packed, (600, 400), (600, 400)) is None
    assert np.array_equal(read(packed).data, source.data)
    same = {"path", "file_bytes", "decoded"}
    assert read(packed).facts.model_dump(exclude=same) == source.facts.model_dump(exclude=same)
    assert plain_mosaic(path, (600, 400), (590, 390)) is None  # a masked border is cut by LibRaw
    with path.open("r+b") as file:  # it becomes shorter between the look at it and the reading
        file.truncate(found.offset + 1000)
    with pytest.raises(EOFError, match=r"plain\.dng ends early"):
        found.pixels()
    path.write_bytes(path.read_bytes()[:-5000])
    assert plain_mosaic(path, (600, 400), (600, 400)) is None

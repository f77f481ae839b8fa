"""Mosaics in lossless JPEG and deflate: the same numbers as LibRaw gives, whatever the predictor, components, bits, pieces."""

import struct
import zlib
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import pytest
import rawpy
import tifffile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tanner.core.errors import UnreadableFile
from tanner.core.raw.packed import Odd, packed_mosaic
from tanner.core.raw.reader import read


def encoded(samples: np.ndarray, bits: int, predictor: int, restart: int = 0) -> bytes:
    """Lossless JPEG of (H, W, C), by the standard's text, with codes that all have eight bits (source: t81, annex H)."""
    h, w, count = samples.shape
    out: list[str] = []
    chunks: list[bytes] = []

    def flush() -> None:
        text = "".join(out) + "1" * (-sum(map(len, out)) % 8)
        chunks.append(int(text, 2).to_bytes(len(text) // 8, "big").replace(b"\xff", b"\xff\0") if text else b"")
        out.clear()

    for y in range(h):
        fresh = bool(restart) and y % restart == 0
        if fresh and y:
            flush()
        for x in range(w):
            for c in range(count):
                a = int(samples[y, x - 1, c]) if x else 0
                b = int(samples[y - 1, x, c]) if y else 0
                d = int(samples[y - 1, x - 1, c]) if x and y else 0
                if (fresh or y == 0) and x == 0:
                    p = 1 << (bits - 1)
                elif fresh or y == 0:
                    p = a
                elif x == 0:
                    p = b
                else:
                    p = (a, b, d, a + b - d, a + ((b - d) >> 1), b + ((a - d) >> 1), (a + b) >> 1)[predictor - 1]
                diff = (int(samples[y, x, c]) - p) & 0xFFFF
                if diff == 32768:
                    out.append(format(16, "08b"))
                    continue
                diff = diff - 65536 if diff > 32768 else diff
                size = abs(diff).bit_length()
                out.append(format(size, "08b"))
                if size:
                    out.append(format(diff if diff > 0 else diff + (1 << size) - 1, f"0{size}b"))
    flush()
    table = b"\xff\xc4" + struct.pack(">HB", 2 + 1 + 16 + 17, 0) + bytes([0] * 7 + [17] + [0] * 8) + bytes(range(17))
    head = b"\xff\xc3" + struct.pack(">HBHHB", 8 + 3 * count, bits, h, w, count)
    head += b"".join(bytes([i + 1, 0x11, 0]) for i in range(count))
    if restart:
        head += b"\xff\xdd" + struct.pack(">HH", 4, restart * w)
    scan = b"\xff\xda" + struct.pack(">HB", 6 + 2 * count, count) + b"".join(bytes([i + 1, 0]) for i in range(count))
    scan += bytes([predictor, 0, 0])
    data = b"".join(c + (b"\xff" + bytes([0xD0 + n % 8]) if n + 1 < len(chunks) else b"") for n, c in enumerate(chunks))
    return b"\xff\xd8" + table + head + scan + data + b"\xff\xd9"


def dng(
    path: Path, mosaic: np.ndarray, bits: int, piece: tuple[int, int] | None, pack: Any, *, compression: int = 7,
    more: tuple[Any, ...] = (),
) -> Path:  # fmt: skip
    """A DNG whose pieces are packed by a function; piece: rows and columns of tiles, or one strip."""
    h, w = mosaic.shape
    rows, columns = piece or (h, w)
    blobs = []
    for y in range(0, h, rows):
        for x in range(0, w, columns):
            part = np.zeros((rows, columns), mosaic.dtype)
            cut = mosaic[y : y + rows, x : x + columns]
            part[: cut.shape[0], : cut.shape[1]] = cut
            blobs.append(pack(part))
    entries: list[tuple[int, str, Any]] = [
        (254, "I", 0), (256, "I", w), (257, "I", h), (258, "H", bits), (259, "H", compression), (262, "H", 32803),
        (271, "s", b"Alder\0"), (272, "s", b"Alder One\0"), (274, "H", 1), (277, "H", 1), (284, "H", 1),
        (33421, "H", (2, 2)), (33422, "B", (0, 1, 1, 2)), (50706, "B", (1, 4, 0, 0)), (50707, "B", (1, 1, 0, 0)),
        (50708, "s", b"Alder One\0"), (50717, "I", 2**bits - 1), (50778, "H", 21),
        (50721, "r", [(1, 1), (0, 1), (0, 1), (0, 1), (1, 1), (0, 1), (0, 1), (0, 1), (1, 1)]),
        (50728, "R", [(1, 2), (1, 1), (1, 2)]), *more,
    ]  # fmt: skip
    if piece:
        entries += [
            (322, "I", columns),
            (323, "I", rows),
            (324, "I", [0] * len(blobs)),
            (325, "I", [len(b) for b in blobs]),
        ]
    else:
        entries += [(273, "I", [0] * len(blobs)), (278, "I", rows), (279, "I", [len(b) for b in blobs])]
    entries.sort()
    kinds = {"B": 1, "s": 2, "H": 3, "I": 4, "R": 5, "r": 10}
    size = 8 + 2 + 12 * len(entries) + 4
    body = b""
    table = b""

    def raw(kind: str, value: Any) -> tuple[int, bytes]:
        if kind == "s":
            return len(value), value
        values = value if isinstance(value, tuple | list) else [value]
        if kind in "Rr":
            return len(values), b"".join(struct.pack("<ii" if kind == "r" else "<II", *v) for v in values)
        return len(values), struct.pack(f"<{len(values)}{kind}", *values)

    # Twice: the second time it is known where the pieces lie.
    for _ in range(2):
        body, table = b"", b""
        for tag, kind, value in entries:
            count, data = raw(kind, value)
            if len(data) <= 4:
                table += struct.pack("<HHI", tag, kinds[kind], count) + data.ljust(4, b"\0")
            else:
                table += struct.pack("<HHII", tag, kinds[kind], count, size + len(body))
                body += data + b"\0" * (len(data) % 2)
        at = size + len(body)
        offsets = []
        for blob in blobs:
            offsets.append(at)
            at += len(blob)
        entries = [(t, k, offsets if t in (273, 324) else v) for t, k, v in entries]
    path.write_bytes(b"II*\0" + struct.pack("<IH", 8, len(entries)) + table + b"\0\0\0\0" + body + b"".join(blobs))
    return path


def both(path: Path) -> tuple[np.ndarray, np.ndarray]:
    with rawpy.imread(str(path)) as raw:
        sizes = raw.sizes
        found = packed_mosaic(
            path, (sizes.raw_width, sizes.raw_height), (sizes.top_margin, sizes.left_margin, sizes.height, sizes.width)
        )
        assert found is not None
        return found.pixels(), raw.raw_image_visible.copy()


def picture(h: int, w: int, bits: int, seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    base = np.add.outer(np.arange(h), np.arange(w)) * (2**bits // (h + w)) + rng.integers(0, 2**bits // 8, (h, w))
    return (base % 2**bits).astype(np.uint16)


@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    predictor=st.integers(1, 7), bits=st.sampled_from([10, 12, 14, 16]), side=st.sampled_from([1, 2, 4]),
    tiled=st.booleans(), h=st.sampled_from([32, 34, 46]), w=st.sampled_from([32, 40, 52]), seed=st.integers(0, 99),
)  # fmt: skip
def test_lossless_jpeg_gives_the_numbers_of_libraw(
    tmp_path: Path, predictor: int, bits: int, side: int, tiled: bool, h: int, w: int, seed: int
) -> None:
    mosaic = picture(h, w, bits, seed)
    piece = (16, 32) if tiled else None

    def pack(part: np.ndarray) -> bytes:
        return encoded(part.reshape(part.shape[0], -1, side), bits, predictor)

    mine, libraw = both(dng(tmp_path / "a.dng", mosaic, bits, piece, pack))
    assert np.array_equal(mine, mosaic) and np.array_equal(libraw, mosaic)


def test_three_components_side_by_side(tmp_path: Path) -> None:
    mosaic = picture(34, 48, 14, 9)
    mine, libraw = both(
        dng(tmp_path / "a.dng", mosaic, 14, None, lambda p: encoded(p.reshape(p.shape[0], -1, 3), 14, 4))
    )
    assert np.array_equal(mine, mosaic) and np.array_equal(libraw, mosaic)


def test_a_table_of_values_is_done_as_libraw_does_it(tmp_path: Path) -> None:
    mosaic = picture(32, 40, 12, 1)
    table = np.minimum((np.arange(4096) ** 1.3).astype(int), 65535).tolist()
    path = dng(
        tmp_path / "a.dng", mosaic, 12, None, lambda p: encoded(p[..., None], 12, 1), more=((50712, "H", table),)
    )
    mine, libraw = both(path)
    assert np.array_equal(mine, np.array(table)[mosaic]) and np.array_equal(mine, libraw)


def test_masked_borders_are_left_out(tmp_path: Path) -> None:
    mosaic = picture(46, 52, 14, 2)
    path = dng(
        tmp_path / "a.dng",
        mosaic,
        14,
        (16, 32),
        lambda p: encoded(p[..., None], 14, 1),
        more=((50829, "I", (4, 6, 44, 50)),),
    )
    mine, libraw = both(path)
    assert np.array_equal(mine, mosaic[4:44, 6:50]) and np.array_equal(mine, libraw)


def test_levels_are_those_that_libraw_says(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Black by a pattern, white, the mosaic's order, the white balance: by the file's tags as by LibRaw's own reading."""
    mosaic = picture(46, 52, 14, 6)
    black = (50713, "H", (2, 2)), (50714, "H", (500, 510, 520, 530))
    for border in ((), ((50829, "I", (4, 6, 44, 50)),)):
        path = dng(
            tmp_path / "a.dng", mosaic, 14, (16, 32), lambda p: encoded(p[..., None], 14, 1), more=(*black, *border)
        )
        mine = read(path)
        assert mine.facts.decoded == "lossless JPEG" and mine.facts.black == (500, 510, 520, 530)
        with monkeypatch.context() as patch:
            patch.setattr("tanner.core.raw.reader.packed_mosaic", lambda *_: None)
            theirs = read(path)
        assert theirs.facts.decoded == "LibRaw" and np.array_equal(mine.data, theirs.data)
        assert mine.facts.model_copy(update={"decoded": "LibRaw"}) == theirs.facts


def test_deflate_which_libraw_does_not_read(tmp_path: Path) -> None:
    mosaic = picture(46, 52, 16, 3)
    path = dng(
        tmp_path / "a.dng", mosaic, 16, (16, 32), lambda p: zlib.compress(p.astype("<u2").tobytes()), compression=8
    )
    found = packed_mosaic(path, (52, 46), (0, 0, 46, 52))
    assert found is not None and found.way == "deflate" and np.array_equal(found.pixels(), mosaic)
    assert np.array_equal(found.pixels(threads=1), mosaic)
    assert np.array_equal(read(path).data, mosaic)


@pytest.mark.parametrize("fields", [(1, 1), (2, 2), (2, 1)])
@pytest.mark.parametrize("piece", [None, (16, 32)])
def test_jpeg_xl_which_libraw_does_not_read(
    tmp_path: Path, piece: tuple[int, int] | None, fields: tuple[int, int]
) -> None:
    """Version 1.7 of the format; px of one colour may be stored together."""
    mosaic = picture(46, 52, 14, 7)
    stored = np.concatenate([mosaic[k :: fields[0]] for k in range(fields[0])])
    stored = np.concatenate([stored[:, k :: fields[1]] for k in range(fields[1])], axis=1)
    more = tuple((tag, "H", n) for tag, n in zip((50975, 52547), fields, strict=True) if n > 1)
    path = dng(
        tmp_path / "a.dng", stored, 14, piece, lambda p: bytes(imagecodecs.jpegxl_encode(p, lossless=True)),
        compression=52546, more=more,
    )  # fmt: skip
    found = packed_mosaic(path, (52, 46), (0, 0, 46, 52))
    assert found is not None and found.way == "JPEG XL" and np.array_equal(found.pixels(), mosaic)
    source = read(path)
    assert source.facts.decoded == "JPEG XL" and np.array_equal(source.data, mosaic)


def test_a_damaged_jpeg_xl_is_told(tmp_path: Path) -> None:
    mosaic = picture(46, 52, 14, 8)
    path = dng(
        tmp_path / "a.dng",
        mosaic,
        14,
        None,
        lambda p: bytes(imagecodecs.jpegxl_encode(p, lossless=True)),
        compression=52546,
    )
    data = bytearray(path.read_bytes())
    data[-200:] = b"\x5a" * 200
    path.write_bytes(data)
    with pytest.raises(UnreadableFile):
        read(path)


def test_restarts_are_left_to_libraw_and_said(tmp_path: Path) -> None:
    mosaic = picture(32, 40, 12, 4)
    path = dng(tmp_path / "a.dng", mosaic, 12, None, lambda p: encoded(p[..., None], 12, 1, restart=8))
    found = packed_mosaic(path, (40, 32), (0, 0, 32, 40))
    assert found is not None
    with pytest.raises(Odd, match="restart"):
        found.pixels()
    with rawpy.imread(str(path)) as raw:
        assert np.array_equal(read(path).data, raw.raw_image_visible)


@pytest.mark.parametrize("damage", ["head", "size"])
def test_damaged_pieces_are_left_to_libraw(tmp_path: Path, damage: str) -> None:
    mosaic = picture(32, 40, 12, 5)
    path = dng(tmp_path / "a.dng", mosaic, 12, None, lambda p: encoded(p[..., None], 12, 1))
    data = bytearray(path.read_bytes())
    start = data.index(b"\xff\xd8\xff\xc4")
    if damage == "head":
        data[start : start + 2] = b"\0\0"
    else:
        data[data.index(b"\xff\xc3") + 6] = 8
    path.write_bytes(data)
    found = packed_mosaic(path, (40, 32), (0, 0, 32, 40))
    assert found is not None
    with pytest.raises(Odd):
        found.pixels()


def test_a_file_that_is_cut_off_is_told(tmp_path: Path) -> None:
    mosaic = picture(32, 40, 12, 5)
    path = dng(tmp_path / "a.dng", mosaic, 12, None, lambda p: encoded(p[..., None], 12, 1))
    path.write_bytes(path.read_bytes()[:-300])
    assert packed_mosaic(path, (40, 32), (0, 0, 32, 40)) is None
    with pytest.raises(UnreadableFile):
        read(path, pixels=False)


def test_what_is_not_known_is_none(tmp_path: Path, lamp: Path) -> None:
    assert packed_mosaic(tmp_path / "a.nef", (40, 32), (0, 0, 32, 40)) is None
    path = tmp_path / "a.dng"
    path.write_bytes(b"no tiff")
    assert packed_mosaic(path, (40, 32), (0, 0, 32, 40)) is None
    tifffile.imwrite(path, np.zeros((32, 40), np.uint16))
    assert packed_mosaic(path, (40, 32), (0, 0, 32, 40)) is None

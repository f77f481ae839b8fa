"""Writes Bayer DNG files (source: dng17), losslessly compressed where LibRaw reads it exactly."""

import io
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from typing import Any

import imagecodecs
import numpy as np
import tifffile
from numpy.typing import NDArray

BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED, SRATIONAL, DOUBLE = 1, 2, 3, 4, 5, 7, 10, 12


@dataclass
class DngTags:
    """What stands in a DNG beside its pixels.

    Matrices are row-major; exposure in seconds; the preview is a JPEG of preview_size (width, height).
    """

    make: str
    model: str
    black: int
    white: int
    pattern: tuple[int, int, int, int]
    neutral: tuple[float, float, float]
    matrices: tuple[NDArray[np.float64], ...]
    illuminants: tuple[int, ...]
    forward: tuple[NDArray[np.float64], ...] = ()
    noise_profile: tuple[float, ...] = ()
    opcodes3: bytes = b""
    lens: str = ""
    focal_length: float = 0.0
    focal_length_35mm: int = 0
    aperture: float = 0.0
    exposure: float = 0.0
    iso: int = 100
    taken: datetime | None = None
    orientation: int = 1
    serial: str = ""
    baseline_exposure: float = 0.0
    preview: bytes = b""
    preview_size: tuple[int, int] = (0, 0)
    extra: list[tuple[int, int, int, Any]] = field(default_factory=list)


def _fractions(values: Any, limit: int = 1_000_000) -> list[int]:
    flat: list[int] = []
    for value in np.ravel(values):
        f = Fraction(float(value)).limit_denominator(limit)
        flat += [f.numerator, f.denominator]
    return flat


def _exif_ifd(tags: DngTags, at: int) -> bytes:
    """An EXIF IFD to stand at a file offset (little endian)."""
    import struct

    entries: list[tuple[int, int, int, bytes]] = []

    def add(tag: int, kind: int, count: int, data: bytes) -> None:
        entries.append((tag, kind, count, data))

    def rational(value: float) -> bytes:
        return struct.pack("<II", *_fractions([value]))

    if tags.exposure:
        add(33434, RATIONAL, 1, rational(tags.exposure))
    if tags.aperture:
        add(33437, RATIONAL, 1, rational(tags.aperture))
    add(34855, SHORT, 1, struct.pack("<H", min(tags.iso, 65535)))
    add(36864, UNDEFINED, 4, b"0232")
    if tags.taken:
        text = tags.taken.strftime("%Y:%m:%d %H:%M:%S").encode() + b"\0"
        add(36867, ASCII, len(text), text)
        sub = f"{tags.taken.microsecond // 1000:03d}".encode() + b"\0"
        add(37521, ASCII, len(sub), sub)
    if tags.focal_length:
        add(37386, RATIONAL, 1, rational(tags.focal_length))
    if tags.focal_length_35mm:
        add(41989, SHORT, 1, struct.pack("<H", tags.focal_length_35mm))
    for tag, text_value in ((42033, tags.serial), (42036, tags.lens)):
        if text_value:
            data = text_value.encode() + b"\0"
            add(tag, ASCII, len(data), data)
    entries.sort()
    head = struct.pack("<H", len(entries))
    body, after = b"", at + 2 + 12 * len(entries) + 4
    for tag, kind, count, data in entries:
        value = data.ljust(4, b"\0") if len(data) <= 4 else struct.pack("<I", after + len(body))
        if len(data) > 4:
            body += data + b"\0" * (len(data) % 2)
        head += struct.pack("<HHI", tag, kind, count) + value
    return head + b"\0\0\0\0" + body


def write_bayer_dng(mosaic: NDArray[np.uint16], tags: DngTags, compress: bool = True) -> bytes:
    """A whole DNG file of a Bayer mosaic as bytes.

    Args:
        mosaic: (H, W) uint16, H and W even.
        compress: lossless JPEG with two rows side by side, as LibRaw reads it; else plain.
    """
    return write_dng(mosaic, tags, compress)


def write_dng(pixels: NDArray[np.uint16], tags: DngTags, compress: bool = True) -> bytes:
    """A whole DNG file as bytes.

    Args:
        pixels: (H, W) uint16, a Bayer mosaic with even sides; or (H, W, 3) linear camera numbers, never compressed.
        compress: see `write_bayer_dng`.
    """
    height, width = pixels.shape[:2]
    mosaic, linear = pixels, pixels.ndim == 3
    unique = tags.model if tags.model.startswith(tags.make) else f"{tags.make} {tags.model}"
    extra: list[tuple[int, int, int, Any]] = [
        *([] if linear else [(33421, SHORT, 2, (2, 2)), (33422, BYTE, 4, bytes(tags.pattern))]),
        (50706, BYTE, 4, b"\x01\x07\x00\x00"),
        (50707, BYTE, 4, b"\x01\x04\x00\x00"),
        (50708, ASCII, len(unique) + 1, unique),
        (271, ASCII, len(tags.make) + 1, tags.make),
        (272, ASCII, len(tags.model) + 1, tags.model),
        (274, SHORT, 1, tags.orientation),
        (50714, SHORT, 3 if linear else 1, (tags.black,) * 3 if linear else tags.black),
        (50717, LONG, 3 if linear else 1, (tags.white,) * 3 if linear else tags.white),
        (50728, RATIONAL, 3, tuple(_fractions(tags.neutral))),
        (50730, SRATIONAL, 1, tuple(_fractions([tags.baseline_exposure]))),
    ]
    for code, matrix, light, light_code in zip(
        (50721, 50722), tags.matrices, tags.illuminants, (50778, 50779), strict=False
    ):
        extra.append((code, SRATIONAL, 9, tuple(_fractions(matrix))))
        extra.append((light_code, SHORT, 1, light))
    for code, matrix in zip((50964, 50965), tags.forward, strict=False):
        extra.append((code, SRATIONAL, 9, tuple(_fractions(matrix))))
    if tags.noise_profile:
        extra.append((51041, DOUBLE, len(tags.noise_profile), tags.noise_profile))
    if tags.opcodes3:
        extra.append((51022, UNDEFINED, len(tags.opcodes3), tags.opcodes3))
    if tags.serial:
        extra.append((50735, ASCII, len(tags.serial) + 1, tags.serial))
    extra += tags.extra
    extra.append((34665, LONG, 1, 0))
    extra = [(c, t, n, v, True) for c, t, n, v in extra]  # type: ignore[misc]
    buffer = io.BytesIO()
    common: dict[str, Any] = {"photometric": 34892 if linear else 32803, "metadata": None, "software": "Tanner"}
    extra = [e for e in extra if e[0] != 34665]
    extra.append((65000, LONG, 1, 0, True))  # type: ignore[arg-type]
    with tifffile.TiffWriter(buffer, byteorder="<") as writer:
        if compress and not linear:
            side = np.ascontiguousarray(mosaic.reshape(height // 2, width * 2))
            data = imagecodecs.ljpeg_encode(side, bitspersample=int(tags.white).bit_length())
            writer.write(
                iter([data]),
                shape=mosaic.shape,
                dtype=np.uint16,
                compression=7,
                rowsperstrip=height,
                extratags=extra,
                **common,
            )
        else:
            writer.write(mosaic, rowsperstrip=height, extratags=extra, **common)
        if tags.preview:
            w, h = tags.preview_size
            writer.write(
                iter([tags.preview]), shape=(h, w, 3), dtype=np.uint8, photometric="ycbcr", compression=7,
                subsampling=(2, 2), rowsperstrip=h, subfiletype=1, metadata=None,
            )  # fmt: skip
    # tifffile refuses the EXIF pointer: a placeholder tag is renamed and pointed at an IFD at the end.
    whole = bytearray(buffer.getvalue())
    import struct

    ifd = struct.unpack_from("<I", whole, 4)[0]
    count = struct.unpack_from("<H", whole, ifd)[0]
    rows = [bytes(whole[ifd + 2 + 12 * i : ifd + 14 + 12 * i]) for i in range(count)]
    whole += b"\0" * (len(whole) % 2)
    pointer = struct.pack("<HHII", 34665, LONG, 1, len(whole))
    rows = sorted(
        (pointer if struct.unpack_from("<H", r)[0] == 65000 else r for r in rows),
        key=lambda r: struct.unpack_from("<H", r)[0],
    )
    whole[ifd + 2 : ifd + 2 + 12 * count] = b"".join(rows)
    return bytes(whole) + _exif_ifd(tags, len(whole))


def opcode_list(warp: NDArray[np.float64] | None, vignette: NDArray[np.float64] | None) -> bytes:
    """WarpRectilinear (per plane) and FixVignetteRadial as an opcode list; always big endian.

    Args:
        warp: (planes, 6), centre in the middle; or None.
        vignette: (5,), centre in the middle; or None.
    """
    import struct

    entries = []
    if vignette is not None:
        payload = struct.pack(">7d", *vignette, 0.5, 0.5)
        entries.append(struct.pack(">IIII", 3, 0x01030000, 1, len(payload)) + payload)
    if warp is not None:
        payload = struct.pack(">I", len(warp)) + struct.pack(f">{warp.size}d", *warp.ravel())
        payload += struct.pack(">2d", 0.5, 0.5)
        entries.append(struct.pack(">IIII", 1, 0x01030000, 1, len(payload)) + payload)
    return struct.pack(">I", len(entries)) + b"".join(entries)

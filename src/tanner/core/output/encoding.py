"""Finished pixels as bytes of a file: each format with its profile, its ppi and its metadata."""

import io
import struct
import zlib
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import SettingsError
from tanner.core.output.codecs import avif, jpeg_xl
from tanner.core.output.jpeg import app1, app13, encode_strip, icc_segments, join
from tanner.core.output.metadata import Blocks
from tanner.core.output.spec import OutputSpec
from tanner.core.render.linear import STRIP

EXIF, XMP = b"Exif\0\0", b"http://ns.adobe.com/xap/1.0/\0"
ENCODED_WITH = {"webp": 16_383, "avif": 65_500, "jpeg": 65_500, "jxl": 65_500}
"""Longest edge of a format in px."""


def jpeg_segments(profile: bytes, meta: Blocks) -> list[bytes]:
    """What stands before the picture in a JPEG."""
    found = [app1(EXIF, meta.exif)] if meta.exif else []
    found += [app1(XMP, meta.xmp)] if meta.xmp else []
    found += [app13(meta.iim)] if meta.iim else []
    return found + icc_segments(profile)


def encoder(
    spec: OutputSpec, profile: bytes, meta: Blocks, taken: datetime | None = None
) -> Callable[[NDArray[Any]], bytes]:
    """What turns whole pixels (H, W, 3), or (H, W, 4) with alpha, or (H, W) in grey without a profile, into the bytes of a file.

    Raises, when called:
        SettingsError: a most of kB that cannot be met.
    """
    if spec.format in ("tiff8", "tiff16"):
        return lambda pixels: _tiff(pixels, spec, profile, meta, taken)
    if spec.format in ("png", "png16"):
        return lambda pixels: _png(pixels, spec, profile, meta)
    at = {"jpeg": _jpeg, "webp": _webp, "avif": _avif, "jxl": _jxl}[spec.family]
    if not spec.most_kb:
        return lambda pixels: at(pixels, spec, spec.quality, profile, meta)
    return lambda pixels: _at_most(pixels, spec, lambda s, q: at(pixels, s, q, profile, meta))


SPARE = 0.9
"""Share of a most of kB below which something between two qualities is looked for."""


def _at_most(pixels: NDArray[Any], spec: OutputSpec, encode: Callable[[OutputSpec, float], bytes]) -> bytes:
    """A file of at most so many kB: by quality, and where a step of it leaves much room, by quality with fewer colour samples."""
    most = round(spec.most_kb * 1000)
    # WebP and JPEG XL take parts of a step.
    parts = 4 if spec.family in ("webp", "jxl") else 1
    steps = [n / parts if parts > 1 else n for n in range(parts, spec.quality * parts + 1)]
    found, step = fitted(lambda q: encode(spec, q), most, steps, spec.title)
    if spec.chroma == "auto" and spec.family in ("jpeg", "avif") and len(found) < SPARE * most and step < spec.quality:
        for chroma in ("422", "420"):
            fewer = spec.model_copy(update={"chroma": chroma})
            above = [q for q in steps if q > step]
            try:
                other, _ = fitted(lambda q, s=fewer: encode(s, q), most, above, spec.title)  # type: ignore[misc]
            except SettingsError:
                continue
            found = max(found, other, key=len)
    return found


def fitted(encode: Callable[[float], bytes], most: int, steps: Sequence[float], title: str) -> tuple[bytes, float]:
    """The file of the highest step of quality that has at most so many bytes, and the step.

    Sizes grow with the step, nearly as a power of it: the next guess goes by the two that hold the wish between them.

    Raises:
        SettingsError: not even the lowest step fits.
    """
    found = encode(steps[-1])
    if len(found) <= most:
        return found, steps[-1]
    high, high_size = len(steps) - 1, len(found)
    low, low_size, kept = -1, 0, b""
    while high - low > 1:
        if kept:
            share = np.log(most / low_size) / np.log(high_size / low_size)
            guess = low + round((high - low) * min(0.9, max(0.1, float(share))))
        else:
            guess = round(high * min(0.9, max(0.25, (most / high_size) ** 0.8)))
        at = min(high - 1, max(low + 1, guess))
        data = encode(steps[at])
        if len(data) > most:
            high, high_size = at, len(data)
        else:
            low, low_size, kept = at, len(data), data
    if not kept:
        raise SettingsError(
            f"{title}: {most / 1000:g} kB are too few: the lowest quality still takes {high_size / 1000:.1f} kB. "
            "Choose a smaller size, or allow more."
        )
    return kept, steps[low]


def _jpeg(pixels: NDArray[np.uint8], spec: OutputSpec, quality: float, profile: bytes, meta: Blocks) -> bytes:
    h, w = pixels.shape[:2]
    strips = [encode_strip(pixels[y : y + STRIP], int(quality), spec.chroma) for y in range(0, h, STRIP)]
    return join(strips, w, h, jpeg_segments(profile, meta), spec.ppi)


def _saved(pixels: NDArray[np.uint8], kind: str, profile: bytes, meta: Blocks, **more: Any) -> bytes:
    out = io.BytesIO()
    if meta.exif:
        more["exif"] = EXIF + meta.exif
    if meta.xmp:
        more["xmp"] = meta.xmp
    from PIL import Image

    Image.fromarray(pixels).save(out, kind, icc_profile=profile, **more)
    return out.getvalue()


def _webp(pixels: NDArray[np.uint8], spec: OutputSpec, quality: float, profile: bytes, meta: Blocks) -> bytes:
    return _saved(pixels, "WEBP", profile, meta, quality=quality, method=4)


def _avif(pixels: NDArray[Any], spec: OutputSpec, quality: float, profile: bytes, meta: Blocks) -> bytes:
    chroma = spec.chroma if spec.chroma != "auto" else "444" if quality >= 70 else "420"
    # Turned pictures say so in a property of the format; an EXIF block that says it, too, would be written anew, in ASCII.
    bits = {"avif10": 10, "avif12": 12}.get(spec.format, 8)
    return avif(pixels, bits, profile, int(quality), chroma, _without_orientation(meta.exif), meta.xmp)


def _without_orientation(exif: bytes) -> bytes:
    """The same block without its orientation."""
    if not exif:
        return exif
    count = struct.unpack_from("<H", exif, 8)[0]
    rows = [exif[10 + 12 * i : 22 + 12 * i] for i in range(count)]
    kept = [r for r in rows if struct.unpack_from("<H", r)[0] != 274]
    # The freed place stays behind the directory, so that no other place moves.
    return (
        exif[:8]
        + struct.pack("<H", len(kept))
        + b"".join(kept)
        + b"\0" * (4 + 12 * (count - len(kept)))
        + exif[14 + 12 * count :]
    )


def _jxl(pixels: NDArray[Any], spec: OutputSpec, quality: float, profile: bytes, meta: Blocks) -> bytes:
    # These spaces the format can say itself: every reader gets their colours, whatever it knows of profiles.
    own = bool(spec.icc) or spec.space not in ("srgb", "p3", "widegamut1998")
    return jpeg_xl(pixels, profile, quality, meta.exif, meta.xmp, own_colours=own)


def _tiff(pixels: NDArray[Any], spec: OutputSpec, profile: bytes, meta: Blocks, taken: datetime | None) -> bytes:
    buffer = io.BytesIO()
    extra: list[Any] = [(274, 3, 1, 1, True)]
    if meta.xmp:
        extra.append((700, 1, len(meta.xmp), meta.xmp, True))
    if meta.iim:
        # As UNDEFINED bytes, which readers take in either byte order.
        extra.append((33723, 7, len(meta.iim), meta.iim, True))
    texts = _main_texts(meta.exif)
    software = texts.pop(305, b"").rstrip(b"\0").decode() or None
    for code, text in texts.items():
        extra.append((code, 2, len(text), text, True))
    # The place of the EXIF block is not known before: a tag of our own holds it open.
    sub = _sub_ifd(meta.exif)
    if sub:
        extra.append((65000, 4, 1, 0, True))
    more = {"compression": "zlib" if spec.compression == "deflate" else "lzw", "predictor": True}
    import tifffile

    tifffile.imwrite(
        buffer,
        pixels,
        photometric="minisblack" if pixels.ndim == 2 else "rgb",
        extrasamples=["unassalpha"] if pixels.ndim == 3 and pixels.shape[2] == 4 else None,
        iccprofile=profile or None,
        resolution=(spec.ppi, spec.ppi),
        resolutionunit=2,
        metadata=None,
        byteorder="<",
        bigtiff=pixels.nbytes > 3_900_000_000,
        software=software,
        datetime=taken if meta.exif and sub and _dated(meta.exif) else None,
        rowsperstrip=STRIP if spec.compression != "none" else None,
        extratags=extra,
        **(more if spec.compression != "none" else {}),
    )
    data = buffer.getvalue()
    return _with_sub_ifd(data, meta.exif) if sub else data


def _entries(block: bytes, at: int) -> dict[int, tuple[int, int, int, bytes]]:
    """Entries of an IFD of our own EXIF block: code to kind, count, place of the value, value bytes."""
    sizes = {2: 1, 3: 2, 4: 4, 5: 8, 7: 1}
    found = {}
    for i in range(struct.unpack_from("<H", block, at)[0]):
        place = at + 2 + 12 * i
        code, kind, count = struct.unpack_from("<HHI", block, place)
        size = sizes[kind] * count
        where = place + 8 if size <= 4 else struct.unpack_from("<I", block, place + 8)[0]
        found[code] = kind, count, where, block[where : where + size]
    return found


def _main_texts(exif: bytes) -> dict[int, bytes]:
    """Texts of the main directory, which in TIFF are tags of the file itself."""
    found = _entries(exif, 8) if exif else {}
    return {code: data for code, (kind, _, _, data) in found.items() if kind == 2}


def _sub_ifd(exif: bytes) -> int:
    return struct.unpack("<I", _entries(exif, 8)[34665][3])[0] if exif else 0


def _dated(exif: bytes) -> bool:
    return 36867 in _entries(exif, _sub_ifd(exif))


def _with_sub_ifd(tiff: bytes, exif: bytes) -> bytes:
    """Append the EXIF directory to a classic TIFF and point the held-open tag at it."""
    if tiff[2:4] != b"*\0":
        return tiff  # larger than 4 GB: its places have 8 bytes
    whole = bytearray(tiff)
    whole += b"\0" * (len(whole) % 2)
    at = _sub_ifd(exif)
    entries = _entries(exif, at)
    place = len(whole)
    head, body, after = struct.pack("<H", len(entries)), b"", place + 6 + 12 * len(entries)
    for code, (kind, count, _, data) in sorted(entries.items()):
        value = data.ljust(4, b"\0") if len(data) <= 4 else struct.pack("<I", after + len(body))
        if len(data) > 4:
            body += data + b"\0" * (len(data) % 2)
        head += struct.pack("<HHI", code, kind, count) + value
    whole += head + b"\0\0\0\0" + body
    ifd = struct.unpack_from("<I", whole, 4)[0]
    count = struct.unpack_from("<H", whole, ifd)[0]
    rows = [bytes(whole[ifd + 2 + 12 * i : ifd + 14 + 12 * i]) for i in range(count)]
    pointer = struct.pack("<HHII", 34665, 4, 1, place)
    rows = [pointer if struct.unpack_from("<H", r)[0] == 65000 else r for r in rows]
    rows.sort(key=lambda r: struct.unpack_from("<H", r)[0])
    whole[ifd + 2 : ifd + 2 + 12 * count] = b"".join(rows)
    return bytes(whole)


def _png(pixels: NDArray[Any], spec: OutputSpec, profile: bytes, meta: Blocks) -> bytes:
    """A PNG with its profile, ppi, EXIF and XMP put in as chunks (source: png3)."""
    order = pixels if pixels.ndim == 2 else pixels[..., [2, 1, 0, *range(3, pixels.shape[2])]]
    ok, data = cv2.imencode(".png", order, [cv2.IMWRITE_PNG_COMPRESSION, 3])
    if not ok:
        raise ValueError("PNG encoding failed")
    whole = data.tobytes()

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    metre = round(spec.ppi / 0.0254)
    out = chunk(b"iCCP", b"icc\0\0" + zlib.compress(profile)) if profile else b""
    out += chunk(b"pHYs", struct.pack(">IIB", metre, metre, 1))
    if meta.exif:
        out += chunk(b"eXIf", meta.exif)
    if meta.xmp:
        out += chunk(b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + meta.xmp)
    return whole[:33] + out + whole[33:]

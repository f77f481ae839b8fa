"""From a source to finished files: the one service behind the command line and deliveries."""

import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.colour.camera import Profile
from tanner.core.colour.printing import IccError, to_icc
from tanner.core.colour.shelf import SHELF
from tanner.core.colour.spaces import icc_profile
from tanner.core.errors import SettingsError, WriteFailed
from tanner.core.noise.sharpen import for_output
from tanner.core.optics.lens import Optics
from tanner.core.output.enlarge import enlarged
from tanner.core.output.files import free_name, write_whole
from tanner.core.output.jpeg import app1, encode_strip, icc_segments, join
from tanner.core.output.metadata import Words, exif_block, xmp_packet
from tanner.core.output.naming import fill, fill_folder, name_values
from tanner.core.output.sizing import output_size, parse_size
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.reader import Source
from tanner.core.render import STRIP, full_size, make_plan, render_strips

MOST_PIXELS = {"jpeg": 900_000_000}
MOST_ELSE = 400_000_000
"""px of a finished file by format; all but JPEG are held in memory whole."""
EXIF, XMP = b"Exif\0\0", b"http://ns.adobe.com/xap/1.0/\0"


def size_for(source: Source, development: Development, spec: OutputSpec) -> tuple[int, int]:
    """The size in px that a spec gives a frame."""
    return output_size(parse_size(spec.size), *full_size(source, development), spec.enlarge != "never")


def encode(
    source: Source,
    development: Development,
    spec: OutputSpec,
    words: Words | None = None,
    pool: Executor | None = None,
    stop: Callable[[], bool] | None = None,
) -> tuple[bytes, tuple[int, int]]:
    """One finished file as bytes, with its size in px."""
    words = words or Words()
    size = size_for(source, development, spec)
    own = SHELF.icc(spec.icc) if spec.icc else None
    if spec.icc and own is None:
        raise IccError(f"The ICC profile {spec.icc} is not in Kit. Add it there, or choose another for {spec.title}.")
    if size[0] * size[1] > MOST_PIXELS.get(spec.format, MOST_ELSE) or max(size) > 65_500:
        raise SettingsError(
            f"{spec.title}: {size[0]} × {size[1]} px is more than can be written. Choose a smaller size."
        )
    full = full_size(source, development)
    medium = for_output(spec.sharpen, spec.sharpen_strength / 100, size, spec.ppi)
    # Along edges a picture is enlarged from its finished full size; sharpened for its medium after that.
    along = spec.enlarge == "edges" and size[0] > full[0]
    bits = 16 if own or along else spec.bits
    space = "prophoto" if own else spec.space
    drawn = full if along else size
    plan = make_plan(source, development, drawn, space, bits, output_sharpening=None if along else medium)
    profile = own or icc_profile(spec.space)
    facts = source.facts

    def watched(strip: NDArray[Any]) -> NDArray[Any]:
        if stop and stop():
            from tanner.core.render import Cancelled

            raise Cancelled
        if own:
            return to_icc(strip, own, spec.intent, spec.black_point, spec.bits)
        return (strip / np.float32(257) + np.float32(0.5)).astype(np.uint8) if along and spec.bits == 8 else strip

    def drawn_strips(after: Callable[[NDArray[Any]], Any]) -> Iterator[Any]:
        if not along:
            yield from render_strips(plan, pool, after=after)
            return
        whole = np.concatenate(list(render_strips(plan, pool)))
        for strip in enlarged(whole, size, STRIP, medium):
            yield after(strip)

    if spec.format == "jpeg":
        segments = [app1(EXIF, exif_block(facts, words, size, spec.ppi)), app1(XMP, xmp_packet(facts, words))]
        segments += icc_segments(profile)
        strips = drawn_strips(lambda s: encode_strip(watched(s), spec.quality))
        return join(strips, *size, segments), size
    pixels = np.concatenate(list(drawn_strips(watched)))
    if spec.format == "png":
        return _png(pixels, profile, xmp_packet(facts, words)), size
    import io

    buffer = io.BytesIO()
    extra: list[Any] = [(700, 1, None, xmp_packet(facts, words), True)]
    for code, text in ((271, facts.make), (272, facts.model), (315, words.creator), (33432, words.rights)):
        if text:
            data = text.encode() + b"\0"  # UTF-8, as TIFF readers of today take it
            extra.append((code, 2, len(data), data, True))
    tifffile.imwrite(
        buffer,
        pixels,
        photometric="rgb",
        iccprofile=profile,
        resolution=(spec.ppi, spec.ppi),
        resolutionunit=2,
        metadata=None,
        software="Tanner",
        datetime=facts.taken,
        extratags=extra,
    )
    return buffer.getvalue(), size


def _png(pixels: NDArray[Any], profile: bytes, xmp: bytes) -> bytes:
    """A PNG with its profile and XMP put in as chunks (source: png3)."""
    import struct
    import zlib

    ok, data = cv2.imencode(".png", pixels[..., ::-1], [cv2.IMWRITE_PNG_COMPRESSION, 3])
    if not ok:
        raise ValueError("PNG encoding failed")
    whole = data.tobytes()

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    icc = chunk(b"iCCP", b"Tanner\0\0" + zlib.compress(profile))
    text = chunk(b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + xmp)
    return whole[:33] + icc + text + whole[33:]


def target_path(folder: Path, spec: OutputSpec, facts_name: str, size: tuple[int, int], **tokens: Any) -> Path:
    """Where a spec puts a frame, before a taken name is dealt with."""
    values = name_values(name=facts_name, spec=spec.title, size=size, **tokens)
    return folder / fill_folder(spec.subfolder, values) / (fill(spec.name, values) + spec.suffix)


def write_file(
    source: Source,
    development: Development,
    spec: OutputSpec,
    target: Path,
    *,
    words: Words | None = None,
    pool: Executor | None = None,
    stop: Callable[[], bool] | None = None,
    original: Path | None = None,
) -> dict[str, Any]:
    """Render, encode and write one file; what was done, as plain data.

    Raises:
        NameTaken, WriteFailed: nothing was written.
        Cancelled: by `stop`.
    """
    started = time.perf_counter()
    warnings = list(source.facts.warnings)
    colour = source.colour_by(development.group(Profile).camera)[1]
    lens = source.lens_by(development.group(Optics).chosen_lens)[1]
    warnings += [w for w in (colour, lens) if w]
    if original and target.exists() and target.resolve() == original.resolve():
        raise WriteFailed(target, "is the original, which is never written to. Choose another folder or name.")
    if target.exists() and spec.exists == "skip":
        return {"path": str(target), "skipped": True, "warnings": ["The name is taken; left out."]}
    if spec.exists == "number":
        target = free_name(target)
    data, size = encode(source, development, spec, words, pool, stop)
    write_whole(target, data, replace=spec.exists == "replace")
    return {
        "path": str(target),
        "width": size[0],
        "height": size[1],
        "bytes": len(data),
        "seconds": round(time.perf_counter() - started, 3),
        "warnings": warnings,
        "skipped": False,
    }

"""Reads raw and finished files into a Source: pixels plus facts. Originals are opened read-only.

Foreign files can crash a decoder, so callers outside of tests run this in a worker process
(`tanner.jobs.workers`).
"""

import contextlib
import struct
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.dcp import embedded
from tanner.core.colour.icc import to_working
from tanner.core.errors import UnreadableFile
from tanner.core.limits import limits
from tanner.core.raw import opcodes, opcodes_applied, tags
from tanner.core.raw.damage import damage_of
from tanner.core.raw.facts import checked
from tanner.core.raw.packed import Odd, PackedMosaic, packed_mosaic
from tanner.core.raw.plain import PlainMosaic, plain_mosaic
from tanner.core.raw.raw_facts import raw_facts
from tanner.core.raw.source import Source

FINISHED = {".jpg", ".jpeg", ".png", ".tif", ".tiff"}
RAW = {
    ".dng", ".cr2", ".cr3", ".crw", ".nef", ".nrw", ".arw", ".srf", ".sr2", ".raf", ".orf", ".ori", ".rw2",
    ".pef", ".srw", ".x3f", ".3fr", ".fff", ".iiq", ".mef", ".mos", ".mrw", ".kdc", ".dcr", ".erf", ".rwl", ".gpr",
}  # fmt: skip


def _check(path: Path) -> None:
    try:
        size = path.stat().st_size
    except OSError as error:
        raise UnreadableFile(path, f"cannot be opened ({error.strerror or error}).") from None
    if size == 0:
        raise UnreadableFile(path, "is empty. Copy it from the card again.")


def read(path: Path, *, pixels: bool = True) -> Source:
    """Read a file.

    Args:
        pixels: False reads facts only; `data` is then empty.

    Raises:
        UnreadableFile: with the reason and what to do.
    """
    _check(path)
    try:
        if path.suffix.lower() in FINISHED:
            return _read_finished(path, pixels)
        return _read_raw(path, pixels)
    except UnreadableFile:
        raise
    except (MemoryError, Exception) as error:
        text = str(error).strip().strip("b'").strip("'") or type(error).__name__
        raise UnreadableFile(path, f"cannot be read ({text}). It may be damaged or of an unknown kind.") from None


def _sane(path: Path, width: int, height: int) -> None:
    if width < 16 or height < 16:
        raise UnreadableFile(path, f"says it is {width} × {height} px, which is no picture.")
    most = limits().most_megapixels
    if width * height > most * 1e6:
        raise UnreadableFile(
            path,
            f"says it is {width} × {height} px, more than the {most:g} megapixels that are opened. "
            "Where that is right, raise most_megapixels in the file settings.toml of the data folder.",
        )


def _read_raw(path: Path, pixels: bool) -> Source:
    import rawpy

    # Not closed here: a Bayer mosaic is worked on where the decoder put it, and kept alive by the array.
    raw = rawpy.imread(str(path))
    try:
        sizes = raw.sizes
        _sane(path, sizes.raw_width, sizes.raw_height)
        plain = plain_mosaic(path, (sizes.raw_width, sizes.raw_height), (sizes.width, sizes.height))
        visible = int(sizes.top_margin), int(sizes.left_margin), int(sizes.height), int(sizes.width)
        packed = None if plain else packed_mosaic(path, (sizes.raw_width, sizes.raw_height), visible)
        told = plain or (packed if packed and packed.colours else None)
        found = raw_facts(path, raw, told)
        if plain or packed:
            found["decoded"] = "as it lies" if plain else packed.way if packed else ""
        lists = found.pop("lists")
        maps = _gain_maps(lists[3])
        top, left = _trim(found, lists)
        inside, odd = embedded(path) if path.suffix.lower() == ".dng" else ((), ())
        found["profiles"], found["warnings"] = tuple(p.name for p in inside), (*found["warnings"], *odd)
        if not pixels:
            return Source(checked(found), np.empty((0, 0), np.uint16), profiles=inside, gain_maps=maps)
        if found["kind"] == "bayer":
            # Kernels are compiled for whole arrays: a mosaic with a frame of masked pixels is copied out.
            data = _mosaic(raw, plain, packed, found)
            if lists[1] or lists[2]:
                data = _opcodes_done(data, found, lists, (int(sizes.top_margin), int(sizes.left_margin)))
            data = np.ascontiguousarray(data[top : top + found["height"], left : left + found["width"]])
            if _all_zero(data):
                raise UnreadableFile(path, "opens but all its pixels are zero. It is damaged: copy it again.")
            return Source(checked(found), data, decoder=raw, profiles=inside, gain_maps=maps)
        found["warnings"] = (*found["warnings"], *_not_for_planes(lists))
        if raw.raw_pattern is None and raw.raw_image_visible.ndim == 3:
            values = raw.raw_image_visible[..., :3].astype(np.float32)
            black = np.float32(raw.black_level_per_channel[0])
            planes = (values - black) / np.float32(found["white"] - black)
            planes = np.ascontiguousarray(planes.transpose(2, 0, 1))
        else:
            planes = _demosaic_by_libraw(raw, found)
        if _all_zero(planes):
            raise UnreadableFile(path, "opens but all its pixels are zero. It is damaged: copy it again.")
        planes = np.ascontiguousarray(planes[:, top : top + found["height"], left : left + found["width"]])
        return Source(checked(found), planes, profiles=inside, gain_maps=maps)
    except BaseException:
        raw.close()
        raise


def _all_zero(values: NDArray[Any]) -> bool:
    """Row by row: of a sound file the first row tells, and the others need not be gone through."""
    return not any(row.any() for row in values.reshape(-1, values.shape[-1]))


def _mosaic(raw: Any, plain: PlainMosaic | None, packed: PackedMosaic | None, found: dict[str, Any]) -> NDArray[Any]:
    """The px that are shown, decoded here where that is quicker, else by LibRaw; what is found says by whom."""
    if plain is not None:
        return plain.pixels()
    if packed is not None:
        with contextlib.suppress(Odd):
            return packed.pixels()
    found["decoded"] = "LibRaw"
    data: NDArray[Any] = raw.raw_image_visible
    return data


def _gain_maps(data: bytes) -> tuple[opcodes.GainMap, ...]:
    """The gain maps of list 3: those of list 2 are applied to the mosaic."""
    found = []
    for number, payload in opcodes.split(data):
        if number == 9:
            with contextlib.suppress(struct.error, ValueError):
                found.append(opcodes.gain_map(payload))
    return tuple(found)


def _not_for_planes(lists: dict[int, bytes]) -> list[str]:
    """Lists 1 and 2 are done on Bayer mosaics: what another kind of file asks for is said."""
    return [
        f"{opcodes.NAMES.get(number, f'opcode {number}')} of list {n} is not applied: the file holds no Bayer mosaic."
        for n in (1, 2)
        for number, _ in opcodes.split(lists[n])
        if number != 6
    ]


def _trim(found: dict[str, Any], lists: dict[int, bytes]) -> tuple[int, int]:
    """What TrimBounds leaves becomes the frame; rows and columns stay even, so that the mosaic keeps its order."""
    top, left, bottom, right = opcodes.trim(lists.values(), found["height"], found["width"])
    if found["kind"] == "bayer":
        top, left = top + top % 2, left + left % 2
    found["height"], found["width"] = bottom - top, right - left
    if found["kind"] == "bayer":
        found["height"] -= found["height"] % 2
        found["width"] -= found["width"] % 2
    return top, left


def _opcodes_done(
    data: NDArray[Any], found: dict[str, Any], lists: dict[int, bytes], corner: tuple[int, int]
) -> NDArray[Any]:
    """Lists 1 and 2, done on a copy of the mosaic; corner: row and column at which the active area begins."""
    black, white = found["black"], found["white"]
    linear = opcodes_applied.Scale(black, tuple(white - b for b in black), white)
    data, odd = opcodes_applied.apply_list(data, lists[1], "list 1", opcodes_applied.STORED, corner)
    data, more = opcodes_applied.apply_list(data, lists[2], "list 2", linear)
    found["warnings"] = (*found["warnings"], *odd, *more)
    return data


def _demosaic_by_libraw(raw: Any, found: dict[str, Any]) -> NDArray[np.float32]:
    """Linear camera RGB of mosaics that are not Bayer (X-Trans and others): LibRaw interpolates."""
    import rawpy

    rgb = raw.postprocess(
        output_color=rawpy.ColorSpace.raw,
        gamma=(1, 1),
        no_auto_bright=True,
        no_auto_scale=False,
        user_wb=[1.0, 1.0, 1.0, 1.0],
        output_bps=16,
        user_flip=0,
        adjust_maximum_thr=0.0,
    )
    found["height"], found["width"] = rgb.shape[:2]
    return np.ascontiguousarray(rgb.transpose(2, 0, 1)).astype(np.float32) / np.float32(65535)


def _read_finished(path: Path, pixels: bool) -> Source:
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None
    with Image.open(path) as image:
        width, height = image.size
        profile = image.info.get("icc_profile")
        _sane(path, width, height)
    facts: dict[str, Any] = {"path": str(path), "file_bytes": path.stat().st_size, "kind": "finished"}
    facts |= tags.exif_facts(path)
    facts |= {"width": width, "height": height, "has_profile": bool(profile)}
    if not pixels:
        return Source(checked(facts), np.empty((0, 0), np.uint16))
    rgb = _finished_pixels(path)
    if rgb.shape[:2] != (height, width):
        raise UnreadableFile(path, "does not hold the picture that its header promises.")
    planes, warning = to_working(rgb, profile)
    facts["warnings"] = tuple(w for w in (warning, damage_of(path)) if w)
    return Source(checked(facts), planes)


def _finished_pixels(path: Path) -> NDArray[Any]:
    """(H, W, 3) uint8 or uint16 of a JPEG, PNG or TIFF, not yet turned upright."""
    import cv2
    import tifffile

    if path.suffix.lower() in {".tif", ".tiff"}:
        rgb = tifffile.imread(path, key=0)
        if rgb.ndim == 3 and rgb.shape[0] in (3, 4) and rgb.shape[2] > 4:
            rgb = rgb.transpose(1, 2, 0)
    else:
        flags = cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION
        decoded = cv2.imdecode(np.fromfile(path, np.uint8), flags)
        if decoded is None:
            raise UnreadableFile(path, "cannot be decoded. It may be damaged: copy it again.")
        rgb = decoded[..., [2, 1, 0]] if decoded.ndim == 3 and decoded.shape[2] >= 3 else decoded
    if rgb.ndim == 2:
        rgb = np.repeat(rgb[..., None], 3, axis=2)
    if rgb.dtype not in (np.uint8, np.uint16) or rgb.shape[2] < 3:
        raise UnreadableFile(path, f"has {rgb.dtype} samples; 8 and 16 bits in RGB or grey are read.")
    return np.ascontiguousarray(rgb[..., :3])


def known(source: Source) -> dict[str, Any]:
    """What is known about a file: its facts, and which lens corrections were found."""
    lens = source.lens
    return {
        **source.facts.summary(),
        "lens_source": lens.source if lens else None,
        "lens_found": lens.name if lens else None,
    }


def read_known(path: str) -> dict[str, Any]:
    """`known` of a file, of which only the header is read."""
    return known(read(Path(path), pixels=False))

"""Writes DNG files as the specification asks (source: dng17): each tag by the table in `core.tiff.dng`."""

import hashlib
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.core.tiff.dng import BY_CODE, CODES, Version
from tanner.core.tiff.ifd import Directory, Entry, entry, written

MOSAIC, LINEAR, YCBCR = 32803, 34892, 6
"""PhotometricInterpretation of a colour filter's mosaic, of linear colour, and of a preview in JPEG."""
PLAIN, JPEG = 1, 7
FULL_PICTURE, SMALLER_PICTURE = 0, 1
"""NewSubfileType of the raw picture, and of a preview."""
OLDEST: Version = (1, 1, 0, 0)
TILE = 256


@dataclass
class DngTags:
    """What stands in a DNG beside its pixels.

    Matrices are row-major; exposure in seconds; the preview is a JPEG of preview_size (width, height), its colours
    sampled once for 2 x 2 px.

    Attributes:
        bits: BitsPerSample, or None for as many as `white` takes.
        ppi: what the file is labelled with.
        kept: entries of another file that this one stands for, by code: they count before everything else here.
        profiles: further camera profiles, as `dcp.write_dcp` writes them.
        extra: further tags by code.
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
    subject_area: tuple[int, ...] = ()
    aperture: float = 0.0
    exposure: float = 0.0
    iso: int = 100
    taken: datetime | None = None
    orientation: int = 1
    serial: str = ""
    baseline_exposure: float = 0.0
    preview: bytes = b""
    preview_size: tuple[int, int] = (0, 0)
    ppi: float = 300.0
    kept: Mapping[int, Entry] = field(default_factory=dict)
    profiles: tuple[bytes, ...] = ()
    extra: Mapping[int, Entry] = field(default_factory=dict)


def digest(pixels: NDArray[np.uint16]) -> bytes:
    """NewRawImageDigest of a raw picture's numbers: 16 bytes.

    MD5 over the MD5s of tiles of 256 x 256 px, row by row; in a tile plane after plane, 16 bits in little-endian order.
    The specification names the reference code for this; the order is from memory of it.
    """
    whole = hashlib.md5(usedforsecurity=False)
    height, width = pixels.shape[:2]
    for top in range(0, height, TILE):
        for left in range(0, width, TILE):
            tile = pixels[top : top + TILE, left : left + TILE]
            flat = tile if tile.ndim == 2 else np.moveaxis(tile, -1, 0)
            whole.update(hashlib.md5(np.ascontiguousarray(flat, "<u2").data, usedforsecurity=False).digest())
    return whole.digest()


def _put(tags: dict[int, Entry], name: str, values: Any) -> None:
    code = CODES[name]
    tags[code] = entry(BY_CODE[code].kinds[0], values)


def _exif(tags: DngTags) -> Directory:
    found: dict[int, Entry] = {}
    said: dict[str, Any] = {
        "ExposureTime": tags.exposure,
        "FNumber": tags.aperture,
        "ISOSpeedRatings": min(tags.iso, 65535),
        "ExifVersion": b"0232",
        "FocalLength": tags.focal_length,
        "SubjectArea": tags.subject_area,
        "FocalLengthIn35mmFilm": tags.focal_length_35mm,
        "BodySerialNumber": tags.serial,
        "LensModel": tags.lens,
    }
    if tags.taken:
        said["DateTimeOriginal"] = tags.taken.strftime("%Y:%m:%d %H:%M:%S")
        said["SubSecTimeOriginal"] = f"{tags.taken.microsecond // 1000:03d}"
    for name, values in said.items():
        if values:
            _put(found, name, values)
    return Directory(found)


def _preview(tags: DngTags) -> Directory:
    found: dict[int, Entry] = {}
    width, height = tags.preview_size
    said: dict[str, Any] = {
        "NewSubfileType": SMALLER_PICTURE,
        "ImageWidth": width,
        "ImageLength": height,
        "BitsPerSample": (8, 8, 8),
        "Compression": JPEG,
        "PhotometricInterpretation": YCBCR,
        "SamplesPerPixel": 3,
        "RowsPerStrip": height,
        "PlanarConfiguration": 1,
        # As the JPEG standard's colours are, said in full: TIFF's own defaults are others.
        "YCbCrCoefficients": (0.299, 0.587, 0.114),
        "YCbCrSubSampling": (2, 2),
        "YCbCrPositioning": 1,
        "ReferenceBlackWhite": (0, 255, 128, 255, 128, 255),
        "PreviewColorSpace": 2,  # sRGB
    }
    for name, values in said.items():
        _put(found, name, values)
    return Directory(found, [tags.preview])


def _colour(tags: DngTags) -> dict[int, Entry]:
    found: dict[int, Entry] = {}
    _put(found, "AsShotNeutral", tags.neutral)
    _put(found, "BaselineExposure", tags.baseline_exposure)
    for k, (matrix, light) in enumerate(zip(tags.matrices, tags.illuminants, strict=False), 1):
        _put(found, f"ColorMatrix{k}", matrix)
        _put(found, f"CalibrationIlluminant{k}", light)
    for k, matrix in enumerate(tags.forward, 1):
        _put(found, f"ForwardMatrix{k}", matrix)
    if tags.noise_profile:
        _put(found, "NoiseProfile", tags.noise_profile)
    if any(BY_CODE[code].name.startswith("ColorMatrix") for code in tags.kept):
        # The file's own colour is one whole: nothing of ours is mixed into it.
        found = {code: e for code, e in found.items() if BY_CODE[code].name in ("AsShotNeutral", "BaselineExposure")}
    if CODES["AsShotWhiteXY"] in tags.kept:
        found.pop(CODES["AsShotNeutral"])
    return {**found, **tags.kept}


def versions(tags: Mapping[int, Entry]) -> tuple[Version, Version]:
    """DNGVersion and DNGBackwardVersion that fit the tags which are used."""
    used = [BY_CODE[code] for code in tags if code in BY_CODE]
    oldest = max([OLDEST, *(tag.needs for tag in used)])
    return max([oldest, *(tag.since for tag in used)]), oldest


def write_bayer_dng(mosaic: NDArray[np.uint16], tags: DngTags, compress: bool = True) -> bytes:
    """A whole DNG file of a Bayer mosaic as bytes.

    Args:
        mosaic: (H, W) uint16, H and W even.
        compress: lossless JPEG, two pixels of a row as two components, so that each colour is foretold by its own; else plain.
    """
    return write_dng(mosaic, tags, compress)


def write_dng(pixels: NDArray[np.uint16], tags: DngTags, compress: bool = True) -> bytes:
    """A whole DNG file as bytes: the raw picture in the first directory, a preview in a SubIFD.

    Args:
        pixels: (H, W) uint16, a Bayer mosaic with even sides; or (H, W, 3) linear camera numbers, never compressed.
        compress: see `write_bayer_dng`.
    """
    height, width = pixels.shape[:2]
    linear = pixels.ndim == 3
    samples = 3 if linear else 1
    compress = compress and not linear
    # What is not packed has whole words, whatever its white is.
    bits = max(9, int(tags.white).bit_length()) if compress else 16
    found: dict[int, Entry] = {}
    unique = tags.model if tags.model.startswith(tags.make) else f"{tags.make} {tags.model}"
    said: dict[str, Any] = {
        "NewSubfileType": FULL_PICTURE,
        "ImageWidth": width,
        "ImageLength": height,
        "BitsPerSample": (bits,) * samples,
        "Compression": JPEG if compress else PLAIN,
        "PhotometricInterpretation": LINEAR if linear else MOSAIC,
        "Make": tags.make,
        "Model": tags.model,
        "Orientation": tags.orientation,
        "SamplesPerPixel": samples,
        "RowsPerStrip": height,
        "XResolution": tags.ppi,
        "YResolution": tags.ppi,
        "PlanarConfiguration": 1,
        "ResolutionUnit": 2,
        "Software": "Tanner",
        "UniqueCameraModel": unique or "Unknown camera",
        "BlackLevel": (tags.black,) * samples,
        "WhiteLevel": (tags.white,) * samples,
        "CameraSerialNumber": tags.serial,
        "OpcodeList3": tags.opcodes3,
        "NewRawImageDigest": digest(pixels),
    }
    if not linear:
        said |= {"CFARepeatPatternDim": (2, 2), "CFAPattern": bytes(tags.pattern), "CFALayout": 1}
        said["CFAPlaneColor"] = bytes((0, 1, 2))
    for name, values in said.items():
        if values not in ("", b""):
            _put(found, name, values)
    if tags.taken:
        _put(found, "DateTime", tags.taken.strftime("%Y:%m:%d %H:%M:%S"))
    found |= _colour(tags)
    found |= tags.extra
    blobs = {CODES["ExtraCameraProfiles"]: tags.profiles} if tags.profiles else {}
    version, backward = versions({**found, **dict.fromkeys(blobs, entry(4, 0))})
    _put(found, "DNGVersion", bytes(version))
    _put(found, "DNGBackwardVersion", bytes(backward))
    strip: bytes | memoryview = (
        encoded(pixels, bits) if compress else np.ascontiguousarray(pixels, "<u2").data.cast("B")
    )
    return written(Directory(found, [strip], _exif(tags), [_preview(tags)] if tags.preview else [], blobs))


def encoded(mosaic: NDArray[np.uint16], bits: int) -> bytes:
    """A Bayer mosaic (H, W) as lossless JPEG of two components of half the width, predictor 1 (source: t81)."""
    height, width = mosaic.shape
    pairs = np.ascontiguousarray(mosaic).reshape(height, width // 2, 2)
    return bytes(imagecodecs.jpeg8_encode(pairs, lossless=True, predictor=1, bitspersample=bits))


def opcode_list(warp: NDArray[np.float64] | None, vignette: NDArray[np.float64] | None) -> bytes:
    """WarpRectilinear (per plane) and FixVignetteRadial as an opcode list; always big endian.

    Args:
        warp: (planes, 6), centre in the middle; or None.
        vignette: (5,), centre in the middle; or None.
    """
    entries = []
    if vignette is not None:
        payload = struct.pack(">7d", *vignette, 0.5, 0.5)
        entries.append(struct.pack(">IIII", 3, 0x01030000, 1, len(payload)) + payload)
    if warp is not None:
        payload = struct.pack(">I", len(warp)) + struct.pack(f">{warp.size}d", *warp.ravel())
        payload += struct.pack(">2d", 0.5, 0.5)
        entries.append(struct.pack(">IIII", 1, 0x01030000, 1, len(payload)) + payload)
    return struct.pack(">I", len(entries)) + b"".join(entries)

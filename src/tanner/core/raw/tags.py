"""Reads tags that LibRaw does not hand over: EXIF through Exiv2, DNG tags through tifffile."""

import contextlib
import logging
import math
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from tanner.core.tiff.dng import CODES

log = logging.getLogger(__name__)

_WANTED = {
    CODES[name]: name.removeprefix("Calibration")
    for name in (
        *(f"{stem}{k}" for stem in ("ColorMatrix", "CameraCalibration", "ForwardMatrix", "CalibrationIlluminant",
                                    "IlluminantData") for k in (1, 2, 3)),
        "AnalogBalance", "AsShotNeutral", "BaselineExposure", "NoiseProfile", "OpcodeList1", "OpcodeList2",
        "OpcodeList3", "DNGVersion", "UniqueCameraModel", "NoiseReductionApplied", "CameraCalibrationSignature",
        "DefaultCropOrigin", "DefaultCropSize", "DefaultScale", "BestQualityScale",
    )
}  # fmt: skip
_RATIONALS = {5, 10}


def dng_tags(path: Path) -> dict[str, Any]:
    """The DNG tags that colour and optics need; empty for files that are no TIFF.

    Opcode lists come as bytes, matrices as tuples of floats.
    """
    import tifffile

    found: dict[str, Any] = {}
    try:
        with tifffile.TiffFile(path) as tiff:
            pages: list[Any] = [tiff.pages[0]]
            if 50706 not in pages[0].tags:
                return {}
            for sub in (pages[0].pages or [])[:8]:
                pages.append(sub)
            for page in pages:
                for code, name in _WANTED.items():
                    tag = page.tags.get(code)
                    if tag is None or name in found or tag.count > 4_000_000:
                        continue
                    value = tag.value
                    if name.startswith("IlluminantData"):
                        value = tiff.byteorder, bytes(value)
                    if int(tag.dtype) in _RATIONALS:
                        flat = np.ravel(np.asarray(value, dtype=np.float64))
                        value = tuple(float(a / b) if b else 0.0 for a, b in zip(flat[::2], flat[1::2], strict=True))
                    found[name] = value
    except Exception as error:  # damaged tags are a warning; the pixels may still be good
        log.info("tags of %s: %s", path.name, error)
    return found


def _first(data: Any, *keys: str) -> str:
    import exiv2

    for key in keys:
        at = data.findKey(exiv2.ExifKey(key))
        if at != data.end():
            text = str(at.print()).strip()
            if text and text != "0":
                return text
    return ""


def _number(data: Any, *keys: str) -> float | None:
    import exiv2

    for key in keys:
        at = data.findKey(exiv2.ExifKey(key))
        if at != data.end():
            with contextlib.suppress(Exception):
                value = float(at.toFloat())
                if math.isfinite(value) and value > 0:
                    return value
    return None


def _subject(data: Any) -> tuple[float, ...] | None:
    """EXIF's SubjectArea: a point, a circle (middle, diameter) or a rectangle (middle, width, height), in px before turning."""
    import exiv2

    at = data.findKey(exiv2.ExifKey("Exif.Photo.SubjectArea"))
    with contextlib.suppress(ValueError):
        found = tuple(float(v) for v in str(at.toString()).split()) if at != data.end() else ()
        if 2 <= len(found) <= 4 and any(found):
            return found
    return None


def exif_facts(path: Path) -> dict[str, Any]:
    """Camera, lens, exposure and date through Exiv2, as fields of FrameFacts; empty when unreadable."""
    import exiv2

    try:
        image = exiv2.ImageFactory.open(str(path))
        image.readMetadata()
        data = image.exifData()
    except Exception as error:
        log.info("metadata of %s: %s", path.name, error)
        return {}
    facts: dict[str, Any] = {
        "make": _first(data, "Exif.Image.Make"),
        "model": _first(data, "Exif.Image.Model"),
        "serial": _first(data, "Exif.Photo.BodySerialNumber", "Exif.Image.CameraSerialNumber"),
        "lens": _first(data, "Exif.Photo.LensModel", "Exif.Image.LensInfo"),
        "exposure_s": _number(data, "Exif.Photo.ExposureTime", "Exif.Image.ExposureTime"),
        "aperture": _number(data, "Exif.Photo.FNumber", "Exif.Image.FNumber"),
        "focal_length_mm": _number(data, "Exif.Photo.FocalLength", "Exif.Image.FocalLength"),
        "focal_length_35mm": _number(data, "Exif.Photo.FocalLengthIn35mmFilm"),
        "distance_m": _number(data, "Exif.Photo.SubjectDistance"),
    }
    with contextlib.suppress(Exception):
        facts["lens"] = facts["lens"] or str(exiv2.lensName(data).print())
    iso = _number(data, "Exif.Photo.ISOSpeedRatings", "Exif.Image.ISOSpeedRatings", "Exif.Photo.ISOSpeed")
    facts["iso"] = int(iso) if iso else None
    facts["subject_area"] = _subject(data)
    turned = _number(data, "Exif.Image.Orientation")
    facts["orientation"] = int(turned) if turned and 1 <= turned <= 8 else 1
    when = _first(data, "Exif.Photo.DateTimeOriginal", "Exif.Image.DateTimeOriginal", "Exif.Image.DateTime")
    fraction = _first(data, "Exif.Photo.SubSecTimeOriginal")
    with contextlib.suppress(ValueError):
        moment = datetime.strptime(when, "%Y:%m:%d %H:%M:%S")
        if fraction.isdigit():
            moment = moment.replace(microsecond=int(fraction[:6].ljust(6, "0")))
        facts["taken"] = moment
    with contextlib.suppress(Exception):
        facts["keywords"] = tuple(
            str(d.toString()) for d in image.iptcData() if d.key() == "Iptc.Application2.Keywords"
        )
    with contextlib.suppress(Exception):
        facts["applied"] = _applied(image.xmpData())
    return {k: v for k, v in facts.items() if v not in (None, "")}


MARKS = {
    "DistortionCorrectionAlreadyApplied": "distortion",
    "LateralChromaticAberrationCorrectionAlreadyApplied": "lateral_colour",
    "VignetteCorrectionAlreadyApplied": "fall_off",
}


def _applied(xmp: Any) -> tuple[str, ...]:
    """Corrections that a camera or a pre-pass has done: the marks of XMP's schema of additional EXIF properties."""
    marks = {d.key().rsplit(".", 1)[-1]: str(d.toString()).strip().lower() for d in xmp}
    return tuple(name for mark, name in MARKS.items() if marks.get(mark) in ("true", "1"))

"""Damage in a file's pixel data that its own format can tell: warnings of a decoder, check sums, a digest of the raw numbers."""

from pathlib import Path
from typing import Any

import numpy as np

from tanner.core.raw.dng import JPEG, digest
from tanner.core.tiff.dng import CODES

DAMAGED = (
    "Its pixel data is damaged ({}): parts of the picture may be wrong. Copy the file again from its card or a backup."
)
_JPEG, _PNG, _DNG = {".jpg", ".jpeg"}, {".png"}, {".dng"}


def tells_damage(words: str) -> bool:
    """Whether a warning is one of `damage_of`."""
    return words.startswith(DAMAGED.partition("{")[0])


def damage_of(path: Path) -> str:
    """What a file's own format says against its pixels, as a sentence for a person; "" for nothing.

    JPEG by the warnings of its decoder (libjpeg-turbo), PNG by its CRCs, a DNG by its NewRawImageDigest. That digest is compared
    only in files of our own: the specification leaves its order to its reference code (see `dng.digest`), and a sound file of
    another program must not be called damaged.
    """
    suffix = path.suffix.lower()
    try:
        if suffix in _JPEG:
            return _of_jpeg(path.read_bytes())
        if suffix in _PNG:
            return _of_png(path)
        if suffix in _DNG:
            return _of_dng(path)
    except OSError:  # whoever reads the file says that
        pass
    return ""


def _of_jpeg(data: bytes) -> str:
    import simplejpeg

    try:
        # An eighth of its size: every bit is read, few pixels are worked out.
        simplejpeg.decode_jpeg(data, colorspace="GRAY", min_height=1, min_width=1, min_factor=8, strict=True)
    except ValueError as error:
        return DAMAGED.format(str(error).strip().rstrip("."))
    return ""


def _of_png(path: Path) -> str:
    from PIL import Image

    try:
        with Image.open(path) as image:
            image.verify()
    except (SyntaxError, ValueError, EOFError) as error:
        return DAMAGED.format(str(error).strip().rstrip("."))
    return ""


def _of_dng(path: Path) -> str:
    import imagecodecs
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            page: Any = tiff.pages[0]
            told = page.tags.get(CODES["NewRawImageDigest"])
            if page.software != "Tanner" or told is None or len(page.dataoffsets) != 1:
                return ""
            shape, coded, wanted = page.shape, page.compression == JPEG, bytes(told.value)
            tiff.filehandle.seek(page.dataoffsets[0])
            strip = tiff.filehandle.read(page.databytecounts[0])
    except Exception:  # no TIFF at all: whoever reads the file says that
        return ""
    try:
        numbers = np.asarray(imagecodecs.jpeg8_decode(strip)) if coded else np.frombuffer(strip, "<u2")
        same = digest(numbers.reshape(shape)) == wanted
    except Exception:
        same = False
    return "" if same else DAMAGED.format("its numbers are not those that were written")

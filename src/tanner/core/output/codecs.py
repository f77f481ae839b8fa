"""JPEG XL and AVIF through the reference libraries' own C interfaces, for what their Python wrappers leave out.

No wrapper hands an ICC profile to libjxl, and none gives AVIF both a profile and more than 8 bits. imagecodecs ships both
libraries; their public functions and structures are called here (sources: libjxl, libavif). docs/decisions/0022.
"""

import ctypes as c
import re
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import TannerError


class CodecError(TannerError):
    """A picture that a library would not encode, with its own word."""


@cache
def _library(stem: str) -> c.CDLL:
    import imagecodecs

    # Loading the wrapper's module loads what it needs in the right order.
    _ = imagecodecs.JPEGXL.available, imagecodecs.AVIF.available
    folder = Path(imagecodecs.__file__).parent.parent / "imagecodecs.libs"
    found = [p for p in folder.iterdir() if re.match(rf"{stem}[-.]", p.name)] if folder.is_dir() else []
    if not found:
        raise CodecError(f"The library {stem} of imagecodecs is not there. Run the set-up again.")
    return c.CDLL(str(found[0]))


# --- JPEG XL -------------------------------------------------------------------------------------------


class _BasicInfo(c.Structure):
    """JxlBasicInfo of libjxl 0.11."""

    _fields_ = [
        ("have_container", c.c_int), ("xsize", c.c_uint32), ("ysize", c.c_uint32), ("bits_per_sample", c.c_uint32),
        ("exponent_bits_per_sample", c.c_uint32), ("intensity_target", c.c_float), ("min_nits", c.c_float),
        ("relative_to_max_display", c.c_int), ("linear_below", c.c_float), ("uses_original_profile", c.c_int),
        ("have_preview", c.c_int), ("have_animation", c.c_int), ("orientation", c.c_int),
        ("num_color_channels", c.c_uint32), ("num_extra_channels", c.c_uint32), ("alpha_bits", c.c_uint32),
        ("alpha_exponent_bits", c.c_uint32), ("alpha_premultiplied", c.c_int), ("preview", c.c_uint32 * 2),
        ("animation", c.c_uint32 * 4), ("intrinsic_xsize", c.c_uint32), ("intrinsic_ysize", c.c_uint32),
        ("padding", c.c_uint8 * 100),
    ]  # fmt: skip


class _PixelFormat(c.Structure):
    _fields_ = [("num_channels", c.c_uint32), ("data_type", c.c_int), ("endianness", c.c_int), ("align", c.c_size_t)]


_UINT8, _UINT16 = 2, 3
_EFFORT = 0
_MORE = 2


@cache
def _jxl() -> c.CDLL:
    lib = _library("libjxl")
    for name in ("JxlEncoderCreate", "JxlEncoderFrameSettingsCreate"):
        getattr(lib, name).restype = c.c_void_p
    lib.JxlEncoderDistanceFromQuality.restype = c.c_float
    lib.JxlEncoderDistanceFromQuality.argtypes = [c.c_float]
    lib.JxlEncoderSetFrameDistance.argtypes = [c.c_void_p, c.c_float]
    return lib


@contextmanager
def _jxl_encoder() -> Iterator[c.c_void_p]:
    encoder = c.c_void_p(_jxl().JxlEncoderCreate(None))
    try:
        yield encoder
    finally:
        _jxl().JxlEncoderDestroy(encoder)


def jpeg_xl(
    pixels: NDArray[Any], profile: bytes, quality: float, exif: bytes = b"", xmp: bytes = b"", own_colours: bool = False
) -> bytes:
    """A JPEG XL file.

    Args:
        pixels: (H, W, 3) uint8 or uint16.
        profile: ICC, which says what the pixels mean; it stands in the file.
        quality: 1 to 100; 100 keeps every pixel to the bit.
        own_colours: the pixels are coded as they are, in their own space, and not in the format's: for profiles that only
            an ICC file can say, whose colours a plain reader would get as sRGB otherwise.
        exif: a TIFF block without a mark before it.

    Raises:
        CodecError: libjxl refused the picture.
    """
    lib = _jxl()
    height, width = pixels.shape[:2]
    pixels = np.ascontiguousarray(pixels)
    lossless = quality >= 100
    deep = pixels.dtype == np.uint16

    def must(status: int, what: str) -> None:
        if status:
            raise CodecError(f"JPEG XL: {what} was refused by its library.")

    with _jxl_encoder() as encoder:
        must(lib.JxlEncoderUseContainer(encoder, 1), "the container")
        info = _BasicInfo()
        lib.JxlEncoderInitBasicInfo(c.byref(info))
        info.xsize, info.ysize, info.bits_per_sample = width, height, 16 if deep else 8
        info.num_color_channels = 3
        info.uses_original_profile = int(lossless or own_colours)
        must(lib.JxlEncoderSetBasicInfo(encoder, c.byref(info)), f"a picture of {width} × {height} px")
        must(lib.JxlEncoderSetICCProfile(encoder, profile, c.c_size_t(len(profile))), "the ICC profile")
        frame = c.c_void_p(lib.JxlEncoderFrameSettingsCreate(encoder, None))
        lib.JxlEncoderFrameSettingsSetOption(frame, _EFFORT, c.c_int64(5))
        if lossless:
            must(lib.JxlEncoderSetFrameLossless(frame, 1), "lossless coding")
        else:
            distance = lib.JxlEncoderDistanceFromQuality(c.c_float(quality))
            must(lib.JxlEncoderSetFrameDistance(frame, c.c_float(distance)), f"quality {quality:g}")
        if exif or xmp:
            must(lib.JxlEncoderUseBoxes(encoder), "metadata")
        for kind, data in ((b"Exif", b"\0\0\0\0" + exif if exif else b""), (b"xml ", xmp)):
            if data:
                must(lib.JxlEncoderAddBox(encoder, kind, data, c.c_size_t(len(data)), 0), "metadata")
        form = _PixelFormat(3, _UINT16 if deep else _UINT8, 0, 0)
        where = c.c_void_p(pixels.ctypes.data)
        must(lib.JxlEncoderAddImageFrame(frame, c.byref(form), where, c.c_size_t(pixels.nbytes)), "the picture")
        lib.JxlEncoderCloseInput(encoder)
        return _jxl_output(encoder, max(1 << 16, pixels.nbytes // 4))


def _jxl_output(encoder: c.c_void_p, room: int) -> bytes:
    parts: list[bytes] = []
    buffer = c.create_string_buffer(room)
    while True:
        at, left = c.c_void_p(c.addressof(buffer)), c.c_size_t(room)
        status = _jxl().JxlEncoderProcessOutput(encoder, c.byref(at), c.byref(left))
        parts.append(buffer.raw[: room - left.value])
        if status != _MORE:
            break
    if status:
        raise CodecError("JPEG XL: the picture could not be coded.")
    return b"".join(parts)


# --- AVIF ----------------------------------------------------------------------------------------------


class _Data(c.Structure):
    """avifRWData."""

    _fields_ = [("data", c.c_void_p), ("size", c.c_size_t)]


class _Image(c.Structure):
    """The first fields of avifImage (libavif 1); the rest is never touched."""

    _fields_ = [
        ("width", c.c_uint32), ("height", c.c_uint32), ("depth", c.c_uint32), ("yuv_format", c.c_int),
        ("yuv_range", c.c_int), ("chroma_place", c.c_int), ("planes", c.c_void_p * 3), ("row_bytes", c.c_uint32 * 3),
        ("owns_planes", c.c_int), ("alpha", c.c_void_p), ("alpha_row_bytes", c.c_uint32), ("owns_alpha", c.c_int),
        ("alpha_premultiplied", c.c_int), ("icc", _Data), ("primaries", c.c_uint16), ("transfer", c.c_uint16),
        ("matrix", c.c_uint16),
    ]  # fmt: skip


class _Rgb(c.Structure):
    """avifRGBImage of libavif 1, with room for what later versions add."""

    _fields_ = [
        ("width", c.c_uint32), ("height", c.c_uint32), ("depth", c.c_uint32), ("format", c.c_int),
        ("upsampling", c.c_int), ("downsampling", c.c_int), ("avoid_libyuv", c.c_int), ("ignore_alpha", c.c_int),
        ("alpha_premultiplied", c.c_int), ("is_float", c.c_int), ("threads", c.c_int), ("pixels", c.c_void_p),
        ("row_bytes", c.c_uint32), ("spare", c.c_uint8 * 64),
    ]  # fmt: skip


class _Encoder(c.Structure):
    """The first fields of avifEncoder (libavif 1)."""

    _fields_ = [
        ("codec", c.c_int), ("threads", c.c_int), ("speed", c.c_int), ("keyframes", c.c_int), ("timescale", c.c_uint64),
        ("repetitions", c.c_int), ("extra_layers", c.c_uint32), ("quality", c.c_int), ("quality_alpha", c.c_int),
    ]  # fmt: skip


_SAMPLING = {"444": 1, "422": 2, "420": 3}
_UNKNOWN, _BT601 = 2, 6


@cache
def _avif() -> c.CDLL:
    lib = _library("libavif")
    lib.avifImageCreate.restype = c.POINTER(_Image)
    lib.avifEncoderCreate.restype = c.POINTER(_Encoder)
    lib.avifResultToString.restype = c.c_char_p
    lib.avifVersion.restype = c.c_char_p
    if not lib.avifVersion().startswith(b"1."):
        raise CodecError("AVIF: its library is of another version than this was written for.")
    return lib


def avif(
    pixels: NDArray[Any], bits: int, profile: bytes, quality: int, chroma: str, exif: bytes = b"", xmp: bytes = b""
) -> bytes:
    """An AVIF file of 8, 10 or 12 bits.

    Args:
        pixels: (H, W, 3), uint8 for 8 bits, else uint16 over its whole range.
        chroma: "444", "422" or "420".
        exif: a TIFF block without a mark before it.

    Raises:
        CodecError: libavif refused the picture.
    """
    lib = _avif()
    height, width = pixels.shape[:2]
    if bits > 8:
        most = 2**bits - 1
        pixels = ((pixels.astype(np.uint32) * most + 32767) // 65535).astype(np.uint16)
    pixels = np.ascontiguousarray(pixels)

    def must(status: int) -> None:
        if status:
            raise CodecError(f"AVIF: {lib.avifResultToString(status).decode()}.")

    image = lib.avifImageCreate(width, height, bits, _SAMPLING[chroma])
    encoder = lib.avifEncoderCreate()
    out = _Data()
    try:
        # What the colours are stands in the profile alone; the matrix is the one that all readers take with it.
        image.contents.primaries = image.contents.transfer = _UNKNOWN
        image.contents.matrix = _BT601
        must(lib.avifImageSetProfileICC(image, profile, c.c_size_t(len(profile))))
        if exif:
            must(lib.avifImageSetMetadataExif(image, exif, c.c_size_t(len(exif))))
        if xmp:
            must(lib.avifImageSetMetadataXMP(image, xmp, c.c_size_t(len(xmp))))
        rgb = _Rgb()
        lib.avifRGBImageSetDefaults(c.byref(rgb), image)
        rgb.depth, rgb.format = (bits if bits > 8 else 8), 0
        rgb.pixels, rgb.row_bytes = pixels.ctypes.data, pixels.strides[0]
        must(lib.avifImageRGBToYUV(image, c.byref(rgb)))
        encoder.contents.speed, encoder.contents.quality, encoder.contents.threads = 7, quality, 1
        must(lib.avifEncoderWrite(encoder, image, c.byref(out)))
        return c.string_at(out.data, out.size)
    finally:
        lib.avifRWDataFree(c.byref(out))
        lib.avifEncoderDestroy(encoder)
        lib.avifImageDestroy(image)

"""One JPEG from strips that were encoded each on its own, so that encoding runs beside rendering.

Strips of the same tables join with restart markers (source: itu-t81, sections B.2.4.4 and F.1.1.5.2):
each starts with a fresh prediction and ends on a byte, as a restart interval does.
"""

import struct
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import simplejpeg
from numpy.typing import NDArray

from tanner.core.output.captions import iim_resource


def encode_strip(pixels: NDArray[np.uint8], quality: int, chroma: str = "auto", fast: bool = False) -> bytes:
    """A strip as a baseline JPEG of its own; chroma: 444, 422, 420, or auto: 4:2:0 below quality 93, else 4:4:4.

    Args:
        fast: a less exact cosine transform.
    """
    sampling = ("420" if quality < 93 else "444") if chroma == "auto" else chroma
    data: bytes = simplejpeg.encode_jpeg(
        np.ascontiguousarray(pixels), quality=quality, colorsubsampling=sampling, fastdct=fast
    )
    return data


def _parts(data: bytes) -> tuple[dict[int, int], int]:
    """Offsets of the frame header and the scan header, and of the first byte of the scan."""
    at = 2
    found: dict[int, int] = {}
    while True:
        marker, length = data[at + 1], struct.unpack_from(">H", data, at + 2)[0]
        found[marker] = at
        at += 2 + length
        if marker == 0xDA:
            return found, at


def join(strips: Iterable[bytes], width: int, height: int, segments: list[bytes], ppi: int = 0) -> bytes:
    """Join strips into one file.

    Args:
        strips: from `encode_strip`, all of the same height but the last.
        segments: whole APPn segments to stand after the start, ICC for example.
        ppi: written into the JFIF segment.
    """
    out = bytearray()
    header = b""
    for index, strip in enumerate(strips):
        markers, scan = _parts(strip)
        if index == 0:
            frame = markers[0xC0]
            rows, cols = struct.unpack_from(">HH", strip, frame + 5)
            sampling = strip[frame + 11]
            mcu_w, mcu_h = 8 * (sampling >> 4), 8 * (sampling & 15)
            interval = -(-cols // mcu_w) * -(-rows // mcu_h)
            head = bytearray(strip[:scan])
            if ppi and strip[3] == 0xE0:
                struct.pack_into(">BHH", head, 13, 1, ppi, ppi)  # units of JFIF: per inch
            struct.pack_into(">HH", head, frame + 5, height, width)
            restart = b"\xff\xdd" + struct.pack(">HH", 4, interval)
            start = markers[0xDA]
            # APP0 stays first; extra segments follow it, the restart interval stands before the scan.
            app0 = 4 + struct.unpack_from(">H", strip, 4)[0] if strip[3] == 0xE0 else 2
            header = bytes(head[:app0]) + b"".join(segments) + bytes(head[app0:start]) + restart + bytes(head[start:])
            out += header
        else:
            out += b"\xff" + bytes([0xD0 + (index - 1) % 8])
        out += strip[scan:-2]
    return bytes(out) + b"\xff\xd9"


def encode_in_bands(
    pixels: NDArray[np.uint8], quality: int, chroma: str, pool: ThreadPoolExecutor, fast: bool = False
) -> bytes:
    """A picture in two bands that two threads encode; small ones in one piece."""
    h, w = pixels.shape[:2]
    rows = -(-h // 2 // 16) * 16  # whole blocks, of halved chroma too
    if h * w < 200_000 or rows >= h:
        return encode_strip(pixels, quality, chroma, fast)
    lower = pool.submit(encode_strip, pixels[rows:], quality, chroma, fast)
    return join([encode_strip(pixels[:rows], quality, chroma, fast), lower.result()], w, h, [])


def icc_segments(profile: bytes) -> list[bytes]:
    """A profile as APP2 segments (source: icc2010, annex B.4)."""
    size = 65519
    chunks = [profile[i : i + size] for i in range(0, len(profile), size)]
    result = []
    for number, chunk in enumerate(chunks, 1):
        body = b"ICC_PROFILE\0" + bytes([number, len(chunks)]) + chunk
        result.append(b"\xff\xe2" + struct.pack(">H", len(body) + 2) + body)
    return result


def app1(header: bytes, body: bytes) -> bytes:
    """EXIF or XMP as an APP1 segment."""
    return b"\xff\xe1" + struct.pack(">H", len(header) + len(body) + 2) + header + body


def app13(iim: bytes) -> bytes:
    """IIM as an APP13 segment; what is too long for one is left out, as XMP holds it, too."""
    body = iim_resource(iim)
    return b"\xff\xed" + struct.pack(">H", len(body) + 2) + body if len(body) < 65_000 else b""

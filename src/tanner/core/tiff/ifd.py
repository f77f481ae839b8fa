"""Directories of TIFF files: read as they stand, and written with the directories and pixels that hang on them.

Values travel as bytes in little-endian order, so that what one file said can stand in another to the bit (source: tiff6).
"""

import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np

BYTE, ASCII, SHORT, LONG, RATIONAL, SBYTE, UNDEFINED, SSHORT, SLONG, SRATIONAL, FLOAT, DOUBLE, IFD = range(1, 14)
SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}
_NUMBERS = {1: "u1", 3: "u2", 4: "u4", 6: "i1", 8: "i2", 9: "i4", 11: "f4", 12: "f8", 13: "u4"}
_UNITS = {5: 4, 10: 4}
SUB_IFDS, EXIF_IFD, STRIP_OFFSETS, STRIP_COUNTS = 330, 34665, 273, 279
MOST_BYTES = 64_000_000
"""Of one value; more is damage."""


@dataclass(frozen=True)
class Entry:
    """One tag's value: its TIFF type, how many, and the bytes in little-endian order."""

    kind: int
    count: int
    data: bytes

    @property
    def values(self) -> tuple[Any, ...]:
        """Numbers; rationals as floats, NaN where they divide by zero; a text as one string, UNDEFINED as one bytes."""
        if self.kind == ASCII:
            return (self.data.split(b"\0")[0].decode("utf-8", "replace"),)
        if self.kind == UNDEFINED:
            return (self.data,)
        if self.kind in _UNITS:
            pairs = (
                np.frombuffer(self.data, "<u4" if self.kind == RATIONAL else "<i4").astype(np.float64).reshape(-1, 2)
            )
            with np.errstate(divide="ignore", invalid="ignore"):
                return tuple(np.where(pairs[:, 1] != 0, pairs[:, 0] / pairs[:, 1], np.nan).tolist())
        return tuple(np.frombuffer(self.data, "<" + _NUMBERS[self.kind]).tolist())


def entry(kind: int, values: Any, limit: int = 1_000_000) -> Entry:
    """Values as an entry of a type.

    Args:
        values: one or several numbers; a text for ASCII; bytes for UNDEFINED and BYTE.
        limit: largest denominator of rationals.
    """
    if kind == ASCII:
        data = str(values).encode() + b"\0"
        return Entry(kind, len(data), data)
    if isinstance(values, bytes | bytearray):
        return Entry(kind, len(values) // SIZES[kind], bytes(values))
    flat = np.ravel(np.asarray(values, dtype=np.float64))
    if kind in _UNITS:
        parts: list[int] = []
        for value in flat:
            part = Fraction(float(value)).limit_denominator(limit if abs(value) < 2000 else 1)
            parts += [part.numerator, part.denominator]
        data = np.array(parts, "<u4" if kind == RATIONAL else "<i4").tobytes()
    else:
        data = flat.astype("<" + _NUMBERS[kind]).tobytes()
    return Entry(kind, len(flat), data)


# --- writing -------------------------------------------------------------------------------------------


@dataclass
class Directory:
    """A directory with what hangs on it.

    Attributes:
        tags: by code; offsets and byte counts of the strips are filled in when written.
        strips: encoded pixels.
        exif: the EXIF directory; subs: the SubIFDs, in order.
        blobs: things that are told of by their offsets alone, by code: each begins on a word.
    """

    tags: dict[int, Entry] = field(default_factory=dict)
    strips: Sequence[bytes | memoryview] = ()
    exif: "Directory | None" = None
    subs: Sequence["Directory"] = ()
    blobs: Mapping[int, Sequence[bytes]] = field(default_factory=dict)


def written(main: Directory) -> bytes:
    """A whole little-endian TIFF: header, directories, small values, then pixels.

    Raises:
        ValueError: it would pass the 4 GB that such a file can address.
    """
    parts: list[bytes | memoryview] = [struct.pack("<2sHI", b"II", 42, 8)]
    size = _lay(main, 8, parts)
    if size >= 2**32:
        raise ValueError("The file would be larger than 4 GB.")
    return b"".join(parts)


def _lay(directory: Directory, at: int, parts: list[bytes | memoryview]) -> int:
    """Append a directory that begins at `at`, and all that hangs on it; where the next thing would begin."""
    tags = dict(directory.tags)
    if directory.strips:
        tags[STRIP_OFFSETS] = entry(LONG, [0] * len(directory.strips))
        tags[STRIP_COUNTS] = entry(LONG, [memoryview(s).nbytes for s in directory.strips])
    if directory.exif:
        tags[EXIF_IFD] = entry(LONG, 0)
    if directory.subs:
        tags[SUB_IFDS] = entry(LONG, [0] * len(directory.subs))
    for code, told in directory.blobs.items():
        tags[code] = entry(LONG, [0] * len(told))
    body = at + 6 + 12 * len(tags)
    places: dict[int, int] = {}
    for code in sorted(tags):
        if len(tags[code].data) > 4:
            places[code] = body
            body += len(tags[code].data) + len(tags[code].data) % 2
    inner: list[bytes | memoryview] = []
    if directory.exif:
        tags[EXIF_IFD] = entry(LONG, body)
        body = _lay(directory.exif, body, inner)
    found = []
    for sub in directory.subs:
        found.append(body)
        body = _lay(sub, body, inner)
    if found:
        tags[SUB_IFDS] = entry(LONG, found)
    hung: dict[int, Sequence[bytes | memoryview]] = dict(directory.blobs)
    if directory.strips:
        hung[STRIP_OFFSETS] = directory.strips
    for code, blobs in hung.items():
        found = []
        for blob in blobs:
            found.append(body)
            size = memoryview(blob).nbytes
            inner += [blob, b"\0" * (size % 2)]
            body += size + size % 2
        tags[code] = entry(LONG, found)
    parts.append(struct.pack("<H", len(tags)))
    for code in sorted(tags):
        value = tags[code]
        where = struct.pack("<I", places[code]) if code in places else value.data.ljust(4, b"\0")
        parts.append(struct.pack("<HHI", code, value.kind, value.count) + where)
    parts.append(b"\0\0\0\0")  # nothing is chained
    for code in places:
        parts.append(tags[code].data + b"\0" * (len(tags[code].data) % 2))
    parts += inner
    return body


def alone(tags: Mapping[int, Entry], magic: int) -> bytes:
    """A file of one directory without a picture, whose offsets count from its own beginning (a .dcp, for example)."""
    parts: list[bytes | memoryview] = [struct.pack("<2sHI", b"II", magic, 8)]
    _lay(Directory(dict(tags)), 8, parts)
    return b"".join(parts)


# --- reading -------------------------------------------------------------------------------------------


def little(kind: int, data: bytes, order: str) -> bytes:
    """Value bytes of a file of either byte order, in little-endian order."""
    unit = _UNITS.get(kind, SIZES[kind])
    if order == "<" or unit == 1:
        return bytes(data)
    return np.frombuffer(data, f">u{unit}").astype(f"<u{unit}").tobytes()


def read(data: Any, place: int, order: str, base: int = 0) -> tuple[dict[int, Entry], int]:
    """The entries of a directory, by code, and where the next chained directory lies (0: none).

    Entries of unknown types and such as lead out of the data are left out.

    Raises:
        ValueError: the directory itself lies outside of the data.
    """
    size = len(data)
    if place + 2 > size:
        raise ValueError("a directory beyond the end of the file")
    (count,) = struct.unpack_from(order + "H", data, place)
    if place + 2 + 12 * count + 4 > size:
        raise ValueError("a directory that is cut off")
    found: dict[int, Entry] = {}
    for i in range(count):
        code, kind, number = struct.unpack_from(order + "HHI", data, place + 2 + 12 * i)
        length = SIZES.get(kind, 0) * number
        at = place + 10 + 12 * i
        if length > 4:
            at = base + struct.unpack_from(order + "I", data, at)[0]
        if kind not in SIZES or length > MOST_BYTES or at + length > size:
            continue
        found[code] = Entry(kind, number, little(kind, data[at : at + length], order))
    (following,) = struct.unpack_from(order + "I", data, place + 2 + 12 * count)
    return found, following


def byte_order(data: Any, base: int = 0, magic: int = 42) -> tuple[str, int]:
    """ "<" or ">", and where the first directory lies.

    Raises:
        ValueError: no such file.
    """
    order = {b"II": "<", b"MM": ">"}.get(bytes(data[base : base + 2]))
    if order is None or len(data) < base + 8:
        raise ValueError("no TIFF")
    number, at = struct.unpack_from(order + "HI", data, base + 2)
    if number != magic:
        raise ValueError("another magic number")
    return order, base + at

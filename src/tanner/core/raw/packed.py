"""DNG mosaics in lossless JPEG, deflate or JPEG XL, in strips or tiles: decoded here, three times as fast as LibRaw does it.

LibRaw still opens the file and says what it is. Whatever is not known here, or turns out odd while it is decoded, is LibRaw's;
the numbers are the same (tests compare them over predictors, components, bits, tiles, restarts and odd sizes).
"""

import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.raw.plain import has_levels, levels_of

CFA = 32803
WAYS = {7: "lossless JPEG", 8: "deflate", 32946: "deflate", 52546: "JPEG XL"}
LINEARIZATION, ROW_FIELDS, COLUMN_FIELDS = 50712, 50975, 52547
"""Tags: what stored numbers stand for; in how many fields, one after the other, rows and columns are stored (the last from
memory of version 1.7)."""
SOF3, RESTART, SCAN = 0xC3, 0xDD, 0xDA


class Odd(Exception):
    """Something that is left to LibRaw."""


@dataclass(frozen=True)
class PackedMosaic:
    """A mosaic in pieces.

    Attributes:
        shape: rows and columns of all its px; piece: of one piece; visible: top, left, height, width that is shown.
        places: offset and length of each piece, row by row of pieces.
        way: one of WAYS; order: of its bytes, where that is deflate.
        fields: in how many fields rows and columns are stored: px of one colour lie together then.
        table: what stored numbers stand for (LinearizationTable; source: dng17), or None.
        black: by row and column parity; white; colours row by row, as RGGB: as the file's own tags say them; colours is "" where
            only LibRaw knows.
    """

    path: Path
    shape: tuple[int, int]
    piece: tuple[int, int]
    visible: tuple[int, int, int, int]
    places: tuple[tuple[int, int], ...]
    way: str
    order: str
    bits: int
    table: NDArray[np.uint16] | None
    black: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    white: float = 0.0
    colours: str = ""
    fields: tuple[int, int] = (1, 1)

    def pixels(self, threads: int = 2) -> NDArray[np.uint16]:
        """(H, W) uint16 of what is shown.

        Raises:
            Odd: a piece that is not understood, or damaged.
        """
        h, w = self.shape
        rows, columns = self.piece
        across = -(-w // columns)
        whole = np.empty((h, w), np.uint16)
        data = np.memmap(self.path, np.uint8, "r")

        def put(number: int) -> None:
            y, x = divmod(number, across)
            y, x = y * rows, x * columns
            offset, count = self.places[number]
            if offset + count > len(data) or not count:
                raise Odd("a piece lies outside of the file")
            # The last strip is shorter; tiles are whole.
            high = min(rows, h - y) if across == 1 and columns == w else rows
            part = self._decoded(bytes(data[offset : offset + count]), high, columns)
            whole[y : y + rows, x : x + columns] = part[: min(rows, h - y), : min(columns, w - x)]

        try:
            if threads > 1 and len(self.places) > 1:
                with ThreadPoolExecutor(threads) as pool:
                    list(pool.map(put, range(len(self.places))))
            else:
                for number in range(len(self.places)):
                    put(number)
        except Odd:
            raise
        except Exception as error:
            raise Odd(str(error)) from None
        for axis, count in enumerate(self.fields):
            if count > 1:
                whole = _woven(whole, count, axis)
        top, left, high, wide = self.visible
        shown = np.ascontiguousarray(whole[top : top + high, left : left + wide])
        return shown if self.table is None else np.ascontiguousarray(self.table[np.minimum(shown, len(self.table) - 1)])

    def _decoded(self, data: bytes, rows: int, columns: int) -> NDArray[np.uint16]:
        if self.way == "deflate":
            found = np.frombuffer(zlib.decompress(data), f"{self.order}u{self.bits // 8}")
        elif self.way == "JPEG XL":
            found = _jpeg_xl(data)
        else:
            found = _jpeg(data, self.bits)
        if found.size != rows * columns:
            # A last strip may be stored whole.
            if found.size < rows * columns or found.size % columns:
                raise Odd("a piece of another size")
            found = found[: rows * columns]
        return found.reshape(rows, columns).astype(np.uint16, copy=False)


def _jpeg(data: bytes, bits: int) -> NDArray[np.uint16]:
    """The numbers of a lossless JPEG one after the other, components of a place side by side (source: t81)."""
    import imagecodecs

    markers = dict(_markers(data))
    if "precision" not in markers or markers["precision"] != bits:
        raise Odd("another number of bits")
    if markers.get("restart") or markers.get("point") or not markers.get("all in one scan"):
        raise Odd("restart intervals, a point transform, or components in scans of their own")
    # One knows all seven predictors; the quicker one the first alone.
    decode = imagecodecs.jpeg8_decode if markers["predictor"] == 1 else imagecodecs.ljpeg_decode
    return np.ascontiguousarray(decode(data)).ravel()


def _jpeg_xl(data: bytes) -> NDArray[np.uint16]:
    """The numbers of a JPEG XL of whole numbers, row by row; a lossy one gives what it holds."""
    import imagecodecs

    found = np.asarray(imagecodecs.jpegxl_decode(data))
    if found.dtype not in (np.uint8, np.uint16) or (found.ndim == 3 and found.shape[2] > 1):
        raise Odd("a JPEG XL of another kind")
    return found.astype(np.uint16, copy=False).ravel()


def _woven(stored: NDArray[np.uint16], count: int, axis: int) -> NDArray[np.uint16]:
    """Rows (axis 0) or columns that were stored in fields, in their own order again."""
    order = np.concatenate([np.arange(first, stored.shape[axis], count) for first in range(count)])
    whole = np.empty_like(stored)
    if axis == 0:
        whole[order] = stored
    else:
        whole[:, order] = stored
    return whole


def _markers(data: bytes) -> Iterator[tuple[str, int]]:
    """What a JPEG's marks say before its data."""
    if data[:2] != b"\xff\xd8":
        raise Odd("no JPEG")
    at, components = 2, 0
    while at + 4 <= len(data):
        if data[at] != 0xFF:
            raise Odd("a broken mark")
        mark, size = data[at + 1], int.from_bytes(data[at + 2 : at + 4], "big")
        body = data[at + 4 : at + 2 + size]
        if 0xC0 <= mark <= 0xCF and mark not in (0xC4, 0xC8, 0xCC) and mark != SOF3:
            raise Odd("no lossless JPEG")
        if mark == SOF3:
            components = body[5]
            yield "precision", body[0]
            if any(body[7 + 3 * k] != 0x11 for k in range(components)):
                raise Odd("components of several sizes")
        elif mark == RESTART:
            yield "restart", int.from_bytes(body[:2], "big")
        elif mark == SCAN:
            yield "all in one scan", int(body[0] == components)
            yield "predictor", body[1 + 2 * body[0]]
            yield "point", body[3 + 2 * body[0]] & 15
            return
        at += 2 + size


def packed_mosaic(path: Path, whole: tuple[int, int], visible: tuple[int, int, int, int]) -> PackedMosaic | None:
    """The mosaic of a DNG that can be decoded here; None for every other file.

    Args:
        whole: width and height of all the sensor's px as LibRaw sees them; visible: top, left, height, width of those shown.
    """
    if path.suffix.lower() != ".dng":
        return None
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            first = tiff.pages[0]
            pages = [p for p in (first, *((first.pages or [])[:8])) if int(p.photometric or 0) == CFA]
            return _of(path, tiff.byteorder, pages[0], has_levels(first), whole, visible) if len(pages) == 1 else None
    except Exception:  # a file that is odd or damaged is LibRaw's to judge
        return None


def _of(
    path: Path, order: str, page: Any, markers: bool, whole: tuple[int, int], visible: tuple[int, int, int, int]
) -> PackedMosaic | None:
    w, h = whole
    way = WAYS.get(int(page.compression), "")
    bits = page.bitspersample
    if not way or page.shape != (h, w) or not isinstance(bits, int) or not 8 <= bits <= 16 or int(page.predictor) != 1:
        return None
    if way == "deflate" and bits not in (8, 16):
        return None
    fields = tuple(int(page.tags[t].value) if t in page.tags else 1 for t in (ROW_FIELDS, COLUMN_FIELDS))
    if not all(1 <= f <= 8 for f in fields):
        return None
    if page.is_tiled:
        piece = int(page.tilelength), int(page.tilewidth)
    else:
        piece = min(int(page.rowsperstrip), h), w
    places = tuple((int(o), int(c)) for o, c in zip(page.dataoffsets, page.databytecounts, strict=True))
    if len(places) != -(-h // piece[0]) * -(-w // piece[1]):
        return None
    if any(o + c > path.stat().st_size or not c for o, c in places):
        return None  # cut off: LibRaw says so
    table = page.tags.get(LINEARIZATION)
    values = None if table is None else np.ravel(np.asarray(table.value)).astype(np.uint16)
    if values is not None and not len(values):
        return None
    black, white, colours = levels_of(page)
    if not markers or black is None or visible[0] % 2 or visible[1] % 2:
        black, white, colours = (0.0, 0.0, 0.0, 0.0), 0.0, ""
    return PackedMosaic(path, (h, w), piece, visible, places, way, order, bits, values, black, white, colours, fields)  # type: ignore[arg-type]

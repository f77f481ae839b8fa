"""DNG files whose mosaic lies there as it is: read straight from the file, ten times as fast as by decoding it.

Only what needs no decoding at all: 16 bits in one piece, no packing, no table of values, no masked borders. LibRaw still
opens the file and says what it is; the numbers are the same (a test compares them).
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

CFA, NO_COMPRESSION = 32803, 1
FOREIGN = (
    50712,  # LinearizationTable
    50715, 50716,  # BlackLevelDeltaH, BlackLevelDeltaV
    50829, 50830,  # ActiveArea, MaskedAreas
)  # fmt: skip


@dataclass(frozen=True)
class PlainMosaic:
    """Where a mosaic's numbers lie in its file; black by row and column parity; colours row by row, as RGGB."""

    path: Path
    offset: int
    shape: tuple[int, int]
    order: str
    black: tuple[float, float, float, float]
    white: float
    colours: str

    def pixels(self, threads: int = 2) -> NDArray[np.uint16]:
        """(H, W) uint16. Threads share the reading, and waiting for fresh memory with it.

        Not mapped, which would be quicker still: a card that is pulled out would take the process with it.

        Raises:
            EOFError: the file has become shorter.
        """
        found = np.empty(self.shape, f"{self.order}u2")
        into = found.reshape(-1).view(np.uint8).data
        ends = [len(into) * n // threads for n in range(threads + 1)]

        def part(number: int) -> None:
            _read_into(self.path, self.offset + ends[number], into[ends[number] : ends[number + 1]])

        if threads > 1:
            with ThreadPoolExecutor(threads) as pool:
                list(pool.map(part, range(threads)))
        else:
            part(0)
        return found.astype(np.uint16, copy=False)


def _read_into(path: Path, offset: int, into: memoryview) -> None:
    with path.open("rb", buffering=0) as file:
        file.seek(offset)
        while into:
            count = file.readinto(into)
            if not count:
                raise EOFError(f"{path.name} ends early.")
            into = into[count:]


def plain_mosaic(path: Path, whole: tuple[int, int], visible: tuple[int, int]) -> PlainMosaic | None:
    """The mosaic of a DNG that can be read as it lies; None for every other file.

    Args:
        whole, visible: width and height of all the sensor's pixels and of those that are shown, as LibRaw sees them.
    """
    if path.suffix.lower() != ".dng" or whole != visible:
        return None
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            first = tiff.pages[0]
            pages = [p for p in (first, *((first.pages or [])[:8])) if int(p.photometric or 0) == CFA]
            return _of(path, tiff.byteorder, pages[0], whole) if has_levels(first) and len(pages) == 1 else None
    except Exception:  # a file that is odd or damaged is LibRaw's to judge
        return None


def has_levels(first: Any) -> bool:
    """Whether a file says its white and its matrix: without these LibRaw knows more of the camera than the file."""
    return all(code in first.tags and first.tags[code].count in (3, 9) for code in (50728, 50721))


def levels_of(page: Any) -> tuple[tuple[float, float, float, float] | None, float, str]:
    """Black by row and column parity, white, and the tile's colours, by a page's tags; None for black where it is not plain."""
    black, white, colours = _black(page), page.tags.get(50717), _colours(page)
    if any(code in page.tags for code in (50715, 50716)) or white is None or white.count != 1 or not colours:
        return None, 0.0, ""
    return black, float(white.value), colours


def _of(path: Path, order: str, page: Any, whole: tuple[int, int]) -> PlainMosaic | None:
    w, h = whole
    if (
        page.shape != (h, w)
        or int(page.compression) != NO_COMPRESSION
        or page.bitspersample != 16
        or not page.is_contiguous
    ):
        return None
    if any(code in page.tags for code in FOREIGN):
        return None
    black, white, colours = levels_of(page)
    offset = int(page.dataoffsets[0])
    if black is None or offset + 2 * w * h > path.stat().st_size:
        return None
    return PlainMosaic(path, offset, (h, w), order, black, white, colours)


def _colours(page: Any) -> str:
    """The mosaic's tile as letters, or "" where it is no Bayer tile."""
    size, tile = page.tags.get(33421), page.tags.get(33422)
    if size is None or tile is None or tuple(np.ravel(size.value)) != (2, 2):
        return ""
    found = "".join("RGB"[v] if v < 3 else "?" for v in bytes(tile.value))
    return found if sorted(found) == ["B", "G", "G", "R"] else ""


def _black(page: Any) -> tuple[float, float, float, float] | None:
    """BlackLevel as one number, or by a pattern of 2 x 2 (source: dng17)."""
    tag = page.tags.get(50714)
    if tag is None:
        return 0.0, 0.0, 0.0, 0.0
    flat = np.ravel(np.asarray(tag.value, np.float64))
    if int(tag.dtype) == 5:
        flat = flat[::2] / flat[1::2]
    repeat = page.tags.get(50713)
    pattern = tuple(np.ravel(repeat.value)) if repeat is not None else (1, 1)
    if len(flat) == 1 and pattern == (1, 1):
        return (float(flat[0]),) * 4  # type: ignore[return-value]
    if len(flat) == 4 and pattern == (2, 2):
        return float(flat[0]), float(flat[1]), float(flat[2]), float(flat[3])
    return None

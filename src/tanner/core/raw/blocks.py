"""Demosaiced frames in blocks of 2 or 3 px, kept with their source as they are made.

Several sizes of one frame then share one demosaicing: what a full-size picture computes is averaged for the smaller ones
on its way, and no row is demosaiced twice where strips overlap. Blocks begin at multiples of their side, counted from the
sensor's corner, so that their values are the same to the bit whoever computed them.
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.memory import Slot
from tanner.core.optics.resample import box
from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
MARGIN = 48
"""px around the sensor that regions may reach into: what the lens moved, and the resampling's kernel."""
WIDER = 24
"""px by which a full-size picture looks farther at its sides, so that smaller ones find there what they need."""
MOST_BYTES = 160 << 20
"""Larger frames are demosaiced strip by strip, each size for itself."""


class BlockAverages:
    """Means of k x k px of the demosaiced sensor, (3, rows, columns), and which of them are there.

    Attributes:
        left, top: sensor px at which the first block begins, the same; k: side of a block.
    """

    def __init__(self, size: tuple[int, int], k: int) -> None:
        w, h = size
        self.k = k
        self.left = self.top = -MARGIN // k * k
        self.planes = np.empty((3, -(-(h + MARGIN - self.top) // k), -(-(w + MARGIN - self.left) // k)), np.float32)
        self.there = np.zeros(self.planes.shape[1:], bool)

    def ready_rows(self, left: int, top: int, columns: int, rows: int) -> int | None:
        """How many rows of a region (px of its corner, blocks of its sides) are there from its top; None beyond the edge."""
        a, b = (left - self.left) // self.k, (top - self.top) // self.k
        if a < 0 or b < 0 or a + columns > self.there.shape[1] or b + rows > self.there.shape[0]:
            return None
        whole = self.there[b : b + rows, a : a + columns].all(axis=1)
        return rows if whole.all() else int(np.argmin(whole))

    def part(self, left: int, top: int, columns: int, rows: int) -> tuple[int, int, int, int]:
        """Where a region within the edge lies in `planes`: first row, rows, first column, columns."""
        return (top - self.top) // self.k, rows, (left - self.left) // self.k, columns

    def mark(self, part: tuple[int, int, int, int]) -> None:
        """A part of `planes` is there."""
        row, rows, column, columns = part
        self.there[row : row + rows, column : column + columns] = True

    def average(self, planes: F32, top: int, left: int) -> None:
        """Average the whole blocks in a demosaiced region whose corner lies at these px."""
        k = self.k
        a, b = max(0, -(-(left - self.left) // k)), max(0, -(-(top - self.top) // k))
        right = min((left + planes.shape[2] - self.left) // k, self.there.shape[1])
        bottom = min((top + planes.shape[1] - self.top) // k, self.there.shape[0])
        if right <= a or bottom <= b or self.there[b:bottom, a:right].all():
            return
        x, y = a * k + self.left - left, b * k + self.top - top
        # Threads may bring the same blocks: with the same values.
        box(planes, y, x, k, self.planes, b, a, bottom - b, right - a)
        self.there[b:bottom, a:right] = True


AVERAGES: Slot[BlockAverages] = Slot("blocks", keep=0)
"""By their side."""


def of(source: Source, k: int) -> BlockAverages | None:
    """A source's blocks of k px; None where they would take too much memory, or are of a side that is binned before."""
    w, h = source.size
    if k not in (2, 3) or 12 * w * h // (k * k) > MOST_BYTES:
        return None
    return source.memory.get(AVERAGES, k, lambda: BlockAverages((w, h), k))


def leave_averages(source: Source, planes: F32, top: int, left: int) -> None:
    """Hand a region that was demosaiced at full size to the blocks that are wanted later."""
    for k in source.wanted:
        boxes = of(source, k)
        if boxes is not None:
            boxes.average(planes, top, left)

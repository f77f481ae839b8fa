"""Mosaics of frames that were on the Bench, kept packed: who comes back to one waits for no decoder and no other process."""

import threading
from collections import OrderedDict
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np

from tanner.catalogue.originals import stamp_of
from tanner.core.memory import Memory
from tanner.core.raw.source import Source

BUDGET = 400 << 20
"""Bytes of packed mosaics: fourteen frames of 24 megapixels, whose noise leaves little to pack."""


@dataclass(frozen=True)
class StoredMosaic:
    """A frame without its numbers, those packed (blosc2: bits of a kind together, LZ4), and the file as it was then."""

    source: Source
    shape: tuple[int, ...]
    data: bytes
    file: str


class MosaicStore:
    """Those put by last, up to a budget.

    Args:
        budget: bytes of packed numbers.
    """

    def __init__(self, budget: int = BUDGET) -> None:
        self._budget = budget
        self._kept: OrderedDict[str, StoredMosaic] = OrderedDict()
        self._lock = threading.Lock()

    def put(self, path: str, source: Source, file: str) -> None:
        """Keep a frame that is no longer shown; anything but a mosaic is read again as quickly.

        Args:
            file: its stamp (see `stamp_of`) from before the frame was read.
        """
        if not file or source.data.dtype != np.uint16 or source.data.ndim != 2:
            return
        flat: Any = np.ascontiguousarray(source.data)
        data = imagecodecs.blosc2_encode(flat, level=1, compressor="lz4", shuffle="bitshuffle", typesize=2)
        bare = replace(source, data=np.empty((0, 0), np.uint16), decoder=None, memory=Memory())
        with self._lock:
            self._kept.pop(path, None)
            self._kept[path] = StoredMosaic(bare, source.data.shape, bytes(data), file)
            while sum(len(k.data) for k in self._kept.values()) > self._budget and self._kept:
                self._kept.popitem(last=False)

    def holds(self, path: str) -> bool:
        """Whether a frame is kept, of the file as it is now."""
        with self._lock:
            kept = self._kept.get(path)
        return kept is not None and kept.file == stamp_of(Path(path))

    def take(self, path: str) -> Source | None:
        """The frame as it was read; None where it is no longer kept. It is not kept any longer."""
        with self._lock:
            kept = self._kept.pop(path, None)
        if kept is None or kept.file != stamp_of(Path(path)):
            return None
        flat: Any = np.empty(int(np.prod(kept.shape)) * 2, np.uint8)
        imagecodecs.blosc2_decode(kept.data, out=flat)
        return replace(kept.source, data=flat.view(np.uint16).reshape(kept.shape), memory=Memory())

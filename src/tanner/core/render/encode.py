"""From roots of linear values to the values of a file, by a table."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import SPACES
from tanner.core.jit import kernel


def encoder(space: str, bits: int) -> NDArray[Any]:
    """The table for `encode8` or `encode16`: encoded values of roots from 0 to 1."""
    size, top = (4096, 255) if bits == 8 else (65536, 65535)
    root = np.arange(size) / (size - 1)
    values = np.rint(SPACES[space].encode(root * root) * top)
    return values.astype(np.uint8 if bits == 8 else np.uint16)


@kernel
def encode8(planes, margin, table, out):
    """Roots to 8-bit values by a table of 4,096, into (h, w, 3)."""
    h, w = out.shape[0], out.shape[1]
    index = np.empty(w, dtype=np.int32)
    for i in range(h):
        for c in range(3):
            p = planes[c, i + margin, margin:]
            for j in range(w):
                v = min(max(p[j], np.float32(0.0)), np.float32(1.0))
                index[j] = np.int32(v * np.float32(4095.0) + np.float32(0.5))
            for j in range(w):
                out[i, j, c] = table[np.uint64(index[j])]


@kernel
def encode16(planes, margin, table, out):
    """Roots to 16-bit values by a table of 65,536, into (h, w, 3)."""
    h, w = out.shape[0], out.shape[1]
    for i in range(h):
        for c in range(3):
            p = planes[c, i + margin, margin:]
            for j in range(w):
                v = min(max(p[j], np.float32(0.0)), np.float32(1.0))
                out[i, j, c] = table[np.uint64(v * np.float32(65535.0) + np.float32(0.5))]

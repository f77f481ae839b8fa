"""Blocks of a Bayer mosaic as it stands, for what needs no more: previews, layers and measures."""

import numpy as np

from tanner.core.jit import kernel


@kernel
def _two_rows(raw, i, black, gain, sums):
    """Two rows of a mosaic by row and column parity, linear: blocks of 2 x 2 px, of which nothing is added."""
    for parity in range(2):
        whole = raw[2 * i + parity]
        for phase in range(2):
            line, into = whole[phase:], sums[2 * parity + phase]
            b, g = black[parity, phase], gain[parity, phase]
            for j in range(sums.shape[1]):
                into[j] = (np.float32(line[2 * j]) - b) * g


@kernel
def _added_rows(raw, i, k, black, gain, lines, sums):
    """The same of a row of larger blocks. Rows first: adding whole rows vectorises, and leaves little to add along them."""
    half = k // 2
    lines[:] = 0
    for a in range(k):
        y = i * k + a
        line, into = raw[y], lines[y & 1]
        for j in range(lines.shape[1]):
            into[j] += line[j]
    for parity in range(2):
        for phase in range(2):
            line, into = lines[parity, phase:], sums[2 * parity + phase]
            b, g = black[parity, phase] * np.float32(half * half), gain[parity, phase]
            for j in range(sums.shape[1]):
                total = 0
                at = j * k
                for t in range(half):
                    total += line[at + 2 * t]
                into[j] = (np.float32(total) - b) * g


@kernel
def bin_mosaic(raw, black, gain, red_y, red_x, k, out, first, end):
    """Mean of each colour's own pixels in k x k blocks, k even; half blocks at the end are left out.

    Args:
        out: float32 (3, H // k, W // k), linear; first, end: its rows that are made.
    """
    cols = out.shape[2]
    half = k // 2
    lines = np.empty((2, cols * k), dtype=np.int32)
    sums = np.empty((4, cols), dtype=np.float32)
    for i in range(first, end):
        if k == 2:
            _two_rows(raw, i, black, gain, sums)
        else:
            _added_rows(raw, i, k, black, gain, lines, sums)
        norm = np.float32(1.0 / (half * half))
        r, g1 = sums[2 * red_y + red_x], sums[2 * red_y + 1 - red_x]
        g2, bl = sums[2 * (1 - red_y) + red_x], sums[2 * (1 - red_y) + 1 - red_x]
        for j in range(cols):
            out[0, i, j] = r[j] * norm
            out[1, i, j] = (g1[j] + g2[j]) * norm * np.float32(0.5)
            out[2, i, j] = bl[j] * norm

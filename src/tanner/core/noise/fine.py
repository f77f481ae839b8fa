"""Fine: a non-local mean (source: buades2011) as the pilot of a Wiener filter, which brings fine texture back."""

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.nonlocal_means import SIZE, averaged, wiener
from tanner.core.noise.quick import quick

F32 = NDArray[np.float32]
REACH = 32
"""px around a place that have a say in it."""


def _dct(size: int) -> F32:
    k = np.arange(size)
    rows = np.sqrt(2 / size) * np.cos(np.pi * (2 * k[None] + 1) * k[:, None] / (2 * size))
    rows[0] /= np.sqrt(2)
    return rows.astype(np.float32)


def _filtered(noisy: F32, pilot: F32, step: int) -> F32:
    """Empirical Wiener filter of the cosine transform of small blocks, by the spectrum that a pilot shows.

    Blocks overlap; each counts by how little noise it leaves.
    """
    h, w = noisy.shape[1:]
    pad = SIZE
    mode = "reflect" if min(h, w) > SIZE + step else "symmetric"
    both = [np.pad(v, ((0, 0), (pad, pad + step), (pad, pad + step)), mode=mode) for v in (noisy, pilot)]  # type: ignore[call-overload]
    window = np.hanning(SIZE + 2)[1:-1].astype(np.float32)
    forward = _dct(SIZE)
    result = np.empty_like(noisy)
    inner = np.s_[pad : pad + h, pad : pad + w]
    for n in range(len(noisy)):
        total, norm = np.zeros(both[0].shape[1:], np.float32), np.zeros(both[0].shape[1:], np.float32)
        wiener(both[0][n], both[1][n], forward, window, step, total, norm)
        result[n] = total[inner] / norm[inner]
    return result


LUMINANCE_STEP, COLOUR_STEP = 5, 7
"""px from block to block; colour is smoother, and there is three times as much of it."""


def fine(mixed: F32, reach: int = 10, base: float = 2.3, width: float = 4.0) -> F32:
    """Planes (n, h, w), a sum first and then colours, without their noise of deviation 1."""
    mixed = np.ascontiguousarray(mixed)
    pilot = averaged(mixed, reach, base, width)
    # Where nothing else looks alike the mean is poor: a shrunk picture does not depend on that.
    pilot *= np.float32(0.8)
    pilot += np.float32(0.2) * quick(mixed)
    # What the filter leaves ringing and what the mean smooths away differ: together they err less than either.
    for part, step in ((np.s_[:1], LUMINANCE_STEP), (np.s_[1:], COLOUR_STEP)):
        filtered = _filtered(mixed[part], pilot[part], step)
        filtered *= np.float32(0.6)
        pilot[part] *= np.float32(0.4)
        pilot[part] += filtered
    return pilot

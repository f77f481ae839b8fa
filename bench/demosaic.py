"""Demosaicing against the truth: `python -m bench.demosaic` prints the table of docs/colour.md, and how long a megapixel takes.

Eight pictures that ship with scikit-image, as a noise-free mosaic; PSNR of sRGB values. With the path of an unpacked
colour-demosaicing (BSD, not a dependency) behind it, the method of menon2007 in square roots stands beside ours.
"""

import sys
import time
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bench.noise import pictures
from tanner.core.colour.spaces import SPACES
from tanner.core.raw import demosaic

OFFSET = 1 / 512


def mosaic_of(linear: NDArray[Any]) -> NDArray[np.uint16]:
    found = linear[..., 1].copy()
    found[0::2, 0::2], found[1::2, 1::2] = linear[0::2, 0::2, 0], linear[1::2, 1::2, 2]
    return np.rint(found * 65535).astype(np.uint16)


def ours(mosaic: NDArray[np.uint16]) -> NDArray[np.float32]:
    out = np.empty((3, *mosaic.shape), np.float32)
    gain = np.full((2, 2), 1 / 65535, np.float32)
    demosaic.demosaic_region(mosaic, 0, 0, np.zeros((2, 2), np.float32), gain, 0, 0, demosaic.scratch(), out)
    return np.moveaxis(out, 0, -1)


def menon(mosaic: NDArray[np.uint16]) -> NDArray[Any]:
    from colour_demosaicing import demosaicing_CFA_Bayer_Menon2007

    root = demosaicing_CFA_Bayer_Menon2007(np.sqrt(mosaic / 65535 + OFFSET), "RGGB")
    return np.asarray(root * np.abs(root) - OFFSET)


def psnr(found: NDArray[Any], linear: NDArray[Any]) -> float:
    """Of sRGB values, without a border of 8 px, in dB."""
    a, b = (SPACES["srgb"].encode(x.astype(np.float64))[8:-8, 8:-8] for x in (found, linear))
    return float(-10 * np.log10(((a - b) ** 2).mean()))


def main(folders: list[str]) -> int:
    ways = {"ours": ours} | ({"menon2007": menon} if folders else {})
    sys.path += folders
    found: dict[str, list[float]] = {way: [] for way in ways}
    names = []
    for name, linear in pictures(False):
        names.append(name)
        for way, function in ways.items():
            found[way].append(psnr(function(mosaic_of(linear)), linear))
    print("| | " + " | ".join(names) + " | mean |\n|---" * 1 + "|---" * (len(names) + 1) + "|")
    for way, values in found.items():
        print(f"| {way} | " + " | ".join(f"{v:.2f}" for v in [*values, float(np.mean(values))]) + " |")
    large = np.tile(mosaic_of(linear), (6, 6))
    times = []
    for _ in range(5):
        start = time.perf_counter()
        ours(large)
        times.append(time.perf_counter() - start)
    print(f"{np.median(times) / large.size * 1e9:.1f} ns a pixel")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))

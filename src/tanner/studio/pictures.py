"""The rendered scenes as they ship: six bands in two JPEG XL files each, square-root coded."""

from functools import lru_cache
from pathlib import Path

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.core.output.files import write_whole
from tanner.studio.bands import COUNT, PICTURES

F32 = NDArray[np.float32]
_TRIPLES = ((4, 2, 0), (5, 3, 1))
"""Bands in the order red, green, blue of a JPEG XL file: so its own colour transform fits them."""
LIGHTS = ("left", "right", "above", "room")
"""The lamp's four lights, each rendered alone (see scenes/apart.py)."""
HEADROOM = 4.0
"""The brightest value that is kept; 1 is about white paper."""
DISTANCE = 0.07


def encode(planes: F32) -> dict[str, bytes]:
    """Bands (H, W, 6) from 0 up, as the bytes of files by their endings."""
    coded = np.rint(np.sqrt(np.clip(planes / HEADROOM, 0, 1)) * 65535).astype(np.uint16)
    return {
        f".{part}.jxl": bytes(
            imagecodecs.jpegxl_encode(np.ascontiguousarray(coded[..., triple]), distance=DISTANCE, effort=7)
        )
        for part, triple in zip("ab", _TRIPLES, strict=True)
    }


def write(into: Path, name: str, planes: F32) -> None:
    """A scene's picture of bands (H, W, 6) into its two files."""
    for suffix, data in encode(planes).items():
        write_whole(into / f"{name}{suffix}", data, replace=True)


def names() -> list[str]:
    return sorted(p.name.removesuffix(".a.jxl") for p in PICTURES.glob("*.a.jxl"))


@lru_cache(maxsize=1)
def planes(name: str) -> F32:
    """Bands (6, H, W) of a scene, linear; about 1 for white paper."""
    result: F32 | None = None
    for part, triple in zip("ab", _TRIPLES, strict=True):
        coded = imagecodecs.jpegxl_decode((PICTURES / f"{name}.{part}.jxl").read_bytes(), numthreads=1)
        if result is None:
            result = np.empty((COUNT, *coded.shape[:2]), np.float32)
        for index, band in enumerate(triple):
            np.multiply(coded[..., index], np.float32(np.sqrt(HEADROOM) / 65535), out=result[band], dtype=np.float32)
            np.square(result[band], out=result[band])
    assert result is not None
    return result

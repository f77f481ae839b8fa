"""What is known of a rendered scene at its full size: masks of what is where, and how far away it is."""

import io
import zipfile
from collections.abc import Mapping

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.studio.bands import PICTURES

F32 = NDArray[np.float32]


def zipped(masks: Mapping[str, NDArray[np.uint8]]) -> bytes:
    """Masks (H, W) as PNG files in one archive (both open forms)."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, mask in masks.items():
            archive.writestr(f"{name}.png", bytes(imagecodecs.png_encode(mask, level=9)))
    return out.getvalue()


def scenes() -> list[str]:
    """Scenes whose masks ship."""
    return sorted(p.name.removesuffix(".masks.zip") for p in PICTURES.glob("*.masks.zip"))


def truth(scene: str) -> dict[str, F32]:
    """Masks of a scene by their names, (H, W) from 0 to 1, and its depth in cm as "depth".

    Every scene has "subject": what stands before the backdrop, without its "shadow". Portraits have "skin", "lips",
    "eyes", "iris", "hair" (with brows and lashes) and "cloth"; products their things.
    """
    with zipfile.ZipFile(PICTURES / f"{scene}.masks.zip") as archive:
        found = {
            name.removesuffix(".png"): imagecodecs.png_decode(archive.read(name)).astype(np.float32) / np.float32(255)
            for name in archive.namelist()
        }
    with np.load(PICTURES / f"{scene}.depth.npz") as stored:
        near = stored["centimetres"].astype(np.float32)
    size = found["subject"].shape[::-1]
    found["depth"] = np.asarray(cv2.resize(near, size, interpolation=cv2.INTER_LINEAR), dtype=np.float32)
    return found

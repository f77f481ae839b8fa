"""What is known of a rendered scene at its full size: masks of what is where, and how far away it is."""

import io
import zipfile
from collections.abc import Mapping
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.core.output.files import write_whole
from tanner.studio.bands import PICTURES

F32 = NDArray[np.float32]


STEP = 0.05
"""Depth is kept in steps of so many cm; 0 is where nothing is."""


def zipped(masks: Mapping[str, NDArray[np.uint8]], depth: F32 | None = None) -> bytes:
    """Masks (H, W) as PNG files in one archive, and depth in cm, 16 bits (both open forms)."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, mask in masks.items():
            archive.writestr(f"{name}.png", bytes(imagecodecs.png_encode(mask, level=9)))
        if depth is not None:
            archive.writestr("depth.png", _depth_coded(depth))
    return out.getvalue()


def _depth_coded(depth: F32) -> bytes:
    steps = np.clip(np.rint(depth / STEP), 0, 65535).astype(np.uint16)
    return bytes(imagecodecs.png_encode(steps, level=9))


def add_depth(path: Path, depth: F32) -> None:
    """Put depth beside the masks of a scene that has them already."""
    with zipfile.ZipFile(path) as archive:
        kept = {n: archive.read(n) for n in archive.namelist() if n != "depth.png"}
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, data in {**kept, "depth.png": _depth_coded(depth)}.items():
            archive.writestr(name, data)
    write_whole(path, out.getvalue(), replace=True)


def scenes() -> list[str]:
    """Scenes whose masks ship."""
    return sorted(p.name.removesuffix(".masks.zip") for p in PICTURES.glob("*.masks.zip"))


def known(scene: str, name: str) -> F32:
    """One mask of a scene, see `truth`."""
    with zipfile.ZipFile(PICTURES / f"{scene}.masks.zip") as archive:
        return np.asarray(imagecodecs.png_decode(archive.read(f"{name}.png")).astype(np.float32) / np.float32(255))


def truth(scene: str) -> dict[str, F32]:
    """Masks of a scene by their names, (H, W) from 0 to 1, and its depth in cm as "depth".

    Depth is that of each px's middle, or, where no more was kept of a scene, that of every eighth px, enlarged.
    Every scene has "subject": what stands before the backdrop, without its "shadow". Portraits have "skin", "lips",
    "eyes", "iris", "hair" (with brows and lashes), "cloth", and, where they were rendered since, "brows"; products their things.
    """
    with zipfile.ZipFile(PICTURES / f"{scene}.masks.zip") as archive:
        found = {
            name.removesuffix(".png"): imagecodecs.png_decode(archive.read(name)).astype(np.float32) / np.float32(255)
            for name in archive.namelist()
            if name != "depth.png"
        }
        if "depth.png" in archive.namelist():
            found["depth"] = imagecodecs.png_decode(archive.read("depth.png")).astype(np.float32) * np.float32(STEP)
            return found
    with np.load(PICTURES / f"{scene}.depth.npz") as stored:
        near = stored["centimetres"].astype(np.float32)
    size = found["subject"].shape[::-1]
    found["depth"] = np.asarray(cv2.resize(near, size, interpolation=cv2.INTER_LINEAR), dtype=np.float32)
    return found

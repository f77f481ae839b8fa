"""From a finished picture's profile to the linear working space, through LittleCMS.

LittleCMS is exact without its optimisation, but that takes a second a megapixel; with it, saturated dark
colours can be off by several per cent. Most profiles are a matrix and curves, though. So the profile is probed
exactly at some thousand colours; when a matrix and curves explain them all, these do the work.
"""

from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import SPACES, icc_profile

_EXACT = 0x0100  # cmsFLAGS_NOOPTIMIZE of LittleCMS
_STEPS = 4096
F32 = NDArray[np.float32]


def _through(coded: NDArray[Any], profile: bytes, flags: int) -> NDArray[np.float64]:
    """Coded uint16 (1, n, 3) to linear working values."""
    out = imagecodecs.cms_transform(
        coded, profile, icc_profile("prophoto"), colorspace="rgb", outcolorspace="rgb", flags=flags
    )
    return SPACES["prophoto"].decode(np.asarray(out, dtype=np.float64) / 65535)


def _model(profile: bytes) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """Curves (3, steps) and matrix (3, 3) that explain the profile; None when none do."""
    ramp = np.rint(np.linspace(0, 65535, _STEPS)).astype(np.uint16)
    curves, columns = [], []
    for channel in range(3):
        coded = np.zeros((1, _STEPS, 3), dtype=np.uint16)
        coded[0, :, channel] = ramp
        out = _through(coded, profile, _EXACT)[0]
        end = out[-1]
        if end.max() <= 0:
            return None
        curves.append(out[:, end.argmax()] / end.max())
        columns.append(end)
    matrix = np.stack(columns, axis=1)
    probes = np.random.default_rng(1).integers(0, 65536, (1, 2000, 3)).astype(np.uint16)
    known = _through(probes, profile, _EXACT)[0]
    position = probes[0] / 65535 * (_STEPS - 1)
    linear = np.stack([np.interp(position[:, c], np.arange(_STEPS), curves[c]) for c in range(3)], axis=-1)
    found = linear @ matrix.T
    # What the working space cannot hold is clipped by LittleCMS: that is no matter of the model.
    return (np.stack(curves), matrix) if np.abs(np.clip(found, 0, 1) - known).max() < 5e-4 else None


def camera_input(icc: bytes) -> tuple[NDArray[np.float64] | None, F32 | None]:
    """A camera's ICC profile: a matrix from balanced numbers to the linear working space, or a table when it is none.

    The profile is taken to be made for linear, white-balanced camera numbers with white at 1, as is usual for
    profiles of raw files (common practice, no source).

    Returns:
        (3, 3) and None for a profile of matrix and straight curves; else None and float32 (33, 33, 33, 4) of signed
        roots of working values over roots of camera numbers.

    Raises:
        imagecodecs.CmsError: the profile cannot be used.
    """
    # Probes away from the edges: at the edges LittleCMS clips what the working space cannot hold.
    probes = np.random.default_rng(1).uniform(0.35, 0.65, (1, 500, 3)) * np.linspace(0.1, 1.4, 500)[None, :, None]
    coded = np.rint(probes * 65535).astype(np.uint16)
    known = _through(coded, icc, _EXACT)[0]
    matrix = np.linalg.lstsq(coded[0] / 65535, known, rcond=None)[0].T
    if np.abs(coded[0] / 65535 @ matrix.T - known).max() < 1e-3:
        return np.asarray(matrix), None
    size = 33
    ramp = np.rint(np.linspace(0, 1, size) ** 2 * 65535).astype(np.uint16)
    grid = np.stack(np.meshgrid(ramp, ramp, ramp, indexing="ij"), axis=-1).reshape(1, -1, 3)
    working = _through(grid, icc, _EXACT)[0]
    table = np.zeros((size, size, size, 4), dtype=np.float32)
    table[..., :3] = np.sqrt(np.maximum(working, 0)).reshape(size, size, size, 3)
    return None, table


def to_working(rgb: NDArray[Any], profile: bytes | None) -> tuple[F32, str]:
    """Encoded RGB to linear working planes; sRGB is assumed without a profile.

    Args:
        rgb: uint8 or uint16, (H, W, 3).

    Returns:
        float32 (3, H, W), and a warning or "".
    """
    warning = ""
    try:
        model = _model(profile or icc_profile("srgb"))
    except imagecodecs.CmsError:
        warning = "The embedded colour profile cannot be used; sRGB is assumed."
        profile = None
        model = _model(icc_profile("srgb"))
    wide = rgb.dtype == np.uint16
    if model is None:
        coded = rgb if wide else rgb.astype(np.uint16) * 257
        return np.ascontiguousarray(_through(coded, profile or b"", 0).transpose(2, 0, 1), dtype=np.float32), warning
    curves, matrix = model
    size = 65536 if wide else 256
    at = np.arange(size) / (size - 1) * (_STEPS - 1)
    planes = np.zeros((3, *rgb.shape[:2]), dtype=np.float32)
    for channel in range(3):
        table = np.interp(at, np.arange(_STEPS), curves[channel]).astype(np.float32)
        linear = table[rgb[..., channel]]
        for row in range(3):
            planes[row] += np.float32(matrix[row, channel]) * linear
    return planes, warning

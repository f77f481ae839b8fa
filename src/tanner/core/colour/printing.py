"""User ICC profiles for delivery and proof, through LittleCMS: intents, black point compensation, paper white."""

import io
from functools import lru_cache
from typing import Any, Literal

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.icc import camera_input
from tanner.core.colour.spaces import icc_profile
from tanner.core.errors import TannerError

Intent = Literal["perceptual", "relative", "saturation", "absolute"]
INTENTS: tuple[Intent, ...] = ("perceptual", "relative", "saturation", "absolute")
_BLACK_POINT, _EXACT = 0x2000, 0x0100  # cmsFLAGS_BLACKPOINTCOMPENSATION, cmsFLAGS_NOOPTIMIZE of LittleCMS
GRID = 33


class IccError(TannerError):
    """An ICC profile that cannot be used, with the reason."""


def check_icc(data: bytes, where: str) -> str:
    """The profile's own description; it must be an RGB profile that something can be converted to.

    Raises:
        IccError: it cannot be read, or is of another kind.
    """
    from PIL import ImageCms

    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(data)).profile
    except (OSError, ValueError, TypeError):
        raise IccError(f"{where} is no ICC profile that can be read.") from None
    if profile.xcolor_space.strip() != "RGB":
        raise IccError(f"{where} is a profile for {profile.xcolor_space.strip()}; only RGB ones can be used here.")
    if profile.device_class not in ("prtr", "mntr", "spac", "scnr"):
        raise IccError(f"{where} is no profile for a printer, a screen or a camera ({profile.device_class}).")
    try:
        # Used once, as it will be: a profile that is damaged further in fails here and not in a delivery.
        if profile.device_class == "scnr":
            camera_input(data)
        else:
            to_icc(np.full((2, 2, 3), 30_000, np.uint16), data, "relative", True, 16)
        return str(profile.profile_description or where).strip()
    except Exception as error:
        raise IccError(f"{where} is damaged: nothing can be converted with it ({error}).") from None


def for_cameras(data: bytes) -> bool:
    """Is this an input profile (of a camera or scanner), by its header?"""
    return data[12:16] == b"scnr"


def to_icc(romm: NDArray[np.uint16], icc: bytes, intent: Intent, black_point: bool, bits: int) -> NDArray[Any]:
    """ROMM-encoded 16-bit pixels (H, W, 3) into a user's profile, 8 or 16 bits."""
    flags = _BLACK_POINT if black_point else 0
    out = _between(romm, icc_profile("prophoto"), icc, INTENTS.index(intent), flags)
    return out if bits == 16 else np.asarray((out.astype(np.uint32) + 128) // 257, dtype=np.uint8)


def _between(pixels: NDArray[np.uint16], source: bytes, target: bytes, intent: int, flags: int) -> NDArray[np.uint16]:
    try:
        out = imagecodecs.cms_transform(
            pixels, source, target, colorspace="rgb", outcolorspace="rgb", intent=intent, flags=flags
        )
    except imagecodecs.CmsError as error:
        raise IccError(f"The ICC profile cannot be used this way ({error}).") from None
    return np.asarray(out, dtype=np.uint16)


@lru_cache(maxsize=8)
def proof_table(
    icc: bytes, intent: Intent, black_point: bool, paper: bool
) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """How a print will look on this screen, as a table over ROMM-encoded colours.

    Args:
        paper: show the paper's own white and black (absolute colorimetry towards the screen).

    Returns:
        float32 (GRID, GRID, GRID, 4) sRGB-encoded, and where the profile cannot hold the colour (bool, same grid).
    """
    ramp = np.rint(np.linspace(0, 65535, GRID)).astype(np.uint16)
    grid = np.stack(np.meshgrid(ramp, ramp, ramp, indexing="ij"), axis=-1).reshape(1, -1, 3)
    romm, screen = icc_profile("prophoto"), icc_profile("srgb")
    flags = _EXACT | (_BLACK_POINT if black_point else 0)
    printed = _between(grid, romm, icc, INTENTS.index(intent), flags)
    shown = _between(printed, icc, screen, 3 if paper else 1, _EXACT | (0 if paper else flags))
    table = np.zeros((GRID, GRID, GRID, 4), dtype=np.float32)
    table[..., :3] = (shown.astype(np.float32) / 65535).reshape(GRID, GRID, GRID, 3)
    # What comes back changed from the profile by relative colorimetry was outside of it.
    there = _between(grid, romm, icc, 1, _EXACT)
    back = _between(there, icc, romm, 1, _EXACT)
    from tanner.core.colour.difference import ciede2000
    from tanner.core.colour.spaces import SPACES
    from tanner.core.measure import xyz_to_lab

    to_xyz = SPACES["prophoto"].to_pcs().T
    lab = [xyz_to_lab(SPACES["prophoto"].decode(v[0].astype(np.float64) / 65535) @ to_xyz) for v in (grid, back)]
    lost = (ciede2000(lab[0], lab[1]) > 3).reshape(GRID, GRID, GRID)
    return table, lost

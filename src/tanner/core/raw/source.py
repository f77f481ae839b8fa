"""Decoded pixels and what they mean: the colour and the lens by which they are developed."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.camera import ILLUMINANTS, CameraColour, finished_colour, matrix_colour, with_icc, with_profile
from tanner.core.colour.dcp import CameraProfile
from tanner.core.colour.profile_store import PROFILE_STORE, fits
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature
from tanner.core.memory import Memory, Slot
from tanner.core.optics import database
from tanner.core.optics.lens import Lens, OpcodeLens
from tanner.core.raw import opcodes
from tanner.core.raw.facts import FrameFacts

CAMERA: Slot[CameraColour] = Slot("camera", shared=True)
COLOURS: Slot[tuple[CameraColour, str]] = Slot("colours", keep=0, shared=True)
"""Colour by a profile and a warning, by the profile's key."""
LENSES: Slot[tuple[Lens | None, str]] = Slot("lenses", keep=0, shared=True)
"""A lens and a warning, by its key; "" for the frame's own."""
FOCAL: Slot[tuple[float, bool]] = Slot("focal", shared=True)


@dataclass
class Source:
    """Decoded pixels and what they mean.

    Attributes:
        data: uint16 (H, W) for a Bayer mosaic, else float32 (3, H, W): linear camera RGB from 0 to 1, or the
            linear working space for finished pictures.
        decoder: owns the memory of a mosaic; None when `data` does.
        memory: what was worked out of it so far; stays behind when it goes to another process.
        wanted: sides of blocks that smaller pictures will ask for (see `raw.blocks`).
        small_level: side of the blocks that are there without the file (see `core.small`), or 0.
        denoised: its noise is taken out; healed: its spots are put right.
    """

    facts: FrameFacts
    data: NDArray[Any]
    decoder: Any = None
    profiles: tuple[CameraProfile, ...] = ()
    gain_maps: tuple[opcodes.GainMap, ...] = ()
    memory: Memory = field(default_factory=Memory)
    wanted: frozenset[int] = frozenset()
    small_level: int = 0
    denoised: bool = False
    healed: bool = False

    @property
    def size(self) -> tuple[int, int]:
        return self.facts.width, self.facts.height

    def __getstate__(self) -> dict[str, Any]:
        kept = {"facts": self.facts, "data": self.data, "profiles": self.profiles, "gain_maps": self.gain_maps}
        more = {
            "wanted": self.wanted,
            "small_level": self.small_level,
            "denoised": self.denoised,
            "healed": self.healed,
        }
        return {**kept, **more, "memory": Memory(), "decoder": None}

    @property
    def camera(self) -> CameraColour:
        return self.memory.get(CAMERA, None, lambda: camera_of(self.facts))

    def colour_by(self, key: str) -> tuple[CameraColour, str]:
        """The camera's colour by a profile, and a warning or "".

        Args:
            key: "" for the file's own profile, else its matrix; "matrix"; "embedded" and "embedded-2" and so on;
                else the key of a profile in the store.
        """
        return self.memory.get(COLOURS, key, lambda: self._colour_by(key))

    def _colour_by(self, key: str) -> tuple[CameraColour, str]:
        if self.facts.kind == "finished" or key == "matrix" or (not key and not self.profiles):
            return self.camera, ""
        signature = self.facts.calibration_signature
        if not key or key.startswith("embedded"):
            number = int(key.removeprefix("embedded").removeprefix("-") or 1) if key[8:].lstrip("-").isdigit() else 1
            if 1 <= number <= len(self.profiles):
                return with_profile(self.camera, self.profiles[number - 1], signature), ""
            return self.camera, "The file has no such camera profile; its plain matrix is used."
        icc = PROFILE_STORE.icc(key)
        if icc is not None:
            try:
                return with_icc(self.camera, icc, key), ""
            except Exception as error:
                return self.camera, f"The ICC profile {key} cannot be used ({error}); the file's own colour is used."
        profile = PROFILE_STORE.find(key)
        if profile is None:
            return self._colour_by("")[0], f"The camera profile {key} is not there; the file's own colour is used."
        warning = "" if fits(profile, self.facts) else f"The camera profile {profile.name} is for {profile.model}."
        return with_profile(self.camera, profile, signature), warning

    def lens_by(self, key: str) -> tuple[Lens | None, str]:
        """The lens by a setting, and a warning or "".

        Args:
            key: "" for what the file or the database say by themselves; "none"; else a lens of the database.
        """
        if key == "none":
            return None, ""
        if not key:
            return self.lens, ""

        def make() -> tuple[Lens | None, str]:
            try:
                return database.by_name(key, self.facts, PROFILE_STORE.folders), ""
            except database.LensError as error:
                return None, str(error)

        return self.memory.get(LENSES, key, make)

    @property
    def lens(self) -> Lens | None:
        return self.memory.get(LENSES, "", lambda: (lens_of(self.facts, self.gain_maps), ""))[0]

    @property
    def focal(self) -> tuple[float, bool]:
        """Focal length in px of the sensor, and whether the file says it; else that of a usual lens is taken."""
        return self.memory.get(FOCAL, None, lambda: focal_px(self.facts))


def camera_of(facts: FrameFacts) -> CameraColour:
    """The colour data that the facts carry."""
    if facts.kind == "finished":
        return finished_colour()

    def matrices(values: tuple[tuple[float, ...], ...]) -> tuple[NDArray[np.float64], ...]:
        return tuple(np.array(v, dtype=np.float64).reshape(3, 3) for v in values)

    colour = matrices(facts.colour_matrices)
    if not colour:
        return matrix_colour(None, "fallback")
    places = facts.light_places or (None,) * len(facts.illuminants)
    kelvin = tuple(
        xy_to_temperature(xy)[0] if xy else float(ILLUMINANTS.get(code, 6504))
        for code, xy in zip(facts.illuminants, places, strict=True)
    ) or (6504.0,)
    n = min(len(colour), len(kelvin))
    forward, calibration = matrices(facts.forward_matrices), matrices(facts.calibrations)
    return CameraColour(
        colour=colour[:n],
        kelvin=kelvin[:n],
        forward=forward[:n] if len(forward) >= n else (),
        calibration=calibration[:n] if len(calibration) >= n else (),
        analog_balance=np.array(facts.analog_balance),
        places=tuple(xy or temperature_to_xy(k) for k, xy in zip(kelvin[:n], places or (None,), strict=False)),
    )


USUAL = 35.0
"""Focal length on 36 x 24 mm that is taken where a file says nothing."""


def focal_px(facts: FrameFacts) -> tuple[float, bool]:
    """See `Source.focal`: from the 35 mm equivalent, else from the focal length and the database's crop factor."""
    diagonal = float(np.hypot(facts.width, facts.height))
    known = facts.focal_length_35mm
    if not known and facts.focal_length_mm:
        crop = database.crop_factor(facts.make, facts.model)
        known = facts.focal_length_mm * crop if crop else None
    usable = known is not None and 2 < known < 5000
    return (known if known and usable else USUAL) / 43.2666 * diagonal, usable


def lens_of(facts: FrameFacts, maps: tuple[opcodes.GainMap, ...] = ()) -> Lens | None:
    """What is known about the lens: from the file first, then from the open database."""
    size = (facts.width, facts.height)
    if facts.warp or facts.vignette or maps:
        return OpcodeLens(
            np.array(facts.warp) if facts.warp else None,
            np.array(facts.vignette) if facts.vignette else None,
            size,
            facts.warp_centre,
            facts.vignette_centre,
            name=facts.lens or "from the file",
            kind=facts.warp_kind,
            reciprocal=facts.warp_reciprocal,
            maps=maps,
            order=facts.lens_order,
        )
    if facts.is_raw:
        return database.find(facts, PROFILE_STORE.folders)
    return None

"""The white that the camera took, kept with the source."""

import numpy as np

from tanner.core.memory import Slot
from tanner.core.raw.source import Source

AS_SHOT: Slot[tuple[float, float]] = Slot("as-shot whites", keep=0, shared=True)
"""Chromaticities, by the profile's key."""


def as_shot_white(source: Source, profile: str = "") -> tuple[float, float]:
    """Chromaticity of the light that the camera took as white, through a profile (see `Source.colour_by`)."""

    def make() -> tuple[float, float]:
        return source.colour_by(profile)[0].neutral_to_white(np.array(source.facts.neutral))

    return source.memory.get(AS_SHOT, profile, make)

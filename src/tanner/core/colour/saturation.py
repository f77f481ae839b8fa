"""Saturation and vibrance, in the linear working space around each pixel's luminance."""

from typing import ClassVar

from tanner.core.adjust.spec import Group, param


class Colour(Group):
    key: ClassVar[str] = "colour"
    rank: ClassVar[int] = 70
    title: ClassVar[str] = "Colour"
    about: ClassVar[str] = "How strong the colours are."

    saturation: float = param(0.0, -100.0, 100.0, label="Saturation", unit="%", help="All colours alike; -100 is grey.")
    vibrance: float = param(0.0, -100.0, 100.0, label="Vibrance", unit="%", help="Weak colours more than strong ones.")


def factors(colour: Colour) -> tuple[float, float]:
    """Saturation as a factor of chroma (1 is unchanged), vibrance as a share from -1 to 1."""
    s = colour.saturation / 100
    return (1 + s if s < 0 else 1 + 1.2 * s), colour.vibrance / 100

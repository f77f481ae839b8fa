"""A plain first noise reduction: wavelet shrinkage of the demosaiced picture in square-root values."""

from typing import ClassVar

from tanner.core.adjust.spec import Group, param


class Noise(Group):
    title: ClassVar[str] = "Noise"
    about: ClassVar[str] = "Grain and colour blotches of high ISO."

    luminance: float = param(
        0.0, 0.0, 100.0, label="Luminance noise", unit="%", help="Grain; 100 is what the camera's noise asks."
    )
    colour: float = param(
        0.0, 0.0, 100.0, label="Colour noise", unit="%", help="Colour blotches; takes little detail away."
    )

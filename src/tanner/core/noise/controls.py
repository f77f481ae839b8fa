"""What can be chosen against noise, taken out of the raw data before anything else is done with them."""

from typing import ClassVar, Literal

from tanner.core.adjust.spec import Affects, Group, param

Method = Literal["none", "quick", "fine", "learned"]


class Noise(Group):
    key: ClassVar[str] = "noise"
    rank: ClassVar[int] = 30
    affects: ClassVar[Affects] = "noise"
    section: ClassVar[str] = "Groundwork"
    title: ClassVar[str] = "Noise"
    about: ClassVar[str] = "Grain and colour blotches of high ISO, and faults of the sensor."

    method: Method = param(
        "none",
        label="Method",
        widget="choice",
        help="Quick is for working; fine takes seconds; learned is best where it is dark, and takes longest.",
    )
    luminance: float = param(
        100.0, 0.0, 100.0, label="Luminance noise", unit="%", help="Grain; 100 is what the camera's noise asks."
    )
    colour: float = param(
        100.0, 0.0, 100.0, label="Colour noise", unit="%", help="Colour blotches; takes little detail away."
    )
    detail: float = param(
        0.0, 0.0, 100.0, label="Detail kept", unit="%", help="Gives back what was taken beside structures, grain too."
    )
    hot_pixels: bool = param(
        False, label="Hot pixels", widget="switch", help="Fills single pixels that glow or are dead."
    )
    moire: float = param(
        0.0, 0.0, 100.0, label="Moire", unit="%", help="False colour in fine repeating texture, as in cloth."
    )

    @property
    def changes(self) -> bool:
        """Is anything of this to be done?"""
        return self.cleans or self.hot_pixels or self.moire > 0

    @property
    def cleans(self) -> bool:
        return self.method != "none" and (self.luminance > 0 or self.colour > 0)

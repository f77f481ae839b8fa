"""Kinds of areas by which frames are held together, as commands and pages name them. Imports nothing heavy: `--help` needs them."""

from typing import Literal, get_args

LookedFor = Literal["backdrop", "face", "skin", "chart", "card"]
"""Areas that are looked for by what they are."""
Kind = LookedFor | Literal["drawn"]
AREA = "area:"
"""How a kind begins that is one of the frame's own areas: its id or its name follows."""
COLOUR = "colour:"
"""How a kind begins that is what has the colour of one of the frame's exact colours: its id follows."""
What = Literal["both", "exposure", "white"]
"""What is moved to make areas agree: exposure, white balance, or both."""
KINDS: tuple[LookedFor, ...] = get_args(LookedFor)
Box = tuple[float, float, float, float]

"""Levels, channels' curves and three-way balance said as one ASC CDL: fitted on greys, measured on greys and colours.

Slope, offset and power act on each channel alone; the balance acts on lightness and colour in Oklab. What it does to
greys is said nearly, what it does besides to colours is not: both distances are told.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.balance import Balance, balanced
from tanner.core.colour.cdl import Correction, corrected, fitted
from tanner.core.colour.spaces import SPACES, from_oklab, oklab, working_to
from tanner.core.stages.channels import channel_of
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import CHANNELS, Levels
from tanner.core.tone.light import from_display, to_display

F64 = NDArray[np.float64]
GREYS, STEPS = 257, 9


class Said(NamedTuple):
    """
    Attributes:
        greys, colours: how far the correction is off at most, on display values from 0 to 1: on greys, and on a lattice
            of the colours of sRGB.
    """

    correction: Correction
    greys: float
    colours: float


def graded(levels: Levels, curve: Curve, balance: Balance, values: F64) -> F64:
    """Display values (..., 3) of the working space after the channels and the balance."""
    after = np.stack([channel_of(levels, curve, c, values[..., k]) for k, c in enumerate(CHANNELS)], axis=-1)
    if balance == Balance():
        return after
    lab = oklab(from_display(np.clip(after, 0, 1)))
    moved = np.stack(balanced(balance, *(lab[..., k] for k in range(3))), axis=-1)
    return to_display(np.clip(from_oklab(moved), 0, 1))


def said(levels: Levels, curve: Curve, balance: Balance, name: str) -> Said:
    """The correction that does to greys what these do."""
    x = np.repeat(np.linspace(0, 1, GREYS)[:, None], 3, axis=1)
    correction, greys = fitted(graded(levels, curve, balance, x), name)
    steps = from_display(np.linspace(0, 1, STEPS))
    lattice = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1).reshape(-1, 3)
    colours = to_display(np.clip(lattice @ np.linalg.inv(working_to(SPACES["srgb"])).T, 0, 1))
    off = np.abs(corrected(correction, colours) - graded(levels, curve, balance, colours)).max()
    return Said(correction, greys, float(off))

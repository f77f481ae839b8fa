"""Glasses: rims, bridge and temples as bent rods. Their lenses are coated: nothing of them is seen."""

from collections.abc import Sequence

import numpy as np

from tanner.studio.scenes.figure.strands import Hairs, unit
from tanner.studio.scenes.shapes import F64

WIDE, HIGH, BEFORE = 2.35, 1.85, 3.1
"""Half a rim's size, and how far it stands before the middle of the eye, in cm."""
ROD, STEPS = 0.105, 72
SQUARE = 2.8
"""Exponent of the rim's superellipse: 2 is an ellipse."""


def _rim(centre: F64, across: F64, up: F64, facing: F64, out: F64) -> F64:
    """Points (STEPS, 3) once around and a little farther, so that the ends meet; bent back towards the temple."""
    a = np.linspace(0, 2 * np.pi * (1 + 2 / STEPS), STEPS)
    x = np.sign(np.cos(a)) * np.abs(np.cos(a)) ** (2 / SQUARE) * WIDE
    y = np.sign(np.sin(a)) * np.abs(np.sin(a)) ** (2 / SQUARE) * HIGH
    bent = 0.05 * (1 + x * np.sign(out @ across) / WIDE) ** 2
    return np.asarray(centre + x[:, None] * across + y[:, None] * up - bent[:, None] * facing)


def _rod(points: Sequence[F64]) -> F64:
    """A smooth line (STEPS, 3) through a few points."""
    at = np.array(points)
    t = np.linspace(0, 1, len(at))
    fine = np.linspace(0, 1, STEPS)
    fit = [np.polynomial.Polynomial.fit(t, at[:, k], min(3, len(at) - 1)) for k in range(3)]
    return np.stack([f(fine) for f in fit], 1)


def glasses(eyes: Sequence[F64], facing: F64, up: F64) -> Hairs:
    """Rods (N, STEPS, 3) with their radii (N,), in cm, at a head that looks along `facing`."""
    across = unit(np.cross(facing, up))
    middle = (eyes[0] + eyes[1]) / 2
    lines = []
    inner = []
    for eye in eyes:
        out = np.sign((eye - middle) @ across) * across
        centre = eye + facing * BEFORE - up * 0.2
        lines.append(_rim(centre, across, up, facing, out))
        inner.append(centre - out * WIDE + up * 0.45)
        hinge = centre + out * WIDE - facing * 0.2 + up * 0.7
        # Along the temples, which widen to 7.2 cm from the middle, to under the cap.
        lines.append(
            _rod(
                [
                    hinge,
                    hinge + out * 0.98 - facing * 2.9,
                    hinge + out * 2.05 - facing * 5.9 + up * 0.1,
                    hinge + out * 2.4 - facing * 9.9 - up * 0.2,
                ]
            )
        )
    top = (inner[0] + inner[1]) / 2 + up * 0.35 + facing * 0.25
    lines.append(_rod([inner[0], (inner[0] + top) / 2 + up * 0.12, top, (inner[1] + top) / 2 + up * 0.12, inner[1]]))
    return np.array(lines), np.full(len(lines), ROD)

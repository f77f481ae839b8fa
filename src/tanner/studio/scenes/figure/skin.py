"""Relief, pigments and roughness of skin at every point of a fine mesh, in the frame of the head at rest."""

from dataclasses import dataclass
from functools import cache

import numpy as np
from scipy.interpolate import RegularGridInterpolator
from scipy.spatial import cKDTree

from tanner.core.colour.spectra import WAVELENGTHS, Spectrum
from tanner.studio.light import bell, step
from tanner.studio.scenes.figure import base
from tanner.studio.scenes.figure.noise import F32, fractal, noise, scattered
from tanner.studio.scenes.shapes import F64, I64
from tanner.studio.scenes.stage import srgb_of

Regions = dict[str, F64]
"""How much a point belongs to a part of the face, 0 to 1, by its name."""
LIP_UPPER = (466, 7222, 7219, 7216, 7211, 11953, 7207, 7173, 7172, 7184, 10404, 7182)
LIP_LOWER = (496, 7245, 7239, 7233, 7200, 7201, 10371, 7183, 7182)
"""Points of the base mesh around the red of the lips, from the middle to the corner."""


def region_marks() -> dict[str, F64]:
    """How much the targets that shape a part move each point of the base mesh: that part."""
    m = base.mark
    return {
        "cheek": m("cheek/l-cheek-volume-incr", "cheek/r-cheek-volume-incr"),
        "tip": m("nose/nose-point-up"),
        "nose": m("nose/nose-volume-incr"),
        "wing": m("nose/nose-flaring-incr"),
        "chin": m("chin/chin-prominent-incr"),
        "lid": m("expression/units/caucasian/eye-left-closure", "expression/units/caucasian/eye-right-closure"),
        "under": m("eyes/l-eye-bag-incr", "eyes/r-eye-bag-incr"),
        "forehead": m("forehead/forehead-nubian-incr", "forehead/forehead-trans-forward"),
        "ear": m("ears/l-ear-scale-incr", "ears/r-ear-scale-incr"),
    }


def _by_side(rest: F64, points: tuple[int, ...]) -> F64:
    """How far out and how high points of the base mesh lie, (N, 2), from the middle outwards."""
    found = np.column_stack([np.abs(rest[list(points), 0]), rest[list(points), 2]])
    return found[np.argsort(found[:, 0])]


def lips(at: F64, rest: F64) -> F64:
    """The red of the lips, between two loops of the base mesh, with a soft and slightly uneven rim."""
    x = np.abs(at[:, 0])
    up = _by_side(rest, LIP_UPPER)
    low = _by_side(rest, LIP_LOWER)
    top, bottom = np.interp(x, *up.T) + 0.05, np.interp(x, *low.T) + 0.03
    inside = np.minimum(top - at[:, 2], at[:, 2] - bottom)
    inside = inside + 0.025 * noise(at, 0.12, 71) + 0.02 * noise(at, 0.4, 72)
    t = np.clip((inside + 0.06) / 0.16, 0, 1)
    front = (at[:, 1] < rest[LIP_UPPER[-1], 1] + 0.6) & (x < up[-1, 0] + 0.05)
    return t * t * (3 - 2 * t) * front


def beard(at: F64, level: float, r: Regions) -> F64:
    """Where a beard grows. level: height of the eyes."""
    z, y, x = at[:, 2] - level, at[:, 1], np.abs(at[:, 0])
    line = np.interp(x, [0, 1.5, 2.6, 3.5, 5.0, 6.4, 7.2], [-4.9, -5.0, -6.0, -6.5, -5.2, -2.0, 0.0])
    line = line + 0.35 * noise(at, 0.7, 220)
    jaw = np.clip((line - z) / 0.8, 0, 1)
    return np.asarray(jaw * np.clip((z + 13) / 2.0, 0, 1) * (1 - r["lips"]) * np.clip((7.5 - y) / 1.5, 0, 1))


def relief(rest: F64, quads: I64, r: Regions, age: float, rng: np.random.Generator, pores: float) -> tuple[F32, F32]:
    """Height in cm, and how deep in a pore a point lies, 0 to 1."""
    at = scattered(rest, quads, 0.062, rng)
    nearest = cKDTree(at).query(rest, k=2, workers=1)
    which = np.asarray(nearest[1])
    d = np.asarray(nearest[0]) + 0.004 * np.abs(noise(rest, 0.02, 8))[:, None]
    size = (0.55 + 0.6 * rng.random(len(at)) ** 2)[which[:, 0]]
    amount = pores * (0.12 + 0.55 * r["nose"] + 0.42 * r["cheek"] + 0.25 * r["forehead"] + 0.2 * r["chin"])
    amount = np.clip(amount, 0, 1) * (1 - r["lips"]) * (1 - 0.8 * r["lid"])
    pore = np.exp(-((d[:, 0] / (0.0135 * size)) ** 2)) * amount
    furrow = np.exp(-(((d[:, 1] - d[:, 0]) / 0.012) ** 2)) * (1 - r["lips"])
    height = -0.0105 * pore - 0.0022 * furrow
    uneven = 0.0030 * noise(rest, 0.055, 3) + 0.0034 * noise(rest, 0.13, 4) + 0.006 * noise(rest, 0.4, 5)
    height += uneven * (1 - 0.6 * r["lips"])
    # Lines of the lips run from rim to rim, those below the eyes along the lid.
    lip = np.abs(noise(rest, 0.085, 11, (1, 4, 4))) + 0.5 * np.abs(noise(rest, 0.05, 12, (1, 5, 5)))
    height -= 0.010 * r["lips"] * np.clip(0.45 - lip, 0, 1)
    under = np.clip(0.32 - np.abs(noise(rest, 0.11, 13, (5, 5, 1))), 0, 1)
    height -= 0.010 * np.clip(r["lid"] + r["under"], 0, 1) * under
    brow = np.clip(0.25 - np.abs(noise(rest, 0.55, 14, (6, 6, 1))), 0, 1)
    height -= 0.020 * r["forehead"] * age * brow
    return height.astype(np.float32), pore.astype(np.float32)


@dataclass
class Spots:
    """Small things of the skin that stand apart: where they are in the rest frame, and their radii, in cm."""

    at: F64
    radius: F64


NO_SPOTS = Spots(np.zeros((0, 3)), np.zeros(0))


def blemishes(rest: F64, quads: I64, r: Regions, count: int) -> Spots:
    """Places of small red spots, most of them on cheeks, chin and forehead. Their own chance: the rest stays as it is without them."""
    rng = np.random.default_rng(77)
    where = np.clip(r["cheek"] + 0.8 * r["chin"] + 0.8 * r["forehead"], 0, 1) * (1 - r["lips"]) * (1 - r["lid"])
    at = scattered(rest, quads, 0.55, rng, where + 0.01)
    at = at[rng.permutation(len(at))[:count]]
    return Spots(at, 0.09 + 0.11 * rng.random(len(at)) ** 1.5)


def inflamed(rest: F64, spots: Spots) -> F64:
    """How much of a blemish each point is, 0 to 1."""
    if not len(spots.at):
        return np.zeros(len(rest))
    d, which = cKDTree(spots.at).query(rest)
    edge = (d + 0.012 * noise(rest, 0.04, 71)) / spots.radius[which]
    return np.asarray(np.exp(-(np.maximum(edge, 0) ** 2.5)), dtype=np.float64)


def pigments(
    rest: F64, quads: I64, r: Regions, pore: F32, melanin: float, blood: float, rng: np.random.Generator, freckles: float, moles: int
) -> tuple[F32, F32, Spots]:  # fmt: skip
    """Melanin and blood at each point, in the amounts of `reflectance`, and the moles."""
    m = melanin * (1 + 0.16 * fractal(rest, 2.2, 3, 21) + 0.07 * noise(rest, 0.09, 24))
    b = blood * (1 + 0.22 * fractal(rest, 1.1, 4, 31, 0.7) + 0.13 * noise(rest, 0.05, 36))
    b = (
        b
        + 0.38 * r["cheek"]
        + 0.42 * r["tip"]
        + 0.16 * r["lid"]
        + 0.14 * r["chin"]
        + 0.3 * r["wing"]
        + 0.18 * r["under"]
    )
    m = m + melanin * (0.25 * r["lid"] + 0.30 * r["under"]) + 0.015 * r["under"] + 0.05 * pore * (0.4 + melanin)
    b = b + 0.25 * pore
    where = np.clip(0.15 + r["cheek"] + r["nose"] + 0.4 * r["forehead"], 0, 1) * (1 - r["lips"])
    if freckles:
        at = scattered(rest, quads, 0.19, rng, where + 0.02)
        d, which = cKDTree(at).query(rest)
        wide, dark = 0.02 + 0.035 * rng.random(len(at)) ** 2, rng.random(len(at)) ** 2.5
        edge = (d + 0.012 * noise(rest, 0.03, 41)) / wide[which]
        patches = np.clip(0.7 + fractal(rest, 1.5, 2, 44), 0.1, 1.4)
        m = m + freckles * 0.16 * dark[which] * np.clip(1.25 - edge, 0, 1) * patches * (1 - r["lips"])
    found = NO_SPOTS
    if moles:
        at = mole_places(rest, quads, moles, rng)
        d, which = cKDTree(at).query(rest)
        wide = 0.05 + 0.06 * rng.random(len(at))
        found = Spots(at, wide)
        inside = np.clip(1.4 - (d + 0.008 * noise(rest, 0.03, 46)) / wide[which], 0, 1)
        m = m + 0.35 * inside * (1 - r["lips"]) * (1 - r["lid"])
    red = r["lips"] * np.clip(0.9 + 0.25 * noise(rest, 0.12, 51, (1, 3, 3)), 0, 1.2)
    m, b = np.clip(m + 0.05 * red, 0.01, 3), np.clip(b + 0.72 * red, 0.05, 3)
    return m.astype(np.float32), b.astype(np.float32), found


def mole_places(rest: F64, quads: I64, count: int, rng: np.random.Generator) -> F64:
    at = scattered(rest, quads, 2.4, rng)
    return at[rng.permutation(len(at))[: count * 3]]


def rough(rest: F64, r: Regions) -> F32:
    """Roughness; its square is the alpha of the microfacets."""
    v = 0.47 - 0.08 * r["forehead"] - 0.10 * r["nose"] - 0.12 * r["lips"] + 0.05 * fractal(rest, 0.5, 3, 61)
    return np.clip(v - 0.08 * r["wet"], 0.2, 0.75).astype(np.float32)


def reflectance(melanin: float, blood: float) -> Spectrum:
    """Scattering below, melanin falling with wavelength, blood's bands at 415, 542 and 577 nm. Amounts are made up."""
    ground = 0.37 + 0.34 * step(575, 45)
    red = blood * (0.62 * bell(415, 24) + 0.42 * bell(542, 14) + 0.40 * bell(577, 11) + 0.16 * bell(505, 60))
    return np.asarray(ground * np.exp(-red - melanin * 2.6 * (WAVELENGTHS / 500) ** -2.3))


@cache
def _table() -> RegularGridInterpolator:
    m, b = np.linspace(0, 3, 61), np.linspace(0, 3, 41)
    rows = srgb_of(np.array([reflectance(x, y) for x in m for y in b]))
    return RegularGridInterpolator((m, b), rows.reshape(61, 41, 3))


def colour(m: F32, b: F32) -> F32:
    """Linear sRGB (N, 3) of skin with these pigments."""
    return _table()(np.stack([m, b], 1)).astype(np.float32)

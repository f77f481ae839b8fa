"""What range masks read, against colour-science."""

from types import ModuleType

import numpy as np

from tanner.core.areas.look import lightness, oklab
from tanner.core.colour.spaces import SPACES


def test_lightness_and_colour_are_those_of_colour_science(colour: ModuleType) -> None:
    """CIE L* under D50, and Oklab after Bradford from D50 to D65 (sources: cie15, ottosson2020)."""
    linear = np.random.default_rng(5).uniform(0.02, 0.9, (50, 3)).astype(np.float32)
    xyz = linear @ SPACES["prophoto"].to_pcs().T
    observer = colour.CCS_ILLUMINANTS["CIE 1931 2 Degree Standard Observer"]
    lab = colour.XYZ_to_Lab(xyz, observer["D50"])
    assert np.abs(lightness(linear) - lab[:, 0]).max() < 0.1
    whites = (colour.xy_to_XYZ(observer[w]) for w in ("D50", "D65"))
    there = colour.chromatic_adaptation(xyz, *whites, transform="Bradford")
    assert np.abs(oklab(linear) - colour.XYZ_to_Oklab(there)).max() < 2e-3

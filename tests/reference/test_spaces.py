"""Encodings and ICC profiles against LittleCMS (through imagecodecs and Pillow) and colour-science."""

import io
from types import ModuleType

import imagecodecs
import numpy as np
import pytest
from PIL import ImageCms

from tanner.core.colour.icc import to_working
from tanner.core.colour.spaces import D50_XYZ, SPACES, adaptation, icc_profile, working_to, xy_to_xyz

NAMES = {"srgb": "sRGB", "p3": "Display P3", "widegamut1998": "Adobe RGB (1998)", "prophoto": "ROMM RGB"}
# The third is how the reference library calls the 1998 wide-gamut space; Tanner's users see our own words.


@pytest.mark.parametrize("name", SPACES)
def test_curves(colour: ModuleType, name: str) -> None:
    x = np.linspace(0, 1, 2001)
    theirs = colour.RGB_COLOURSPACES[NAMES[name]]
    assert np.abs(SPACES[name].encode(x) - theirs.cctf_encoding(x)).max() < 2e-4
    assert np.abs(SPACES[name].decode(SPACES[name].encode(x)) - x).max() < 1e-4


@pytest.mark.parametrize("name", SPACES)
def test_primaries(colour: ModuleType, name: str) -> None:
    """Primaries and white of the published spaces, brought to D50 by Bradford."""
    theirs = colour.RGB_COLOURSPACES[NAMES[name]]
    white = xy_to_xyz(tuple(theirs.whitepoint))
    expected = adaptation(white, D50_XYZ) @ colour.normalised_primary_matrix(theirs.primaries, theirs.whitepoint)
    assert np.abs(SPACES[name].to_pcs() - expected).max() < 5e-4


def test_adaptation(colour: ModuleType) -> None:
    a, b = xy_to_xyz((0.44757, 0.40745)), D50_XYZ
    theirs = colour.adaptation.matrix_chromatic_adaptation_VonKries(a, b, transform="Bradford")
    assert np.abs(adaptation(a, b) - theirs).max() < 1e-4


@pytest.mark.parametrize("name", SPACES)
def test_profiles_mean_what_the_space_is(name: str) -> None:
    """LittleCMS takes 16-bit colours of the profile to its own sRGB; our matrices say the same.

    Without its optimisation, which interpolates and is off by up to 0.05 in dark saturated colours.
    """
    rng = np.random.default_rng(2)
    linear = rng.uniform(0.02, 0.9, (4000, 3))
    # Colours that both spaces hold.
    to_srgb = np.linalg.inv(SPACES["srgb"].to_pcs()) @ SPACES[name].to_pcs()
    inside = ((linear @ to_srgb.T > 0.01) & (linear @ to_srgb.T < 0.97)).all(axis=1)
    linear = linear[inside]
    assert len(linear) > 200
    coded = np.rint(SPACES[name].encode(linear) * 65535).astype(np.uint16)[None]
    out = imagecodecs.cms_transform(
        coded, icc_profile(name), imagecodecs.cms_profile("srgb"), colorspace="rgb", outcolorspace="rgb", flags=0x0100
    )
    expected = SPACES["srgb"].encode(linear @ to_srgb.T)
    assert np.abs(out[0] / 65535 - expected).max() < 0.0005


@pytest.mark.parametrize("name", SPACES)
def test_profiles_are_taken_by_pillow(name: str) -> None:
    profile = ImageCms.ImageCmsProfile(io.BytesIO(icc_profile(name)))
    assert SPACES[name].title in ImageCms.getProfileDescription(profile)
    assert len(icc_profile(name)) < 600


@pytest.mark.parametrize("name", SPACES)
def test_finished_pictures_are_read_as_littlecms_would(name: str) -> None:
    """The fast way (matrix and curves found by probing) against LittleCMS without its optimisation."""
    rng = np.random.default_rng(4)
    rgb = rng.integers(0, 65536, (40, 50, 3)).astype(np.uint16)
    planes, warning = to_working(rgb, icc_profile(name))
    slow = imagecodecs.cms_transform(
        rgb, icc_profile(name), icc_profile("prophoto"), colorspace="rgb", outcolorspace="rgb", flags=0x0100
    )
    expected = SPACES["prophoto"].decode(slow / 65535.0)
    assert warning == ""
    assert np.abs(np.clip(planes, 0, 1).transpose(1, 2, 0) - expected).max() < 5e-4


def test_a_profile_that_is_none_is_told() -> None:
    rgb = np.full((4, 4, 3), 100, np.uint8)
    planes, warning = to_working(rgb, b"no profile")
    assert "sRGB is assumed" in warning
    assert np.allclose(planes, to_working(rgb, None)[0])


def test_working_space_holds_the_output_spaces() -> None:
    for name in ("srgb", "p3", "widegamut1998"):
        inverse = np.linalg.inv(working_to(SPACES[name]))
        assert inverse.min() > -0.01

"""Spectra of the simulated studio: lights, materials, the chart, the camera's sensitivities.

Lights and the chart are published data that colour-science ships (CIE illuminants; the 24-patch chart as
measured by Ohta 1997). Materials and sensitivities are smooth and made up.
"""

from functools import cache

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import D50_XYZ, adaptation
from tanner.core.colour.spectra import WAVELENGTHS, Spectrum, aligned, black_body, daylight, library, observer, xyz_of


def bell(centre: float, width: float) -> Spectrum:
    """A smooth band, 1 at its centre; nm."""
    return np.exp(-0.5 * ((WAVELENGTHS - centre) / width) ** 2)


def step(centre: float, width: float) -> Spectrum:
    """From 0 to 1 with rising wavelength; nm."""
    return 1 / (1 + np.exp(-(WAVELENGTHS - centre) / width))


CAMERAS = ("Alder One", "Alder Two")


def sensitivities(camera: str = "Alder One") -> NDArray[np.float64]:
    """Red, green and blue sensitivity of a simulated camera, (3, wavelengths). Made up, both of them."""
    if camera == "Alder Two":  # a redder red, a narrower green, a bluer blue: another maker's filters
        red = bell(617, 30) + 0.16 * bell(560, 26)
        green = 1.1 * (bell(524, 36) + 0.10 * bell(600, 22) + 0.09 * bell(470, 22))
        blue = 1.25 * (bell(449, 24) + 0.12 * bell(505, 24))
        return np.stack([red, green, blue]) * (1 - step(680, 7)) * step(412, 5)
    red = bell(603, 34) + 0.10 * bell(540, 30) + 0.03 * bell(440, 20)
    green = 1.25 * (bell(533, 40) + 0.06 * bell(610, 30) + 0.05 * bell(460, 25))
    blue = 0.95 * (bell(458, 28) + 0.05 * bell(530, 30))
    return np.stack([red, green, blue]) * (1 - step(672, 8)) * step(405, 6)


def light(kelvin: float) -> Spectrum:
    """Tungsten below 4,000 K, daylight above; scaled to an equal luminance."""
    spectrum = black_body(kelvin) if kelvin < 4000 else daylight(kelvin)
    return spectrum / (observer()[1] * spectrum).sum()


def source(name: str) -> Spectrum:
    """A light by name, of an equal luminance: "led" is CIE LED-B3 (CIE 15:2018), about 4,100 K."""
    spectrum = aligned(library().SDS_ILLUMINANTS[{"led": "LED-B3"}[name]])
    return spectrum / (observer()[1] * spectrum).sum()


@cache
def chart() -> dict[str, Spectrum]:
    """Reflectances of the 24 patches, in reading order."""
    patches = library().SDS_COLOURCHECKERS["ColorChecker N Ohta"]
    return {name: aligned(patch) for name, patch in patches.items()}


MATERIALS: dict[str, Spectrum] = {
    "white": 0.90 * np.ones_like(WAVELENGTHS),
    "sweep": 0.42 * np.ones_like(WAVELENGTHS) + 0.01 * step(560, 40),
    "black": 0.035 * np.ones_like(WAVELENGTHS),
    "brass": 0.16 + 0.52 * step(530, 22) + 0.08 * step(620, 30),
    "steel": 0.36 + 0.04 * bell(470, 60),
    "spruce": 0.16 + 0.48 * step(545, 42),
    "maple": 0.10 + 0.36 * step(575, 34),
    "walnut": 0.05 + 0.17 * step(590, 38),
    "glaze": 0.06 + 0.38 * bell(462, 34) + 0.05 * step(660, 20),
    "linen": 0.48 + 0.20 * step(520, 45),
    "red thread": 0.04 + 0.55 * step(600, 10),
    "green thread": 0.05 + 0.34 * bell(535, 26) + 0.10 * step(680, 12),
    "ochre thread": 0.06 + 0.52 * step(545, 16),
    "blue thread": 0.05 + 0.42 * bell(450, 26),
    "slate": 0.085 + 0.02 * bell(470, 60),
    "oak": 0.13 + 0.34 * step(565, 46),
    "cherry": 0.07 + 0.34 * step(588, 26),
    "clay": 0.09 + 0.36 * step(590, 22),
    "moss wool": 0.035 + 0.045 * bell(548, 48) + 0.03 * step(690, 14),
    "indigo cloth": 0.026 + 0.035 * bell(455, 46) + 0.03 * step(690, 14),
    "plaster": 0.66 + 0.10 * step(500, 60),
    "grey wall": 0.20 + 0.02 * step(540, 50),
    "leather": 0.045 + 0.20 * step(600, 26),
    "cream": 0.55 + 0.26 * step(505, 30),
    "paper": 0.74 + 0.06 * step(480, 30),
}


def material(name: str) -> Spectrum:
    """A reflectance by name; chart patches by "patch:" and their published name."""
    return chart()[name[6:]] if name.startswith("patch:") else MATERIALS[name]


def camera_response(reflectance: Spectrum, lit: Spectrum, camera: str = "Alder One") -> NDArray[np.float64]:
    """Camera numbers of a surface, scaled so that green of a perfect white is 1."""
    s = sensitivities(camera)
    result: NDArray[np.float64] = (s * (lit * reflectance)).sum(axis=1) / (s[1] * lit).sum()
    return result


def true_pcs(reflectance: Spectrum, kelvin: float) -> NDArray[np.float64]:
    """What a perfect camera would give: XYZ adapted to D50 by Bradford."""
    lit = light(kelvin)
    white = xyz_of(np.ones_like(lit), lit)
    result: NDArray[np.float64] = adaptation(white, D50_XYZ) @ xyz_of(reflectance, lit)
    return result


def fitted_matrices(kelvin: float, camera_name: str = "Alder One") -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """ColorMatrix and ForwardMatrix for one light, by least squares over chart and materials.

    Both are scaled so that white comes out exactly, as the DNG specification asks.
    """
    lit = light(kelvin)
    ones = np.ones_like(lit)
    surfaces = [*chart().values(), *MATERIALS.values()]
    camera = np.stack([camera_response(r, lit, camera_name) for r in surfaces])
    xyz = np.stack([xyz_of(r, lit) for r in surfaces])
    white_camera, white_xyz = camera_response(ones, lit, camera_name), xyz_of(ones, lit)
    colour = np.linalg.lstsq(xyz, camera, rcond=None)[0].T
    colour = np.diag(white_camera / (colour @ white_xyz)) @ colour
    balanced = camera / white_camera
    adapted = (adaptation(white_xyz, D50_XYZ) @ xyz.T).T
    # White is kept by fitting what differs from grey: x = D50 * mean(balanced) + rest.
    grey = balanced @ np.array([0.2, 0.6, 0.2])
    rest = np.linalg.lstsq(balanced - grey[:, None], adapted - grey[:, None] * D50_XYZ, rcond=None)[0].T
    average = np.array([0.2, 0.6, 0.2])
    forward = np.outer(D50_XYZ - rest @ np.ones(3), average) + rest
    return np.asarray(colour, dtype=np.float64), np.asarray(forward, dtype=np.float64)

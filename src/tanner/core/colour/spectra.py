"""Published spectra, from colour-science: observers, lights and charts. Loaded only where they are needed."""

import warnings
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

WAVELENGTHS = np.arange(380, 731, 5).astype(np.float64)
"""nm; where spectra are summed."""
Spectrum = NDArray[np.float64]


@cache
def library() -> Any:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # it warns that its plotting extras are not installed
        import colour
    return colour


def aligned(spectrum: Any) -> Spectrum:
    """A spectral distribution of colour-science at `WAVELENGTHS`."""
    return np.interp(WAVELENGTHS, spectrum.wavelengths, spectrum.values)


@cache
def observer() -> NDArray[np.float64]:
    """CIE 1931 2 degree colour matching functions, (3, wavelengths) (source: cie15)."""
    cmfs = library().MSDS_CMFS["CIE 1931 2 Degree Standard Observer"]
    return np.stack([np.interp(WAVELENGTHS, cmfs.wavelengths, cmfs.values[:, i]) for i in range(3)])


def xyz_of(reflectance: Spectrum, lit: Spectrum) -> NDArray[np.float64]:
    """XYZ of a surface, Y = 1 for a perfect white under the light."""
    o = observer()
    result: NDArray[np.float64] = (o * (lit * reflectance)).sum(axis=1) / (o[1] * lit).sum()
    return result


def chromaticity(wavelengths: NDArray[np.float64], values: NDArray[np.float64]) -> tuple[float, float]:
    """xy of a spectrum that is sampled anywhere."""
    xyz = (observer() * np.interp(WAVELENGTHS, wavelengths, values, left=0, right=0)).sum(axis=1)
    return float(xyz[0] / xyz.sum()), float(xyz[1] / xyz.sum())


def light(name: str) -> tuple[Spectrum, int, tuple[float, float]]:
    """A light by name: A, D50, D55, D65, D75, another CIE illuminant, or a temperature such as 4100K.

    Returns:
        The spectrum, the EXIF LightSource code (255: other), and the chromaticity.

    Raises:
        ValueError: no such light.
    """
    known = {"A": 17, "D50": 23, "D55": 20, "D65": 21, "D75": 22}
    key = name.strip()
    colour = library()
    if key.upper() in known:
        code = known[key.upper()]
        spectrum = aligned(colour.SDS_ILLUMINANTS[key.upper()])
    elif key.upper().endswith("K") and key[:-1].replace(".", "").isdigit():
        kelvin = float(key[:-1])
        if not 1700 <= kelvin <= 25000:
            raise ValueError(f"{key}: a light lies between 1,700 K and 25,000 K")
        code, spectrum = 255, black_body(kelvin) if kelvin < 4000 else daylight(kelvin)
    elif key in colour.SDS_ILLUMINANTS:
        code, spectrum = 255, aligned(colour.SDS_ILLUMINANTS[key])
    else:
        raise ValueError(
            f"{key} is no light: use A, D50, D55, D65, D75, a temperature such as 4100K, or LED-B3 and the like"
        )
    return spectrum, code, chromaticity(WAVELENGTHS, spectrum)


def black_body(kelvin: float) -> Spectrum:
    nm = WAVELENGTHS * 1e-9
    return nm**-5 / (np.exp(1.4388e-2 / (nm * kelvin)) - 1) * 1e-12


def daylight(kelvin: float) -> Spectrum:
    """CIE daylight, 4,000 to 25,000 K (source: cie15)."""
    colour = library()
    return aligned(colour.sd_CIE_illuminant_D_series(colour.temperature.CCT_to_xy_CIE_D(kelvin)))

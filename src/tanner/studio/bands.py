"""Six bands of the spectrum, from which the simulated cameras' numbers are weighed.

A rendering holds for every pixel how much light of each band comes back from a scene lit by equal energy. The
numbers of a camera under a light are a weighted sum of the bands. The bands were found once by non-negative
factoring of what two cameras see under daylight of 5,000 to 7,500 K, tungsten and a white LED (`find_bands`), and
lie beside the pictures; the weights are fitted over published reflectances, where their error is about 0.2 %.
"""

import json
import warnings
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spectra import WAVELENGTHS, Spectrum
from tanner.studio import light

PICTURES = Path(__file__).parent / "pictures"
COUNT = 6
_FLOOR = 0.02
"""Relative errors are weighed with this much added, so that black surfaces do not rule the fit."""


@cache
def bands() -> NDArray[np.float64]:
    """(6, wavelengths), each with the sum 1."""
    stored = json.loads((PICTURES / "bands.json").read_text())
    return np.array(stored["bands"])


@cache
def surfaces() -> NDArray[np.float64]:
    """Reflectances that the weights are fitted on: the published charts of colour-science, and the workshop's own."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import colour
    rows = [
        np.interp(WAVELENGTHS, s.wavelengths, s.values)
        for chart in ("BabelColor Average", "ColorChecker N Ohta", "ISO 17321-1")
        for s in colour.SDS_COLOURCHECKERS[chart].values()
    ]
    return np.array([*rows, *light.MATERIALS.values()])


def weights(response: NDArray[np.float64], lit: Spectrum) -> NDArray[np.float64]:
    """Weights (N, 6) that turn bands into the numbers of sensitivities (N, wavelengths) under a light.

    A perfect white has the number of `light.camera_response`: 1 in the second row.
    """
    seen = surfaces() @ bands().T
    result = []
    scale = (response[1] * lit).sum()
    for row in response:
        wanted = surfaces() @ (row * lit) / scale
        weight = 1 / (wanted / wanted.max() + _FLOOR)
        result.append(np.linalg.lstsq(seen * weight[:, None], wanted * weight, rcond=None)[0])
    return np.array(result)


def find_bands(steps: int = 3000) -> NDArray[np.float64]:
    """Non-negative matrix factoring with multiplicative updates (Lee and Seung 1999)."""
    lights = [light.light(2856), light.light(5000), light.light(5500), light.light(7500), light.source("led")]
    wanted = np.array([row * lit for c in light.CAMERAS for lit in lights for row in light.sensitivities(c)])
    wanted /= wanted.max(axis=1, keepdims=True)
    centres = np.linspace(410, 690, COUNT)
    found = np.exp(-0.5 * ((WAVELENGTHS - centres[:, None]) / 31) ** 2) + 1e-3
    share = np.abs(np.random.default_rng(0).random((len(wanted), COUNT)))
    for _ in range(steps):
        share *= (wanted @ found.T) / (share @ found @ found.T + 1e-12)
        found *= (share.T @ wanted) / (share.T @ share @ found + 1e-12)
    order = np.argsort((found * WAVELENGTHS).sum(axis=1) / found.sum(axis=1))
    found = found[order]
    return found / found.sum(axis=1, keepdims=True)


if __name__ == "__main__":
    PICTURES.mkdir(exist_ok=True)
    rows = [[round(float(v), 7) for v in row] for row in find_bands()]
    rows = [[v / sum(row) for v in row] for row in rows]
    text = json.dumps({"unit": "nm", "wavelengths": WAVELENGTHS.tolist(), "bands": rows})
    (PICTURES / "bands.json").write_text(text + "\n")
